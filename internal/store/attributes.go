package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "attributes", Why: "the catalogue; kept until somebody takes an attribute out"},
)

var _ = writes(func(t *Tx, r *app.AttributeRecord) error {
	if r.Gone {
		return t.RemoveAttribute(r.ProjectID, r.Name)
	}
	return t.PutAttribute(r.ProjectID, r.Attribute)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(a attributeRow) row { return attributeRecord(id, a) }, "SELECT attribute, version, body "+
		"FROM attributes WHERE project_id = ?", id)
})

type attributeRow struct {
	Attribute string `db:"attribute"`
	Version   int64  `db:"version"`
	Body      []byte `db:"body"`
}

func attributes(rows []attributeRow, err error) ([]app.Attribute, error) {
	out := make([]app.Attribute, 0, len(rows))
	for _, r := range rows {
		a, e := decode[app.Attribute](r.Body)
		if e != nil {
			return nil, e
		}
		a.Name, a.Version = r.Attribute, r.Version
		out = append(out, a)
	}
	return out, err
}

// Attributes lists the attributes that a project declares, by name.
func (s *Store) Attributes(ctx context.Context, project int64) ([]app.Attribute, error) {
	return reader{ctx, s.feed}.Attributes(project)
}

// AttributesOf lists the attributes that an environment's project declares.
func (s *Store) AttributesOf(ctx context.Context, environment int64) ([]app.Attribute, error) {
	return attributes(list[attributeRow](ctx, s.feed, "SELECT attribute, version, body FROM attributes "+
		"WHERE project_id = (SELECT project_id FROM environments WHERE id = ?) ORDER BY attribute", environment))
}

// Attributes lists the attributes that a project declares, by name; in a transaction the project must
// be held.
func (r reader) Attributes(project int64) ([]app.Attribute, error) {
	return attributes(list[attributeRow](r.ctx, r.q, "SELECT attribute, version, body FROM attributes "+
		"WHERE project_id = ? ORDER BY attribute", project))
}

// PutAttribute saves a declared attribute.
func (t *Tx) PutAttribute(project int64, a *app.Attribute) error {
	body := encode(a)
	if err := t.exec("INSERT INTO attributes (project_id, attribute, version, body) VALUES (?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE version = VALUES(version), body = VALUES(body)", project, a.Name, a.Version,
		body); err != nil {
		return err
	}
	return t.touch(attributeRecord(project, attributeRow{a.Name, a.Version, []byte(body)}))
}

// RemoveAttribute takes a declared attribute out of the catalogue.
func (t *Tx) RemoveAttribute(project int64, name string) error {
	if err := t.exec("DELETE FROM attributes WHERE project_id = ? AND attribute = ?", project, name); err != nil {
		return err
	}
	gone := attributeRecord(project, attributeRow{Attribute: name})
	gone.content = nil
	return t.touch(gone)
}

func attributeRecord(project int64, a attributeRow) row {
	return row{of: fmt.Sprintf("attributes/%d/%s", project, a.Attribute), content: []any{a.Version, string(a.Body)}}
}
