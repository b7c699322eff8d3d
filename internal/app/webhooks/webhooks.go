// Package webhooks tells other systems of what is changed: who is told of what, and the way there.
//
// Its nouns are the changes of webhooks, and a [Sender], which takes what transactions posted for them to
// their addresses: in order, at least once, each event under one id. Events are CloudEvents 1.0 in JSON, and
// signed as Standard Webhooks 1.0 says. The smallest use:
//
//	s := &webhooks.Sender{Records: st, Now: time.Now, Log: log}
//	worker.Start(ctx, s.Job())
package webhooks

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Kinds are the changes of webhooks.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "webhook.put", Alone: true, Says: "Saves whom a webhook tells of what",
			Action: app.Manage,
			Span:   commit.Project, Queued: true}, put),
		commit.Of(commit.Kind{Name: "webhook.rotate", Alone: true, Says: "Gives a webhook a new secret; the old " +
			"one signs for a " +
			"day more",
			Action: app.Manage, Span: commit.Project, Queued: true}, rotate),
		commit.Of(commit.Kind{Name: "webhook.remove", Says: "Takes a webhook away with what it was not told yet",
			Action: app.Manage, Span: commit.Project, Queued: true}, remove),
		commit.Of(commit.Kind{Name: "webhook.replay", Alone: true, Says: "Has a webhook told again",
			Action: app.Manage,
			Span:   commit.Project, Queued: true}, replay),
	}
}

// Put saves a webhook: a new one where the change is of none.
type Put struct {
	Webhook app.Webhook `json:"webhook"`
}

// Rotate gives a webhook a new secret.
type Rotate struct{}

// Remove takes a webhook away.
type Remove struct{}

// Replay has notices told again, by their numbers; none: all that are parked.
type Replay struct {
	Numbers []int64 `json:"numbers,omitempty"`
}

// Saved is a webhook, with its secret where it is new: that is shown once.
type Saved struct {
	app.Webhook
	Secret string `json:"secret,omitempty"`
}

// WithoutSecrets is the webhook as it is kept for a repeated request.
func (s *Saved) WithoutSecrets() any { return &Saved{Webhook: s.Webhook} }

// Replayed is the result of a replay.
type Replayed struct {
	*app.Replay
}

// Tx is what changes of webhooks read.
type Tx interface {
	Webhooks(project int64) ([]app.Webhook, error)
}

const (
	most     = 20             // webhooks of a project
	longest  = 100            // lists of what one wants
	overlaps = 24 * time.Hour // for so long the old secret signs too
	atOnce   = 1_000          // notices of one replay
)

// NewSecret makes a secret as Standard Webhooks writes it.
func NewSecret() string {
	var b [32]byte
	rand.Read(b[:]) // never fails
	return "whsec_" + base64.StdEncoding.EncodeToString(b[:])
}

func check(w *app.Webhook) error {
	var found []flag.Problem
	add := func(place, mend string) {
		if mend != "" {
			found = append(found, flag.Problem{Place: "webhook." + place, Mend: mend})
		}
	}
	add("title", app.CheckText(w.Title, 1, 200))
	u, err := url.Parse(w.URL)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || len(w.URL) > 2_000 || u.User != nil {
		add("url", "must be an address such as https://tickets.pinecrest.example/told, without a name or password "+
			"in it")
	}
	for place, list := range map[string]*[]string{"kinds": &w.Kinds, "environments": &w.Environments,
		"flags": &w.Flags,
		"tags":  &w.Tags} {
		if *list == nil {
			*list = []string{}
		}
		if len(*list) > longest {
			add(place, fmt.Sprintf("takes at most %d", longest))
		}
		for i, v := range *list {
			add(fmt.Sprintf("%s[%d]", place, i), app.CheckText(v, 1, 200))
		}
	}
	slices.SortFunc(found, func(a, b flag.Problem) int { return strings.Compare(a.Place, b.Place) })
	return app.InvalidFields(found)
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	w := in.Webhook
	if err := check(&w); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).Webhooks(m.Project.ID)
	if err != nil {
		return nil, err
	}
	w.Project, w.Gone = m.Project.ID, false
	out := &Saved{}
	if m.Of == "" {
		if len(all) >= most {
			return nil, app.InvalidField("webhook", "a project has at most %d: take one away first", most)
		}
		out.Secret = NewSecret()
		w.ID, w.Made, w.Secrets = commit.NewID(), m.At, []app.Secret{{Text: out.Secret}}
	} else {
		old, err := find(all, m.Of)
		if err != nil {
			return nil, err
		}
		w.ID, w.Made, w.Secrets = old.ID, old.Made, old.Secrets
	}
	out.Webhook = w
	return effects(m, "webhook.saved", out, &w, words.Say("webhook %s: %s is told of %s", words.Name(w.Title),
		words.Plain(host(w.URL)), words.Plain(wants(&w)))), nil
}

// host is the part of an address that may be said: what stands behind it may be a secret.
func host(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "its address"
	}
	return u.Scheme + "://" + u.Host
}

func wants(w *app.Webhook) string {
	var out []string
	for _, l := range []struct {
		what string
		list []string
	}{{"", w.Kinds}, {"in ", w.Environments}, {"of ", w.Flags}, {"tagged ", w.Tags}} {
		if len(l.list) > 0 {
			out = append(out, l.what+strings.Join(l.list, ", "))
		}
	}
	said := "every change"
	if len(out) > 0 {
		said = strings.Join(out, "; ")
	}
	if w.Off {
		said += " (off)"
	}
	return said
}

func find(all []app.Webhook, id string) (*app.Webhook, error) {
	i := slices.IndexFunc(all, func(w app.Webhook) bool { return w.ID == id })
	if i < 0 {
		return nil, app.Faultf(app.NotFound, "there is no webhook %s in this project", id)
	}
	return &all[i], nil
}

func effects(m *commit.Moment, action string, result any, w *app.Webhook, said words.Said) *commit.Effects {
	return &commit.Effects{Result: result, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{w},
		Entries: []commit.Entry{commit.Said(action, w.ID, diff.Text(said.String()))}}}}
}

func of(m *commit.Moment) (*app.Webhook, error) {
	all, err := commit.Narrow[Tx](m).Webhooks(m.Project.ID)
	if err != nil {
		return nil, err
	}
	return find(all, m.Of)
}

func rotate(_ context.Context, m *commit.Moment, _ *Rotate) (*commit.Effects, error) {
	w, err := of(m)
	if err != nil {
		return nil, err
	}
	out := &Saved{Secret: NewSecret()}
	kept := []app.Secret{{Text: out.Secret}}
	if len(w.Secrets) > 0 {
		kept = append(kept, app.Secret{Text: w.Secrets[0].Text, Until: m.At + overlaps.Milliseconds()})
	}
	w.Secrets = kept
	out.Webhook = *w
	return effects(m, "webhook.rotated", out, w,
		words.Say("webhook %s has a new secret; the old one signs for a day more",
			words.Name(w.Title))), nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	w, err := of(m)
	if err != nil {
		return nil, err
	}
	w.Gone = true
	return effects(m, "webhook.removed", &Saved{Webhook: *w}, w, words.Say("webhook %s removed", words.Name(w.Title))),
		nil
}

func replay(_ context.Context, m *commit.Moment, in *Replay) (*commit.Effects, error) {
	w, err := of(m)
	if err != nil {
		return nil, err
	}
	if len(in.Numbers) > atOnce {
		return nil, app.InvalidField("numbers", "takes at most %d at once", atOnce)
	}
	r := &app.Replay{Webhook: w.ID, Numbers: append([]int64{}, in.Numbers...), Now: m.At}
	said := words.Say("webhook %s is told again: all that were parked", words.Name(w.Title))
	if n := len(in.Numbers); n > 0 {
		said = words.Say("webhook %s is told again: %s", words.Name(w.Title), words.Counted(n, "event", "events"))
	}
	return &commit.Effects{Result: Replayed{r}, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{commit.Said("webhook.replayed", w.ID, diff.Text(said.String()))}}}}, nil
}
