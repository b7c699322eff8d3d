package proposals

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
)

// Want is something that a proposal lacks or has before it can be made: signatures, or the right to a change.
type Want struct {
	Environment string       `json:"environment,omitempty"` // key; empty: the project
	Action      app.Action   `json:"action,omitempty"`      // a right that its author lacks, and one who signs has
	Signing     *app.Signing `json:"signing,omitempty"`     // signatures
	Need        int          `json:"need"`
	Has         int          `json:"has"`
	environment int64
}

// Counts tells whether somebody's signature would count for it.
func (w *Want) Counts(who *app.Actor, project int64) bool {
	if w.Signing != nil {
		return w.Signing.Counts(who, project, w.environment)
	}
	_, may := who.Grants.Allows(w.Action, project, w.environment)
	return may && who.Kind == "person"
}

// Wants says what a proposal needs, by what its items take and who its author and its signers are.
func Wants(p *app.Proposal, envs []app.Environment, author *app.Actor, signers []app.Actor) (out []Want) {
	add := func(w Want) {
		if !slices.ContainsFunc(out, func(o Want) bool {
			return o.Environment == w.Environment && o.Action == w.Action && (o.Signing == nil) == (w.Signing == nil)
		}) {
			out = append(out, w)
		}
	}
	for i := range p.Items {
		for _, t := range p.Items[i].Takes {
			var env app.Environment
			if at := slices.IndexFunc(envs, func(e app.Environment) bool { return e.Key == t.Environment }); at >= 0 {
				env = envs[at]
			}
			w := Want{Environment: t.Environment, environment: env.ID, Action: t.Action, Need: 1}
			if _, may := author.Grants.Allows(t.Action, p.ProjectID, env.ID); !may {
				if slices.ContainsFunc(signers, func(s app.Actor) bool { return w.Counts(&s, p.ProjectID) }) {
					w.Has = 1
				}
				add(w)
			}
			if s := env.Signing; t.Signs && s.Need > 0 && !(t.Lever && s.Lever) {
				add(Want{Environment: t.Environment, environment: env.ID, Signing: &s, Need: s.Need,
					Has: s.Signed(signers, p.ProjectID, env.ID)})
			}
		}
	}
	return out
}

// State is how a proposal stands by what it wants.
func State(p *app.Proposal, wants []Want) app.ProposalState {
	switch {
	case p.Over() || slices.ContainsFunc(wants, func(w Want) bool { return w.Has < w.Need }):
		return p.State
	case p.At != 0:
		return app.ProposalDue
	}
	return app.ProposalSigned
}

// Waiting tells whether a proposal waits for somebody's signature.
func Waiting(p *app.Proposal, wants []Want, who *app.Actor) bool {
	if p.Over() || p.Author == who.ID || slices.ContainsFunc(p.Valid(), func(s app.Signature) bool {
		return s.By == who.ID
	}) {
		return false
	}
	return slices.ContainsFunc(wants, func(w Want) bool { return w.Has < w.Need && w.Counts(who, p.ProjectID) })
}
