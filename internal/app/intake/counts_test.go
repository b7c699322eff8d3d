package intake

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app/work"
)

// What browsers tell and what is asked for in vain is summed up, bounded, and taken once.
func TestCountsAreTakenOnce(t *testing.T) {
	var c Counts
	line := wire.CountLine{Flag: "one-touch-open", Variant: "on", Reason: "STATIC"}
	for range 3 {
		c.Tell(1, []wire.CountLine{{Flag: line.Flag, Variant: line.Variant, Reason: line.Reason, Count: 2}})
		c.Unknown(2, "one-tuch-open")
	}
	c.Unknown(2, strings.Repeat("x", 201))
	for i := range 2 * maxTold {
		c.Unknown(3, fmt.Sprint("flag-", i))
	}
	got := c.Take()
	line.Count = 6
	if len(got[1].Lines) != 1 || got[1].Lines[0] != line || len(got[2].Unknown) != 1 || got[2].Unknown[0].Count != 3 {
		t.Errorf("%+v %+v", got[1], got[2])
	}
	if n := len(got[3].Unknown); n != maxTold {
		t.Errorf("%d flags that there are not are kept", n)
	}
	if again := c.Take(); len(again) != 0 {
		t.Errorf("%+v is taken again", again)
	}
}

// A page may name what it likes, but not without end, and each day begins anew.
func TestNamesOfPagesAreBounded(t *testing.T) {
	var c Counts
	now := time.Unix(1_795_000_000, 0)
	for i := range 2 * maxNames {
		a, v := c.Named("key", fmt.Sprint("app-", i), "1", now)
		if own := a != "others"; own != (i < maxNames) || own != (v == "1") {
			t.Fatalf("%d is counted as %s %s", i, a, v)
		}
	}
	if a, _ := c.Named("other", "app-500", "1", now); a != "app-500" {
		t.Errorf("another key's pages suffer for it: %s", a)
	}
	if a, _ := c.Named("key", "app-500", "1", now.Add(24*time.Hour)); a != "app-500" {
		t.Errorf("the day after: %s", a)
	}
}

// Units that asked lately are an estimate of who polls; streams are counted.
func TestAudience(t *testing.T) {
	var a Audience
	now := time.UnixMilli(1_795_000_000_000)
	for i := range 5 {
		a.Asked(1, fmt.Sprint("unit-", i%3), now.UnixMilli())
	}
	a.Stream(1, 1)
	a.Stream(1, 1)
	a.Stream(1, -1)
	if streams, pollers := a.In(1, now); streams != 1 || pollers != 3 {
		t.Errorf("%d streams, %d units", streams, pollers)
	}
	if _, pollers := a.In(1, now.Add(6*time.Minute)); pollers != 3 {
		t.Errorf("%d units six minutes later", pollers)
	}
	if _, pollers := a.In(1, now.Add(11*time.Minute)); pollers != 0 {
		t.Errorf("%d units eleven minutes later", pollers)
	}
	for i := range reportsPerMinute + 1 {
		if may := a.MayTell("10.0.0.9", now); may != (i < reportsPerMinute) {
			t.Fatalf("report %d: %t", i, may)
		}
	}
	if !a.MayTell("10.0.0.8", now) || !a.MayTell("10.0.0.9", now.Add(time.Minute)) {
		t.Error("others, or the same a minute later, may not tell")
	}
}

// Anything can be gathered: what comes together is one batch, and the same again is not new.
func TestGatherAnything(t *testing.T) {
	had := map[string]bool{}
	var mu sync.Mutex
	var sizes []int
	open := make(chan struct{})
	g := &Gather[string]{Name: "events", Says: "write events", Write: func(_ context.Context, _ int64, batch []string) ([]bool, error) {
		<-open
		mu.Lock()
		defer mu.Unlock()
		sizes = append(sizes, len(batch))
		fresh := make([]bool, len(batch))
		for i, one := range batch {
			fresh[i], had[one] = !had[one], true
		}
		return fresh, nil
	}}
	ctx, cancel := context.WithCancel(context.Background())
	w := work.New(quiet, nil, "")
	w.Start(ctx, g.Job())
	defer w.Wait()
	defer cancel()
	var group sync.WaitGroup
	for i := range 300 {
		group.Go(func() {
			if fresh, err := g.Take(context.Background(), 1, fmt.Sprint("event ", i), 10); !fresh || err != nil {
				t.Errorf("event %d: %t %v", i, fresh, err)
			}
		})
	}
	close(open)
	group.Wait()
	if fresh, err := g.Take(context.Background(), 1, "event 7", 10); fresh || err != nil {
		t.Errorf("again: %t %v", fresh, err)
	}
	if len(sizes) > 50 {
		t.Errorf("%d batches of 301 events", len(sizes))
	}
	if _, err := g.Take(context.Background(), 1, "huge", maxBytes+1); !errors.Is(err, errFull) {
		t.Errorf("huge: %v", err)
	}
}

// A report is cut to what a line may hold, and refused where it is not one.
func TestCheck(t *testing.T) {
	r := &wire.Report{Status: wire.Status{Instance: "i", Sequence: 1, Kind: wire.ANode, Digest: strings.Repeat("a", 65),
		TooOld: append(make([]string, 3), strings.Split(strings.Repeat("flag ", 150), " ")...),
		Busy:   &wire.Busy{Unit: "a\x00b"}, Applied: make([]wire.Applied, maxApplied+5)}}
	if found := Check(r); found != nil {
		t.Errorf("%v", found)
	}
	if r.Kind != wire.AnApplication || r.Digest != "" || r.Busy != nil || len(r.TooOld) != maxTooOld || len(r.Applied) != maxApplied {
		t.Errorf("%+v", r.Status)
	}
	for place, bad := range map[string]wire.Report{
		"instance":           {Status: wire.Status{Sequence: 1}},
		"sequence":           {Status: wire.Status{Instance: "i"}},
		"version":            {Status: wire.Status{Instance: "i", Sequence: 1, Version: "\x1b[31m"}},
		"behind":             {Status: wire.Status{Instance: "i", Sequence: 1}, Behind: make([]wire.Follower, maxBehind+1)},
		"behind[0].instance": {Status: wire.Status{Instance: "i", Sequence: 1}, Behind: []wire.Follower{{Status: wire.Status{Sequence: 1}}}},
	} {
		if found := Check(&bad); len(found) == 0 || found[0].Place != place {
			t.Errorf("%s: %v", place, found)
		}
	}
}
