package server

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/clock"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/store"
)

// said is a report of a process at a time.
type said struct {
	at     int64
	report wire.Report
}

// reports are what two processes tell of the units of a release in some minutes: out of order, twice, and late.
func reports(r *rand.Rand, rel *app.Release, units int) (all []said) {
	type thing struct {
		at      int64
		exposes *wire.ExposureLine
		event   *wire.EventLine
	}
	var things []thing
	setup, seed := rel.State.Setup(), bucket.Seed(rel.State.Plan.Salt)
	rule := rel.State.Plan.Group(rel.ID, 0, rel.State.Run)[0].ID
	for i := range units {
		unit := fmt.Sprint("recipient-", i)
		arm, _ := setup.Place(bucket.Of(unit, seed), 0)
		if arm == evidence.NoArm {
			continue
		}
		first := rel.State.Began + int64(r.IntN(200_000))
		for range 1 + r.IntN(2) {
			things = append(things, thing{at: first + int64(r.ExpFloat64()*3_000),
				exposes: &wire.ExposureLine{Flag: rel.Flag,
					Rule: rule, Run: rel.State.Run, Unit: unit, At: first + int64(r.IntN(2_000))}})
		}
		for range r.IntN(4) {
			fails := 0.
			if r.Float64() < map[evidence.Arm]float64{evidence.New: .3, evidence.Old: .1}[arm] {
				fails = 1
			}
			at := first + int64(r.IntN(20_000)) - 3_000
			e := &wire.EventLine{Metric: "door-open-failed", Units: map[string]string{"targetingKey": unit},
				Value: fails, At: at,
				ID: fmt.Sprint(r.Uint64())}
			for range 1 + r.IntN(2) {
				things = append(things, thing{at: at + int64(r.ExpFloat64()*6_000), event: e})
			}
		}
	}
	slices.SortStableFunc(things, func(a, b thing) int { return cmp.Compare(a.at, b.at) })
	for _, t := range things {
		at := t.at - t.at%5_000 + 5_000
		if len(all) == 0 || all[len(all)-1].at != at {
			all = append(all, said{at: at, report: wire.Report{}}, said{at: at, report: wire.Report{}})
		}
		to := &all[len(all)-1-r.IntN(2)].report // of one of the two processes
		if t.exposes != nil {
			to.Exposures = append(to.Exposures, *t.exposes)
		} else {
			to.Events = append(to.Events, *t.event)
		}
	}
	for i := range all {
		all[i].report.Status = wire.Status{Instance: fmt.Sprint("door-", i%2), Sequence: int64(i/2 + 1),
			Application: "door"}
	}
	return all
}

// undisturbed is what a run finds on the reports with a ledger in memory.
func undisturbed(t *testing.T, rel *app.Release, all []said) evidence.State {
	t.Helper()
	setup, seed := rel.State.Setup(), bucket.Seed(rel.State.Plan.Salt)
	run, err := evidence.Resume(setup, evidence.State{})
	if err != nil {
		t.Fatal(err)
	}
	ledger := map[string]*evidence.Unit{}
	row := func(key string) *evidence.Unit {
		if ledger[key] == nil {
			ledger[key] = &evidence.Unit{}
		}
		return ledger[key]
	}
	state := run.Keep()
	for i := range all {
		at := state.Positions()
		for _, e := range all[i].report.Exposures {
			arm, cohort := setup.Place(bucket.Of(e.Unit, seed), e.Stage)
			row(e.Unit).Expose(evidence.Exposure{At: e.At, Arm: arm, Cohort: cohort}, at.Folded())
		}
		for _, e := range all[i].report.Events {
			var id uint64
			_, _ = fmt.Sscan(e.ID, &id)
			row(e.Units["targetingKey"]).Hear(setup.Watches, 0, evidence.Event{At: e.At, Value: e.Value,
				ID: max(id, 1)},
				at.FoldedFor(0))
		}
		if i%2 == 0 {
			continue // both of a time come before the look
		}
		var due []evidence.Unit
		for _, u := range ledger {
			if u.Arm != evidence.NoArm {
				due = append(due, *u)
			}
		}
		slices.SortFunc(due, func(a, b evidence.Unit) int { return cmp.Compare(a.Exposed, b.Exposed) })
		if to := setup.Due(0, all[i].at); to > at.Seen {
			run.See(to, due)
			run.Fold(0, to, due)
		}
		run.Look(0, all[i].at)
		state = run.Keep()
	}
	return state
}

// watchedRelease starts a service, and a release with a watch there that has begun.
func watchedRelease(t *testing.T, dsn, dir string, log *slog.Logger) (*Server, *app.Release) {
	t.Helper()
	srv, do := begun(t, dsn, dir, log)
	do("POST", "/projects/pinecrest/flags", object{"key": "one-touch-open", "goneBy": "stays"}, nil, 0)
	do("PUT", "/projects/pinecrest/metrics/door-open-failed",
		object{"metric": object{"title": "Failed", "kind": "rate",
			"window": "10s", "grace": "20s"}}, nil, 0)
	at := "/projects/pinecrest/environments/staging/flags/one-touch-open"
	do.turnOn(at)
	var rel app.Release
	do("POST", at+"/releases", object{"stages": []object{{"name": "20 %", "share": 200_000, "least": "1h"},
		{"name": "100 %", "share": 1_000_000}}, "watches": []object{{"metric": "door-open-failed", "onHarm": "tell"}}},
		&rel, 0)
	// between looks
	for end := time.Now().Add(20 * time.Second); rel.State.Is != stage.Underway; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("it stands at %s", rel.State.Is)
		}
		do("GET", "/projects/pinecrest/environments/staging/releases/"+rel.ID, nil, &rel, 0)
	}
	running, err := srv.store.Running(context.Background())
	if err != nil || len(running) != 1 {
		t.Fatalf("%d releases run, %v", len(running), err)
	}
	return srv, &running[0]
}

// What a process gave answers to and what pages measured is written before it ends.
func TestAStopWritesWhatCameInHere(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	db, err := localdb.Start(ctx, dir+"/db")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Stop() })
	dsn, err := db.DSN("greenlever")
	if err != nil {
		t.Fatal(err)
	}
	srv, rel := watchedRelease(t, dsn, dir, slog.New(slog.DiscardHandler))
	var exposes wire.ExposureLine
	setup, seed := rel.State.Setup(), bucket.Seed(rel.State.Plan.Salt)
	for i := range 100 {
		exposes = wire.ExposureLine{Flag: rel.Flag, Rule: rel.State.Plan.Group(rel.ID, 0, rel.State.Run)[0].ID,
			Run: rel.State.Run, Unit: fmt.Sprint("recipient-", i), At: time.Now().UnixMilli()}
		if arm, _ := setup.Place(bucket.Of(exposes.Unit, seed), 0); arm != evidence.NoArm {
			break
		}
	}
	srv.ledger.Expose(rel.Environment, exposes)
	srv.ledger.Measure(rel.Environment, &wire.Report{Measures: []wire.MeasureLine{{Metric: "door-open-failed",
		Count: 3, Bad: 1, Sum: 1}}})
	if err := srv.Stop(); err != nil {
		t.Fatal(err)
	}
	direct, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer direct.Close()
	for query, want := range map[string]int{"SELECT COUNT(*) FROM exposures": 1,
		"SELECT COALESCE(SUM(count), 0) FROM measures": 3} {
		var n int
		if err := direct.QueryRow(query).Scan(&n); err != nil || n != want {
			t.Errorf("%s: %d, should be %d (%v)", query, n, want, err)
		}
	}
}

// Two processes take reports and looks in turn while their connections to the records are cut at every message of a
// transaction, before it and after it. What is found is that which an undisturbed run finds with a ledger in memory,
// bit by bit: no unit is lost, and none counts twice.
func TestEvidenceSurvivesEveryCut(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	db, err := localdb.Start(ctx, dir+"/db")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Stop() })
	dsn, err := db.DSN("greenlever")
	if err != nil {
		t.Fatal(err)
	}
	quiet := slog.New(slog.DiscardHandler)
	srv, _ := watchedRelease(t, dsn, dir, quiet)
	if err := srv.Stop(); err != nil {
		t.Fatal(err)
	}
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		t.Fatal(err)
	}
	k := newKnife(t, c.Net, c.Addr)
	c.Net, c.Addr = "tcp", k.Addr().String()
	direct, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer direct.Close()
	runs, units := 1, 4_000
	if os.Getenv("GREENLEVER_SIM") != "" {
		runs = 20
	}
	for seed := range runs {
		if _, err := direct.Exec("DELETE FROM evidence_runs"); err != nil {
			t.Fatal(err)
		}
		survive(t, k, c.FormatDSN(), quiet, uint64(seed), units)
	}
	if k.cuts < 200 {
		t.Errorf("it was cut %d times", k.cuts)
	}
	t.Logf("%d cuts", k.cuts)
}

// survive plays the reports of a seed to two processes, and holds what they find against an undisturbed run.
func survive(t *testing.T, k *knife, dsn string, quiet *slog.Logger, seed uint64, units int) {
	t.Helper()
	ctx, now := context.Background(), int64(0)
	var nodes []*Server
	for i := range 2 {
		st, err := store.New(dsn, quiet)
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		s := &Server{config: Config{Log: quiet, Now: func() time.Time { return time.UnixMilli(now) }}, store: st,
			clock: clock.New(st.Now), node: fmt.Sprint("cut-", i)}
		s.wire()
		nodes = append(nodes, s)
	}
	running, err := nodes[0].store.Running(ctx)
	if err != nil || len(running) != 1 {
		t.Fatalf("%d releases run, %v", len(running), err)
	}
	rel, steps := &running[0], int(seed)*7
	// again does something until it is done, by the one or the other, cut at another message each time
	again := func(what string, do func(ctx context.Context, s *Server) error) {
		for n := 0; ; n++ {
			if steps++; n < 2 { // then it is let through
				k.arm(1+steps*5%11, steps%2 == 1)
			}
			ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
			err := do(ctx, nodes[steps%2])
			cancel()
			k.arm(0, false)
			if err == nil {
				return
			}
			if n > 50 {
				t.Fatalf("%s: %v", what, err)
			}
		}
	}
	all := reports(rand.New(rand.NewPCG(seed, 5)), rel, units)
	for i := range all {
		now = all[i].at
		all[i].report.Instance = fmt.Sprint(all[i].report.Instance, "-", seed)
		again("a report", func(ctx context.Context, s *Server) error {
			brought, err := s.ledger.Look(ctx, rel.Environment, &all[i].report, "")
			if err != nil {
				return err
			}
			_, err = s.store.TakeReports(ctx, rel.Environment, []app.Incoming{{Report: &all[i].report, Key: "key",
				Evidence: brought}}, now)
			return err
		})
		if i%2 == 1 {
			again("a look", func(ctx context.Context, s *Server) error {
				_, err := s.ledger.Turn(ctx, rel)
				return err
			})
		}
	}
	row, err := nodes[0].store.EvidenceRun(ctx, rel.ID, rel.State.Run)
	if err != nil {
		t.Fatal(err)
	}
	got, want := row.State, undisturbed(t, rel, all)
	got.LastPoint = 0
	a, _ := json.MarshalIndent(got, "", " ")
	b, _ := json.MarshalIndent(want, "", " ")
	if string(a) != string(b) {
		t.Errorf("seed %d: with cuts\n%.3000s\nundisturbed\n%.3000s", seed, a, b)
	}
	if n := want.Watches[0].Slices; n < 5 || len(want.Reacted) != 1 {
		t.Errorf("seed %d: only %d slices, harm %d times: this tells nothing", seed, n, len(want.Reacted))
	}
}
