package store

import (
	"context"
	"database/sql"
	"errors"
	"math"
	"slices"

	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "population", Why: "sampled units; each environment says for how many days"},
	Kept{Table: "population_covers", Why: "a row for each attribute that is sampled"},
)

var _ = writes((*Tx).EraseUnit)

type coverRow struct {
	Attribute string `db:"attribute"`
	Collected uint64 `db:"collected"`
	Used      uint64 `db:"used"`
	Since     int64  `db:"since"`
}

func (r coverRow) cover() sample.Cover {
	return sample.Cover{Collect: r.Collected, Use: r.Used, Since: r.Since}
}

// Covers reads below which hashes an environment's samples are complete, by attribute.
func (s *Store) Covers(ctx context.Context, environment int64) (map[string]sample.Cover, error) {
	rows, err := list[coverRow](ctx, s.feed, "SELECT attribute, collected, used, since FROM population_covers "+
		"WHERE environment_id = ?", environment)
	out := map[string]sample.Cover{}
	for _, r := range rows {
		out[r.Attribute] = r.cover()
	}
	return out, err
}

// MergeUnits adds what a client saw to the sample of one attribute, and adapts its cover.
// keep is how long units are kept, in milliseconds.
func (s *Store) MergeUnits(ctx context.Context, environment int64, attribute string, rows []app.UnitRow, now,
	keep int64) error {
	return s.background(ctx, func(t *Tx) error {
		whole := sample.WholeCover()
		if err := t.exec("INSERT IGNORE INTO population_covers (environment_id, attribute, collected, used, since) "+
			"VALUES (?, ?, ?, ?, ?)", environment, attribute, whole.Collect, whole.Use, whole.Since); err != nil {
			return err
		}
		var row coverRow
		if err := t.get(&row, "SELECT attribute, collected, used, since FROM population_covers "+
			"WHERE environment_id = ? AND attribute = ? FOR UPDATE", environment, attribute); err != nil {
			return err
		}
		cover := row.cover()
		wanted := make([]app.UnitRow, 0, len(rows))
		for _, r := range rows {
			if r.Hash < cover.Collect {
				wanted = append(wanted, r)
			}
		}
		for some := range slices.Chunk(wanted, portion) {
			args := make([]any, 0, 6*len(some))
			for _, r := range some {
				args = append(args, environment, attribute, r.Hash, r.Unit, r.Context, r.Seen)
			}
			if err := t.exec("INSERT INTO population (environment_id, attribute, hash, unit, context, seen) VALUES "+
				values(len(some), 6)+
				" ON DUPLICATE KEY UPDATE context = VALUES(context), seen = GREATEST(seen, VALUES(seen))",
				args...); err != nil {
				return err
			}
		}
		if err := t.exec("DELETE FROM population WHERE environment_id = ? AND attribute = ? AND seen < ?", environment,
			attribute, now-keep); err != nil {
			return err
		}
		var count int
		if err := t.get(&count, "SELECT COUNT(*) FROM population WHERE environment_id = ? AND attribute = ? "+
			"AND hash < ?", environment, attribute, cover.Collect); err != nil {
			return err
		}
		var failed error
		next := cover.Step(count, func() (kth uint64) {
			failed = t.get(&kth, "SELECT hash FROM population WHERE environment_id = ? AND attribute = ? "+
				"ORDER BY hash LIMIT 1 OFFSET ?", environment, attribute, sample.K)
			return kth
		}, now, keep)
		if failed != nil || next == cover {
			return failed
		}
		if next.Collect < math.MaxUint64 {
			if err := t.exec("DELETE FROM population WHERE environment_id = ? AND attribute = ? AND hash >= ?",
				environment, attribute, next.Collect); err != nil {
				return err
			}
		}
		return t.exec("UPDATE population_covers SET collected = ?, used = ?, since = ? WHERE environment_id = ? "+
			"AND attribute = ?", next.Collect, next.Use, next.Since, environment, attribute)
	})
}

// Population reads the sample of an attribute and the cover that it is complete for.
func (s *Store) Population(ctx context.Context, environment int64,
	attribute string) ([]app.UnitRow, sample.Cover, error) {
	covers, err := s.Covers(ctx, environment)
	if err != nil {
		return nil, sample.Cover{}, err
	}
	cover, ok := covers[attribute]
	if !ok {
		cover = sample.WholeCover()
	}
	// <= would be wrong below the top, and < would leave the top hash out; it is one in 2^64.
	rows, err := list[app.UnitRow](ctx, s.pages, "SELECT hash, unit, context, seen FROM population "+
		"WHERE environment_id = ? AND attribute = ? AND hash < ? ORDER BY hash", environment, attribute, cover.Use)
	return rows, cover, err
}

// Unit finds a unit of the population by its key; nil where it was not seen.
func (s *Store) Unit(ctx context.Context, environment int64, attribute, unit string,
	hash uint64) (*app.UnitRow, error) {
	var v app.UnitRow
	err := s.pages.GetContext(ctx, &v, "SELECT hash, unit, context, seen FROM population WHERE environment_id = ? "+
		"AND attribute = ? AND hash = ? AND unit = ?", environment, attribute, hash, unit)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &v, fault(err)
}

// EraseUnit takes a unit out of an environment's population; it tells how often it was in it.
func (t *Tx) EraseUnit(r *app.Erasure) error {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM population WHERE environment_id = ? AND unit = ?",
		r.EnvironmentID, r.Unit)
	if err != nil {
		return err
	}
	if r.Erased, err = res.RowsAffected(); err != nil {
		return err
	}
	return t.later("DELETE b FROM bad_units b JOIN evidence_runs r ON r.id = b.run WHERE r.environment_id = ? "+
		"AND b.name = ?",
		r.EnvironmentID, r.Unit)
}
