package greenlever

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
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
			u := Unit(fmt.Sprint("recipient-", i%2_000), String("site.id", fmt.Sprint("site-", i%700)))
			c.Bool(context.Background(), "by-site", u, false)
			c.Bool(context.Background(), "plain", u, false)
			c.Answer(context.Background(), "by-site", u)
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
		o.Resolvers = []Resolver{{Name: Named("crew_size"), Find: func(context.Context, Context) (Attribute, error) {
			return Number("crew_size", 2), nil
		}}}
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
		unit := Unit(request[:40], String("site.id", request[40:48]), String("agent", request[100:150]))
		c.Scope(ctx, unit).Bool("by-site", false)
		c.Bool(context.Background(), "by-site", unit, false)
	}
	if after := held(); after > before+10<<20 {
		t.Errorf("1,000 units hold %d KB", (after-before)>>10)
	}
	c.people.mu.Lock()
	defer c.people.mu.Unlock()
	// who comes while a report is made is noted the next time
	if n := len(c.people.samples[condition.KeyName].All()); n < 800 {
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
	c, err := Open(t.Context(), Options{URL: srv.URL, Key: "gls_test", Dir: t.TempDir(), Wait: -1, Logger: quiet,
		silence: still})
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

// usual is a flag as there are many: three rules and a share.
func usual(i int) string {
	rules := []string{}
	for j, a := range []string{"site.region", "role", "app.version"} {
		rules = append(rules,
			fmt.Sprintf(
				`{"id":"r%d-%d","name":"Rule %d","when":{"test":"string.one-of","attribute":%q,"text":["north","south-%d"]},"gives":{"variant":"on"}}`, i, j, j, a, i%9))
	}
	return fmt.Sprintf(
		`{"key":"some-flag-of-a-team-%d","type":"boolean","variants":{"on":true,"off":false},"visible":false,"lever":"on","resting":"off","rules":[%s],"end":{"shares":{"by":["targetingKey"],`+
			`"salt":"5f1c0e9ab3d24c%02d","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[[0,80000]]},{"variant":"off","share":920000,"ranges":[[80000,1000000]]}]}}}`, i, strings.Join(rules, ","), i%100)
}

// Ten thousand usual flags, 7 MB as they come, take 25 MB at most.
func TestTenThousandFlagsAreSmall(t *testing.T) {
	var flags []string
	for i := range 10_000 {
		flags = append(flags, usual(i))
	}
	s := newService(t, ruleset(1, 1, flags...))
	flags = nil
	held := func() int {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int(m.HeapAlloc)
	}
	before := held()
	c := s.open(t)
	more := 0
	eventually(t, "at most 25 MB", func() bool { // once it is on the disk
		more = held() - before
		return more <= 25<<20
	})
	if c.State().Source != FromService {
		t.Errorf("%+v", c.State())
	}
}

// Edits without end need no memory without end: slots are used again, and what was counted in them
// is told by what it was.
func TestSlotsAreUsedAgain(t *testing.T) {
	var c counts
	doc := func(i int) *flag.Document {
		return &flag.Document{Key: "a", Type: flag.Boolean, Lever: flag.On, Resting: "off",
			End: flag.Gives{Variant: "off"}, Variants: map[string]json.RawMessage{"on": json.RawMessage("true"),
				"off": json.RawMessage("false")},
			Rules: []flag.Rule{{ID: fmt.Sprint("rule-", i), Name: "R", Gives: flag.Gives{Variant: "on"}}}}
	}
	rs := decide.Compile(emptyRuleset, nil)
	now := time.Unix(1_800_000_000, 0)
	most := int32(0)
	for i := range 3_000 {
		now = now.Add(time.Second)
		next, err := rs.With([]*flag.Document{doc(i)}, nil)
		if err != nil {
			t.Fatal(err)
		}
		var blocks []*block
		rs, blocks = c.grow(next, now)
		st := &state{rules: rs, blocks: blocks}
		f := rs.Flag("a")
		st.count(f.Slot + int32(f.Decide(rs, &condition.Context{}, 0).Cell))
		most = max(most, rs.Slots())
	}
	if most > 3_000 { // two minutes of edits, each with a dozen slots
		t.Errorf("%d slots", most)
	}
	used, _ := c.take(1)
	told := map[string]uint64{}
	for what, n := range used {
		told[what.Rule] += n
	}
	for i := range 3_000 {
		if rule := fmt.Sprint("rule-", i); told[rule] != 1 {
			t.Fatalf("%s was counted %d times", rule, told[rule])
		}
	}
}

// The disk is written once a second at most, and half a megabyte a second.
func TestDiskWritesAreBounded(t *testing.T) {
	for size, want := range map[int]time.Duration{0: time.Second, 100_000: time.Second, 5 << 20: 10 * time.Second,
		1 << 30: time.Minute} {
		if got := pauseAfter(size); got != want {
			t.Errorf("after %d bytes: %v", size, got)
		}
	}
}

// Of several addresses the first is followed while it can be, else the next at once; it is left for the
// first one when that is ready again, and not before.
func TestSeveralAddresses(t *testing.T) {
	first, second := newService(t, ruleset(1, 1, boolean("a", "on"))),
		newService(t, ruleset(1, 2, boolean("a", "off")))
	for _, bad := range []string{"http://a.example,", "http://a.example;http://b.example",
		"http://a.example, b.example", "http://a.example http://b.example"} {
		if _, err := Open(t.Context(), Options{URL: bad, Key: "gls_test", Wait: -1}); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
	c, err := Open(t.Context(), Options{URL: first.URL + " , " + second.URL + "/", Key: "gls_test", Dir: t.TempDir(),
		Logger: quiet, homeward: 50 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if s := c.State(); s.Revision != 1 || !s.Connected {
		t.Fatalf("%+v", s)
	}
	first.down.Store(true)
	first.CloseClientConnections()
	eventually(t, "nobody follows the first", func() bool {
		first.mu.Lock()
		defer first.mu.Unlock()
		return len(first.feeds) == 0
	})
	tell := func(s *service) {
		eventually(t, "somebody follows", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return len(s.feeds) > 0 })
		s.send("event: snapshot\ndata: {}\n\n")
	}
	eventually(t, "nobody follows the first", func() bool {
		first.mu.Lock()
		defer first.mu.Unlock()
		return len(first.feeds) == 0
	})
	tell(second)
	until(t, c, "the second", func(s State) bool { return s.Revision == 2 && s.Connected })
	first.set(ruleset(1, 3, boolean("a", "on")))
	looks := first.looked.Load()
	eventually(t, "it looks for the first again and again", func() bool { return first.looked.Load() > looks+4 })
	if n := second.followed.Load(); n != 1 {
		t.Errorf("the second was left and followed again while the first was away: %d times", n)
	}
	first.down.Store(false)
	tell(first)
	until(t, c, "the first again", func(s State) bool { return s.Revision == 3 && s.Connected })
	if !c.Bool(t.Context(), "a", Unit("x"), false) {
		t.Error("it decides by another revision")
	}
}

// What is no text is absent, and said once.
func TestWhatIsNoText(t *testing.T) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	defer slog.SetDefault(before)
	for range 3 {
		u := Unit("caf\xe9", String("latin", "caf\xe9"), List("latins", "a", "\xff"), String("good", "café"))
		for name := range u.unit.Attributes {
			if name != "good" {
				t.Errorf("%s is there", name)
			}
		}
		if u.Key() != "" {
			t.Errorf("the key is %q", u.Key())
		}
	}
	if n := strings.Count(log.String(), "not valid UTF-8"); n != 3 {
		t.Errorf("said %d times: %s", n, log.String())
	}
	for text, good := range map[string]bool{`{"a":"\ud83d\ude00"}`: true, `{"a":"\\\\ud800"}`: true,
		`{"a":"\ud800"}`: false, `{"a":"\ude00\ud83d"}`: false, `{"a":"\ud800\u0041"}`: false, `{"a":"x\`: false} {
		if _, err := ReadContext([]byte(text)); (err == nil) != good {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// Units of which very much is known go in portions, and none of them makes a report too large.
func TestLargeUnitsGoInPortions(t *testing.T) {
	s := newService(t, ruleset(1, 1, bySite))
	s.sampling = `{"seed":"2a","personal":{},"limits":{}}`
	c := s.open(t, func(o *Options) { o.Report = 20 * time.Millisecond })
	eventually(t, "the service's order", func() bool { return c.people.order.Load() != nil })
	much, escaped := strings.Repeat("x", 15_000), strings.Repeat("\x01", 15_000)
	eventually(t, "all units", func() bool {
		for i := range 300 {
			c.Bool(t.Context(), "by-site", Unit(fmt.Sprint("recipient-", i), String("site.id", "site-1"),
				String("much", much)), false)
		}
		c.Bool(t.Context(), "by-site", Unit("escaped", String("much", escaped)), false)
		c.Bool(t.Context(), "by-site", Unit("too-much", String("much", much), String("more", much)), false)
		return len(s.reported()["targetingKey"]) >= 300
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.reports {
		bytes := 0
		for _, u := range r.Units {
			bytes += len(u.Attributes)
			if u.Unit == "escaped" || u.Unit == "too-much" {
				t.Errorf("%s is told", u.Unit)
			}
		}
		if bytes > 2<<20 {
			t.Errorf("a report of %d bytes", bytes)
		}
	}
}
