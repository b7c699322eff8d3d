package store

import (
	"context"
	"errors"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

var _ = keeps(
	Kept{Table: "audit", Why: "the chain; kept for ever", Bytes: 1_400},
	Kept{Table: "audit_heads", Why: "a row for each chain"},
)

const rowColumns = "chain, sequence, at, project_id, environment_id, subject, actor, action, entry, digest, personal"

// Append adds an entry to its chain. The chain's head is held until the end of the transaction.
func (t *Tx) Append(chain string, e audit.Entry, personal []string) (digest string, err error) {
	return t.AppendAll(chain, []audit.Entry{e}, [][]string{personal})
}

// AppendAll adds entries to their chain, in order, and gives the digest of the first.
func (t *Tx) AppendAll(chain string, entries []audit.Entry, personal [][]string) (digest string, err error) {
	head, held := t.heads[chain]
	if !held {
		var heads []audit.Head
		if err := t.several(headsOf(&heads, chain)); err != nil {
			return "", err
		}
		t.holds(heads, chain)
		head = t.heads[chain]
	}
	if head == nil { // of two who begin a chain, one fails and runs again
		head = &audit.Head{Chain: chain}
		if err := t.later("INSERT INTO audit_heads (chain, sequence, digest) VALUES (?, 0, '')", chain); err != nil {
			return "", err
		}
	}
	entries = slices.Clone(entries)
	entries[0].Records, t.touched = append(entries[0].Records, t.touched...), nil
	rows := make([]*audit.Row, len(entries))
	for i, e := range entries {
		if rows[i], err = audit.Append(head, e, personal[i]); err != nil {
			return "", err
		}
	}
	for some := range slices.Chunk(rows, portion) {
		var args []any
		for _, r := range some {
			args = append(args, r.Chain, r.Sequence, r.At, r.Project, r.Environment, r.Subject, r.Actor, r.Action,
				r.Entry, r.Digest, r.Personal)
		}
		if err := t.later("INSERT INTO audit ("+rowColumns+") VALUES "+values(len(some), 11), args...); err != nil {
			return "", err
		}
	}
	t.heads[chain] = head
	return rows[0].Digest, t.later("UPDATE audit_heads SET sequence = ?, digest = ? WHERE chain = ?", head.Sequence,
		head.Digest, chain)
}

// History lists rows of the audit, newest first.
func (s *Store) History(ctx context.Context, q audit.Query) ([]audit.Row, error) {
	where, args := []string{"project_id = ?"}, []any{q.Project}
	add := func(clause string, values ...any) { where, args = append(where, clause), append(args, values...) }
	if q.Project == 0 {
		add("chain = ?", audit.Access)
	}
	if q.Environment != 0 {
		add("environment_id = ?", q.Environment)
	}
	if q.Subject != "" {
		add("subject = ?", q.Subject)
	}
	if q.Actor != "" {
		add("actor = ?", q.Actor)
	}
	if q.From != 0 {
		add("at >= ?", q.From)
	}
	if q.To != 0 {
		add("at < ?", q.To)
	}
	if q.Before != (audit.Cursor{}) {
		add("(at, chain, sequence) < (?, ?, ?)", q.Before.At, q.Before.Chain, q.Before.Sequence)
	}
	args = append(args, q.Limit)
	return list[audit.Row](ctx, s.pages, "SELECT "+rowColumns+" FROM audit WHERE "+strings.Join(where, " AND ")+
		" ORDER BY at DESC, chain DESC, sequence DESC LIMIT ?", args...)
}

// Written is how many entries a chain has.
func (s *Store) Written(ctx context.Context, chain string) (int64, error) {
	n, err := get[int64](ctx, s.pages, "", "SELECT COALESCE(MAX(sequence), 0) FROM audit_heads WHERE chain = ?", chain)
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// Chains gives the heads of a project's chains, and of its environments', also those that
// only the audit says are its own; of the access chain for project 0.
func (s *Store) Chains(ctx context.Context, project int64) ([]audit.Head, error) {
	if project == 0 {
		return list[audit.Head](ctx, s.pages, "SELECT chain, sequence, digest FROM audit_heads WHERE chain = ?",
			audit.Access)
	}
	return list[audit.Head](ctx, s.pages, "SELECT chain, sequence, digest FROM audit_heads h WHERE chain = ? "+
		"OR chain IN (SELECT CONCAT('environment:', id) FROM environments WHERE project_id = ?) "+
		"OR chain LIKE 'environment:%' AND EXISTS (SELECT 1 FROM audit a WHERE a.project_id = ? "+
		"AND a.environment_id = CAST(SUBSTRING(h.chain, 13) AS SIGNED)) ORDER BY chain",
		audit.ProjectChain(project), project, project)
}

// Rows reads a chain behind one entry up to another, in order and in portions, and hands each row to visit.
func (s *Store) Rows(ctx context.Context, chain string, after, upTo int64, visit func(*audit.Row) error) error {
	const portion = 1_000
	for {
		rows, err := list[audit.Row](ctx, s.pages, "SELECT "+rowColumns+" FROM audit WHERE chain = ? AND sequence > "+
			"? AND sequence <= ? ORDER BY sequence LIMIT ?", chain, after, upTo, portion)
		if err != nil {
			return err
		}
		for i := range rows {
			if err := visit(&rows[i]); err != nil {
				return err
			}
			after = rows[i].Sequence
		}
		if len(rows) < portion {
			return nil
		}
	}
}

// comparison reads the records that a chain speaks of, a page at a time, to hold them against it.
type comparison struct {
	s        *Store
	head     audit.Head
	revision int64 // of the environment; -1 for another chain
	reading  *reading
	all      []audit.Record
}

// Comparing begins to hold the records that a chain speaks of against it, up to a head.
func (s *Store) Comparing(ctx context.Context, head audit.Head) (audit.Comparison, error) {
	c := &comparison{s: s, head: head, revision: -1}
	if kind, id, _ := strings.Cut(head.Chain, ":"); kind == "environment" {
		got, err := get[int64](ctx, s.pages, "the environment is gone", "SELECT revision FROM environments "+
			"WHERE id = ?", id)
		var fault *app.Fault
		switch {
		case err == nil:
			c.revision = *got
		case !errors.As(err, &fault) || fault.Kind != app.NotFound: // one that is gone is missed among the records
			return nil, err
		}
	}
	var err error
	c.reading, err = s.reading(ctx, head.Chain)
	return c, err
}

// Next reads a page.
func (c *comparison) Next(ctx context.Context) (done bool, err error) {
	return c.reading.next(ctx, func(r audit.Record) { c.all = append(c.all, r) })
}

// Hold compares what was read. Where the chain moved on meanwhile it gives the new head, and
// compares nothing.
func (c *comparison) Hold(ctx context.Context, v *audit.Verifier) (moved *audit.Head, err error) {
	now, err := get[audit.Head](ctx, c.s.pages, "the chain is gone", "SELECT chain, sequence, digest "+
		"FROM audit_heads WHERE chain = ?", c.head.Chain)
	if err != nil {
		return nil, err
	}
	if now.Sequence > c.head.Sequence {
		return now, nil
	}
	return nil, v.Records(c.revision, func(visit func(audit.Record)) error {
		for _, r := range c.all {
			visit(r)
		}
		return nil
	})
}
