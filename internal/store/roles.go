package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "roles", Why: "who may do what"},
)

var _ = writes((*Tx).SetRoles)

var _ = speaks("access", func(v *reading, _ int64) {
	type roles struct {
		Project int64  `db:"project_id"`
		Account string `db:"account_id"`
		Roles   string `db:"roles"`
	}
	read(v, func(r roles) row { return rolesRecord(r.Project, r.Account, strings.Split(r.Roles, ",")) },
		"SELECT project_id, account_id, GROUP_CONCAT(role ORDER BY role SEPARATOR ',') roles FROM roles "+
			"GROUP BY project_id, account_id")
})

type roleRow struct {
	ProjectID int64    `db:"project_id"`
	AccountID string   `db:"account_id"`
	Role      app.Role `db:"role"`
}

// RolesOf gives the roles of an account by project.
func (s *Store) RolesOf(ctx context.Context, account string) (map[int64][]app.Role, error) {
	rows, err := list[roleRow](ctx, s.door, "SELECT project_id, account_id, role FROM roles WHERE account_id = ? "+
		"ORDER BY role", account)
	out := map[int64][]app.Role{}
	for _, r := range rows {
		out[r.ProjectID] = append(out[r.ProjectID], r.Role)
	}
	return out, err
}

// RolesIn gives the roles in a project by account.
func (s *Store) RolesIn(ctx context.Context, project int64) (map[string][]app.Role, error) {
	return reader{ctx, s.door}.RolesIn(project)
}

// RolesIn gives the roles in a project by account.
func (r reader) RolesIn(project int64) (map[string][]app.Role, error) {
	rows, err := list[roleRow](r.ctx, r.q, "SELECT project_id, account_id, role FROM roles WHERE project_id = ? "+
		"ORDER BY role", project)
	out := map[string][]app.Role{}
	for _, row := range rows {
		out[row.AccountID] = append(out[row.AccountID], row.Role)
	}
	return out, err
}

// SetRoles replaces the roles of an account in a project.
func (t *Tx) SetRoles(r *app.RolesRecord) error {
	if err := t.exec("DELETE FROM roles WHERE project_id = ? AND account_id = ?", r.ProjectID, r.Account); err != nil {
		return err
	}
	names := make([]string, 0, len(r.Roles))
	for _, role := range r.Roles {
		if err := t.exec("INSERT INTO roles (project_id, account_id, role) VALUES (?, ?, ?)", r.ProjectID, r.Account,
			role); err != nil {
			return err
		}
		names = append(names, string(role))
	}
	slices.Sort(names)
	return t.touch(rolesRecord(r.ProjectID, r.Account, names))
}

func rolesRecord(project int64, account string, roles []string) row {
	r := row{of: fmt.Sprintf("roles/%d/%s", project, account)}
	if len(roles) > 0 {
		r.content = anys(roles)
	}
	return r
}
