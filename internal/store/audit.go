package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"greenlever.example/greenlever/internal/app/audit"
)

// Append adds an entry to its chain. The chain's head is held until the end of the transaction.
func (t *Tx) Append(chain string, e audit.Entry, personal []string) error {
	head := audit.Head{Chain: chain}
	err := t.get(&head, "SELECT chain, sequence, digest FROM audit_heads WHERE chain = ? FOR UPDATE", chain)
	if errors.Is(err, sql.ErrNoRows) {
		err = t.exec("INSERT INTO audit_heads (chain, sequence, digest) VALUES (?, 0, '')", chain)
	}
	if err != nil {
		return err
	}
	row, err := audit.Append(&head, e, personal)
	if err != nil {
		return err
	}
	if _, err := t.tx.NamedExecContext(t.ctx, "INSERT INTO audit (chain, sequence, at, project_id, environment_id, subject, actor, action, entry, digest, personal) "+
		"VALUES (:chain, :sequence, :at, :project_id, :environment_id, :subject, :actor, :action, :entry, :digest, :personal)", row); err != nil {
		return err
	}
	return t.exec("UPDATE audit_heads SET sequence = ?, digest = ? WHERE chain = ?", head.Sequence, head.Digest, chain)
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
	if q.Before != (audit.Place{}) {
		add("(at, chain, sequence) < (?, ?, ?)", q.Before.At, q.Before.Chain, q.Before.Sequence)
	}
	args = append(args, q.Limit)
	return list[audit.Row](ctx, s.db, "SELECT * FROM audit WHERE "+strings.Join(where, " AND ")+" ORDER BY at DESC, chain DESC, sequence DESC LIMIT ?", args...)
}

// Chains gives the heads of a project's chains, and of its environments'; of the access
// chain for project 0.
func (s *Store) Chains(ctx context.Context, project int64) ([]audit.Head, error) {
	if project == 0 {
		return list[audit.Head](ctx, s.db, "SELECT chain, sequence, digest FROM audit_heads WHERE chain = ?", audit.Access)
	}
	return list[audit.Head](ctx, s.db, "SELECT chain, sequence, digest FROM audit_heads WHERE chain = ? OR chain IN "+
		"(SELECT CONCAT('environment:', id) FROM environments WHERE project_id = ?) ORDER BY chain", audit.ProjectChain(project), project)
}

// Rows reads a chain in order, in portions, and hands each row to visit.
func (s *Store) Rows(ctx context.Context, chain string, upTo int64, visit func(*audit.Row) error) error {
	const portion = 1_000
	for after := int64(0); ; {
		rows, err := list[audit.Row](ctx, s.db, "SELECT * FROM audit WHERE chain = ? AND sequence > ? AND sequence <= ? ORDER BY sequence LIMIT ?", chain, after, upTo, portion)
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

// SignedHeads lists the signed heads of chains.
func (s *Store) SignedHeads(ctx context.Context, chain string) ([]audit.SignedHead, error) {
	return list[audit.SignedHead](ctx, s.db, "SELECT * FROM signed_heads WHERE chain = ? ORDER BY sequence", chain)
}

// UnsignedHeads lists the chains that moved since their head was last signed.
func (s *Store) UnsignedHeads(ctx context.Context) ([]audit.Head, error) {
	return list[audit.Head](ctx, s.db, "SELECT chain, sequence, digest FROM audit_heads WHERE sequence > signed")
}

// AddSignedHead keeps a signed head.
func (s *Store) AddSignedHead(ctx context.Context, h audit.SignedHead) error {
	return s.Write(ctx, func(t *Tx) error {
		if _, err := t.tx.NamedExecContext(t.ctx, "INSERT IGNORE INTO signed_heads (chain, sequence, digest, at, public_key, signature) "+
			"VALUES (:chain, :sequence, :digest, :at, :public_key, :signature)", h); err != nil {
			return err
		}
		return t.exec("UPDATE audit_heads SET signed = GREATEST(signed, ?) WHERE chain = ?", h.Sequence, h.Chain)
	})
}

// SigningKeys gives the public keys that the access chain names.
func (s *Store) SigningKeys(ctx context.Context) (map[string]bool, error) {
	keys, err := list[string](ctx, s.db, "SELECT subject FROM audit WHERE chain = ? AND action = 'audit.key-added'", audit.Access)
	out := map[string]bool{}
	for _, k := range keys {
		out[k] = true
	}
	return out, err
}

// Remembered gives the result of an earlier request with this idempotency key and the
// digest of what was asked then; an empty digest where there was none.
func (t *Tx) Remembered(scope, id string) (request string, result []byte, err error) {
	var row struct {
		Request string
		Result  []byte
	}
	err = t.get(&row, "SELECT request, result FROM idempotency WHERE scope = ? AND id = ?", scope, id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil, nil
	}
	return row.Request, row.Result, err
}

// errMeanwhile is returned where another request with the same idempotency key committed
// first; running the transaction again finds its result.
var errMeanwhile = errors.New("the same request was committed meanwhile")

// Remember keeps the result of a request under its idempotency key.
func (t *Tx) Remember(scope, id, request string, result []byte, at int64) error {
	err := t.exec("INSERT INTO idempotency (scope, id, request, result, at) VALUES (?, ?, ?, ?, ?)", scope, id, request, result, at)
	if isDuplicate(err) {
		return errMeanwhile
	}
	return err
}

// keptSeenDays is how long what was seen of attributes is kept.
const keptSeenDays = 30

// Forget removes what was kept for idempotency before a time, sessions and tokens that
// expired, instances that left before it, and what they had applied.
func (s *Store) Forget(ctx context.Context, before int64) error {
	for _, q := range []struct {
		query string
		limit int64
	}{
		{"DELETE FROM idempotency WHERE at < ?", before}, {"DELETE FROM sessions WHERE expires < ?", before}, {"DELETE FROM tokens WHERE expires < ?", before},
		{"DELETE FROM instances WHERE gone AND gone_at < ?", before}, {"DELETE FROM applied WHERE at < ?", before},
		{"DELETE p FROM population p JOIN sampling s ON s.environment_id = p.environment_id WHERE p.seen < ? - (s.days - 1) * 86400000", before},
		{"DELETE FROM seen_attributes WHERE day < ?", before/dayMillis - keptSeenDays},
	} {
		if _, err := s.db.ExecContext(ctx, q.query, q.limit); err != nil {
			return fault(err)
		}
	}
	return nil
}
