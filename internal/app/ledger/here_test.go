package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"greenlever.example/core/evidence"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/intake"
)

// unreachable records cannot be reached.
type unreachable struct{ Records }

func (unreachable) RunningIn(context.Context, int64) ([]app.Release, error) {
	return nil, app.Faultf(app.Unavailable, "the records cannot be reached")
}

// Whoever has a browser key may invent units: how many are kept, and told of in an hour, is bounded, and what is lost is
// counted. What cannot be written waits, and is not lost.
func TestWhatIsToldHereIsBounded(t *testing.T) {
	now := time.Unix(1_795_000_000, 0)
	s := &Service{Records: unreachable{}, Now: func() time.Time { return now }}
	expose := func(from, n int) {
		for i := from; i < from+n; i++ {
			s.Expose(1, wire.ExposureLine{Rule: "r1", Run: 1, Unit: fmt.Sprint("recipient-", i)})
		}
	}
	expose(0, 100)
	expose(0, 100) // the same again
	if r := s.here.wait[1]; len(r.Exposures) != 100 || r.Lost.Exposures != 0 {
		t.Fatalf("%d wait, %d are lost", len(r.Exposures), r.Lost.Exposures)
	}
	if err := s.Flush(context.Background()); err == nil {
		t.Error("what cannot be written is no error")
	}
	if r := s.here.wait[1]; len(r.Exposures) != 100 {
		t.Errorf("%d wait after they could not be written", len(r.Exposures))
	}
	expose(100, mostAnHour)
	r := s.here.wait[1]
	if len(r.Exposures) != mostWaiting || r.Lost.Exposures != uint64(mostAnHour+100-mostWaiting) {
		t.Errorf("%d wait, %d are lost", len(r.Exposures), r.Lost.Exposures)
	}
	delete(s.here.wait, 1)
	expose(mostAnHour+100, 1)
	if n := len(s.here.wait[1].Exposures); n != 0 {
		t.Errorf("%d more in an hour that had its part", n)
	}
	now = now.Add(time.Hour)
	if expose(mostAnHour+200, 1); len(s.here.wait[1].Exposures) != 1 {
		t.Error("none in the next hour")
	}
	long := &wire.Report{Events: make([]wire.EventLine, mostWaiting+5), Measures: make([]wire.MeasureLine, 3)}
	s.Measure(2, long)
	if r := s.here.wait[2]; len(r.Events) != mostWaiting || r.Lost.Events != 5 || len(r.Measures) != 3 {
		t.Errorf("%d events wait, %d are lost", len(r.Events), r.Lost.Events)
	}
}

// keeping writes batches, or does not.
type keeping struct {
	before func() error // of a batch
	got    []*app.Evidence
}

func (k *keeping) write(_ context.Context, _ int64, all []app.Batch) ([]bool, error) {
	for _, b := range all {
		k.got = append(k.got, b.Evidence)
	}
	return make([]bool, len(all)), k.before()
}

func hearing(t *testing.T) (s *Service, k *keeping, unit string) {
	t.Helper()
	s, _, units := looking(t)
	k = &keeping{before: func() error { return nil }}
	s.Batches = intake.Gather[app.Batch]{Write: k.write}
	return s, k, units[evidence.New]
}

func (k *keeping) events() (ids []uint64) {
	for _, e := range k.got {
		for _, u := range e.Units {
			for _, v := range u.Events {
				ids = append(ids, v.ID)
			}
		}
	}
	return ids
}

// Nobody can know whether what had no answer was written. It is tried again as it was, so that an event counts once;
// what came in meanwhile is not lost, and no two events are taken for one.
func TestWhatCameInHereCountsOnce(t *testing.T) {
	s, k, unit := hearing(t)
	pages := func(n int) {
		r := &wire.Report{Measures: []wire.MeasureLine{{Metric: "door-open-failed", Count: uint64(n)}}}
		for range n {
			r.Events = append(r.Events, wire.EventLine{Metric: "door-open-failed", Value: 1, At: nowMillis,
				Units: map[string]string{"targetingKey": unit}})
		}
		s.Measure(1, r)
	}
	if pages(3); s.Flush(context.Background()) != nil {
		t.Fatal("it is not written")
	}
	if waits, is := s.Oldest(); is {
		t.Errorf("what was written is said to wait for %v", waits)
	}
	k.before = func() error {
		pages(1) // more comes in while it is written
		return app.Faultf(app.Unavailable, "the answer is lost")
	}
	if pages(2); s.Flush(context.Background()) == nil {
		t.Fatal("a lost answer is no error")
	}
	if _, is := s.Oldest(); !is {
		t.Error("nobody knows that something waits")
	}
	k.before = func() error { return nil }
	if err := s.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
	ids := k.events()
	if len(ids) != 3+2+3 { // the second again, with what came in meanwhile
		t.Errorf("%d events were brought", len(ids))
	}
	slices.Sort(ids)
	if n := len(slices.Compact(ids)); n != 6 {
		t.Errorf("6 events count as %d", n)
	}
	if _, is := s.Oldest(); is || len(s.here.wait) != 0 {
		t.Errorf("%v is left", s.here.wait)
	}
}

// What can never be written is counted as lost, and holds up nothing that comes behind it.
func TestWhatCannotBeWrittenIsLetGo(t *testing.T) {
	s, k, unit := hearing(t)
	k.before = func() error { return errors.New("this is no row") }
	s.Measure(1, &wire.Report{Events: []wire.EventLine{{Metric: "door-open-failed", Value: 1, At: nowMillis,
		Units: map[string]string{"targetingKey": unit}}}})
	if s.Flush(context.Background()) == nil {
		t.Fatal("what cannot be written is no error")
	}
	k.before, k.got = func() error { return nil }, nil
	if err := s.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
	if len(k.events()) != 0 || len(k.got) != 1 || k.got[0].Missed[7]["lost events"] != 1 {
		t.Errorf("%+v", k.got)
	}
	if _, is := s.Oldest(); is {
		t.Error("something still waits")
	}
}

// A unit that is known already leaves nothing to write.
func TestKnownUnitsLeaveNothingToWrite(t *testing.T) {
	s, k, unit := hearing(t)
	line := wire.ExposureLine{Flag: "one-touch-open", Rule: "r1", Run: 1, Unit: unit, At: nowMillis}
	s.Expose(1, line)
	if err := s.Flush(context.Background()); err != nil || len(k.got) != 1 {
		t.Fatalf("%v, %d batches", err, len(k.got))
	}
	s.Expose(1, line)
	if err := s.Flush(context.Background()); err != nil || len(k.got) != 1 {
		t.Errorf("%v, %d batches", err, len(k.got))
	}
	if _, is := s.Oldest(); is {
		t.Error("it waits for nothing")
	}
}

// Batches without a name of their own are told apart, also of one size in one moment, and a unit counts however much
// else is known of it.
func TestBatchesAreToldApart(t *testing.T) {
	s, k, unit := hearing(t)
	with := map[string]any{"targetingKey": unit}
	for i := range 30 {
		with[fmt.Sprint("aisle-", i)] = "a"
	}
	about, err := json.Marshal(with)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	job, ended := s.Batches.Job(), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-ctx.Done():
				return
			case <-job.Wake:
				_ = job.Do(ctx, nil)
			}
		}
	}()
	for range 2 {
		told, err := s.TakeBatch(ctx, 1, "k1", &Batch{Events: []Event{{Metric: "door-open-failed", Context: about,
			Value: json.RawMessage("true")}}}, 100)
		if err != nil || told.Events != 1 {
			t.Fatalf("%+v %v", told, err)
		}
	}
	cancel()
	<-ended
	ids := k.events()
	if len(ids) != 2 || ids[0] == ids[1] {
		t.Errorf("two events are %v", ids)
	}
}
