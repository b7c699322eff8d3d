package accept

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

// ear is an address that is told of changes.
type ear struct {
	*httptest.Server
	mu     sync.Mutex
	events []cloudevents.Event
	heads  []http.Header
	bodies [][]byte
	answer func(n int, w http.ResponseWriter, r *http.Request) bool // false: it was not taken
	tries  int
}

func listen(t *testing.T, answer func(n int, w http.ResponseWriter, r *http.Request) bool) *ear {
	t.Helper()
	e := &ear{answer: answer}
	e.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		e.mu.Lock()
		e.tries++
		n := e.tries
		e.mu.Unlock()
		if err != nil || e.answer != nil && !e.answer(n, w, r) {
			return
		}
		var event cloudevents.Event
		if err := json.Unmarshal(body, &event); err != nil || event.Validate() != nil {
			t.Errorf("no event: %v, %v: %s", err, event.Validate(), body)
		}
		e.mu.Lock()
		defer e.mu.Unlock()
		e.events, e.heads, e.bodies = append(e.events, event), append(e.heads, r.Header.Clone()),
			append(e.bodies, body)
	}))
	t.Cleanup(e.Close)
	return e
}

func (e *ear) heard() []cloudevents.Event {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.events)
}

func loopback(c *server.Config) {
	c.WebhookNetworks = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
}

func hook(t *testing.T, s *gltest.Service, url string, more obj) (id, secret string) {
	t.Helper()
	w := obj{"title": "Tickets", "url": url}
	for k, v := range more {
		w[k] = v
	}
	var made struct{ ID, Secret string }
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks", obj{"webhook": w}, 201, &made)
	return made.ID, made.Secret
}

// What a webhook is told are events by the standard, signed so that a library of the standard takes them;
// a rotated secret signs beside the old one; nothing that was not asked for comes.
func TestWebhookSpeaksTheStandards(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, loopback)
	s.Flag(t, "night-batching")
	e := listen(t, nil)
	id, secret := hook(t, s, e.URL, obj{"kinds": []string{"flag.*"}, "environments": []string{"staging"}})
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	gltest.Eventually(t, "it is told", func() bool { return len(e.heard()) == 1 })
	var rotated struct{ Secret string }
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks/"+id+"/rotate", obj{}, 200, &rotated)
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	gltest.Eventually(t, "it is told again", func() bool { return len(e.heard()) == 2 })
	for i, secrets := range [][]string{{secret}, {secret, rotated.Secret}} {
		for _, one := range secrets {
			w, err := standardwebhooks.NewWebhook(one)
			if err != nil {
				t.Fatal(err)
			}
			if err := w.Verify(e.bodies[i], e.heads[i]); err != nil {
				t.Errorf("event %d: %v", i, err)
			}
			if w.Verify(append(slices.Clone(e.bodies[i]), ' '), e.heads[i]) == nil {
				t.Error("an altered event is taken")
			}
		}
	}
	event := e.heard()[0]
	var data struct{ Action, Project, Environment, By string }
	if err := event.DataAs(&data); err != nil {
		t.Fatal(err)
	}
	if event.Type() != "example.greenlever.flag.changed" || event.Subject() != "night-batching" ||
		event.Source() != "/projects/pinecrest/environments/staging" || data.By != "Ida Holm" ||
		data.Environment != "staging" || event.ID() != e.heads[0].Get("webhook-id") {
		t.Errorf("the event is %s, by %q", event, data.By)
	}
	if strings.Contains(fmt.Sprint(e.heads), "whsec_") {
		t.Error("a secret travels")
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A target that fails, answers slowly, redirects or breaks off hears everything in the end, in order, and
// each event under one id; a stop waits behind none of it.
func TestWebhooksLoseNothing(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, loopback, func(c *server.Config) { c.WebhookTimeout = time.Second })
	s.Flag(t, "night-batching")
	changes, every := 12, 9
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		changes, every = 10_000, 700
	}
	hung := make(chan struct{})
	t.Cleanup(func() { close(hung) })
	bad := listen(t, func(n int, w http.ResponseWriter, r *http.Request) bool {
		switch n % every {
		case 2:
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		case 4:
			w.WriteHeader(http.StatusServiceUnavailable)
		case 6:
			panic(http.ErrAbortHandler)
		case 7:
			if n > every { // once is enough
				return true
			}
			select {
			case <-hung:
			case <-r.Context().Done():
			}
		default:
			return true
		}
		return false
	})
	good := listen(t, nil)
	hook(t, s, bad.URL, nil)
	hook(t, s, good.URL, obj{"title": "Other"})
	for i := range changes {
		s.Edit(t, "staging", "night-batching", func(d *flag.Document) {
			d.Lever = []flag.Lever{flag.On, flag.Off}[i%2]
		})
	}
	at := time.Now()
	s.Keeper.Do(t, "POST", inStaging+"/stops", obj{"flags": []string{"night-batching"}}, 201, nil)
	stopped := func(e *ear) bool {
		return slices.ContainsFunc(e.heard(), func(e cloudevents.Event) bool {
			return e.Type() == "example.greenlever.flag.stopped"
		})
	}
	gltest.Eventually(t, "the stop is told", func() bool { return stopped(good) })
	t.Logf("the stop was told after %s", time.Since(at))
	gltest.Eventually(t, "the stop is told to the other", func() bool { return stopped(bad) })
	for _, e := range []*ear{good, bad} {
		for end := time.Now().Add(10 * time.Minute); len(changed(e)) < changes && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
		if all := changed(e); len(all) != changes || !slices.IsSorted(all) || len(slices.Compact(all)) != changes {
			t.Errorf("%d of %d are told, or out of order, or twice", len(all), changes)
		}
	}
	t.Logf("%d events, %d attempts at the bad one", changes, bad.tries)
}

// changed gives the places in the audit of the edits that were told, in the order in which they came.
func changed(e *ear) (all []string) {
	for _, event := range e.heard() {
		if event.Type() == "example.greenlever.flag.changed" {
			all = append(all, fmt.Sprint(event.Extensions()["sequence"]))
		}
	}
	return all
}

// What cannot be told for so long is parked and shown, what comes after it goes on, and it can be told again.
func TestWebhooksParkAndReplay(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, loopback, func(c *server.Config) { c.WebhookTries = time.Millisecond })
	s.Flag(t, "night-batching")
	fails := true
	var mu sync.Mutex
	e := listen(t, func(_ int, w http.ResponseWriter, _ *http.Request) bool {
		mu.Lock()
		defer mu.Unlock()
		if fails {
			w.WriteHeader(http.StatusInternalServerError)
		}
		return !fails
	})
	id, _ := hook(t, s, e.URL, obj{"kinds": []string{"flag.changed"}})
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	var all struct{ Items []manage.WebhookView }
	gltest.Eventually(t, "it is parked", func() bool {
		s.Keeper.Do(t, "GET", "/projects/pinecrest/webhooks", nil, 200, &all)
		return all.Items[0].Parked == 1
	})
	mu.Lock()
	fails = false
	mu.Unlock()
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	gltest.Eventually(t, "the next is told", func() bool { return len(e.heard()) == 1 })
	var done struct{ Count int }
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks/"+id+"/replay", obj{}, 200, &done)
	gltest.Eventually(t, "what was parked is told", func() bool { return done.Count == 1 && len(e.heard()) == 2 })
}

// Nobody reaches into a private network by a webhook, whatever its address is called.
func TestWebhooksStayOutside(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	e := listen(t, nil)
	id, _ := hook(t, s, strings.Replace(e.URL, "127.0.0.1", "localhost", 1), nil)
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	var notices struct{ Items []struct{ Answer string } }
	gltest.Eventually(t, "it is refused", func() bool {
		s.Keeper.Do(t, "GET", "/projects/pinecrest/webhooks/"+id+"/notices", nil, 200, &notices)
		return slices.ContainsFunc(notices.Items, func(n struct{ Answer string }) bool {
			return strings.Contains(n.Answer, "private network")
		})
	})
	if e.tries > 0 {
		t.Error("it was asked all the same")
	}
}
