package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "segment_definitions", Why: "segments; kept"},
	Kept{Table: "segment_versions", Option: "keep-past", Days: 1_100, Why: "segments as they were; the last before " +
		"that is kept"},
	Kept{Table: "segments", Why: "segments as they are"},
)

var _ = writes((*Tx).AddSegmentDefinition)

var _ = writes((*Tx).PutSegment)

var _ = speaks("environment", func(v *reading, id int64) {
	versioned(v, "segments", "segment_versions", "segment", id)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, segmentDefinitionRecord, "SELECT project_id, segment, title, created FROM segment_definitions "+
		"WHERE project_id = ?", id)
})

// SegmentTitles gives the titles of a project's segments by key.
func (s *Store) SegmentTitles(ctx context.Context, project int64) (map[string]string, error) {
	return reader{ctx, s.pages}.SegmentTitles(project)
}

// SegmentTitles gives the titles of a project's segments by key.
func (r reader) SegmentTitles(project int64) (map[string]string, error) {
	rows, err := list[app.SegmentDefinition](r.ctx, r.q, "SELECT project_id, segment, title, created "+
		"FROM segment_definitions WHERE project_id = ?", project)
	out := map[string]string{}
	for _, d := range rows {
		out[d.Key] = d.Title
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

// Segment reads a segment in an environment; nil where there is none.
func (s *Store) Segment(ctx context.Context, environment int64, key string) (*app.SegmentRecord, error) {
	return reader{ctx, s.pages}.Segment(environment, key)
}

const segmentColumns = "environment_id, segment doc_key, version, revision, document"

// Segment reads a segment in an environment; nil where there is none.
func (r reader) Segment(environment int64, key string) (*app.SegmentRecord, error) {
	var row documentRow
	err := sqlx.GetContext(r.ctx, r.q, &row, "SELECT "+segmentColumns+" FROM segments WHERE environment_id = ? AND "+
		"segment = ?", environment, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fault(err)
	}
	return row.segment()
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
	return t.putDocument("segments", "segment_versions", "segment", documentRow{r.EnvironmentID, r.Key, r.Version,
		r.Revision, []byte(encode(r.Document))})
}

func segmentDefinitionRecord(d app.SegmentDefinition) row {
	return row{of: fmt.Sprintf("segment_definitions/%d/%s", d.ProjectID, d.Key), content: []any{d.Title, d.Created}}
}

var _ = writes((*Tx).SetSegmentTitle)

// SetSegmentTitle gives a segment another title.
func (t *Tx) SetSegmentTitle(r *app.SegmentTitle) error {
	if err := t.exec("UPDATE segment_definitions SET title = ? WHERE project_id = ? AND segment "+
		"= ?", r.Title, r.ProjectID,
		r.Key); err != nil {
		return err
	}
	return touchRows(t, segmentDefinitionRecord, "SELECT project_id, segment, title, created FROM "+
		"segment_definitions "+
		"WHERE project_id = ? AND segment = ?", r.ProjectID, r.Key)
}
