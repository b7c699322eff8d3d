package manage

import (
	"fmt"
	"slices"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/plans"
)

var _ = listed(
	op[undoBody, Planned]("POST", atProject+"/changes/:change/undo", "Take a change back as a new one, if nothing "+
		"that came after stands on it", (*call).undo).change().needs(app.Read),
	op[stoodBody, Planned]("POST", atEnvironment+"/as-it-stood", "Have an environment, or some of its flags, as it "+
		"stood at a time or a revision", (*call).asItStood).change().needs(app.Read),
	op[promoteBody, Planned]("POST", atProject+"/promote", "Take what flags do from an environment into others",
		(*call).promote).change().needs(app.Read),
)

// confirmed are the numbers of units that a caller confirms, where everybody would go from the resting variant at
// once: by "environment/flag".
type confirmed map[string]int64

func (u confirmed) into(changes []commit.Change) {
	for i := range changes {
		put, is := changes[i].Do.(*flags.Put)
		if !is {
			continue
		}
		if n, is := u[changes[i].In.Environment.Key+"/"+changes[i].Of]; is {
			put.Units = &n
		}
	}
}

type undoBody struct {
	At     int64     `json:"at,omitempty"` // when it was made, in Unix milliseconds: so it is found at once
	Units  confirmed `json:"units,omitempty"`
	Reason string    `json:"reason,omitempty"`
}

func (c *call) undo(in *undoBody) (any, error) {
	id := c.Param("change")
	plan, err := c.api.Plans.Undo(c.ctx, c.p, id, in.At)
	if err != nil {
		return nil, err
	}
	in.Units.into(plan.Changes)
	return c.plan(in.Reason, "taking back of "+id, plan.Changes, plan.Left)
}

type stoodBody struct {
	Revision int64     `json:"revision,omitempty"`
	At       int64     `json:"at,omitempty"` // Unix milliseconds, in place of a revision
	Flags    []string  `json:"flags,omitempty"`
	Units    confirmed `json:"units,omitempty"`
	Reason   string    `json:"reason,omitempty"`
}

func (c *call) asItStood(in *stoodBody) (any, error) {
	var err error
	switch {
	case (in.Revision == 0) == (in.At == 0):
		return nil, app.InvalidField("at", "say a time or a revision, and not both")
	case in.At > c.api.Now().UnixMilli():
		return nil, app.InvalidField("at", "is in the future")
	case in.At != 0:
		in.Revision, err = c.api.Records.RevisionAt(c.ctx, c.e.ID, in.At)
	case in.Revision > c.e.Revision:
		err = app.InvalidField("revision", "is not made yet: this environment stands at %d", c.e.Revision)
	}
	if err != nil {
		return nil, err
	}
	plan, err := c.api.Plans.Stood(c.ctx, commit.In{Project: c.p, Environment: c.e}, in.Revision, in.Flags)
	if err != nil {
		return nil, err
	}
	in.Units.into(plan.Changes)
	left := append([]words.Said{words.Say("as %s stood at revision %s; stops that stand are not lifted, and none is "+
		"brought back", words.Key(c.e.Key), words.Count(in.Revision))}, plan.Left...)
	return c.plan(in.Reason, fmt.Sprintf("as it stood at revision %d", in.Revision), plan.Changes, left)
}

type promoteBody struct {
	plans.Promotion
	Bundle string    `json:"bundle,omitempty"` // its flags, in place of Flags
	Units  confirmed `json:"units,omitempty"`
	Reason string    `json:"reason,omitempty"`
}

func (promoteBody) must() []string { return []string{"from", "to"} }

func (c *call) promote(in *promoteBody) (any, error) {
	if in.Bundle != "" {
		all, err := c.api.Records.Bundles(c.ctx, c.p.ID)
		if err != nil {
			return nil, err
		}
		at := slices.IndexFunc(all, func(b app.Bundle) bool { return b.Key == in.Bundle })
		if at < 0 || len(in.Flags) > 0 {
			return nil, app.InvalidField("bundle", "must be a bundle of this project, and stands in place of flags")
		}
		in.Flags = all[at].Flags
	}
	plan, err := c.api.Plans.Promote(c.ctx, c.p, &in.Promotion)
	if err != nil {
		return nil, err
	}
	in.Units.into(plan.Changes)
	return c.plan(in.Reason, "", plan.Changes, plan.Left)
}
