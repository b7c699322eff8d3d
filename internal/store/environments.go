package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "environment_states", Why: "which environments have ended; kept, since the audit speaks of it"},
	Kept{Table: "environments", Why: "a row for each environment"},
)

var _ = writes(func(t *Tx, e *app.Environment) error {
	if e.ID == 0 {
		return t.AddEnvironment(e)
	}
	return t.UpdateEnvironment(e)
})

var _ = writes((*Tx).SetState)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, stateRecord, "SELECT environment_id, state, at, by_id FROM environment_states WHERE environment_id = ?",
		id)
})

var _ = speaks("environment", func(v *reading, id int64) {
	type place struct {
		ID       int64  `db:"id"`
		Project  int64  `db:"project_id"`
		Key      string `db:"environment_key"`
		Title    string `db:"title"`
		AskFirst bool   `db:"ask_first"`
		Created  int64  `db:"created"`
		Revision int64  `db:"revision"`
	}
	read(v, func(p place) row { return environmentRecord(p.ID, p.Project, p.Key, p.Title, p.AskFirst, p.Created) },
		"SELECT id, project_id, environment_key, title, ask_first, created, revision FROM environments WHERE id = ?",
		id)
})

// lasting leaves out environments that end by themselves.
const lasting = "AND id NOT IN (SELECT environment_id FROM environment_lives) "

// Environments lists the lasting environments of a project in the order in which they were made.
func (s *Store) Environments(ctx context.Context, project int64) ([]app.Environment, error) {
	return list[app.Environment](ctx, s.door, "SELECT "+environmentColumns+" FROM environments WHERE project_id "+
		"= ? "+
		lasting+"HAVING state = ? ORDER BY id", project, app.Active)
}

// Archived lists the environments of a project that are archived.
func (s *Store) Archived(ctx context.Context, project int64) ([]app.Environment, error) {
	return list[app.Environment](ctx, s.door,
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? "+lasting+"HAVING state = ? ORDER "+
			"BY id", project,
		app.Archived)
}

// Ever lists all environments that a project has or had: the history names them.
func (s *Store) Ever(ctx context.Context, project int64) ([]app.Environment, error) {
	return list[app.Environment](ctx, s.door,
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? ORDER BY id", project)
}

// Environment finds an environment of a project by key.
func (s *Store) Environment(ctx context.Context, project int64, key string) (*app.Environment, error) {
	return get[app.Environment](ctx, s.door, "there is no environment "+key+" in this project",
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? AND environment_key = ? HAVING "+
			"state <> ?", project, key, app.Gone)
}

// AddEnvironment makes an environment.
func (t *Tx) AddEnvironment(e *app.Environment) error {
	res, err := t.tx.ExecContext(t.ctx, "INSERT INTO environments (project_id, environment_key, title, ask_first, "+
		"revision, created) VALUES (?, ?, ?, ?, ?, ?)",
		e.ProjectID, e.Key, e.Title, e.AskFirst, e.Revision, e.Created)
	if isDuplicate(err) {
		return app.InvalidField("key", "there is or was an environment %s already, and keys are never used again: "+
			"choose another", e.Key)
	}
	if err != nil {
		return err
	}
	if e.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	return t.touch(environmentRecord(e.ID, e.ProjectID, e.Key, e.Title, e.AskFirst, e.Created))
}

// UpdateEnvironment saves title and whether the environment asks first.
func (t *Tx) UpdateEnvironment(e *app.Environment) error {
	if err := t.exec("UPDATE environments SET title = ?, ask_first = ? WHERE id = ?", e.Title, e.AskFirst,
		e.ID); err != nil {
		return err
	}
	return t.touch(environmentRecord(e.ID, e.ProjectID, e.Key, e.Title, e.AskFirst, e.Created))
}

// SetState keeps whether an environment has ended.
func (t *Tx) SetState(r *app.StateRecord) error {
	if err := t.exec("DELETE FROM environment_states WHERE environment_id = ?", r.EnvironmentID); err != nil {
		return err
	}
	if r.State != app.Active {
		if err := t.exec("INSERT INTO environment_states (environment_id, state, at, by_id) VALUES (?, ?, ?, ?)",
			r.EnvironmentID, r.State, r.At, r.By); err != nil {
			return err
		}
	}
	return t.touch(stateRecord(*r))
}

// NameOf names an environment with its project, such as pinecrest/production.
func (s *Store) NameOf(ctx context.Context, environment int64) (string, error) {
	v, err := get[string](ctx, s.pages, "there is no such environment",
		"SELECT CONCAT(p.project_key, '/', e.environment_key) FROM environments e "+
			"JOIN projects p ON p.id = e.project_id WHERE e.id = ?", environment)
	if err != nil {
		return "", err
	}
	return *v, nil
}

// AllEnvironments lists every environment, and the epoch.
func (s *Store) AllEnvironments(ctx context.Context) ([]app.Environment, int64, error) {
	envs, err := list[app.Environment](ctx, s.pages, "SELECT "+environmentColumns+" FROM environments ORDER BY id")
	if err != nil {
		return nil, 0, err
	}
	epoch, err := get[int64](ctx, s.pages, "", "SELECT epoch FROM installation")
	if err != nil {
		return nil, 0, err
	}
	return envs, *epoch, nil
}

func environmentRecord(id, project int64, key, title string, askFirst bool, created int64) row {
	return row{of: fmt.Sprintf("environments/%d", id), content: []any{project, key, title, askFirst, created}}
}

func stateRecord(r app.StateRecord) row {
	out := row{of: fmt.Sprintf("environment_states/%d", r.EnvironmentID)}
	if r.State != app.Active {
		out.content = []any{r.State, r.At, r.By}
	}
	return out
}
