package store

import (
	"context"
	"encoding/json"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "inverses", Option: "keep-past", Days: 1_100, Why: "what takes back changes of what a project owns"},
)

var _ = writes((*Tx).AddInverses)

// AddInverses keeps what takes a change back. No audit tells of it: the entries of the change do.
func (t *Tx) AddInverses(r *app.Inverses) error {
	return t.exec("INSERT INTO inverses (project_id, change_id, at, body) VALUES (?, ?, ?, ?)", r.ProjectID, r.Change,
		r.At, encode(r.Items))
}

// Inverses are what takes a change back; none where nothing was kept of it.
func (s *Store) Inverses(ctx context.Context, project int64, change string) ([]json.RawMessage, error) {
	bodies, err := list[[]byte](ctx, s.pages, "SELECT body FROM inverses WHERE project_id = ? AND change_id = ?",
		project, change)
	if err != nil || len(bodies) == 0 {
		return nil, err
	}
	return decode[[]json.RawMessage](bodies[0])
}
