package store

import (
	"context"
	"database/sql"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "proposals", Why: "kept as long as the audit that tells of them"},
)

var _ = writes((*Tx).PutProposal)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, proposalRecord, "SELECT id, state, due, ended, body FROM proposals WHERE project_id = ?", id)
})

type proposalRow struct {
	ID    string        `db:"id"`
	State string        `db:"state"`
	Due   sql.NullInt64 `db:"due"`
	Ended sql.NullInt64 `db:"ended"`
	Body  []byte        `db:"body"`
}

func proposalRecord(r proposalRow) row {
	return row{of: "proposals/" + r.ID, content: []any{r.State, whole(r.Due), whole(r.Ended), string(r.Body)}}
}

// whole is a number or nothing.
func whole(n sql.NullInt64) any {
	if !n.Valid {
		return nil
	}
	return n.Int64
}

// PutProposal keeps a proposal as it stands.
func (t *Tx) PutProposal(p *app.Proposal) error {
	row := proposalRow{p.ID, string(p.State), sql.NullInt64{Int64: p.At, Valid: p.At != 0 && !p.Over()},
		sql.NullInt64{Int64: p.Ended, Valid: p.Over()}, []byte(encode(p))}
	if err := t.exec("INSERT INTO proposals (id, project_id, state, due, ended, body) VALUES (?, ?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE state = VALUES(state), due = VALUES(due), ended = VALUES(ended), body = VALUES(body)",
		row.ID, p.ProjectID, row.State, row.Due, row.Ended, string(row.Body)); err != nil {
		return err
	}
	return t.touch(proposalRecord(row))
}

// Proposal finds a proposal of a project.
func (r reader) Proposal(project int64, id string) (*app.Proposal, error) {
	row, err := get[proposalRow](r.ctx, r.q, fmt.Sprintf("there is no proposal %s in this project", id),
		"SELECT id, state, due, ended, body FROM proposals WHERE id = ? AND project_id = ?", id, project)
	if err != nil {
		return nil, err
	}
	p, err := decode[app.Proposal](row.Body)
	return &p, err
}

// OpenProposals counts those of a project that are not over.
func (r reader) OpenProposals(project int64) (int, error) {
	n, err := list[int](r.ctx, r.q, "SELECT COUNT(*) FROM proposals WHERE project_id = ? AND ended IS NULL", project)
	if err != nil {
		return 0, err
	}
	return n[0], nil
}

// Proposal finds a proposal of a project.
func (s *Store) Proposal(ctx context.Context, project int64, id string) (*app.Proposal, error) {
	return reader{ctx, s.pages}.Proposal(project, id)
}

// Proposals lists those of a project that are open, and the last that are over, the newest first.
func (s *Store) Proposals(ctx context.Context, project int64, over int) ([]app.Proposal, error) {
	return s.proposals(ctx, "(SELECT body, id FROM proposals WHERE project_id = ? AND ended IS NULL) UNION ALL "+
		"(SELECT "+
		"body, id FROM proposals WHERE project_id = ? AND ended IS NOT NULL ORDER BY ended DESC LIMIT ?) ORDER "+
		"BY id DESC",
		project, project, over)
}

// DueProposals lists open ones whose time has come, the oldest first.
func (s *Store) DueProposals(ctx context.Context, now int64) ([]app.Proposal, error) {
	return s.proposals(ctx, "SELECT body, id FROM proposals WHERE due <= ? ORDER BY due LIMIT 200", now)
}

func (s *Store) proposals(ctx context.Context, query string, args ...any) ([]app.Proposal, error) {
	rows, err := list[struct {
		Body []byte
		ID   string
	}](ctx, s.pages, query, args...)
	out := make([]app.Proposal, len(rows))
	for i, r := range rows {
		if out[i], err = decode[app.Proposal](r.Body); err != nil {
			return nil, fmt.Errorf("proposal %s: %w", r.ID, err)
		}
	}
	return out, err
}

// CallerByAccount is somebody as they are now, without a credential; nil where there is no such account.
func (s *Store) CallerByAccount(ctx context.Context, account string) (*app.Caller, error) {
	return s.caller(ctx, "SELECT id credential FROM accounts WHERE id = ?", "SELECT id FROM accounts WHERE id = ?",
		account)
}
