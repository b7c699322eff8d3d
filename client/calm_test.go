package greenlever

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/condition"
)

// A decision waits for nobody: not for a report, the sample, the disk or a change of state that is
// under way.
func TestDecisionsWaitForNobody(t *testing.T) {
	s := newService(t, ruleset(1, 1, bySite, boolean("plain", "on")))
	s.sampling = `{"seed":"2a","personal":{},"limits":{}}`
	c := s.open(t, func(o *Options) { o.Report = 20 * time.Millisecond })
	eventually(t, "the service's order", func() bool { return c.people.order.Load() != nil })
	c.people.mu.Lock()
	c.counts.mu.Lock()
	c.mu.Lock()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range 20_000 {
			u := Unit(fmt.Sprint("recipient-", i%2_000), Text("site.id", fmt.Sprint("site-", i%700)))
			c.Bool("by-site", u, false)
			c.Bool("plain", u, false)
			c.Answer("by-site", u)
		}
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Error("a decision waits for a lock")
	}
	c.mu.Unlock()
	c.counts.mu.Unlock()
	c.people.mu.Unlock()
	<-done
}

// With a whole sample's units at work nearly each is told apart from those that were noted.
func TestTheGateHoldsAWholeSample(t *testing.T) {
	g, rng := newGate(keyName), rand.New(rand.NewPCG(1, 2))
	var units []uint64
	for range 2_000 {
		units = append(units, rng.Uint64())
	}
	again := 0
	for round := range 3 {
		again = 0
		for _, h := range units {
			if place, already := g.through(h); !already {
				place.Store(h)
				again++
			}
		}
		if round == 0 && again != len(units) {
			t.Errorf("%d of %d were let through", again, len(units))
		}
	}
	if again > 20 {
		t.Errorf("%d of %d are let through once more", again, len(units))
	}
}

// What is sampled holds on to no request, however large it was and whatever it carries.
func TestTheSampleHoldsOnToNoRequest(t *testing.T) {
	s := newService(t, ruleset(1, 1, bySite))
	s.sampling = `{"seed":"2a","personal":{},"limits":{}}`
	c := s.open(t, func(o *Options) {
		o.Report = time.Hour
		o.Resolvers = []Resolver{{Name: Named("crew_size"), Find: func(context.Context, Context) (Attribute, error) { return Number("crew_size", 2), nil }}}
	})
	c.reportSoon()
	eventually(t, "the service's order", func() bool { return c.people.order.Load() != nil })
	held := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before := held()
	for i := range 1_000 {
		request := strings.Repeat(fmt.Sprintf("%08d", i), 12_500) // 100 KB, of which texts are parts
		carried := make([]byte, 100_000)
		ctx := context.WithValue(t.Context(), scopeKey{}, carried)
		unit := Unit(request[:40], Text("site.id", request[40:48]), Text("agent", request[100:150]))
		c.Scope(ctx, unit).Bool("by-site", false)
		c.Bool("by-site", unit, false)
	}
	if after := held(); after > before+10<<20 {
		t.Errorf("1,000 units hold %d KB", (after-before)>>10)
	}
	c.people.mu.Lock()
	defer c.people.mu.Unlock()
	if n := len(c.people.samples[condition.KeyName].All()); n < 800 { // who comes while a report is made is noted the next time
		t.Errorf("%d units were sampled", n)
	}
}

// What comes slowly arrives: a line is dead when nothing moves, not when it takes long.
func TestASlowSnapshotArrives(t *testing.T) {
	const still = 250 * time.Millisecond
	snapshot := ruleset(1, 1, boolean("a", "on"))
	hang := make(chan struct{})
	var snapshots atomic.Int32
	mux := http.NewServeMux()
	mux.HandleFunc("GET /follow/v1/feed", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	mux.HandleFunc("GET /follow/v1/snapshot", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, snapshot[:10])
		_ = http.NewResponseController(w).Flush()
		if snapshots.Add(1) == 1 { // the first stops in the middle
			select {
			case <-hang:
			case <-r.Context().Done():
			}
			return
		}
		drip := time.NewTicker(still / 10)
		defer drip.Stop()
		for rest := snapshot[10:]; rest != ""; {
			<-drip.C
			piece := min(len(rest), len(snapshot)/40)
			_, _ = io.WriteString(w, rest[:piece])
			_ = http.NewResponseController(w).Flush()
			rest = rest[piece:]
		}
	})
	srv := httptest.NewServer(mux)
	defer srv.Close()
	defer srv.CloseClientConnections()
	defer close(hang)
	c, err := Open(t.Context(), Options{URL: srv.URL, Key: "gls_test", Dir: t.TempDir(), Wait: -1, Logger: quiet, silence: still})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if err := c.Ready(ctx); err != nil || snapshots.Load() != 2 {
		t.Errorf("%v, after %d snapshots", err, snapshots.Load())
	}
}
