package storetest

import (
	"sync"
	"testing"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/store"
)

// leases: one holder at a time, a fence that grows with each, and nothing written by one
// whose time is over.
func (s *suite) leases(t *testing.T) {
	const name = "thin"
	take := func(holder string, life time.Duration) int64 {
		t.Helper()
		fence, err := s.st.Lease(s.ctx, name, holder, life)
		if err != nil {
			t.Fatal(err)
		}
		return fence
	}
	first := take("one", time.Hour)
	if first == 0 || take("one", time.Hour) != first {
		t.Errorf("a holder that asks again gets another fence than %d", first)
	}
	if other := take("two", time.Hour); other != 0 {
		t.Errorf("two have the lease: fence %d", other)
	}
	take("one", time.Microsecond) // which is over at once
	second := int64(0)
	for range 1_000 {
		if second = take("two", time.Hour); second != 0 {
			break
		}
	}
	if second <= first {
		t.Fatalf("fence %d after %d", second, first)
	}
	for fence, want := range map[int64]bool{first: false, second: true} {
		s.write(t, func(tx *store.Tx) error {
			mine, err := tx.Fence(name, fence)
			if mine != want {
				t.Errorf("fence %d is taken for the present one: %v", fence, mine)
			}
			return err
		})
	}
	if err := s.st.EndLeases(s.ctx, "one"); err != nil || take("three", time.Hour) != 0 {
		t.Errorf("one gave back what two has: %v", err)
	}
	if err := s.st.EndLeases(s.ctx, "two"); err != nil || take("three", time.Hour) <= second {
		t.Errorf("what was given back cannot be had: %v", err)
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	holders := 0
	for _, who := range []string{"a", "b", "c", "d", "e", "f"} {
		all.Go(func() {
			if fence, err := s.st.Lease(s.ctx, "another", who, time.Hour); err != nil {
				t.Error(err)
			} else if fence > 0 {
				mu.Lock()
				defer mu.Unlock()
				holders++
			}
		})
	}
	all.Wait()
	if holders != 1 {
		t.Errorf("%d have the lease", holders)
	}
}

// reports: each counts once, an older one changes nothing, and what an outpost says of those
// behind it carries the age of their last word.
func (s *suite) reports(t *testing.T) {
	const now = int64(1_800_000_000_000)
	env := s.env.ID
	report := func(sequence, revision int64, behind ...wire.Follower) *wire.Report {
		return &wire.Report{Status: wire.Status{Instance: "x1", Sequence: sequence, Application: "door", Version: "1",
			Epoch: 1, Revision: revision, Source: "service", Applied: []wire.Applied{{Epoch: 1, Revision: revision,
				At: now + revision}}},
			Counts: []wire.CountLine{{Flag: "reported", Variant: "on", Reason: "STATIC", Count: 10}}, Behind: behind}
	}
	take := func(r *wire.Report, at int64, want bool) {
		t.Helper()
		all, err := s.st.TakeReports(s.ctx, env, []app.Incoming{{Report: r, Key: "key"}}, at)
		if taken := len(all) == 1 && all[0]; err != nil || taken != want {
			t.Errorf("report %d: taken %v, %v", r.Sequence, all, err)
		}
	}
	behind := wire.Follower{Status: wire.Status{Instance: "x2", Sequence: 4, Application: "rounds", Epoch: 1,
		Revision: 2}, Age: 9_000}
	take(report(1, 1), now, true)
	take(report(1, 1), now+5, false)
	take(report(3, 3, behind), now+10_000, true)
	take(report(2, 2), now+20_000, false)
	older := behind
	older.Sequence, older.Revision = 3, 1
	take(report(4, 3, older), now+30_000, true)
	uses, err := s.st.Uses(s.ctx, env, "reported", now/60_000-1, now/60_000+2, 1)
	if err != nil {
		t.Fatal(err)
	}
	total := uint64(0)
	for _, u := range uses {
		total += u.Count
	}
	if total != 30 {
		t.Errorf("%d were counted", total)
	}
	all, err := s.st.Instances(s.ctx, env, 0)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]app.Instance{}
	for _, i := range all {
		found[i.ID] = i
	}
	if i := found["x1"]; i.Revision != 3 || i.Seen != now+30_000 || i.Left {
		t.Errorf("%+v", i)
	}
	if i := found["x2"]; i.Via != "x1" || i.Revision != 2 || i.Seen != now+1_000 {
		t.Errorf("%+v", i)
	}
	applied, err := s.st.Applied(s.ctx, env, 1, 2)
	if err != nil || len(applied["x1"]) != 1 || applied["x1"][0].At != now+3 {
		t.Errorf("%+v %v", applied, err)
	}
	leaving := report(5, 3)
	leaving.Leaving = true
	take(leaving, now+40_000, true)
	gone, err := s.st.Instances(s.ctx, env, now+50_000)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range gone {
		if i.ID == "x1" {
			t.Error("one that left long ago is still listed")
		}
	}
	take(report(6, 4), now+60_000, true) // it is back
	s.write(t, func(tx *store.Tx) error {
		all, err := tx.Silent(env, "x2", now+70_000)
		if err == nil && (len(all) != 1 || all[0].ID != "x2") {
			t.Errorf("%+v", all)
		}
		if none, err := tx.Silent(env, "nobody", now); err != nil || len(none) != 0 {
			t.Errorf("somebody could vouch for nobody: %v %v", none, err)
		}
		if err := tx.AccountFor(&app.GoneRecord{EnvironmentID: env, IDs: []string{"x2"}, SilentSince: now + 70_000,
			At: now + 70_000}); err != nil {
			return err
		}
		if all, err = tx.Silent(env, "x2", now+70_000); err == nil && !all[0].Left {
			t.Errorf("%+v", all)
		}
		return err
	})
}
