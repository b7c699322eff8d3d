package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "roles", Why: "who may do what in all of a project"},
	Kept{Table: "grants", Why: "who may do what in one environment, and what teams may do"},
)

var _ = writes((*Tx).SetRoles)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, holdingRecord, "SELECT 'roles' kind, project_id, account_id holder, GROUP_CONCAT(role ORDER BY role "+
		"SEPARATOR ',') held FROM roles GROUP BY project_id, account_id")
	read(v, holdingRecord, heldInGrants+" GROUP BY project_id, holder")
})

const heldInGrants = "SELECT 'grants' kind, project_id, holder, GROUP_CONCAT(CONCAT(environment_id, ' ', role) " +
	"ORDER BY environment_id, role SEPARATOR ',') held FROM grants"

// holdingRow is all that somebody holds in a project, in one of the two tables.
type holdingRow struct {
	Kind    string `db:"kind"`
	Project int64  `db:"project_id"`
	Holder  string `db:"holder"`
	Held    string `db:"held"`
}

func holdingRecord(r holdingRow) row {
	return row{of: fmt.Sprintf("%s/%d/%s", r.Kind, r.Project, r.Holder), content: anys(strings.Split(r.Held, ","))}
}

type grantRow struct {
	ProjectID     int64    `db:"project_id"`
	EnvironmentID int64    `db:"environment_id"`
	Holder        string   `db:"holder"`
	Role          app.Role `db:"role"`
	Team          string   `db:"team"`
}

func (r grantRow) grant() app.Grant {
	return app.Grant{Project: r.ProjectID, Environment: r.EnvironmentID, Role: r.Role, Team: r.Team}
}

func granted(rows []grantRow) (out app.Grants) {
	for _, r := range rows {
		out = append(out, r.grant())
	}
	return out
}

// grantQuery asks for all that an account holds, by itself and as a member of teams; it takes the account's arguments
// three times.
func grantQuery(account string) string {
	return "SELECT project_id, 0 environment_id, role, '' team FROM roles WHERE account_id " +
		"= " + account + " UNION ALL " +
		"SELECT project_id, environment_id, role, '' FROM grants WHERE holder = " + account + " UNION ALL " +
		"SELECT g.project_id, g.environment_id, g.role, t.team_key FROM " + memberships + " m JOIN grants g ON " +
		"g.holder = " +
		"m.team_id JOIN teams t ON t.id = m.team_id WHERE m.account_id = " + account
}

func grantsOf(ctx context.Context, q sqlx.QueryerContext, account string) (app.Grants, error) {
	rows, err := list[grantRow](ctx, q, grantQuery("?"), account, account, account)
	return granted(rows), err
}

// GrantsOf gives all that an account holds, by itself and as a member of teams.
func (s *Store) GrantsOf(ctx context.Context, account string) (app.Grants, error) {
	return grantsOf(ctx, s.door, account)
}

// GrantsIn gives what accounts and teams hold in a project, by their ids.
func (s *Store) GrantsIn(ctx context.Context, project int64) (map[string]app.Grants, error) {
	return reader{ctx, s.door}.GrantsIn(project)
}

// GrantsIn gives what accounts and teams hold in a project, by their ids.
func (r reader) GrantsIn(project int64) (map[string]app.Grants, error) {
	rows, err := list[grantRow](r.ctx, r.q, "SELECT project_id, 0 environment_id, account_id holder, role, '' team "+
		"FROM "+
		"roles WHERE project_id = ? UNION ALL SELECT g.project_id, g.environment_id, g.holder, g.role, "+
		"COALESCE(t.team_key, '') FROM grants g LEFT JOIN teams t ON t.id = g.holder WHERE g.project_id = ?", project,
		project)
	out := map[string]app.Grants{}
	for _, row := range rows {
		out[row.Holder] = append(out[row.Holder], row.grant())
	}
	return out, err
}

// SetRoles replaces what an account or a team holds in a project.
func (t *Tx) SetRoles(r *app.RolesRecord) error {
	in := map[int64][]app.Role{}
	for environment, roles := range r.In {
		in[environment] = roles
	}
	if r.Team {
		in[0] = r.Roles
	} else if err := t.setOwnRoles(r); err != nil {
		return err
	}
	var had []holdingRow
	if err := t.list(&had, heldInGrants+ofHolder, r.ProjectID, r.Account); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM grants WHERE project_id = ? AND holder = ?", r.ProjectID, r.Account); err != nil {
		return err
	}
	for environment, roles := range in {
		for _, role := range roles {
			if err := t.exec("INSERT INTO grants (project_id, environment_id, holder, role) VALUES (?, ?, ?, ?)",
				r.ProjectID, environment, r.Account, role); err != nil {
				return err
			}
		}
	}
	var has []holdingRow
	if err := t.list(&has, heldInGrants+ofHolder, r.ProjectID, r.Account); err != nil {
		return err
	}
	switch {
	case len(has) > 0:
		return t.touch(holdingRecord(has[0]))
	case len(had) > 0:
		return t.touch(row{of: holdingRecord(had[0]).of})
	}
	return nil
}

const ofHolder = " WHERE project_id = ? AND holder = ? GROUP BY project_id, holder"

// setOwnRoles replaces what an account holds in all of a project.
func (t *Tx) setOwnRoles(r *app.RolesRecord) error {
	if err := t.exec("DELETE FROM roles WHERE project_id = ? AND account_id = ?", r.ProjectID, r.Account); err != nil {
		return err
	}
	own := row{of: fmt.Sprintf("roles/%d/%s", r.ProjectID, r.Account)}
	var names []string
	for _, role := range r.Roles {
		if err := t.exec("INSERT INTO roles (project_id, account_id, role) VALUES (?, ?, ?)", r.ProjectID, r.Account,
			role); err != nil {
			return err
		}
		names = append(names, string(role))
	}
	if slices.Sort(names); len(names) > 0 {
		own.content = anys(names)
	}
	return t.touch(own)
}

// removeGrants takes all that a team holds in any project.
func (t *Tx) removeGrants(holder string) error {
	gone := func(r holdingRow) row { return row{of: holdingRecord(r).of} }
	if err := touchRows(t, gone, heldInGrants+" WHERE holder = ? GROUP BY project_id, holder", holder); err != nil {
		return err
	}
	return t.exec("DELETE FROM grants WHERE holder = ?", holder)
}
