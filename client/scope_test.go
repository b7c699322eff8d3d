package greenlever

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/wire"
)

const crews = `{"key":"night-batching","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","end":{"variant":"off"},
	"rules":[{"id":"crews","name":"Crews","when":{"test":"number.at-least","attribute":"crew_size","numbers":[2]},"gives":{"variant":"on"}}]}`

// A scope decides by one ruleset, until it is so old that it would miss a stop.
func TestScopeHoldsOneRuleset(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("a", "off")))
	c := s.open(t)
	scope := c.Scope(context.Background(), Unit("x"))
	handle := NewBoolFlag("a", false)
	s.set(ruleset(1, 2, boolean("a", "on")))
	s.send("event: revision\ndata: {\"format\":1,\"epoch\":1,\"revision\":2,\"at\":0,\"flags\":[" + boolean("a",
		"on") + "]}\n\n")
	until(t, c, "the revision", revision(2))
	if !c.Bool(context.Background(), "a", Unit("x"), false) || scope.Bool("a", true) || handle.In(scope) ||
		scope.Answer("a").Revision != 1 {
		t.Errorf("the client says %v, the scope %v by revision %d", c.Bool(context.Background(), "a", Unit("x"),
			false), scope.Bool("a", true), scope.Answer("a").Revision)
	}
	if again := c.Scope(context.Background(), Unit("x")); !again.Bool("a", false) || !handle.In(again) {
		t.Error("a new scope decides by the old ruleset")
	}
	scope.made = scope.made.Add(-scopeLife)
	if !scope.Bool("a", false) || !handle.In(scope) {
		t.Error("a scope of a long job misses revisions")
	}
	var none *Scope
	if !none.Bool("a", true) || none.String("a", "f") != "f" || none.Number("a", 3) != 3 || ObjectIn(none, "a",
		7) != 7 || none.Answer("a").Code != "PROVIDER_NOT_READY" || none.Unit().Key() != "" {
		t.Error("without a scope there is something else than fallbacks")
	}
	if ScopeOf(context.Background()) != nil || ScopeOf(WithScope(context.Background(), scope)) != scope {
		t.Error("a context does not carry its scope")
	}
}

// What is costly to know is asked for when a decision looks at it, once in a scope; not
// knowing it lets nobody in.
func TestResolvers(t *testing.T) {
	s := newService(t, ruleset(1, 1, crews, boolean("plain", "on")))
	var mu sync.Mutex
	asked := 0
	answer, fails := 3.0, error(nil)
	hang := false
	c := s.open(t, func(o *Options) {
		o.Resolvers = []Resolver{{Name: Named("crew_size"), Limit: 20 * time.Millisecond,
			Find: func(ctx context.Context, unit Context) (Attribute, error) {
				mu.Lock()
				defer mu.Unlock()
				asked++
				if hang {
					<-ctx.Done()
				}
				if unit.Key() != "site-1" {
					return Attribute{}, fmt.Errorf("asked about %q", unit.Key())
				}
				return Number("crew_size", answer), fails
			}}}
	})
	scope := c.Scope(context.Background(), Unit("site-1"))
	if !scope.Bool("plain", false) || asked != 0 {
		t.Errorf("asked %d times for what no rule looks at", asked)
	}
	for range 3 {
		if !scope.Bool("night-batching", false) {
			t.Error("what a resolver found does not count")
		}
	}
	if asked != 1 {
		t.Errorf("asked %d times in one scope", asked)
	}
	if own := c.Scope(context.Background(), Unit("site-1", Number("crew_size", 1))); own.Bool("night-batching",
		true) || asked != 1 {
		t.Errorf("what the context has was asked for, %d", asked)
	}
	fails = errors.New("the yard's office is closed")
	if c.Scope(context.Background(), Unit("site-1")).Bool("night-batching", true) {
		t.Error("an error let somebody in")
	}
	fails, hang = nil, true
	late := c.Scope(context.Background(), Unit("site-1"))
	if a := late.Answer("night-batching"); a.Variant != "off" || a.Reason != "DEFAULT" {
		t.Errorf("a resolver that hangs: %+v", a)
	}
	if c.Bool(context.Background(), "night-batching", Unit("site-1"), true) {
		t.Error("without a scope a resolver was asked")
	}
}

// A guarded route that its flag does not open is answered byte for byte as an address that
// does not exist.
func TestGuard(t *testing.T) {
	photos := strings.Replace(crews, "night-batching", "photos", 1)
	s := newService(t, ruleset(1, 1, photos))
	c := s.open(t)
	mux := http.NewServeMux()
	for _, pattern := range []string{"GET /desk/photos", "/desk/photos/{id}", "/rounds/", "GET /open"} {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "a guarded page")
		})
	}
	routes := []Route{{Pattern: "/desk/photos", Flag: "photos"}, {Pattern: "/desk/photos/{id}", Flag: "photos",
		Variant: "on"}, {Pattern: "/rounds/", Flag: "photos"}}
	unit := func(r *http.Request) Context {
		if r.Header.Get("Crew") == "" {
			return Unit("site-1")
		}
		return Unit("site-1", Number("crew_size", 5))
	}
	app := httptest.NewServer(c.Middleware(unit)(c.Guard(routes, nil)(mux)))
	defer app.Close()
	bare := httptest.NewServer(c.Guard(routes, nil)(mux)) // without a scope
	defer bare.Close()
	ask := func(url, method, path, crew string) string {
		t.Helper()
		req, err := http.NewRequest(method, url+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if crew != "" {
			req.Header.Set("Crew", crew)
		}
		client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
		res, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		res.Header.Del("Date")
		var all bytes.Buffer
		fmt.Fprintln(&all, res.Status)
		_ = res.Header.Write(&all)
		_, _ = io.Copy(&all, res.Body)
		return all.String()
	}
	for _, method := range []string{"GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS", "PATCH"} {
		unknown := ask(app.URL, method, "/nothing/here", "")
		for _, path := range []string{"/desk/photos", "/desk/photos/7", "/rounds/", "/rounds/night", "/rounds",
			"/desk/../desk/photos"} {
			if got := ask(app.URL, method, path, ""); got != unknown {
				t.Errorf("%s %s: %s\nan unknown address: %s", method, path, got, unknown)
			}
			if got := ask(bare.URL, method, path, "5"); got != unknown {
				t.Errorf("without a scope, %s %s: %s", method, path, got)
			}
		}
	}
	for _, path := range []string{"/desk/photos", "/desk/photos/7", "/rounds/night", "/open"} {
		if got := ask(app.URL, "GET", path, "5"); !strings.Contains(got, "a guarded page") {
			t.Errorf("opened, %s: %s", path, got)
		}
	}
	if got := ask(app.URL, "GET", "/open", ""); !strings.Contains(got, "a guarded page") {
		t.Errorf("a route that is not guarded: %s", got)
	}
}

// Handles answer as calls by key do, in every ruleset, wherever they were made.
func TestHandles(t *testing.T) {
	flags := []string{boolean("a", "on"),
		`{"key":"text","type":"string","variants":{"x":"X","y":"Y"},"lever":"on","resting":"y","end":{"variant":"x"}}`,
		`{"key":"n","type":"number","variants":{"x":1.5,"y":0},"lever":"on","resting":"y","end":{"variant":"x"}}`,
		`{"key":"o","type":"object","variants":{"x":{"boxes":4},"y":{}},"lever":"on","resting":"y","end":{"variant":"x"}}`}
	before := NewBoolFlag("a", false)
	s := newService(t, ruleset(1, 1, flags...))
	c := s.open(t)
	type order struct{ Boxes int }
	text, n, o := NewStringFlag("text", "f"), NewNumberFlag("n", 9), NewObjectFlag("o", order{7}) // after the client
	unknown, wrong := NewBoolFlag("nowhere", true), NewBoolFlag("text", true)
	unit := Unit("x")
	check := func(when string, on bool) {
		t.Helper()
		scope := c.Scope(context.Background(), unit)
		wantText, wantN, wantO := "X", 1.5, order{4}
		if !on {
			wantText, wantN, wantO = "f", 9, order{7}
		}
		for _, same := range []bool{before.For(context.Background(), c, unit) == on, before.In(scope) == on,
			text.For(context.Background(), c, unit) == wantText, text.In(scope) == wantText,
			n.For(context.Background(), c, unit) == wantN, n.In(scope) == wantN, o.For(context.Background(), c,
				unit) == wantO, o.In(scope) == wantO, ObjectIn(scope, "o", order{7}) == wantO,
			unknown.For(context.Background(), c, unit), unknown.In(scope), wrong.For(context.Background(), c, unit),
			wrong.In(scope)} {
			if !same {
				t.Errorf("%s: %v %v %v %v %v", when, before.For(context.Background(), c, unit),
					text.For(context.Background(), c, unit), n.For(context.Background(), c, unit),
					o.For(context.Background(), c, unit), unknown.For(context.Background(), c, unit))
			}
		}
	}
	check("all there", true)
	s.set(ruleset(1, 2))
	s.send("event: snapshot\ndata: {}\n\n")
	until(t, c, "a ruleset without them", revision(2))
	check("none there", false)
	s.set(ruleset(1, 3, flags...))
	s.send("event: snapshot\ndata: {}\n\n")
	until(t, c, "they are back", revision(3))
	check("back", true)
}

// failing is a test that keeps what it failed with, and goes on.
type failing struct {
	testing.TB
	said string
}

func (f *failing) Fatalf(format string, args ...any) { f.said = fmt.Sprintf(format, args...) }

// A double gives units variants of their own, as a flag would.
func TestDoubleByUnit(t *testing.T) {
	greeting := DoubleFlag{Variants: map[string]any{"plain": "Hello", "warm": "Good to see you"}, Gives: "plain",
		To: map[string]string{"recipient-17": "warm"}}
	d := NewDouble(t, map[string]any{"greeting": greeting})
	if a := d.Answer(t.Context(), "greeting", Unit("recipient-17")); a.Variant != "warm" ||
		a.Reason != "TARGETING_MATCH" {
		t.Errorf("%+v", a)
	}
	if got := d.String(t.Context(), "greeting", Unit("recipient-18"), ""); got != "Hello" {
		t.Errorf("%q", got)
	}
	failed := &failing{TB: t}
	for said, bad := range map[string]DoubleFlag{
		`no variant "x"`: {Variants: greeting.Variants, Gives: "x"}, "no variant cold": {Variants: greeting.Variants,
			Gives: "warm", To: map[string]string{"a": "cold"}},
		"several types": {Variants: map[string]any{"a": 1, "b": "2"}, Gives: "a"},
		"is null":       {Variants: map[string]any{"a": nil}, Gives: "a"},
	} {
		if NewDouble(failed, map[string]any{"greeting": bad}); !strings.Contains(failed.said, said) {
			t.Errorf("%q is not said: %q", said, failed.said)
		}
	}
	var whole int64 = 9
	numbers := NewDouble(t, map[string]any{"n": 3, "half": 2.5})
	if n := numbers.Int(t.Context(), "n", Unit("x"), whole); n != 3 {
		t.Errorf("%d", n)
	}
	if n := numbers.Int(t.Context(), "half", Unit("x"), whole); n != 9 {
		t.Errorf("2.5 as a whole number: %d", n)
	}
	scope := numbers.Scope(t.Context(), Unit("x"))
	if three := NewIntFlag("n", whole); three.For(t.Context(), numbers.Client, Unit("x")) != 3 ||
		three.In(scope) != 3 || scope.Int("n", whole) != 3 || three.In(nil) != 9 {
		t.Error("a handle of whole numbers gives something else")
	}
}

// A double gives what it was told, and says how often it was asked.
func TestDouble(t *testing.T) {
	failed := &failing{TB: t}
	d := NewDouble(failed, map[string]any{"a": true, "text": "X", "n": 2, "o": map[string]int{"boxes": 4}})
	handle := NewBoolFlag("a", false)
	if !d.Bool(context.Background(), "a", Unit("x"), false) || d.String(context.Background(), "text", Unit("x"),
		"") != "X" || d.Number(context.Background(), "n", Unit("x"), 0) != 2 || !handle.For(context.Background(),
		d.Client, Unit("y")) {
		t.Error("a double does not give what it was told")
	}
	if o := ObjectIn(d.Scope(context.Background(), Unit("x")), "o", map[string]int{}); o["boxes"] != 4 {
		t.Errorf("%v", o)
	}
	if d.Set("a", false); d.Bool(context.Background(), "a", Unit("x"), true) {
		t.Error("Set changes nothing")
	}
	if d.Set("bad", nil); !strings.Contains(failed.said, "bad") {
		t.Errorf("nothing as a value: %q", failed.said)
	}
	if d.Set("a", make(chan int)); !strings.Contains(failed.said, "chan int") || d.Bool(context.Background(), "a",
		Unit("x"), true) {
		t.Errorf("a channel as a value: %q", failed.said)
	}
	if n := d.Asked("a"); n != 4 || d.Asked("nobody-asked") != 0 {
		t.Errorf("asked %d times", n)
	}
	if !d.Bool(context.Background(), "not-told", Unit("x"), true) || d.Asked("not-told") != 1 {
		t.Error("a flag that was not told gives something else than the fallback")
	}
	if err := d.Ready(context.Background()); err != nil {
		t.Error(err)
	}
	if err := d.Close(); err != nil {
		t.Error(err)
	}
}

// Flags that allow only so much silence give their resting variants after it, and no other
// flag does; contact ends it.
func TestRestsAfterSilence(t *testing.T) {
	rests := strings.Replace(boolean("rests", "on"), `"lever"`, `"requires":["restAfter"],"restAfter":10,"lever"`, 1)
	s := newService(t, ruleset(1, 1, rests, boolean("stays", "on")))
	c := s.open(t)
	unit := Unit("x")
	contact := c.State().Contact
	handle := NewBoolFlag("rests", true)
	for _, step := range []struct {
		after   time.Duration
		on      bool
		minutes int
	}{{9 * time.Minute, true, 0}, {10 * time.Minute, false, 10}, {time.Hour, false, 10}, {time.Minute, true, 0}} {
		c.rest(contact.Add(step.after))
		if got := c.Bool(context.Background(), "rests", unit, true); got != step.on || handle.For(context.Background(),
			c, unit) != step.on || !c.Bool(context.Background(), "stays", unit, false) ||
			c.State().Silent != step.minutes {
			t.Errorf("after %v: rests gives %v, stays %v, %+v", step.after, got, c.Bool(context.Background(), "stays",
				unit, false), c.State())
		}
	}
	c.rest(contact.Add(time.Hour))
	if a := c.Answer(context.Background(), "rests", unit); a.Variant != "off" || a.Reason != "DISABLED" {
		t.Errorf("resting: %+v", a)
	}
	s.send(fmt.Sprintf("event: beat\ndata: {\"now\":%d,\"epoch\":1,\"revision\":1,\"spread\":0}\n\n",
		time.Now().UnixMilli()))
	until(t, c, "the service was heard of", func(st State) bool { return st.Silent == 0 })
	if !c.Bool(context.Background(), "rests", unit, false) {
		t.Error("after contact the flag still rests")
	}
	// Through an outpost contact is what the outpost had, not the outpost itself.
	old := time.Now().Add(-20 * time.Minute)
	c.mu.Lock()
	c.link.Contact = old
	c.mu.Unlock()
	c.heard(old.UnixMilli())
	if c.Bool(context.Background(), "rests", unit, true) {
		t.Error("an outpost without contact counts as contact")
	}
}

// A service that is lost says over how long its followers should come back.
func TestComingBackIsSpread(t *testing.T) {
	s := newService(t, ruleset(1, 1))
	c := s.open(t)
	s.send(fmt.Sprintf("event: beat\ndata: {\"now\":%d,\"epoch\":1,\"revision\":1,\"spread\":7000}\n\n",
		time.Now().UnixMilli()))
	eventually(t, "the beat", func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.spread == 7*time.Second
	})
	if first, second := c.takeSpread(), c.takeSpread(); first != 7*time.Second || second != 0 {
		t.Errorf("%v, then %v", first, second)
	}
	s.send(fmt.Sprintf("event: beat\ndata: {\"now\":%d,\"epoch\":1,\"revision\":1,\"spread\":9000000}\n\n",
		time.Now().UnixMilli()))
	eventually(t, "a beat that asks for too much", func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.spread == longestWait
	})
}

// Each decision is told to who asked for that, with the context of the call.
func TestDecidedIsTold(t *testing.T) {
	s := newService(t, ruleset(1, 1, crews))
	type told struct{ ctx, unit, flag, variant, reason, rule string }
	var all []told
	type name struct{}
	c := s.open(t, func(o *Options) {
		o.Decided = func(ctx context.Context, unit Context, a Answer) {
			who, _ := ctx.Value(name{}).(string)
			all = append(all, told{who, unit.Key(), a.Flag, a.Variant, a.Reason, a.Rule})
		}
	})
	ctx := context.WithValue(context.Background(), name{}, "request")
	scope := c.Scope(ctx, Unit("site-1", Number("crew_size", 3)))
	scope.Bool("night-batching", false)
	scope.String("night-batching", "f")
	c.Bool(context.Background(), "nowhere", Unit("y"), false)
	want := []told{{"request", "site-1", "night-batching", "on", "TARGETING_MATCH", "crews"},
		{"request", "site-1", "night-batching", "", "ERROR", ""}, {"", "y", "nowhere", "", "ERROR", ""}}
	if fmt.Sprint(all) != fmt.Sprint(want) {
		t.Errorf("%v\nwant %v", all, want)
	}
}

// What stands in a page holds answers of visible flags and nothing else, and cannot end the
// element that it stands in.
func TestForPage(t *testing.T) {
	visible := strings.Replace(strings.Replace(crews, `"lever"`, `"visible":true,"lever"`, 1), "night-batching",
		"photos", 1)
	text := `{"key":"greeting","type":"string","variants":{"x":"</script><b>","y":""},"visible":true,"lever":"on","resting":"y","end":{"variant":"x"}}`
	s := newService(t, ruleset(1, 1, visible, text, boolean("secret", "on")))
	c := s.open(t)
	raw := c.ForPage(Unit("site-1", Number("crew_size", 3)))
	for _, leak := range []string{"secret", "crews", "Crews", "crew_size", "</script>", "revision"} {
		if bytes.Contains(raw, []byte(leak)) {
			t.Errorf("the page has %q: %s", leak, raw)
		}
	}
	var page struct {
		Flags []struct{ Key, Variant, Reason string }
	}
	if err := json.Unmarshal(raw, &page); err != nil || len(page.Flags) != 2 || page.Flags[1].Key != "photos" ||
		page.Flags[1].Variant != "on" {
		t.Errorf("%v %s", err, raw)
	}
}

// Ready says what the client decides by instead.
func TestReady(t *testing.T) {
	s := newService(t, ruleset(1, 1))
	c := s.open(t, func(o *Options) { o.Wait = -1 })
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := c.Ready(ctx); err != nil {
		t.Error(err)
	}
	refused := s.open(t, func(o *Options) { o.Key, o.Wait = "gls_wrong", -1 })
	until(t, refused, "the refusal", func(st State) bool { return st.LastError != "" })
	short, stop := context.WithTimeout(context.Background(), time.Millisecond)
	defer stop()
	if err := refused.Ready(short); err == nil || !strings.Contains(err.Error(), "GREENLEVER_KEY") ||
		!strings.Contains(err.Error(), "not known") {
		t.Errorf("%v", err)
	}
}

// A report says how decisions ended and what was asked for in vain, and names a unit that
// makes most of the calls.
func TestReportsSayHow(t *testing.T) {
	s := newService(t, ruleset(1, 4, crews))
	s.sampling = `{"off":false,"seed":"1","personal":{},"limits":{}}`
	c := s.open(t, func(o *Options) { o.Report = 10 * time.Millisecond })
	gather := func() (counts map[wire.CountLine]uint64, unknown map[string]wire.UnknownLine, busy *wire.Busy,
		applied int) {
		counts, unknown = map[wire.CountLine]uint64{}, map[string]wire.UnknownLine{}
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, r := range s.reports {
			for _, l := range r.Counts {
				n := l.Count
				l.Count = 0
				counts[l] += n
			}
			for _, u := range r.Unknown {
				unknown[u.Flag] = u
			}
			if r.Busy != nil {
				busy = r.Busy
			}
			applied += len(r.Applied)
		}
		return counts, unknown, busy, applied
	}
	until(t, c, "the ruleset", revision(4))
	for range 5 {
		c.Bool(context.Background(), "night-batching", Unit("site-1", Number("crew_size", 3)), false)
	}
	c.Bool(context.Background(), "night-batching", Unit("site-1"), false)
	c.String(context.Background(), "greting", Unit("x"), "hello")
	c.Number(context.Background(), "night-batching", Unit("x"), 1)
	eventually(t, "what was decided is reported", func() bool {
		counts, unknown, _, applied := gather()
		on := counts[wire.CountLine{Flag: "night-batching", Variant: "on", Reason: "TARGETING_MATCH", Rule: "crews",
			Revision: 4}]
		off := counts[wire.CountLine{Flag: "night-batching", Variant: "off", Reason: "DEFAULT", Revision: 4}]
		g, wrong := unknown["greting"], unknown["night-batching"]
		return on == 5 && off >= 1 && g.Type == "string" && string(g.Fallback) == `"hello"` && !g.Mistyped &&
			wrong.Mistyped && wrong.Type == "number" && applied >= 1
	})
	eventually(t, "how to sample", func() bool { return c.people.order.Load() != nil })
	for i := range 20_000 {
		unit := Unit("hard-coded", Number("crew_size", float64(i%4)))
		if i%10 == 0 {
			unit = Unit(fmt.Sprint("site-", i))
		}
		c.Bool(context.Background(), "night-batching", unit, false)
	}
	eventually(t, "the unit that makes most of the calls is named", func() bool {
		_, _, busy, _ := gather()
		return busy != nil && busy.Unit == "hard-coded" && busy.Calls*2 > busy.Of
	})
}
