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
	GrantsIn(project int64) (map[string]app.Grants, error)
}

// Kinds are the changes of who may do what in a project.
func Kinds() []*commit.Kind {
	return []*commit.Kind{commit.Of(commit.Kind{Name: "roles.set", Says: "Replaces somebody's roles in a project",
		Action: app.Manage, Span: commit.Project}, set)}
}

// Set replaces the roles of the account or team that the change is of; none takes it out.
type Set struct {
	Roles []app.Role `json:"roles"`
	// In are roles that count in one environment alone, by its key.
	In map[string][]app.Role `json:"in,omitempty"`
	// Team is the key of the team that the change is of; empty: it is of an account.
	Team string `json:"team,omitempty"`
}

func set(_ context.Context, m *commit.Moment, in *Set) (*commit.Effects, error) {
	if err := in.check(); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).GrantsIn(m.Project.ID)
	if err != nil {
		return nil, err
	}
	old := all[m.Of]
	environments, err := m.Entire()
	if err != nil {
		return nil, err
	}
	rec := &app.RolesRecord{ProjectID: m.Project.ID, Account: m.Of, Team: in.Team != "", Roles: tidy(in.Roles),
		In: map[int64][]app.Role{}}
	var has app.Grants
	for _, r := range rec.Roles {
		has = append(has, app.Grant{Project: m.Project.ID, Role: r, Team: in.Team})
	}
	for key, roles := range in.In {
		at := slices.IndexFunc(environments, func(e app.Environment) bool { return e.Key == key })
		if at < 0 {
			return nil, app.InvalidField("in."+key, "there is no environment %s in this project", key)
		}
		rec.In[environments[at].ID] = tidy(roles)
		for _, r := range tidy(roles) {
			has = append(has, app.Grant{Project: m.Project.ID, Environment: environments[at].ID, Role: r,
				Team: in.Team})
		}
	}
	if all[m.Of] = has; !kept(all) {
		return nil, app.Faultf(app.Conflict, "a project needs a keeper who is one by themselves: make somebody "+
			"else one "+
			"first")
	}
	was, now := says(old, environments), says(has, environments)
	result := map[string]any{"account": m.Of, "roles": rec.Roles}
	if len(in.In) > 0 {
		result["in"] = in.In
	}
	if was == now {
		return commit.Nothing(result), nil
	}
	return &commit.Effects{Result: result, In: []commit.Effect{changed(m.Project, rec, in.Team, was, now)}}, nil
}

// check says what is wrong with roles. Keeping is of a whole project.
func (in *Set) check() error {
	for i, role := range in.Roles {
		if mend := app.CheckRole(role); mend != "" {
			return app.InvalidField(fmt.Sprintf("roles[%d]", i), "%s", mend)
		}
	}
	for key, roles := range in.In {
		for i, role := range roles {
			if !slices.Contains(app.Roles(), role) || role == app.Keeper {
				return app.InvalidField(fmt.Sprintf("in.%s[%d]", key, i), "must be one of auditor, developer, "+
					"releaser, "+
					"on-call")
			}
		}
	}
	return nil
}

func tidy(roles []app.Role) []app.Role {
	out := append([]app.Role{}, roles...)
	slices.Sort(out)
	return slices.Compact(out)
}

// kept tells whether somebody is left who keeps the project by themselves.
func kept(all map[string]app.Grants) bool {
	for _, grants := range all {
		for _, g := range grants {
			if g.Role == app.Keeper && g.Environment == 0 && g.Team == "" {
				return true
			}
		}
	}
	return false
}

// says lists roles, those of the project first.
func says(g app.Grants, environments []app.Environment) string {
	text := ""
	var whole []app.Role
	for _, one := range g {
		if one.Environment == 0 {
			whole = append(whole, one.Role)
		}
	}
	text = fmt.Sprint(tidy(whole))
	for _, e := range environments {
		var here []app.Role
		for _, one := range g {
			if one.Environment == e.ID {
				here = append(here, one.Role)
			}
		}
		if len(here) > 0 {
			text += fmt.Sprintf(", in %s %v", e.Key, tidy(here))
		}
	}
	return text
}

// Changed is the effect of other roles of an account in all of a project.
func Changed(project *app.Project, account string, old, roles []app.Role) commit.Effect {
	return changed(project, &app.RolesRecord{ProjectID: project.ID, Account: account, Roles: roles}, "",
		fmt.Sprint(old),
		fmt.Sprint(roles))
}

func changed(project *app.Project, rec *app.RolesRecord, team, was, now string) commit.Effect {
	line := diff.Text(fmt.Sprintf("roles in project %s: %s → %s", project.Key, was, now))
	of := rec.Account
	if team != "" {
		of = "team " + team
	}
	return commit.Effect{Records: []commit.Record{rec}, Entries: []commit.Entry{commit.Said("roles.changed", of,
		line)}}
}
