package commit

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
)

// refusal is that of a policy, with the rulings that are kept although nothing of the change is.
type refusal struct {
	error
	rulings *app.Rulings
}

func (r *refusal) Unwrap() error { return r.error }

// keep keeps rulings of a change that was refused.
func (s *Service) keep(ctx context.Context, r *app.Rulings) error {
	return s.Write(ctx, func(tx Tx) error {
		_, err := tx.Write(r)
		return err
	})
}

// ruled has the policies rule on a case. What they say is noted, and the first that refuses refuses.
func (t *transaction) ruled(ctx context.Context, c task, e *Effect, a *admit.Case) error {
	if t.service.Policies == nil || c.kind.Inner || c.kind.Insists || a.Project == 0 {
		return nil
	}
	in := &Judged{Tx: t.tx, Kind: c.kind.Name, Of: c.Of, Change: t.change, Project: a.Project,
		Environment: a.Environment, Actor: a.Actor, Signers: a.Signers, Proposed: a.Proposing || len(a.Signers) > 0,
		Reason: a.Reason, Now: a.Now, Shift: a.Shift}
	if e.Rules != nil {
		in.Before, in.After = e.Rules.Before, e.Rules.After
	}
	for _, r := range e.Records {
		switch r := r.(type) {
		case *app.Definition:
			in.Definition, in.Of = r, r.Key
		case *app.ReleaseRecord:
			if plan := &r.State.Plan; r.State.Sequence <= 1 || e.Judge.Signs {
				in.Plan = plan
			}
		}
	}
	for _, entry := range e.Entries {
		for _, l := range entry.Lines {
			in.Lines = append(in.Lines, l.Text)
		}
	}
	rulings, policies, err := t.service.Policies.Rule(ctx, in)
	if err != nil || len(rulings) == 0 {
		return err
	}
	if err := t.heed(a, rulings, policies); err != nil {
		return err
	}
	for i := range rulings {
		if rulings[i].Forced && !a.DryRun {
			e.Entries = append(e.Entries, Said("policy.forced", policies[i].Key, diff.Text(fmt.Sprintf("policy "+
				"%q was "+
				"overruled by a keeper of the installation", policies[i].Title))))
		}
	}
	return nil
}

// heed does what rulings say.
func (t *transaction) heed(a *admit.Case, rulings []app.Ruling, policies []*app.Policy) error {
	var refused error
	for i := range rulings {
		r, p := &rulings[i], policies[i]
		if r.Dry || r.Outcome == app.Note {
			continue
		}
		says := fmt.Sprintf("policy %q %s: %s", p.Title, map[app.Outcome]string{app.Refuse: "refuses",
			app.Warn: "warns"}[r.Outcome], p.Mend)
		if r.Failed != "" {
			says += " (it could not be judged: " + r.Failed + ")"
		}
		switch {
		case r.Outcome == app.Warn, a.DryRun:
			a.Notes = append(a.Notes, diff.Text(says))
			if r.Outcome == app.Refuse {
				a.Refused = says
			}
		case t.request.Force:
			r.Forced = true
			a.Notes = append(a.Notes, diff.Text("forced: "+says))
		case refused == nil:
			refused = &app.Fault{Kind: app.Conflict, More: map[string]any{"policy": p.Key}, Detail: says}
		}
	}
	if t.rulings == nil {
		t.rulings = &app.Rulings{ProjectID: a.Project}
	}
	t.rulings.Items = append(t.rulings.Items, rulings...)
	if refused != nil {
		return &refusal{refused, t.rulings}
	}
	return nil
}
