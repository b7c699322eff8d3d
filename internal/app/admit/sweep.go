package admit

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// confirmed asks for the number of units before all of them go from the resting variant in one
// step. The number may have moved a little since it was told. Where the sample does not know
// how many go, it asks for a bound of the person's own, and notes a line that keeps it.
func confirmed(ctx context.Context, c *Case) error {
	if c.DryRun && !c.Proposing || c.Shift == nil {
		return nil
	}
	sh, err := c.Shift(ctx)
	if err != nil || !sh.Sweep || sh.Units.Units == 0 { // nobody was seen here, so there is nobody to count
		return err
	}
	units := sh.Units.Units
	if sh.Perhaps.Counted > 0 {
		if c.Units != nil && *c.Units >= sh.Moved.Low {
			c.Notes = append(c.Notes, diff.Text(
				fmt.Sprintf("moves at most %d units, as its author says: the sample cannot count them", *c.Units)))
			return nil
		}
		mend := fmt.Sprintf("this may take all of about %d units from the resting variant in one step, and cannot "+
			"be counted: say yourself how many it moves at most, %d or more", units, sh.Moved.Low)
		return &app.Fault{Kind: app.Invalid, Detail: sh.Says.String(), More: map[string]any{"bound": sh.Moved.Low},
			Fields: []flag.Problem{{Place: "units", Mend: mend}}}
	}
	if c.Units != nil && abs(*c.Units-units)*10 <= units {
		return nil
	}
	mend := fmt.Sprintf("this moves about %d units, all that were seen, in one step: "+
		"widen it by shares, or confirm it by sending that number", units)
	return &app.Fault{Kind: app.Invalid, Detail: "everybody would go from the resting variant in one step",
		More: map[string]any{"sweep": units}, Fields: []flag.Problem{{Place: "units", Mend: mend}}}
}

func abs(n int64) int64 { return max(n, -n) }
