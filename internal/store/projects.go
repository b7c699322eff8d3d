package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

const (
	projectColumns     = "id, project_key, title, created"
	environmentColumns = "id, project_id, environment_key, title, ask_first, revision, behind, created, " +
		environmentState + " state"
	environmentState = "COALESCE((SELECT s.state FROM environment_states s WHERE s.environment_id = " +
		"environments.id), '')"
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
	}](ctx, s.door, noProject(project), `
		SELECT p.id, p.project_key, p.title, p.created,
			e.id environment_id, e.environment_key, e.title environment_title, e.ask_first,
			e.revision, e.behind, e.created environment_created, COALESCE(s.state, '') state
		FROM projects p
		LEFT JOIN environments e ON e.project_id = p.id AND e.environment_key = ?
		LEFT JOIN environment_states s ON s.environment_id = e.id
		WHERE p.project_key = ?`, environment, project)
	if err != nil {
		return nil, nil, err
	}
	if !row.EnvironmentID.Valid || row.State == app.Gone {
		return &row.Project, nil, nil
	}
	return &row.Project, &app.Environment{ID: row.EnvironmentID.Int64, ProjectID: row.ID, Key: row.Key.String,
		Title: row.EnvTitle.String, AskFirst: row.AskFirst.Bool,
		Revision: row.Revision.Int64, Behind: row.Behind.Int64, State: row.State, Created: row.Made.Int64}, nil
}

func noProject(key string) string {
	return "there is no project " + key + ", or you have no role in it"
}

// Environments lists the environments of a project in the order in which they were made.
func (s *Store) Environments(ctx context.Context, project int64) ([]app.Environment, error) {
	return list[app.Environment](ctx, s.door,
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? HAVING state = ? ORDER BY id", project,
		app.Active)
}

// Archived lists the environments of a project that are archived.
func (s *Store) Archived(ctx context.Context, project int64) ([]app.Environment, error) {
	return list[app.Environment](ctx, s.door,
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? HAVING state = ? ORDER BY id", project,
		app.Archived)
}

// Environment finds an environment of a project by key.
func (s *Store) Environment(ctx context.Context, project int64, key string) (*app.Environment, error) {
	return get[app.Environment](ctx, s.door, "there is no environment "+key+" in this project",
		"SELECT "+environmentColumns+" FROM environments WHERE project_id = ? AND environment_key = ? HAVING "+
			"state <> ?", project, key, app.Gone)
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

// Epoch is the installation's generation.
func (s *Store) Epoch(ctx context.Context) (int64, error) {
	v, err := get[int64](ctx, s.feed, "the installation has no epoch", "SELECT epoch FROM installation")
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// Epoch is the installation's generation.
func (t *Tx) Epoch() (epoch int64, err error) {
	if t.epoch > 0 {
		return t.epoch, nil
	}
	err = t.get(&epoch, "SELECT epoch FROM installation")
	return epoch, err
}

// RaiseEpoch starts a new epoch; it holds all environments, so that no change is half in each.
func (t *Tx) RaiseEpoch(r *app.EpochRecord) (err error) {
	if r.Was, err = t.Epoch(); err != nil {
		return err
	}
	var ids []int64
	if err := t.list(&ids, "SELECT id FROM environments ORDER BY id FOR UPDATE"); err != nil {
		return err
	}
	t.epoch = 0 // it changes
	if err := t.exec("UPDATE installation SET epoch = GREATEST(epoch + 1, ?)", r.At); err != nil {
		return err
	}
	if err := t.exec("UPDATE environments SET behind = 0"); err != nil {
		return err
	}
	if r.Epoch, err = t.Epoch(); err != nil {
		return err
	}
	if err := t.touch(epochRecord(r.Epoch)); err != nil {
		return err
	}
	// How the revisions that stand spread was recorded in their own epoch.
	return t.exec(`
		INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body)
		SELECT id, ?, revision, 0, '{}' FROM environments WHERE revision > 0`, r.Epoch)
}

// Definitions lists the definitions of a project by key.
func (s *Store) Definitions(ctx context.Context, project int64) ([]app.Definition, error) {
	return definitions(ctx, s.pages,
		"SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? ORDER BY flag", project)
}

// Definition finds a definition by key.
func (s *Store) Definition(ctx context.Context, project int64, key string) (*app.Definition, error) {
	return oneDefinition(ctx, s.pages, key, "", project)
}

type definitionRow struct {
	ID        int64
	ProjectID int64 `db:"project_id"`
	Flag      string
	Version   int64
	Body      []byte
}

func definitions(ctx context.Context, q sqlx.QueryerContext, query string, args ...any) ([]app.Definition, error) {
	rows, err := list[definitionRow](ctx, q, query, args...)
	if err != nil {
		return nil, err
	}
	out := make([]app.Definition, 0, len(rows))
	for _, r := range rows {
		d, err := decode[app.Definition](r.Body)
		if err != nil { // shown as one that cannot be read, and everything else goes on
			d = app.Definition{Title: "its definition cannot be read: " + err.Error(), Owners: []string{},
				Tags: []string{}, Variants: []app.Variant{}, GoneBy: "stays"}
		}
		d.ID, d.ProjectID, d.Key, d.Version = r.ID, r.ProjectID, r.Flag, r.Version
		out = append(out, d)
	}
	return out, nil
}

func oneDefinition(ctx context.Context, q sqlx.QueryerContext, key, lock string,
	project int64) (*app.Definition, error) {
	all, err := definitions(ctx, q, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? AND flag = ?"+
		lock, project, key)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this project", key)
	}
	return &all[0], nil
}

// Definitions lists the definitions of a project.
func (t *Tx) Definitions(project int64) ([]app.Definition, error) {
	return definitions(t.ctx, t.tx, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? ORDER BY flag",
		project)
}

// LockDefinition holds a definition until the end of the transaction and reads it.
func (t *Tx) LockDefinition(project int64, key string) (*app.Definition, error) {
	return oneDefinition(t.ctx, t.tx, key, " FOR UPDATE", project)
}

// AddDefinition makes a definition.
func (t *Tx) AddDefinition(d *app.Definition) error {
	body := encode(d)
	err := t.exec("INSERT INTO definitions (project_id, flag, version, body) VALUES (?, ?, ?, ?)", d.ProjectID, d.Key,
		d.Version, body)
	if isDuplicate(err) {
		return app.InvalidField("key", "there is or was a flag %s already, and keys are never used again: choose "+
			"another", d.Key)
	}
	if err != nil {
		return err
	}
	return t.touch(definitionRecord(definitionRow{ProjectID: d.ProjectID, Flag: d.Key, Version: d.Version,
		Body: []byte(body)}))
}

// UpdateDefinition saves a definition.
func (t *Tx) UpdateDefinition(d *app.Definition) error {
	body := encode(d)
	if err := t.exec("UPDATE definitions SET version = ?, body = ? WHERE project_id = ? AND flag = ?", d.Version, body,
		d.ProjectID, d.Key); err != nil {
		return err
	}
	return t.touch(definitionRecord(definitionRow{ProjectID: d.ProjectID, Flag: d.Key, Version: d.Version,
		Body: []byte(body)}))
}

// SegmentTitles gives the titles of a project's segments by key.
func (s *Store) SegmentTitles(ctx context.Context, project int64) (map[string]string, error) {
	return segmentTitles(ctx, s.pages, project)
}

// SegmentTitles gives the titles of a project's segments by key.
func (t *Tx) SegmentTitles(project int64) (map[string]string, error) {
	return segmentTitles(t.ctx, t.tx, project)
}

func segmentTitles(ctx context.Context, q sqlx.QueryerContext, project int64) (map[string]string, error) {
	rows, err := list[app.SegmentDefinition](ctx, q, "SELECT project_id, segment, title, created "+
		"FROM segment_definitions WHERE project_id = ?", project)
	out := map[string]string{}
	for _, r := range rows {
		out[r.Key] = r.Title
	}
	return out, err
}

// AddSegmentDefinition makes a segment in a project.
func (t *Tx) AddSegmentDefinition(d *app.SegmentDefinition) error {
	err := t.exec("INSERT INTO segment_definitions (project_id, segment, title, created) VALUES (?, ?, ?, ?)",
		d.ProjectID, d.Key, d.Title, d.Created)
	if isDuplicate(err) {
		return app.InvalidField("key", "there is a segment %s already: choose another key", d.Key)
	}
	if err != nil {
		return err
	}
	return t.touch(segmentDefinitionRecord(*d))
}

// Flag reads a flag's document in an environment.
func (t *Tx) Flag(environment int64, key string) (*app.FlagRecord, error) {
	return readFlag(t.ctx, t.tx, environment, key)
}

// Flag reads a flag's document in an environment.
func (s *Store) Flag(ctx context.Context, environment int64, key string) (*app.FlagRecord, error) {
	return readFlag(ctx, s.pages, environment, key)
}

type documentRow struct {
	EnvironmentID int64  `db:"environment_id"`
	Key           string `db:"doc_key"`
	Version       int64  `db:"version"`
	Revision      int64  `db:"revision"`
	Document      []byte `db:"document"`
}

func readFlag(ctx context.Context, q sqlx.QueryerContext, environment int64, key string) (*app.FlagRecord, error) {
	var r documentRow
	err := sqlx.GetContext(ctx, q, &r, "SELECT "+flagColumns+" FROM flags WHERE environment_id = ? AND flag = ?",
		environment, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noFlag(key)
	}
	if err != nil {
		return nil, fault(err)
	}
	return r.flag()
}

const flagColumns = "environment_id, flag doc_key, version, revision, document"

func noFlag(key string) error {
	return app.Faultf(app.NotFound, "there is no flag %s in this environment", key)
}

func (r *documentRow) flag() (*app.FlagRecord, error) {
	d, err := decode[flag.Document](r.Document)
	return &app.FlagRecord{EnvironmentID: r.EnvironmentID, Key: r.Key, Version: r.Version, Revision: r.Revision,
		Document: &d}, err
}

// Flags reads all documents of an environment.
func (t *Tx) Flags(environment int64) ([]app.FlagRecord, error) {
	rows, err := list[documentRow](t.ctx, t.tx, "SELECT "+flagColumns+" FROM flags WHERE environment_id = ? ORDER "+
		"BY flag", environment)
	if err != nil {
		return nil, err
	}
	out := make([]app.FlagRecord, len(rows))
	for i := range rows {
		r, err := rows[i].flag()
		if err != nil {
			return nil, err
		}
		out[i] = *r
	}
	return out, nil
}

// FlagVersions gives the version of every flag of an environment by key.
func (s *Store) FlagVersions(ctx context.Context, environment int64) (map[string]int64, error) {
	rows, err := list[documentRow](ctx, s.pages, "SELECT environment_id, flag doc_key, version, revision, '' "+
		"document FROM flags WHERE environment_id = ?", environment)
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Key] = r.Version
	}
	return out, err
}

// FlagTimes says when each flag's document was saved last in an environment, in Unix milliseconds.
func (s *Store) FlagTimes(ctx context.Context, environment int64) (map[string]int64, error) {
	rows, err := list[struct {
		Flag string `db:"flag"`
		At   int64  `db:"at"`
	}](ctx, s.pages, "SELECT f.flag, r.at FROM flags f JOIN revisions r ON r.environment_id = f.environment_id "+
		"AND r.revision = f.revision WHERE f.environment_id = ?", environment)
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Flag] = r.At
	}
	return out, err
}

// PutFlag saves a document as a new version, the first one included.
func (t *Tx) PutFlag(r *app.FlagRecord) error {
	doc := encode(r.Document)
	if err := t.later("INSERT INTO flags (environment_id, flag, version, revision, document) VALUES (?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE version = VALUES(version), revision = VALUES(revision), document = VALUES(document)",
		r.EnvironmentID, r.Key, r.Version, r.Revision, doc); err != nil {
		return err
	}
	if err := t.later("INSERT INTO flag_versions (environment_id, flag, version, revision, document) "+
		"VALUES (?, ?, ?, ?, ?)",
		r.EnvironmentID, r.Key, r.Version, r.Revision, doc); err != nil {
		return err
	}
	d := documentRow{r.EnvironmentID, r.Key, r.Version, r.Revision, []byte(doc)}
	if err := t.touch(documentRecord("flags", d)); err != nil {
		return err
	}
	return t.touch(versionRecord("flag_versions", d))
}

// Segment reads a segment in an environment; nil where there is none.
func (t *Tx) Segment(environment int64, key string) (*app.SegmentRecord, error) {
	return readSegment(t.ctx, t.tx, environment, key)
}

// Segment reads a segment in an environment; nil where there is none.
func (s *Store) Segment(ctx context.Context, environment int64, key string) (*app.SegmentRecord, error) {
	return readSegment(ctx, s.pages, environment, key)
}

const segmentColumns = "environment_id, segment doc_key, version, revision, document"

func readSegment(ctx context.Context, q sqlx.QueryerContext, environment int64,
	key string) (*app.SegmentRecord, error) {
	var r documentRow
	err := sqlx.GetContext(ctx, q, &r, "SELECT "+segmentColumns+" FROM segments WHERE environment_id = ? AND "+
		"segment = ?", environment, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fault(err)
	}
	return r.segment()
}

func (r *documentRow) segment() (*app.SegmentRecord, error) {
	d, err := decode[flag.Segment](r.Document)
	return &app.SegmentRecord{EnvironmentID: r.EnvironmentID, Key: r.Key, Version: r.Version, Revision: r.Revision,
		Document: &d}, err
}

// Segments reads the segments of an environment by key; one that cannot be read is left out.
func (s *Store) Segments(ctx context.Context, environment int64) ([]app.SegmentRecord, error) {
	rows, err := list[documentRow](ctx, s.pages, "SELECT "+segmentColumns+" FROM segments WHERE environment_id = ? "+
		"ORDER BY segment", environment)
	out := make([]app.SegmentRecord, 0, len(rows))
	for i := range rows {
		if r, err := rows[i].segment(); err == nil {
			out = append(out, *r)
		}
	}
	return out, err
}

// PutSegment saves a segment as a new version, the first one included.
func (t *Tx) PutSegment(r *app.SegmentRecord) error {
	doc := encode(r.Document)
	if err := t.later("INSERT INTO segments (environment_id, segment, version, revision, document) "+
		"VALUES (?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE version = VALUES(version), revision = VALUES(revision), document = VALUES(document)",
		r.EnvironmentID, r.Key, r.Version, r.Revision, doc); err != nil {
		return err
	}
	if err := t.later("INSERT INTO segment_versions (environment_id, segment, version, revision, document) "+
		"VALUES (?, ?, ?, ?, ?)",
		r.EnvironmentID, r.Key, r.Version, r.Revision, doc); err != nil {
		return err
	}
	d := documentRow{r.EnvironmentID, r.Key, r.Version, r.Revision, []byte(doc)}
	if err := t.touch(documentRecord("segments", d)); err != nil {
		return err
	}
	return t.touch(versionRecord("segment_versions", d))
}
