package store

import (
	"context"

	"greenlever.example/greenlever/internal/app/audit"
)

var _ = keeps(
	Kept{Table: "signed_heads", Option: "keep-every-head", Days: 30, Why: "signed heads; of older days the last of " +
		"each chain and key", Bytes: 400},
)

// SignedHeads lists the signed heads of chains.
func (s *Store) SignedHeads(ctx context.Context, chain string) ([]audit.SignedHead, error) {
	return list[audit.SignedHead](ctx, s.pages, "SELECT chain, sequence, digest, at, public_key, signature "+
		"FROM signed_heads WHERE chain = ? ORDER BY sequence", chain)
}

// UnsignedHeads lists the chains that moved since their head was last signed.
func (s *Store) UnsignedHeads(ctx context.Context) ([]audit.Head, error) {
	return list[audit.Head](ctx, s.pages, "SELECT chain, sequence, digest FROM audit_heads WHERE sequence > signed")
}

// AddSignedHead keeps a signed head.
func (s *Store) AddSignedHead(ctx context.Context, h audit.SignedHead) error {
	return s.Write(ctx, func(t *Tx) error {
		if err := t.later("INSERT IGNORE INTO signed_heads (chain, sequence, digest, at, public_key, signature) "+
			"VALUES (?, ?, ?, ?, ?, ?)",
			h.Chain, h.Sequence, h.Digest, h.At, h.Key, h.Signature); err != nil {
			return err
		}
		return t.later("UPDATE audit_heads SET signed = GREATEST(signed, ?) WHERE chain = ?", h.Sequence, h.Chain)
	})
}

// SigningKeys gives the public keys that the access chain names, with when each was added:
// it may sign nothing that is older.
func (s *Store) SigningKeys(ctx context.Context) (map[string]int64, error) {
	keys, err := list[struct {
		Key string `db:"subject"`
		At  int64  `db:"at"`
	}](ctx, s.pages, "SELECT subject, at FROM audit WHERE chain = ? AND action = ? ORDER BY sequence", audit.Access,
		audit.KeyAdded)
	out := map[string]int64{}
	for _, k := range keys {
		if out[k.Key] == 0 {
			out[k.Key] = k.At
		}
	}
	return out, err
}

// thinHeads keeps of each day before a time the last signed head of each chain and key.
func (s *Store) thinHeads(ctx context.Context, before int64) error {
	before = before / dayMillis * dayMillis
	return rounds(ctx, func(ctx context.Context) (int64, error) {
		rows, err := list[struct {
			Chain string `db:"chain"`
			Key   string `db:"public_key"`
			Day   int64  `db:"day"`
			Last  int64  `db:"last"`
		}](ctx, s.work, "SELECT chain, public_key, at DIV ? day, MAX(sequence) last FROM signed_heads WHERE at < ? "+
			"GROUP BY chain, public_key, day HAVING COUNT(*) > 1 LIMIT 200", dayMillis, before)
		for _, r := range rows {
			if _, e := s.work.ExecContext(ctx, "DELETE FROM signed_heads WHERE chain = ? AND public_key = ? "+
				"AND at >= ? AND at < ? AND sequence < ?", r.Chain, r.Key, r.Day*dayMillis, (r.Day+1)*dayMillis,
				r.Last); e != nil {
				return 0, fault(e)
			}
		}
		return int64(len(rows)), err
	})
}
