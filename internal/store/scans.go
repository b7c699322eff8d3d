package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "scans", Why: "where code asks for flags; a row for each branch of a repository"},
)

var _ = writes((*Tx).PutScan)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r scanRow) row { return scanRecord(id, r) }, "SELECT repository, branch, commit_id, at, body FROM "+
		"scans WHERE project_id = ?", id)
})

type scanRow struct {
	Repository string `db:"repository"`
	Branch     string `db:"branch"`
	Commit     string `db:"commit_id"`
	At         int64  `db:"at"`
	Body       []byte `db:"body"`
}

func scanRecord(project int64, r scanRow) row {
	return row{of: fmt.Sprintf("scans/%d/%s/%s", project, r.Repository, r.Branch), content: []any{r.Commit, r.At,
		string(r.Body)}}
}

// PutScan keeps what a scan found, in place of what the last one of its branch did; or takes it away.
func (t *Tx) PutScan(r *app.ScanRecord) error {
	row := scanRow{r.Repository, r.Branch, r.Commit, r.At, []byte(encode(r.Scan))}
	if r.Gone {
		if err := t.exec("DELETE FROM scans WHERE project_id = ? AND repository = ? AND branch = ?", r.ProjectID,
			r.Repository, r.Branch); err != nil {
			return err
		}
		gone := scanRecord(r.ProjectID, row)
		gone.content = nil
		return t.touch(gone)
	}
	if err := t.exec("INSERT INTO scans (project_id, repository, branch, commit_id, at, body) VALUES (?, ?, ?, ?, ?, "+
		"?) ON DUPLICATE KEY UPDATE commit_id = VALUES(commit_id), at = VALUES(at), body = VALUES(body)", r.ProjectID,
		row.Repository, row.Branch, row.Commit, row.At, string(row.Body)); err != nil {
		return err
	}
	return t.touch(scanRecord(r.ProjectID, row))
}

// Scans lists what scans found, by repository and branch.
func (r reader) Scans(project int64) ([]app.Scan, error) {
	bodies, err := list[[]byte](r.ctx, r.q, "SELECT body FROM scans WHERE project_id = ? ORDER BY repository, branch",
		project)
	out := make([]app.Scan, len(bodies))
	for i := range bodies {
		if out[i], err = decode[app.Scan](bodies[i]); err != nil {
			return nil, err
		}
	}
	return out, err
}

// Scans lists what scans found, by repository and branch.
func (s *Store) Scans(ctx context.Context, project int64) ([]app.Scan, error) {
	return reader{ctx, s.pages}.Scans(project)
}
