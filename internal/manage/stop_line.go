package manage

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/evidence"
)

// lineBack is how long before a stop the first bad outcome is looked for.
const lineBack = 2 * time.Hour

// storyLine puts a stop into one line: what changed last before it, the first bad outcome after that, who saw it, the
// stop, and when all had it. What nobody knows is left out.
func (c *call) storyLine(out *StopStory) error {
	add := func(at int64, what, format string, args ...any) {
		out.Line = append(out.Line, ToldMoment{at, what, fmt.Sprintf(format, args...)})
	}
	from := out.At - lineBack.Milliseconds()
	if len(out.Before) > 0 {
		b := &out.Before[0]
		add(b.At, "change", "%s", plainly(b.Says))
		from = max(from, b.At)
	}
	bad, err := c.firstBad(out, from)
	if err != nil {
		return err
	}
	if bad != nil {
		out.Line = append(out.Line, *bad)
		out.Told = append(out.Told, *bad)
	}
	seen, err := c.seen(out)
	if err != nil {
		return err
	}
	if seen != nil {
		out.Line = append(out.Line, *seen)
		out.Told = append(out.Told, *seen)
	}
	add(out.At, "stop", "stopped by %s", out.ByName)
	if d := out.Wave; d != nil && d.Expected > 0 {
		switch {
		case d.All >= 0:
			add(out.At+d.All, "delivered", "all %d processes have it", d.Expected)
		case len(d.Waiting)+len(d.Lost) > 0:
			add(max(out.At, out.At+d.Half), "delivered", "%d of %d processes have it", d.Reached, d.Expected)
		}
	}
	slices.SortStableFunc(out.Line, func(a, b ToldMoment) int { return int(a.At - b.At) })
	return nil
}

// firstBad is the first minute from a time on in which a flag that was stopped gave another variant than its resting
// one to somebody for whom a metric turned out badly. It is no cause: it is where to look first.
func (c *call) firstBad(out *StopStory, from int64) (*ToldMoment, error) {
	metrics, err := c.api.Records.Metrics(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	var lower, keys []string
	for i := range metrics {
		if m := &metrics[i]; m.Kind == evidence.Rate && m.Better != evidence.Higher {
			lower = append(lower, m.Key)
		}
	}
	for i := range out.Flags {
		keys = append(keys, out.Flags[i].Key)
	}
	all, err := c.api.Records.FirstBad(c.ctx, c.e.ID, lower, keys[:min(len(keys), storyFlags)], from/60_000,
		out.At/60_000)
	if err != nil {
		return nil, err
	}
	var first *ToldMoment
	for _, b := range all {
		rests := slices.ContainsFunc(out.Flags, func(f StoppedFlag) bool {
			return f.Key == b.Flag &&
				f.Resting == b.Variant
		})
		// of the minute itself nobody knows whether it was before the change
		if at := max(b.Minute*60_000, from); !rests && at <= out.At && (first == nil || at < first.At) {
			first = &ToldMoment{at, "bad", fmt.Sprintf("first bad %s of who got %s", b.Metric, b.Variant)}
		}
	}
	return first, nil
}

// seen is how a monitoring system said that something is wrong, where it was one that stopped.
func (c *call) seen(out *StopStory) (*ToldMoment, error) {
	alerts, err := c.api.Records.TripwireAlerts(c.ctx, c.e.ID, mostAlerts)
	if err != nil {
		return nil, err
	}
	for _, a := range alerts {
		if a.Stop == out.ID {
			return &ToldMoment{a.Fired, "seen", "seen by " + out.ByName + ": " + out.Reason}, nil
		}
	}
	return nil, nil
}

// inLine is the line as text.
func (s *StopStory) inLine() string {
	var parts []string
	for i, t := range s.Line {
		says := time.UnixMilli(t.At).UTC().Format("15:04:05") + " " + t.Says
		if i > 0 && t.At > s.Line[i-1].At {
			says += " (+" + lasted(t.At-s.Line[i-1].At) + ")"
		}
		parts = append(parts, says)
	}
	return strings.Join(parts, " -> ")
}
