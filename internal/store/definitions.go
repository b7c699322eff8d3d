package store

import (
	"context"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "definitions", Why: "flags; kept, since a key is never used again"},
)

var _ = writes(func(t *Tx, d *app.Definition) error {
	if d.Version == 1 {
		return t.AddDefinition(d)
	}
	return t.UpdateDefinition(d)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, definitionRecord, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ?", id)
})

// Definitions lists the definitions of a project by key.
func (s *Store) Definitions(ctx context.Context, project int64) ([]app.Definition, error) {
	return reader{ctx, s.pages}.Definitions(project)
}

// Definitions lists the definitions of a project by key, but for those of flags that were retired.
func (r reader) Definitions(project int64) ([]app.Definition, error) {
	all, err := definitions(r.ctx, r.q, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? "+
		"ORDER BY "+
		"flag", project)
	return slices.DeleteFunc(all, func(d app.Definition) bool { return d.Retired != nil }), err
}

// RetiredFlags lists the definitions of flags that were retired, by key.
func (s *Store) RetiredFlags(ctx context.Context, project int64) ([]app.Definition, error) {
	all, err := definitions(ctx, s.pages, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? "+
		"ORDER BY "+
		"flag", project)
	return slices.DeleteFunc(all, func(d app.Definition) bool { return d.Retired == nil }), err
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
		d, err := decodeDefinition(r.Body)
		if err != nil { // shown as one that cannot be read, and everything else goes on
			d = app.Definition{Title: "its definition cannot be read: " + err.Error(), Owners: []string{},
				Tags: []string{}, Variants: []app.Variant{}, GoneBy: "stays"}
		}
		d.ID, d.ProjectID, d.Key, d.Version = r.ID, r.ProjectID, r.Flag, r.Version
		out = append(out, d)
	}
	return out, nil
}

// decodeDefinition reads a definition; one of an older release said its purpose, which recipes have
// replaced.
func decodeDefinition(body []byte) (app.Definition, error) {
	stored, err := decode[struct {
		app.Definition
		Purpose string `json:"purpose"`
	}](body)
	d := stored.Definition
	if d.End == "" {
		d.End = d.Resting
	}
	switch stored.Purpose {
	case "introduce":
		d.Recipe = app.StepByStep
	case "compare":
		d.Recipe = app.SideBySide
	case "kill-switch":
		d.Recipe = app.Switch
		if at := slices.IndexFunc(d.Variants, func(v app.Variant) bool { return v.Name != d.Resting }); at >= 0 {
			d.End = d.Variants[at].Name
		}
	case "tune", "grant":
		if !slices.Contains(d.Tags, stored.Purpose) {
			d.Tags = append(d.Tags, stored.Purpose)
		}
	}
	return d, err
}

func oneDefinition(ctx context.Context, q sqlx.QueryerContext, key, lock string,
	project int64) (*app.Definition, error) {
	all, err := definitions(ctx, q, "SELECT "+definitionColumns+" FROM definitions WHERE project_id = ? AND "+
		"flag = ?"+
		lock, project, key)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this project", key)
	}
	return &all[0], nil
}

// LockDefinition holds a definition until the end of the transaction and reads it.
func (t *Tx) LockDefinition(project int64, key string) (*app.Definition, error) {
	return oneDefinition(t.ctx, t.tx, key, " FOR UPDATE", project)
}

// AddDefinition makes a definition.
func (t *Tx) AddDefinition(d *app.Definition) error {
	body := encode(d)
	err := t.exec("INSERT INTO definitions (project_id, flag, version, body) VALUES (?, ?, ?, ?)", d.ProjectID,
		d.Key,
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
	if err := t.exec("UPDATE definitions SET version = ?, body = ? WHERE project_id = ? AND flag = ?", d.Version,
		body,
		d.ProjectID, d.Key); err != nil {
		return err
	}
	return t.touch(definitionRecord(definitionRow{ProjectID: d.ProjectID, Flag: d.Key, Version: d.Version,
		Body: []byte(body)}))
}

func definitionRecord(d definitionRow) row {
	return row{of: fmt.Sprintf("definitions/%d/%s", d.ProjectID, d.Flag), content: []any{d.Version, string(d.Body)}}
}
