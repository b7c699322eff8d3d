package admit

import (
	"context"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/zones"
)

// frozen keeps units where they are while a freeze holds. Stops, lifts and roll backs pass, and so does every edit
// that moves nobody whoever there is.
func frozen(ctx context.Context, c *Case) error {
	if !c.Guarded || c.Environment == nil || len(c.Environment.Freezes) == 0 || c.Action == app.LiftIt {
		return nil
	}
	key := ""
	if c.After != nil {
		key = c.After.Key
	} else if !c.Moves {
		return nil
	}
	f, until := c.Environment.Freezes.Holding(c.Now, zones.Find, key, c.Actor.Grants.Roles(c.Project,
		c.Environment.ID))
	if f == nil {
		return nil
	}
	if c.After != nil && c.Shift != nil {
		if sh, err := c.Shift(ctx); err != nil || sh.Certain {
			return err
		}
	}
	if c.Environment.Signing.Signed(c.Signers, c.Project, c.Environment.ID) > c.Environment.Signing.Need {
		c.Notes = append(c.Notes, diff.Text("in the freeze ("+f.Reason+"), by one signature more than is wanted"))
		return nil
	}
	says := "environment " + c.Environment.Key + " is frozen " +
		"until " + time.UnixMilli(until).UTC().Format("2006-01-02 15:04 UTC") +
		" (" + f.Reason + "): nothing moves units until then but stops, lifts and roll backs"
	if c.DryRun { // looking ahead is free
		c.Notes = append(c.Notes, diff.Text(says))
		return nil
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"freeze": f.ID, "until": until, "reason": f.Reason},
		Detail: says + "; a keeper takes the freeze away, or excepts the flag or a role, and a proposal with one " +
			"more signature " +
			"than is wanted passes"}
}
