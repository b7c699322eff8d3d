// Package tripwires has monitoring systems stop flags: each tripwire is a secret address for some flags of one
// environment, and nothing else can be done there.
//
// Its nouns are the changes of tripwires, a [Reader] of alerts, and a [Service] that takes calls. An alert stops once:
// while it goes on it stops nothing more, and after somebody has lifted its stop it stays disarmed until it is over,
// or somebody arms the tripwire again. The smallest use:
//
//	told, err := s.Call(ctx, &tripwires.Call{Secret: secret, Address: ip, Header: header, Body: body})
package tripwires

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/span"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/app/webhooks"
)

// Kinds are the changes of tripwires, and what they do by themselves.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "tripwire.put", Alone: true, Says: "Saves which flags a tripwire stops, and " +
			"of which alerts",
			Action: app.Manage, Span: commit.Environment}, put),
		commit.Of(commit.Kind{Name: "tripwire.rotate", Alone: true, Says: "Gives a tripwire a new address; the " +
			"old one is taken " +
			"for a day more", Action: app.Manage, Span: commit.Environment}, rotate),
		commit.Of(commit.Kind{Name: "tripwire.remove", Says: "Takes a tripwire away", Action: app.Manage,
			Span: commit.Environment}, remove),
		commit.Of(commit.Kind{Name: "tripwire.arm", Says: "Arms a tripwire again, whatever it stopped for before",
			Action: app.StopIt, Span: commit.Environment}, arm),
		commit.Of(commit.Kind{Name: "tripwire.call", Says: "A tripwire stops its flags", Span: commit.Environment,
			Insists: true, Inner: true}, call).Holding(stops.Hold),
		commit.Of(commit.Kind{Name: "tripwire.refuse", Says: "A tripwire refused calls", Span: commit.Environment,
			Inner: true}, refuse),
	}
}

// Put saves a tripwire: a new one where the change is of none.
type Put struct {
	Tripwire app.Tripwire `json:"tripwire"`
}

// Rotate gives a tripwire a new address.
type Rotate struct{}

// Remove takes a tripwire away.
type Remove struct{}

// Arm arms a tripwire again.
type Arm struct{}

// Heard is an alert that came in, for the tripwire that the change is of.
type Heard struct {
	Alert Alert `json:"alert"`
}

// Refuse notes that calls were refused.
type Refuse struct {
	Minute int64  `json:"minute"` // Unix minutes
	Why    string `json:"why"`    // of the first one
}

// Saved is a tripwire, with its secrets where they are new: they are shown once.
type Saved struct {
	app.Tripwire
	Secret  string `json:"secret,omitempty"`  // what stands behind /tripwire/ in its address
	Signing string `json:"signing,omitempty"` // signs calls
}

// WithoutSecrets is the tripwire as it is kept for a repeated request.
func (s *Saved) WithoutSecrets() any { return &Saved{Tripwire: s.Tripwire} }

// Outcome is what came of an alert.
type Outcome string

// What can come of one.
const (
	Stopped Outcome = "stopped"
	Tried   Outcome = "tried"   // it is on trial, and would have stopped
	Stands  Outcome = "stands"  // the alert stopped already
	Counted Outcome = "counted" // it takes more of them
	IsOver  Outcome = "over"    // it is armed again
	Ignored Outcome = "ignored" // it is not meant, or the tripwire is off
)

// Told is what is answered to a call.
type Told struct {
	Outcome Outcome `json:"outcome"`
	Stop    string  `json:"stop,omitempty"`
	Count   int     `json:"count,omitempty"` // of calls so far, where it takes several
}

// Tx is what these changes read.
type Tx interface {
	Tripwires(environment int64) ([]app.Tripwire, error)
	TripwireAlert(tripwire, identity string) (*app.TripwireAlert, error)
	TripwireRefusedAt(tripwire string) (minute int64, err error)
	UnknownFlags(environment int64, keys []string) ([]string, error)
}

const (
	mostHere   = 50             // tripwires of an environment
	mostFlags  = 100            // of one
	overlaps   = 24 * time.Hour // for so long the old address is taken too
	maxWithin  = span.Span(24 * time.Hour / time.Millisecond)
	mostCalls  = 10_000
	maxName    = 200
	maxExpress = 2_000
)

func check(m *commit.Moment, w *app.Tripwire) error {
	var found []flag.Problem
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: "tripwire." + place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := app.CheckText(w.Title, 1, 200); mend != "" {
		add("title", "%s", mend)
	}
	if slices.Sort(w.Flags); len(w.Flags) == 0 || len(w.Flags) > mostFlags {
		add("flags", "names 1 to %d flags", mostFlags)
	}
	w.Flags = slices.Compact(w.Flags)
	unknown, err := commit.Narrow[Tx](m).UnknownFlags(m.Environment.ID, w.Flags)
	if err != nil {
		return err
	}
	for _, key := range unknown {
		add(fmt.Sprintf("flags[%d]", slices.Index(w.Flags, key)), "there is no flag %q in this environment", key)
	}
	if w.Least < 0 || w.Least > mostCalls {
		add("least", "must be 1 to %d calls, or be left out for one", mostCalls)
	}
	if (w.Least > 1) != (w.Within > 0) || w.Within > maxWithin {
		add("within", "says within which time, up to 1d, so many calls must come: it goes with least")
	}
	for i, s := range w.Sources {
		if _, err := netip.ParsePrefix(s); err != nil {
			add(fmt.Sprintf("sources[%d]", i), "must be a network such as 10.1.0.0/16 or 192.0.2.7/32")
		}
	}
	for place, text := range map[string]string{"when": w.When, "identity": w.Identity, "over": w.Over} {
		if len(text) > maxExpress {
			add(place, "takes at most %d bytes", maxExpress)
		}
	}
	slices.SortFunc(found, func(a, b flag.Problem) int { return strings.Compare(a.Place, b.Place) })
	if err := app.InvalidFields(found); err != nil {
		return err
	}
	_, err = NewReader(w)
	return err
}

func find(m *commit.Moment, id string) (*app.Tripwire, []app.Tripwire, error) {
	all, err := commit.Narrow[Tx](m).Tripwires(m.Environment.ID)
	if err != nil || id == "" {
		return nil, all, err
	}
	i := slices.IndexFunc(all, func(w app.Tripwire) bool { return w.ID == id })
	if i < 0 {
		return nil, nil, app.Faultf(app.NotFound, "there is no tripwire %s in this environment", id)
	}
	return &all[i], all, nil
}

func newSecret(w *app.Tripwire, old []app.TripwireSecret) string {
	secret := "glx_" + people.NewSecret()
	w.Hint, w.Secrets = secret[:9], append(old, app.TripwireSecret{Digest: people.Digest(secret)})
	return secret
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	w := in.Tripwire
	w.Flags = slices.Clone(w.Flags)
	if err := check(m, &w); err != nil {
		return nil, err
	}
	old, all, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	out := &Saved{}
	w.Environment = m.Environment.ID
	if old == nil {
		if len(all) >= mostHere {
			return nil, app.InvalidField("tripwire", "an environment has at most %d: take one away first", mostHere)
		}
		w.ID, w.Made = commit.NewID(), m.At
		out.Secret = newSecret(&w, nil)
	} else {
		w.ID, w.Made, w.Hint, w.Secrets, w.Signing = old.ID, old.Made, old.Hint, old.Secrets, old.Signing
	}
	if w.Signed && w.Signing == "" {
		w.Signing = webhooks.NewSecret()
		out.Signing = w.Signing
	}
	out.Tripwire = w
	return effects(m, "tripwire.saved", out, &w, says(&w)), nil
}

// says is what a tripwire does, in a sentence.
func says(w *app.Tripwire) words.Said {
	does := "stops"
	if w.Trial {
		does = "is on trial, and would stop"
	}
	said := words.Say("tripwire %s %s %s", words.Name(w.Title), words.Plain(does),
		words.Plain(strings.Join(w.Flags, ", ")))
	if w.When != "" {
		said = words.Say("%s where %s", said, words.Plain(w.When))
	}
	if w.Least > 1 {
		said = words.Say("%s, after %s calls within %s", said, words.Count(int64(w.Least)),
			words.Plain(w.Within.Words()))
	}
	if w.Off {
		said = words.Say("%s (off)", said)
	}
	return said
}

func effects(m *commit.Moment, action string, result any, w *app.Tripwire, said words.Said) *commit.Effects {
	return &commit.Effects{Result: result, Stale: commit.Stale{Tripwires: true},
		In: []commit.Effect{{Environment: m.Environment, Records: []commit.Record{w},
			Entries: []commit.Entry{commit.Said(action, w.ID, diff.Text(said.String()))}}}}
}

func rotate(_ context.Context, m *commit.Moment, _ *Rotate) (*commit.Effects, error) {
	w, _, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	old := slices.DeleteFunc(slices.Clone(w.Secrets), func(s app.TripwireSecret) bool { return s.Until > 0 })
	for i := range old {
		old[i].Until = m.At + overlaps.Milliseconds()
	}
	out := &Saved{Secret: newSecret(w, old)}
	if w.Signed {
		w.Signing = webhooks.NewSecret()
		out.Signing = w.Signing
	}
	out.Tripwire = *w
	return effects(m, "tripwire.rotated", out, w, words.Say("tripwire %s has a new address; the old one is taken "+
		"for a day more", words.Name(w.Title))), nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	w, _, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	w.Gone = true
	return effects(m, "tripwire.removed", &Saved{Tripwire: *w}, w, words.Say("tripwire %s is gone",
		words.Name(w.Title))), nil
}

func arm(_ context.Context, m *commit.Moment, _ *Arm) (*commit.Effects, error) {
	w, _, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	out := effects(m, "tripwire.armed", &Saved{Tripwire: *w}, w, words.Say("tripwire %s is armed again",
		words.Name(w.Title)))
	out.In[0].Records = []commit.Record{&app.TripwireArmed{ID: w.ID, At: m.At}}
	return out, nil
}

// call takes an alert. It is held against what stands under the environment's lock: of two calls at a time one stops.
func call(_ context.Context, m *commit.Moment, in *Heard) (*commit.Effects, error) {
	w, _, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	identity := in.Alert.Digest()
	had, err := commit.Narrow[Tx](m).TripwireAlert(w.ID, identity)
	if err != nil {
		return nil, err
	}
	now := app.TripwireAlert{Tripwire: w.ID, Identity: identity, Name: clipped(in.Alert.Identity), Fired: m.At}
	switch {
	case w.Off:
		return commit.Nothing(Told{Outcome: Ignored}), nil
	case in.Alert.Over:
		if !had.Disarmed() || w.Identity == "" { // without an identity nobody knows which alert is over
			return commit.Nothing(Told{Outcome: Ignored}), nil
		}
		now = *had
		now.Cleared = m.At
		return heard(m, w, "tripwire.over", Told{Outcome: IsOver}, &now, words.Say("the alert %s is over: it can "+
			"stop again", words.Name(now.Name))), nil
	case had.Disarmed():
		return commit.Nothing(Told{Outcome: Stands, Stop: had.Stop}), nil
	case w.Trial:
		return heard(m, w, "tripwire.tried", Told{Outcome: Tried}, &now, words.Say("tripwire %s would have stopped %s",
			words.Name(w.Title), words.Plain(strings.Join(w.Flags, ", ")))), nil
	}
	flags, err := known(m, w.Flags)
	if err != nil {
		return nil, err
	}
	rec := &app.StopRecord{ID: commit.NewID(), Flags: flags, By: w.ID, At: m.At, Reason: m.Reason}
	now.Stop = rec.ID
	out := heard(m, w, "tripwire.fired", Told{Outcome: Stopped, Stop: rec.ID}, &now,
		words.Say("tripwire %s stopped %s", words.Name(w.Title), words.Plain(strings.Join(flags, ", "))))
	in0 := &out.In[0]
	in0.Records = append(in0.Records, rec)
	in0.Event = &flag.Event{Stops: []flag.Stop{{ID: rec.ID, Flags: flags, At: m.At}}}
	in0.Entries = append(stops.Entries(rec), in0.Entries...)
	return out, nil
}

// known leaves out flags that were taken away since.
func known(m *commit.Moment, keys []string) ([]string, error) {
	out, err := stops.Here(commit.Narrow[Tx](m), m.Environment.ID, keys)
	if err == nil && len(out) == 0 {
		err = app.Faultf(app.Conflict, "none of its flags is here any more")
	}
	return out, err
}

func clipped(text string) string {
	if app.CheckText(text, 0, maxName) != "" {
		return "…"
	}
	return text
}

func heard(m *commit.Moment, w *app.Tripwire, action string, told Told, alert *app.TripwireAlert,
	said words.Said) *commit.Effects {
	out := effects(m, action, told, w, said)
	out.In[0].Records, out.Stale = []commit.Record{alert}, commit.Stale{}
	return out
}

// refuse writes one entry of refused calls a minute, whichever node is first.
func refuse(_ context.Context, m *commit.Moment, in *Refuse) (*commit.Effects, error) {
	w, _, err := find(m, m.Of)
	if err != nil {
		return nil, err
	}
	last, err := commit.Narrow[Tx](m).TripwireRefusedAt(w.ID)
	if err != nil || last >= in.Minute {
		return commit.Nothing(json.RawMessage("null")), err
	}
	out := effects(m, "tripwire.refused", json.RawMessage("null"), w, words.Say("tripwire %s refused calls, the "+
		"first one since %s", words.Name(w.Title), words.Plain(in.Why)))
	out.In[0].Records = []commit.Record{&app.TripwireRefused{ID: w.ID, Minute: in.Minute}}
	return out, nil
}
