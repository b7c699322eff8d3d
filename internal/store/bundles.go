package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "bundles", Why: "kept until somebody takes them away"},
)

var _ = writes((*Tx).PutBundle)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r bundleRow) row { return bundleRecord(id, r) }, "SELECT bundle, version, gone, body FROM bundles "+
		"WHERE project_id = ?", id)
})

type bundleRow struct {
	Bundle  string `db:"bundle"`
	Version int64  `db:"version"`
	Gone    bool   `db:"gone"`
	Body    []byte `db:"body"`
}

func bundleRecord(project int64, r bundleRow) row {
	return row{of: fmt.Sprintf("bundles/%d/%s", project, r.Bundle), content: []any{r.Version, r.Gone, string(r.Body)}}
}

// PutBundle saves a bundle, or that it is gone.
func (t *Tx) PutBundle(r *app.BundleRecord) error {
	row := bundleRow{r.Key, r.Version, r.Gone, []byte(encode(r.Bundle))}
	if err := t.exec("INSERT INTO bundles (project_id, bundle, version, gone, body) VALUES (?, ?, ?, ?, ?) ON "+
		"DUPLICATE KEY UPDATE version = VALUES(version), gone = VALUES(gone), body = VALUES(body)", r.ProjectID,
		row.Bundle, row.Version, row.Gone, string(row.Body)); err != nil {
		return err
	}
	return t.touch(bundleRecord(r.ProjectID, row))
}

// Bundles lists the bundles of a project by key.
func (r reader) Bundles(project int64) ([]app.Bundle, error) {
	bodies, err := list[[]byte](r.ctx, r.q, "SELECT body FROM bundles WHERE project_id = ? AND NOT gone ORDER BY "+
		"bundle", project)
	out := make([]app.Bundle, len(bodies))
	for i := range bodies {
		if out[i], err = decode[app.Bundle](bodies[i]); err != nil {
			return nil, err
		}
	}
	return out, err
}

// BundleVersion is the last version of a bundle, also of one that was taken away; 0 where there was none.
func (r reader) BundleVersion(project int64, key string) (int64, error) {
	all, err := list[int64](r.ctx, r.q, "SELECT version FROM bundles WHERE project_id = ? AND bundle = ?", project,
		key)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[0], nil
}

// Bundles lists the bundles of a project by key.
func (s *Store) Bundles(ctx context.Context, project int64) ([]app.Bundle, error) {
	return reader{ctx, s.pages}.Bundles(project)
}
