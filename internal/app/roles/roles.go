// Package roles holds the change of who may do what in a project.
package roles

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Tx is what a change of roles reads.
type Tx interface {
	RolesIn(project int64) (map[string][]app.Role, error)
}

// Kinds are the changes of who may do what in a project.
func Kinds() []*commit.Kind {
	return []*commit.Kind{commit.Of(commit.Kind{Name: "roles.set", Says: "Replaces somebody's roles in a project",
		Action: app.Manage, Span: commit.Project}, set)}
}

// Set replaces the roles of the account that the change is of; none takes the person out.
type Set struct {
	Roles []app.Role `json:"roles"`
}

func set(_ context.Context, m *commit.Moment, in *Set) (*commit.Effects, error) {
	for i, role := range in.Roles {
		if !slices.Contains(app.Roles(), role) {
			return nil, app.InvalidField(fmt.Sprintf("roles[%d]", i), "must be one of auditor, developer, releaser, "+
				"on-call, keeper")
		}
	}
	all, err := commit.Narrow[Tx](m).RolesIn(m.Project.ID)
	if err != nil {
		return nil, err
	}
	old := all[m.Of]
	roles := append([]app.Role{}, in.Roles...)
	slices.Sort(roles)
	roles = slices.Compact(roles)
	all[m.Of] = roles
	keepers := 0
	for _, rs := range all {
		if slices.Contains(rs, app.Keeper) {
			keepers++
		}
	}
	if keepers == 0 {
		return nil, app.Faultf(app.Conflict, "a project needs a keeper: make somebody else one first")
	}
	result := map[string]any{"account": m.Of, "roles": roles}
	if slices.Equal(old, roles) {
		return commit.Nothing(result), nil
	}
	return &commit.Effects{Result: result, In: []commit.Effect{Changed(m.Project, m.Of, old, roles)}}, nil
}

// Changed is the effect of other roles.
func Changed(project *app.Project, account string, old, roles []app.Role) commit.Effect {
	line := diff.Text(fmt.Sprintf("roles in project %s: %v → %v", project.Key, old, roles))
	return commit.Effect{Records: []commit.Record{&app.RolesRecord{ProjectID: project.ID, Account: account,
		Roles: roles}},
		Entries: []commit.Entry{commit.Said("roles.changed", account, line)}}
}
