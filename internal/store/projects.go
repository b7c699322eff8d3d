package store

import (
	"context"
	"database/sql"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "projects", Why: "a row for each project"},
)

var _ = writes((*Tx).AddProject)

var _ = speaks("project", func(v *reading, id int64) {
	type place struct {
		Key     string `db:"project_key"`
		Title   string `db:"title"`
		Created int64  `db:"created"`
	}
	read(v, func(p place) row { return projectRecord(id, p.Key, p.Title, p.Created) },
		"SELECT project_key, title, created FROM projects WHERE id = ?", id)
})

const (
	projectColumns     = "id, project_key, title, created"
	environmentColumns = "id, project_id, environment_key, title, ask_first, revision, behind, created, " +
		environmentState + " state, " + environmentFreezes + " freezes, " + environmentOwners + " owners_only, " +
		"" + environmentSigning + " signing, " + environmentUntil + " until_at"
	environmentState = "COALESCE((SELECT s.state FROM environment_states s WHERE s.environment_id = " +
		"environments.id), '')"
	environmentFreezes = "COALESCE((SELECT f.body FROM environment_freezes f WHERE f.environment_id = " +
		"environments.id), '')"
	environmentOwners = "COALESCE((SELECT a.owners_only FROM environment_asks a WHERE a.environment_id = " +
		"environments.id), 0)"
	environmentSigning = "COALESCE((SELECT a.signing FROM environment_asks a WHERE a.environment_id = " +
		"environments.id), '')"
	environmentUntil = "COALESCE((SELECT l.until_at FROM environment_lives l WHERE l.environment_id = " +
		"environments.id), 0)"
	definitionColumns = "id, project_id, flag, version, body"
)

// Projects lists all projects by key.
func (s *Store) Projects(ctx context.Context) ([]app.Project, error) {
	return list[app.Project](ctx, s.door, "SELECT "+projectColumns+" FROM projects ORDER BY project_key")
}

// Project finds a project by key.
func (s *Store) Project(ctx context.Context, key string) (*app.Project, error) {
	return get[app.Project](ctx, s.door, noProject(key), "SELECT "+projectColumns+" FROM projects WHERE "+
		"project_key = ?", key)
}

// ProjectOf finds a project by its id.
func (s *Store) ProjectOf(ctx context.Context, id int64) (*app.Project, error) {
	return get[app.Project](ctx, s.door, "there is no such project", "SELECT "+projectColumns+" FROM projects WHERE "+
		"id = ?", id)
}

// Place finds a project and one of its environments by their keys; the environment is nil where
// the project has none of that key.
func (s *Store) Place(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error) {
	row, err := get[struct {
		app.Project
		EnvironmentID sql.NullInt64  `db:"environment_id"`
		Key           sql.NullString `db:"environment_key"`
		EnvTitle      sql.NullString `db:"environment_title"`
		AskFirst      sql.NullBool   `db:"ask_first"`
		Revision      sql.NullInt64  `db:"revision"`
		Behind        sql.NullInt64  `db:"behind"`
		Made          sql.NullInt64  `db:"environment_created"`
		State         app.EnvironmentState
		Freezes       app.Freezes
		OwnersOnly    bool `db:"owners_only"`
		Signing       app.Signing
		Until         int64 `db:"until_at"`
	}](ctx, s.door, noProject(project), `
		SELECT p.id, p.project_key, p.title, p.created,
			e.id environment_id, e.environment_key, e.title environment_title, e.ask_first,
			e.revision, e.behind, e.created environment_created, COALESCE(s.state, '') state,
			COALESCE(f.body, '') freezes, COALESCE(a.owners_only, 0) owners_only,
			COALESCE(a.signing, '') signing, COALESCE(l.until_at, 0) until_at
		FROM projects p
		LEFT JOIN environments e ON e.project_id = p.id AND e.environment_key = ?
		LEFT JOIN environment_states s ON s.environment_id = e.id
		LEFT JOIN environment_freezes f ON f.environment_id = e.id
		LEFT JOIN environment_asks a ON a.environment_id = e.id
		LEFT JOIN environment_lives l ON l.environment_id = e.id
		WHERE p.project_key = ?`, environment, project)
	if err != nil {
		return nil, nil, err
	}
	if !row.EnvironmentID.Valid || row.State == app.Gone {
		return &row.Project, nil, nil
	}
	return &row.Project, &app.Environment{ID: row.EnvironmentID.Int64, ProjectID: row.ID, Key: row.Key.String,
		Title: row.EnvTitle.String, AskFirst: row.AskFirst.Bool,
		Revision: row.Revision.Int64, Behind: row.Behind.Int64, State: row.State, Created: row.Made.Int64,
		Freezes: row.Freezes, OwnersOnly: row.OwnersOnly, Signing: row.Signing, Until: row.Until}, nil
}

// PlaceOf finds an environment by its id, and its project.
func (s *Store) PlaceOf(ctx context.Context, environment int64) (*app.Project, *app.Environment, error) {
	row, err := get[struct {
		Project     string `db:"project_key"`
		Environment string `db:"environment_key"`
	}](ctx, s.door, "there is no such environment", "SELECT p.project_key, e.environment_key FROM environments e "+
		"JOIN projects p ON p.id = e.project_id WHERE e.id = ?", environment)
	if err != nil {
		return nil, nil, err
	}
	p, e, err := s.Place(ctx, row.Project, row.Environment)
	if err == nil && e == nil {
		err = app.Faultf(app.NotFound, "there is no such environment")
	}
	return p, e, err
}

func noProject(key string) string {
	return "there is no project " + key + ", or you have no role in it"
}

// AddProject makes a project and its chain.
func (t *Tx) AddProject(p *app.Project) error {
	res, err := t.tx.ExecContext(t.ctx, "INSERT INTO projects (project_key, title, created) VALUES (?, ?, ?)", p.Key,
		p.Title, p.Created)
	if isDuplicate(err) {
		return app.InvalidField("key", "there is a project %s already: choose another key", p.Key)
	}
	if err != nil {
		return err
	}
	if p.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	return t.touch(projectRecord(p.ID, p.Key, p.Title, p.Created))
}

func projectRecord(id int64, key, title string, created int64) row {
	return row{of: fmt.Sprintf("projects/%d", id), content: []any{key, title, created}}
}

var _ = writes((*Tx).SetProjectTitle)

// SetProjectTitle gives a project another title.
func (t *Tx) SetProjectTitle(r *app.ProjectTitle) error {
	if err := t.exec("UPDATE projects SET title = ? WHERE id = ?", r.Title, r.ID); err != nil {
		return err
	}
	return touchRows(t, func(p app.Project) row { return projectRecord(p.ID, p.Key, p.Title, p.Created) },
		"SELECT id, project_key, title, created FROM projects WHERE id = ?", r.ID)
}
