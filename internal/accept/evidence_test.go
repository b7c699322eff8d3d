package accept

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

// measuring is a service whose clock can be put forward, with a flag and a metric of its own.
func measuring(t *testing.T) (*gltest.Service, *atomic.Int64) {
	t.Helper()
	ahead := new(atomic.Int64)
	s := gltest.Start(t, func(c *server.Config) {
		c.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
		c.Beat = 100 * time.Millisecond
	})
	s.Flag(t, "night-batching")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/door-open-failed",
		obj{"metric": obj{"title": "Doors that stayed shut",
			"kind": "rate", "window": "10s", "grace": "10s", "tolerance": obj{"relative": .1},
			"flags": []string{"night-batching"}}}, 200, nil)
	return s, ahead
}

// shared are the stages of a watched release.
func shared() []obj {
	return []obj{{"name": "8 %", "share": 80_000, "least": "1m", "units": 50}, {"name": "30 %", "share": 300_000,
		"least": "1m", "units": 50}, {"name": "100 %", "share": 1_000_000}}
}

// drive has units ask for the flag, and tells how it went for each.
func drive(c *greenlever.Client, from, units int, fails func(i int, on bool) bool) {
	ctx := context.Background()
	for i := from; i < from+units; i++ {
		scope := c.Scope(ctx, greenlever.Unit(fmt.Sprint("recipient-", i),
			greenlever.String("firmware", []string{"4.1.7", "4.2.0"}[i%2])))
		on := scope.Bool("night-batching", false)
		scope.Happened("door-open-failed", fails(i, on))
	}
}

// arrived waits until so many events of the metric are in the records, with whom they are of.
func arrived(t *testing.T, s *gltest.Service, events int) {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	got := 0
	gltest.Eventually(t, "the events have arrived", func() bool {
		return db.QueryRow("SELECT COALESCE(SUM(count), 0) FROM measures WHERE flag = ''").Scan(&got) == nil &&
			got >= events
	})
	if got != events {
		t.Errorf("%d events of %d are counted", got, events)
	}
}

// A release whose new variant hurts is taken back by its watch, which says whom it hurt and how much. One that
// does not goes through.
func TestReleaseIsWatched(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		fail func(i int, on bool) bool
		is   stage.Is
	}{
		{"harm", func(i int, on bool) bool { return on && i%3 == 0 || i%50 == 0 }, stage.RolledBack},
		{"no harm", func(i int, _ bool) bool { return i%50 == 0 }, stage.Through},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s, ahead := measuring(t)
			one := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 100 * time.Millisecond })
			two := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 100 * time.Millisecond })
			rel := startRelease(t, s.Keeper, obj{"stages": shared(), "breakDown": []string{"firmware", "site.id"}})
			var last stage.Is
			told := 0
			for round := 0; round < 8; round++ {
				v := release(t, s.Keeper, rel.ID)
				gltest.Eventually(t, "the release stands still", func() bool {
					v = release(t, s.Keeper, rel.ID)
					return v.State.Is != stage.Arriving && v.State.Is != stage.Waiting
				})
				if last = v.State.Is; last == c.is {
					break
				}
				for _, client := range []*greenlever.Client{one, two} {
					until(t, client, "the stage", func(st greenlever.State) bool { return st.Revision >= v.Revision })
				}
				from := 3_000 * round
				told += 4_500
				drive(one, from, 3_000, c.fail)
				drive(two, from+1_500, 1_500, c.fail) // some are seen by both
				arrived(t, s, told)
				ahead.Add(int64(time.Minute + 10*time.Second))
				gltest.Eventually(t, "it went on", func() bool {
					now := release(t, s.Keeper, rel.ID)
					return now.State.Sequence > v.State.Sequence
				})
			}
			v := release(t, s.Keeper, rel.ID)
			if v.State.Is != c.is {
				t.Fatalf("it stands at %s %s: %s", v.State.Is, v.State.Why, v.Sentence)
			}
			if c.is == stage.RolledBack {
				said := v.Sentence.String()
				if v.State.Why != stage.ByHarm || !strings.Contains(said, "Doors that stayed shut") ||
					!strings.Contains(said, "This is harm") {
					t.Errorf("it says: %s", said)
				}
				happenedTo(t, s, rel, c.fail)
			}
			brokenDown(t, v)
			if r := verify(t, s); !r.Sound() {
				t.Errorf("the audit: %v", r.Findings)
			}
		})
	}
}

// brokenDown holds the parts of what was found against the whole.
func brokenDown(t *testing.T, v *manage.ReleaseView) {
	t.Helper()
	f, sums := v.Watched.Watches[0], map[string]evidence.Side{}
	for _, p := range f.Parts {
		s := sums[p.Attribute]
		sums[p.Attribute] = evidence.Side{Units: s.Units + p.New.Units + p.Old.Units, Events: s.Events + p.New.Events +
			p.Old.Events}
		if p.Value == "" != (p.Attribute == "site.id") || p.Old.Units == 0 {
			t.Errorf("%+v", p)
		}
	}
	if len(f.Parts) != 3 || sums["firmware"] != sums["site.id"] || sums["firmware"].Units < f.New.Units+f.Old.Units ||
		len(v.Watched.Lanes[0].Points) == 0 {
		t.Errorf("%d parts, %+v of %+v", len(f.Parts), sums, f)
	}
}

// happenedTo holds the units that are named as those to whom it happened against whom it happened to.
func happenedTo(t *testing.T, s *gltest.Service, rel *app.Release, fails func(i int, on bool) bool) {
	t.Helper()
	var bad struct{ Items []manage.BadUnitView }
	s.Keeper.Do(t, "GET", inStaging+"/releases/"+rel.ID+"/bad-units", nil, 200, &bad)
	sides := map[string]int{}
	for _, u := range bad.Items {
		sides[u.Side]++
		i, err := strconv.Atoi(strings.TrimPrefix(u.Unit, "recipient-"))
		if err != nil || !fails(i, u.Side == "new") || u.Stage == "" || len(u.Events) == 0 || !u.Events[0].Counts ||
			u.Variant != map[string]string{"new": "on", "old": "off"}[u.Side] {
			t.Errorf("%+v", u)
		}
	}
	if sides["new"] < 20 || sides["old"] < 5 || sides["new"] > 200 {
		t.Errorf("%v units are named", sides)
	}
	s.Keeper.Do(t, "POST", inStaging+"/population/erase", obj{"unit": bad.Items[0].Unit}, 200, nil)
	first := bad.Items[0].Unit
	s.Keeper.Do(t, "GET", inStaging+"/releases/"+rel.ID+"/bad-units", nil, 200, &bad)
	for _, u := range bad.Items {
		if u.Unit == first {
			t.Errorf("%s is named though it was erased", first)
		}
	}
}

// bucketOf is the bucket of a unit in a release.
func bucketOf(rel *app.Release, unit string) uint32 {
	return bucket.Of(unit, bucket.Seed(rel.State.Plan.Salt))
}

// Several ways to do one thing go out side by side: each is compared with the first for itself, the one that hurts is
// named, nobody changes from one to another, and in the end somebody says which one all get.
func TestSeveralWaysAreCompared(t *testing.T) {
	t.Parallel()
	s, ahead := measuring(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", obj{"key": "arrival-estimate", "type": "string",
		"resting": "timetable", "goneBy": "stays", "variants": []obj{{"name": "timetable", "value": "t"},
			{"name": "traffic-aware", "value": "a"}, {"name": "learned", "value": "l"}}}, 201, nil)
	s.Edit(t, "staging", "arrival-estimate", func(d *flag.Document) { d.Lever = flag.On })
	c := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 100 * time.Millisecond })
	var rel manage.ReleaseView
	plan := obj{"from": "timetable", "to": "traffic-aware", "beside": []string{"learned"}, "reason": "which is best",
		"stages": []obj{{"name": "20 %", "share": 200_000, "least": "1m", "units": 50}, {"name": "50 %",
			"share": 500_000, "least": "1m", "units": 50}},
		"watches": []obj{{"metric": "door-open-failed", "onHarm": "tell"}}}
	const of = inStaging + "/flags/arrival-estimate/releases"
	for beside, says := range map[string]string{"timetable": "beside[0]", "nowhere": "beside[0]"} {
		wrong := maps.Clone(plan)
		wrong["beside"] = []string{beside}
		var p manage.Problem
		if s.Keeper.Do(t, "POST", of, wrong, 400, &p); len(p.Fields) != 1 || p.Fields[0].Place != says {
			t.Errorf("beside %s: %+v", beside, p)
		}
	}
	s.Keeper.Do(t, "POST", of, plan, 201, &rel)
	had, told := map[int]string{}, 0
	for round := range 2 {
		v := stands(t, s.Keeper, rel.ID, stage.Underway, round)
		until(t, c, "the stage", func(st greenlever.State) bool { return st.Revision >= v.Revision })
		for i := range 4_000 * (round + 1) {
			scope := c.Scope(t.Context(), greenlever.Unit(fmt.Sprint("recipient-", i)))
			got := scope.String("arrival-estimate", "none")
			if was := had[i]; was == "a" && got != "a" || was == "l" && got != "l" {
				t.Fatalf("recipient-%d had %s and has %s", i, was, got)
			}
			had[i] = got
			scope.Happened("door-open-failed", got == "l" && i%4 == 0 || i%50 == 0)
		}
		told += 4_000 * (round + 1)
		arrived(t, s, told)
		ahead.Add(int64(time.Minute + 10*time.Second))
		if round == 0 {
			stands(t, s.Keeper, rel.ID, stage.Underway, 1)
		}
	}
	var found *evidence.Findings
	gltest.Eventually(t, "its last stage is done", func() bool {
		v := release(t, s.Keeper, rel.ID)
		found = v.Watched.Findings
		return v.State.Is == stage.Through
	})
	if w := found.Watches; len(w) != 2 || w[0].Variant != "traffic-aware" || w[0].Verdict == evidence.Harm ||
		w[1].Variant != "learned" || w[1].Verdict != evidence.Harm || found.Broken {
		t.Errorf("found %+v", found)
	}
	if n := found.Watches[0].New.Units; n < 300 || found.Watches[1].New.Units < 300 ||
		found.Watches[0].Old.Units != found.Watches[1].Old.Units {
		t.Errorf("it compares %d, %d with %d", n, found.Watches[1].New.Units, found.Watches[0].Old.Units)
	}
	var bad struct{ Items []manage.BadUnitView }
	s.Keeper.Do(t, "GET", inStaging+"/releases/"+rel.ID+"/bad-units", nil, 200, &bad)
	letter := map[string]string{"timetable": "t", "traffic-aware": "a", "learned": "l"}
	for _, u := range bad.Items {
		i, _ := strconv.Atoi(strings.TrimPrefix(u.Unit, "recipient-"))
		if had[i] != letter[u.Variant] {
			t.Errorf("%s had %s and is listed with %s", u.Unit, had[i], u.Variant)
		}
	}
	if len(bad.Items) < 100 {
		t.Errorf("%d units are listed", len(bad.Items))
	}
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "finish", "early": true}, 409)
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "finish", "early": true, "give": "traffic-aware"}, 200)
	if d := s.Get(t, "staging", "arrival-estimate").Document; d.End.Variant != "traffic-aware" || len(d.Rules) != 0 {
		t.Errorf("it becomes %+v", d)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// Nodes are killed while evidence comes in: what is found is what an undisturbed run finds on the same units, to the
// last digit.
func TestEvidenceOverKills(t *testing.T) {
	t.Parallel()
	s, nodes := killable(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/door-open-failed", obj{"metric": obj{"title": "Failed",
		"kind": "rate", "window": "10s", "grace": "10s"}}, 200, nil)
	rel := startRelease(t, s.Keeper, obj{"stages": []obj{{"name": "20 %", "share": 200_000, "least": "1h"},
		{"name": "100 %", "share": 1_000_000}}, "watches": []obj{{"metric": "door-open-failed", "onHarm": "tell"}}})
	v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	setup, seed := v.State.Setup(), bucket.Seed(v.State.Plan.Salt)
	run, err := evidence.Resume(setup, evidence.State{})
	if err != nil {
		t.Fatal(err)
	}
	kills, each := 3, 20
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		kills, each = 10, 40
	}
	rng, units, down := rand.New(rand.NewPCG(3, 13)), []evidence.Unit{}, sync.WaitGroup{}
	for n := range kills * each {
		r := wire.Report{Status: wire.Status{Instance: fmt.Sprint("door-", n%2), Sequence: int64(n/2 + 1),
			Application: "door", Epoch: 1, Revision: 1, Source: "service"}, Counts: []wire.CountLine{},
			Unknown: []wire.UnknownLine{}}
		for i := range 25 {
			unit, at := fmt.Sprintf("recipient-%d-%d", n, i), time.Now().UnixMilli()
			u := evidence.Unit{Exposed: at, Events: [][]evidence.Event{nil}}
			if u.Arm, u.Cohort = setup.Place(bucket.Of(unit, seed), 0); u.Arm == evidence.NoArm {
				continue
			}
			r.Exposures = append(r.Exposures, wire.ExposureLine{Flag: "night-batching", Run: v.State.Run,
				Rule: v.State.Plan.Group(rel.ID, 0, 1)[0].ID, Unit: unit, At: at})
			if rng.IntN(5) == 0 {
				u.Events[0] = []evidence.Event{{At: at, Value: 1, ID: uint64(n + 1)}}
				r.Events = append(r.Events, wire.EventLine{Metric: "door-open-failed", Value: 1, At: at,
					Units: map[string]string{"targetingKey": unit}})
			}
			units = append(units, u)
		}
		raw, err := json.Marshal(&r)
		if err != nil {
			t.Fatal(err)
		}
		if n%each == each/2 {
			killed := nodes[rng.IntN(2)]
			after := time.Duration(rng.IntN(5_000)) * time.Microsecond
			down.Go(func() { // at some moment of what follows
				time.Sleep(after)
				killed.kill()
				killed.start(t)
			})
		}
		to := rng.IntN(2)
		gltest.Eventually(t, "a report is taken", func() bool { // the same one, until somebody answers
			to = 1 - to
			status, _, _, err := bearer("http://"+nodes[to].at, s.Keys["staging"]).Send("POST", "/follow/v1/report", raw)
			return err == nil && status == 200
		})
		if n%each == each-1 {
			down.Wait()
		}
	}
	end := units[len(units)-1].Exposed
	end += int64(evidence.Beat) - end%int64(evidence.Beat)
	run.See(end, units)
	run.Fold(0, end, units)
	want := run.Look(0, end)
	for _, n := range nodes {
		n.up(t)
	}
	var got *evidence.Findings
	for range 3 { // the last unit closes after twenty seconds
		for by := time.Now().Add(gltest.Patience); time.Now().Before(by); {
			v := release(t, s.Keeper, rel.ID)
			if got = v.Watched.Findings; got.Watches[0].LnHarm == want.Watches[0].LnHarm && got.Seen == want.Seen {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	a, _ := json.Marshal(got.Watches)
	b, _ := json.Marshal(want.Watches)
	if string(a) != string(b) || got.Seen != want.Seen || got.Seen.New < 200 {
		t.Errorf("found over %d kills\n%+v %s\nundisturbed\n%+v %s", kills, got.Seen, a, want.Seen, b)
	}
}
