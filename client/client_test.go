package greenlever

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/wire"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// service is a small stand-in: it serves a snapshot and a feed, and takes reports.
type service struct {
	*httptest.Server
	mu       sync.Mutex
	snapshot string
	feeds    map[chan string]bool
	reports  []wire.Report
	refuse   atomic.Int32 // how many reports to answer with 503
	sampling string       // what reports are answered
	lists    map[string][]byte
	asked    []string // lists, with what they were asked to differ from
	down     atomic.Bool
	looked   atomic.Int64 // how often it was asked whether it is ready
	followed atomic.Int64 // how often its feed was asked for
}

func boolean(key, lever string) string {
	return fmt.Sprintf(
		`{"key":%q,"type":"boolean","variants":{"on":true,"off":false},"lever":%q,"resting":"off","end":{"variant":"on"}}`, key, lever)
}

func ruleset(epoch, revision int, flags ...string) string {
	return fmt.Sprintf(`{"format":1,"epoch":%d,"revision":%d,"at":0,"flags":[%s],"segments":[],"stops":[]}`, epoch,
		revision, strings.Join(flags, ","))
}

func newService(t *testing.T, snapshot string) *service {
	t.Helper()
	s := &service{snapshot: snapshot, feeds: map[chan string]bool{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /readyz", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("GET /follow/v1/snapshot", func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		_, _ = io.WriteString(w, s.snapshot)
	})
	mux.HandleFunc("GET /follow/v1/feed", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer gls_test" {
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, `{"title":"Unauthorized","detail":"the access key is not known"}`)
			return
		}
		events := make(chan string, 100)
		s.mu.Lock()
		s.feeds[events] = true
		s.mu.Unlock()
		defer func() { s.mu.Lock(); delete(s.feeds, events); s.mu.Unlock() }()
		w.Header().Set("Content-Type", "text/event-stream")
		if r.Header.Get("Last-Event-ID") == "" {
			_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
		}
		_ = http.NewResponseController(w).Flush()
		for {
			select {
			case e := <-events:
				_, _ = io.WriteString(w, e)
				_ = http.NewResponseController(w).Flush()
			case <-r.Context().Done():
				return
			}
		}
	})
	mux.HandleFunc("POST /follow/v1/report", func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		var got wire.Report
		_ = json.Unmarshal(raw, &got)
		s.mu.Lock()
		s.reports = append(s.reports, got)
		s.mu.Unlock()
		if s.refuse.Add(-1) >= 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		fmt.Fprintf(w, `{"taken":true,"sampling":%s}`, cmp.Or(s.sampling, "null"))
	})
	mux.HandleFunc("GET /follow/v1/lists/{digest}", func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.asked = append(s.asked, r.PathValue("digest")+" from "+r.URL.Query().Get("from"))
		raw, ok := s.lists[r.PathValue("digest")]
		if !ok {
			w.WriteHeader(http.StatusNotFound)
		}
		_, _ = w.Write(raw)
	})
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/readyz":
			s.looked.Add(1)
		case "/follow/v1/feed":
			s.followed.Add(1)
		}
		if s.down.Load() {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		mux.ServeHTTP(w, r)
	}))
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	return s
}

func (s *service) send(event string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for f := range s.feeds {
		f <- event
	}
}

func (s *service) set(snapshot string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.snapshot = snapshot
}

func (s *service) open(t *testing.T, change ...func(*Options)) *Client {
	t.Helper()
	o := Options{URL: s.URL, Key: "gls_test", Dir: t.TempDir(), Application: "test", Logger: quiet,
		Wait: 10 * time.Second}
	for _, f := range change {
		f(&o)
	}
	c, err := Open(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func until(t *testing.T, c *Client, what string, holds func(State) bool) {
	t.Helper()
	timeout := time.After(10 * time.Second)
	for {
		changed := c.Changed()
		if holds(c.State()) {
			return
		}
		select {
		case <-changed:
		case <-timeout:
			t.Fatalf("%s: the state is %+v", what, c.State())
		}
	}
}

func revision(n int64) func(State) bool { return func(s State) bool { return s.Revision == n } }

func TestEventsApplyInOrderAndGapsFetch(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("a", "off")))
	c := s.open(t)
	event := func(r int, lever string) string {
		return fmt.Sprintf("event: revision\nid: 1.%d\ndata: "+
			"{\"format\":1,\"epoch\":1,\"revision\":%d,\"flags\":[%s]}\n\n", r, r, boolean("a", lever))
	}
	unit := Unit("x")
	s.send(event(2, "on"))
	until(t, c, "the next revision", revision(2))
	if !c.Bool(context.Background(), "a", unit, false) {
		t.Error("revision 2 turns it on")
	}
	s.send(event(2, "off")) // again: it is had already
	s.send(event(3, "on"))
	until(t, c, "one after a repeated one", revision(3))
	s.set(ruleset(1, 7, boolean("a", "off")))
	s.send(event(7, "on")) // a gap: fetched
	until(t, c, "the snapshot after a gap", revision(7))
	if c.Bool(context.Background(), "a", unit, true) {
		t.Error("the snapshot turns it off")
	}
	s.set(ruleset(1, 5, boolean("a", "on")))
	s.send("event: snapshot\ndata: {}\n\n")
	until(t, c, "that an older revision is refused", func(st State) bool {
		return strings.Contains(st.LastError, "epoch new")
	})
	if c.State().Revision != 7 || c.Bool(context.Background(), "a", unit, true) {
		t.Error("the client went back in its epoch")
	}
	s.set(ruleset(2, 1, boolean("a", "on")))
	until(t, c, "that it connects again", func(st State) bool { return st.Connected })
	s.send(`event: beat` + "\n" + fmt.Sprintf(`data: {"now":%d,"epoch":2,"revision":1}`, time.Now().UnixMilli()) +
		"\n\n")
	until(t, c, "the new epoch", func(st State) bool { return st.Epoch == 2 && st.Revision == 1 })
}

func TestNewerFormatIsRefused(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("a", "on")))
	c := s.open(t)
	s.set(`{"format":2,"epoch":1,"revision":2}`)
	s.send("event: snapshot\ndata: {}\n\n")
	until(t, c, "the refusal", func(st State) bool { return strings.Contains(st.LastError, "update it") })
	if !c.Bool(context.Background(), "a", Unit("x"), false) {
		t.Error("what the client has is gone")
	}
}

func TestClockSkewIsKnown(t *testing.T) {
	s := newService(t, ruleset(1, 1))
	c := s.open(t)
	s.send("event: beat\n" + fmt.Sprintf(`data: {"now":%d,"epoch":1,"revision":1}`,
		time.Now().Add(40*time.Second).UnixMilli()) + "\n\n")
	deadline := time.After(10 * time.Second)
	for c.State().Skew < 39*time.Second {
		select {
		case <-deadline:
			t.Fatalf("%+v", c.State())
		case <-time.After(time.Millisecond):
		}
	}
}

func TestWrongKeyIsNamed(t *testing.T) {
	s := newService(t, ruleset(1, 1))
	c := s.open(t, func(o *Options) { o.Key = "gls_wrong"; o.Wait = -1 })
	until(t, c, "the refusal", func(st State) bool {
		return strings.Contains(st.LastError, "the access key is not known")
	})
	if a := c.Answer(context.Background(), "a", Unit("x")); a.Code != "PROVIDER_NOT_READY" {
		t.Errorf("%+v", a)
	}
}

// No decision is lost or counted twice, whatever revisions come in between, and a report
// without an answer is sent again unchanged.
func TestCountsAddUp(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("a", "on"), boolean("b", "off")))
	s.refuse.Store(2)
	c := s.open(t, func(o *Options) { o.Report = 20 * time.Millisecond })
	const workers, each = 4, 20_000
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for range each {
				c.Bool(context.Background(), "a", Unit("x"), false)
				c.String(context.Background(), "b", Unit("x"), "")
			}
			c.Bool(context.Background(), "nowhere", Unit("x"), false)
		})
	}
	for r := 2; r <= 30; r++ {
		variants := `{"on":true,"off":false}`
		if r%2 == 0 {
			variants = `{"on":true,"off":false,"new":true}` // other slots
		}
		s.send(fmt.Sprintf("event: revision\ndata: "+
			"{\"format\":1,\"epoch\":1,\"revision\":%d,\"flags\":[{\"key\":\"a\",\"type\":\"boolean\",\"variants\":%s,\"lever\":\"on\",\"resting\":\"off\",\"end\":{\"variant\":\"on\"}}]}\n\n", r, variants))
	}
	all.Wait()
	until(t, c, "the last revision", revision(30))
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	sum, unknown := map[string]uint64{}, uint64(0)
	seen := map[int64]string{}
	for i, r := range s.reports {
		raw, _ := json.Marshal(r)
		if before, ok := seen[r.Sequence]; ok {
			if before != string(raw) {
				t.Errorf("report %d was sent again changed", r.Sequence)
			}
			continue
		}
		if len(seen) > 0 && r.Sequence != int64(len(seen))+1 {
			t.Errorf("report %d follows %d others", r.Sequence, len(seen))
		}
		seen[r.Sequence] = string(raw)
		for _, l := range r.Counts {
			sum[l.Flag+" "+l.Variant] += l.Count
		}
		for _, l := range r.Unknown {
			if l.Mistyped {
				sum["b as "+string(l.Type)] += l.Count
			} else {
				unknown += l.Count
			}
		}
		if last := i == len(s.reports)-1; r.Leaving != last {
			t.Errorf("report %d of %d: leaving %t", i+1, len(s.reports), r.Leaving)
		}
	}
	if sum["a on"] != workers*each || sum["b "] != workers*each || sum["b as string"] != workers*each ||
		unknown != workers {
		t.Errorf("counted %v and %d unknown, decided %d of each", sum, unknown, workers*each)
	}
	if len(s.reports) == len(seen) {
		t.Error("no report was sent again")
	}
}

func TestValues(t *testing.T) {
	doc := func(key, kind, a, b string) string {
		return fmt.Sprintf(
			`{"key":%q,"type":%q,"variants":{"a":%s,"b":%s},"lever":"on","resting":"b","end":{"variant":"a"}}`, key,
			kind, a, b)
	}
	s := newService(t, ruleset(1, 1, doc("text", "string", `"x"`, `"y"`), doc("number", "number", "2.5", "1"),
		doc("object", "object", `{"attempts":5}`, "{}"), doc("broken", "string", "1", "2"), boolean("flag", "on")))
	c := s.open(t)
	u := Unit("x", String("a", "b"), Bool("c", true), List("d", "e", "f"), Number("g", 1.5), Int("h", 3))
	if u.Key() != "x" || c.String(context.Background(), "text", u, "") != "x" || c.Number(context.Background(),
		"number", u, 0) != 2.5 || !c.Bool(context.Background(), "flag", u, false) {
		t.Error("values")
	}
	type retries struct{ Attempts int }
	if got := Object(context.Background(), c, "object", u, retries{1}); got.Attempts != 5 {
		t.Errorf("%+v", got)
	}
	if got := Object(context.Background(), c, "object", u, 7); got != 7 {
		t.Errorf("an object that does not fit gave %v", got)
	}
	if got := Object(context.Background(), c, "text", u, retries{1}); got.Attempts != 1 {
		t.Errorf("a string as object gave %+v", got)
	}
	a := c.Answer(context.Background(), "object", u)
	raw := a.JSON()
	raw[0] = 'x'
	if string(c.Answer(context.Background(), "object", u).JSON()) != `{"attempts":5}` {
		t.Error("a caller's change of an answer reached the ruleset")
	}
	if v, ok := Value[string](c.Answer(context.Background(), "text", u)); !ok || v != "x" {
		t.Error("Text")
	}
	if v, ok := Value[float64](c.Answer(context.Background(), "number", u)); !ok || v != 2.5 {
		t.Error("Number")
	}
	if _, ok := Value[bool](c.Answer(context.Background(), "text", u)); ok {
		t.Error("a string is no boolean")
	}
	if a := c.Answer(context.Background(), "broken", u); a.Code != "PARSE_ERROR" || a.JSON() != nil {
		t.Errorf("%+v", a)
	}
	all := c.AnswerAll(Context{})
	if len(all) != 5 || all[0].Flag != "broken" || all[4].Flag != "text" {
		t.Errorf("%+v", all)
	}
}

func TestTypedCallsAllocateNothing(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("a", "on")))
	c := s.open(t)
	u := Unit("recipient-17", String("site.id", "site-1"))
	for name, call := range map[string]func(){"Bool": func() { c.Bool(context.Background(), "a", u, false) },
		"Answer": func() { c.Answer(context.Background(), "a", u) }} {
		if n := testing.AllocsPerRun(200, call); n != 0 {
			t.Errorf("%s: %v allocations", name, n)
		}
	}
}

// Event streams as the standard has them: comments, several data lines, unknown fields.
func TestReadEvents(t *testing.T) {
	in := ": comment\n\nevent: a\ndata: 1\ndata:2\nid: 7\nretry: 5\nodd\n\ndata: only\n\nevent: none\n\nevent: " +
		"cut\ndata: x\n"
	var got []string
	err := readEvents(strings.NewReader(in), func(event string, data []byte) error {
		got = append(got, event+"="+string(data))
		return nil
	})
	if !errors.Is(err, io.ErrUnexpectedEOF) || fmt.Sprintf("%q", got) != `["a=1\n2" "=only"]` {
		t.Errorf("%q %v", got, err)
	}
	stop := errors.New("stop")
	if err := readEvents(strings.NewReader(in), func(string, []byte) error { return stop }); !errors.Is(err, stop) {
		t.Error(err)
	}
}

// Goroutines are spread over the shards.
func TestShardsAreUsed(t *testing.T) {
	const goroutines = 400
	var used [shards]atomic.Int32
	var all, alive sync.WaitGroup
	alive.Add(goroutines)
	for range goroutines {
		all.Go(func() {
			alive.Done()
			alive.Wait() // all have a stack of their own at the same time
			used[shard()].Add(1)
		})
	}
	all.Wait()
	busy := 0
	for i := range used {
		if used[i].Load() > 0 {
			busy++
		}
	}
	if busy < shards/2 {
		t.Errorf("%d of %d shards are used", busy, shards)
	}
}
