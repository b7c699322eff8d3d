package outpost

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"greenlever.example/client/relay"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// clocked is a link whose clock the test moves.
func clocked(t *testing.T) (*link, *time.Time) {
	t.Helper()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	l := newLink(1, "http://127.0.0.1:1", "gls_x", t.TempDir(), http.DefaultClient, func() time.Time { return now })
	l.relay = &relay.Relay{}
	return l, &now
}

func said(instance string, sequence, revision int64) wire.Status {
	return wire.Status{Instance: instance, Sequence: sequence, Application: "door", Version: "2", Epoch: 1,
		Revision: revision, Applied: []wire.Applied{{Epoch: 1, Revision: revision, At: revision}}}
}

// A follower's report is taken once, summed with others, and passed on once, with its age.
func TestReportsArePassedOnOnce(t *testing.T) {
	l, now := clocked(t)
	line := func(n uint64) []wire.CountLine {
		return []wire.CountLine{{Flag: "a", Variant: "on", Reason: "SPLIT", Revision: 3, Count: n}}
	}
	if !l.take(app.Incoming{Report: &wire.Report{Status: said("one", 1, 3), Counts: line(5)}}) ||
		!l.take(app.Incoming{Report: &wire.Report{Status: said("two", 7, 3), Counts: line(6)}}) {
		t.Fatal("a new report was not taken")
	}
	if l.take(app.Incoming{Report: &wire.Report{Status: said("one", 1, 3), Counts: line(100)}}) {
		t.Error("a report was taken twice")
	}
	l.take(app.Incoming{Report: &wire.Report{Status: said("one", 2, 4), Counts: line(1),
		Unknown: []wire.UnknownLine{{Flag: "b", Type: "string", Count: 2}}}})
	l.count([]wire.CountLine{{Flag: "a", Variant: "on", Reason: "SPLIT", Revision: 3, Application: "all at once",
		Count: 9}}, []wire.UnknownLine{{Flag: "b", Count: 3}})
	*now = now.Add(3 * time.Second)
	r := l.report(2, 8)
	behind := r["behind"].([]wire.Follower)
	if len(behind) != 2 || r["streams"] != int64(2) || r["pollers"] != int64(8) || r["kind"] != wire.AnOutpost {
		t.Fatalf("%+v", r)
	}
	for _, f := range behind {
		if f.Age != 3_000 {
			t.Errorf("%s is %d ms old", f.Instance, f.Age)
		}
		if f.Instance == "one" && (f.Revision != 4 || len(f.Applied) != 2) {
			t.Errorf("what it applied was not gathered: %+v", f)
		}
	}
	sums := map[string]uint64{}
	for _, c := range r["counts"].([]wire.CountLine) {
		sums[c.Application+" "+c.Version] += c.Count
	}
	if sums["door 2"] != 12 || sums["all at once "] != 9 || len(sums) != 2 {
		t.Errorf("%v", sums)
	}
	unknown := map[string]uint64{}
	for _, u := range r["unknown"].([]wire.UnknownLine) {
		unknown[u.Flag+" "+u.Type+" "+u.Application] = u.Count
	}
	if unknown["b string door"] != 2 || unknown["b  "] != 3 {
		t.Errorf("%v", unknown)
	}
	again := l.report(0, 0)
	if len(again["behind"].([]wire.Follower)) != 0 || len(again["counts"].([]wire.CountLine)) != 0 ||
		len(again["unknown"].([]wire.UnknownLine)) != 0 {
		t.Errorf("told twice: %+v", again)
	}
	// One that left is told of and forgotten; one that fell silent is forgotten here after a
	// while, never there.
	leaving := said("one", 3, 4)
	leaving.Leaving = true
	l.take(app.Incoming{Report: &wire.Report{Status: leaving}})
	if b := l.report(0, 0)["behind"].([]wire.Follower); len(b) != 1 || !b[0].Leaving || len(l.followers) != 1 {
		t.Errorf("%+v, %d are known", b, len(l.followers))
	}
	*now = now.Add(forgetAfter + time.Second)
	if l.report(0, 0); len(l.followers) != 0 {
		t.Errorf("%d are known", len(l.followers))
	}
}

// What waits stays within bounds while the service is dead.
func TestWhatWaitsIsBounded(t *testing.T) {
	l, _ := clocked(t)
	for i := range maxLines + 100 {
		l.count([]wire.CountLine{{Flag: fmt.Sprint(i), Count: 1}}, nil)
	}
	for i := range maxUnknown + 100 {
		l.count(nil, []wire.UnknownLine{{Flag: fmt.Sprint(i), Count: 1}})
	}
	var rows []app.UnitRow
	for i := range maxUnits + 100 {
		rows = append(rows, app.UnitRow{Unit: fmt.Sprint(i), Context: []byte("{}")})
	}
	l.sampled("targetingKey", rows)
	for i := range 3 {
		l.saw(10, []sample.Seen{{Name: "role", Kinds: map[string]uint64{"string": 10},
			Values: []sample.ValueCount{{Value: "courier", Count: uint64(i)}}}})
	}
	for i := range int64(maxApplied + 50) {
		l.take(app.Incoming{Report: &wire.Report{Status: said("one", i+1, i+1)}})
	}
	l.count([]wire.CountLine{{Flag: "7", Count: 5}}, nil) // one that is known is still summed
	r := drained(t, l)
	if n := len(r["counts"].([]wire.CountLine)); n != maxLines {
		t.Errorf("%d counts", n)
	}
	if n := len(r["unknown"].([]wire.UnknownLine)); n != maxUnknown {
		t.Errorf("%d unknown", n)
	}
	if n := len(r["units"].([]wire.UnitLine)); n != maxUnits {
		t.Errorf("%d units", n)
	}
	seen := r["seen"].([]sample.Seen)
	if r["contexts"] != uint64(30) || len(seen) != 1 || seen[0].Kinds["string"] != 30 || seen[0].Values[0].Count != 3 {
		t.Errorf("%v %+v", r["contexts"], seen)
	}
	if b := r["behind"].([]wire.Follower); len(b) != 1 || len(b[0].Applied) != maxApplied ||
		b[0].Applied[maxApplied-1].Revision != maxApplied+50 {
		t.Errorf("%d are behind", len(b))
	}
	for _, c := range r["counts"].([]wire.CountLine) {
		if c.Flag == "7" && c.Count != 6 {
			t.Errorf("%+v", c)
		}
	}
}

// drained gathers reports until nothing waits, each of which the service takes.
func drained(t *testing.T, l *link) map[string]any {
	t.Helper()
	all := l.report(0, 0)
	for n := 1; ; n++ {
		next := l.report(0, 0)
		raw, err := json.Marshal(next)
		if err != nil || len(raw) > 8<<20 {
			t.Fatalf("a report of %d bytes: %v", len(raw), err)
		}
		counts, unknown, units, behind := next["counts"].([]wire.CountLine), next["unknown"].([]wire.UnknownLine),
			next["units"].([]wire.UnitLine), next["behind"].([]wire.Follower)
		if len(counts)+len(unknown)+len(units)+len(behind) == 0 {
			if n < 3 {
				t.Errorf("all went in %d reports", n)
			}
			return all
		}
		all["counts"], all["unknown"] = append(all["counts"].([]wire.CountLine), counts...),
			append(all["unknown"].([]wire.UnknownLine), unknown...)
		all["units"], all["behind"] = append(all["units"].([]wire.UnitLine), units...),
			append(all["behind"].([]wire.Follower), behind...)
	}
}

// Reports stay below what the service takes, however much the followers did during an outage.
func TestLongOutagesGoInPortions(t *testing.T) {
	l, _ := clocked(t)
	for f := range 60 {
		for i := range int64(maxApplied) {
			l.take(app.Incoming{Report: &wire.Report{Status: said(fmt.Sprint("instance-", f), i+1, i+1)}})
		}
	}
	var rows []app.UnitRow
	for i := range 1_000 {
		rows = append(rows, app.UnitRow{Unit: fmt.Sprint(i),
			Context: []byte(`{"text":"` + strings.Repeat("x", 15_000) + `"}`)})
	}
	l.sampled("targetingKey", rows)
	r := drained(t, l)
	applied := 0
	for _, f := range r["behind"].([]wire.Follower) {
		applied += len(f.Applied)
	}
	if applied != 60*maxApplied || len(r["units"].([]wire.UnitLine)) != 1_000 {
		t.Errorf("%d applied, %d units", applied, len(r["units"].([]wire.UnitLine)))
	}
}

// Revisions are handed on without a gap, or not at all.
func TestEventsAreKept(t *testing.T) {
	l, _ := clocked(t)
	if _, ok := l.head(); ok {
		t.Error("there is a ruleset before the first")
	}
	rules := func(revision int64) *flag.Ruleset { return &flag.Ruleset{Epoch: 1, Revision: revision} }
	l.apply(rules(10), nil)
	if _, err := l.after(9, 5); !errors.Is(err, flag.ErrGap) {
		t.Errorf("before the first event: %v", err)
	}
	for r := int64(11); r <= 10+keptEvents+20; r++ {
		l.apply(rules(r), &flag.Event{Epoch: 1, Revision: r})
	}
	last := int64(10 + keptEvents + 20)
	some, err := l.after(last-7, 5)
	if err != nil || len(some) != 5 || some[0].Revision != last-6 {
		t.Errorf("%v %v", some, err)
	}
	for _, gone := range []int64{10, 25, last} {
		if _, err := l.after(gone, 5); !errors.Is(err, flag.ErrGap) {
			t.Errorf("after %d: %v", gone, err)
		}
	}
	l.apply(&flag.Ruleset{Epoch: 2, Revision: 3}, nil)
	if _, err := l.after(2, 5); !errors.Is(err, flag.ErrGap) {
		t.Errorf("after a new epoch: %v", err)
	}
}

// What is needed beside the ruleset is kept on disk, for its owner alone, and serves while
// the service says nothing.
func TestNeedsAreKept(t *testing.T) {
	answer, status := `{"name":"pinecrest/production","seed":"7","keys":[{"id":"k","kind":"browser","digest":"`+
		strings.Repeat("QUJD", 10)+`QUI="}]}`, 200
	same := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/follow/v1/outpost" || r.Header.Get("Authorization") != "Bearer gls_x" {
			status = 401
		}
		if w.Header().Set("ETag", `"one"`); r.Header.Get("If-None-Match") == `"one"` && status == 200 &&
			answer != "{" {
			same++
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.WriteHeader(status)
		_, _ = w.Write([]byte(answer))
	}))
	defer s.Close()
	dir := t.TempDir()
	l := newLink(4, s.URL, "gls_x", dir, http.DefaultClient, time.Now)
	if keys := l.keys(); len(keys) != 1 || keys[0].ID != "own" || keys[0].Kind != app.ServiceKey ||
		keys[0].EnvironmentID != 4 {
		t.Errorf("before it was told: %+v", keys)
	}
	if _, err := l.known(); err == nil || !strings.Contains(err.Error(), "not reached") {
		t.Errorf("%v", err)
	}
	if changed, err := l.fetchNeeds(t.Context()); !changed || err != nil {
		t.Fatalf("%v %v", changed, err)
	}
	if changed, err := l.fetchNeeds(t.Context()); changed || err != nil {
		t.Errorf("the same again: %v %v", changed, err)
	}
	if same != 1 {
		t.Error("what it knows was sent once more")
	}
	status = 503
	if _, err := l.fetchNeeds(t.Context()); err == nil || !strings.Contains(err.Error(), "503") {
		t.Errorf("%v", err)
	}
	status, answer = 200, "{"
	if _, err := l.fetchNeeds(t.Context()); err == nil {
		t.Error("half an answer was taken")
	}
	again := newLink(4, s.URL, "gls_x", dir, http.DefaultClient, time.Now)
	needs, err := again.known()
	if err != nil || needs.Name != "pinecrest/production" || needs.Seed != 7 {
		t.Errorf("%+v %v", needs, err)
	}
	if keys := again.keys(); len(keys) != 1 || keys[0].ID != "k" || keys[0].Kind != app.BrowserKey {
		raw, _ := json.Marshal(keys)
		t.Errorf("%s", raw)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "needs-*"))
	if len(files) != 1 {
		t.Fatalf("%v", files)
	}
	if info, _ := os.Stat(files[0]); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v", info.Mode())
	}
	if other := newLink(4, s.URL, "gls_y", dir, http.DefaultClient, time.Now); other.needs != nil {
		t.Error("another key's needs were read")
	}
}

func TestShort(t *testing.T) {
	for d, want := range map[time.Duration]string{4200 * time.Millisecond: "4s", 119 * time.Second: "1m59s",
		3*time.Minute + 9*time.Second: "3m", 5*time.Hour + 59*time.Minute: "5h", 75 * time.Hour: "75h"} {
		if got := short(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}
