package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "sampling", Why: "a row for each environment"},
)

var _ = writes((*Tx).SetSampling)

var _ = speaks("environment", func(v *reading, id int64) {
	type sampling struct {
		Off  bool `db:"off"`
		Days int  `db:"days"`
	}
	read(v, func(r sampling) row { return samplingRecord(id, r.Off, r.Days) }, "SELECT off, days FROM sampling "+
		"WHERE environment_id = ?", id)
})

// Sampling reads how an environment is sampled, making its secrets the first time.
func (s *Store) Sampling(ctx context.Context, environment int64) (*app.Sampling, error) {
	for {
		v := new(app.Sampling)
		err := s.feed.GetContext(ctx, v, "SELECT off, days, seed, see_as FROM sampling WHERE environment_id = ?",
			environment)
		if !errors.Is(err, sql.ErrNoRows) {
			return v, fault(err)
		}
		var secret [40]byte
		rand.Read(secret[:]) // never fails
		if _, err := s.feed.ExecContext(ctx, "INSERT IGNORE INTO sampling (environment_id, seed, see_as) "+
			"VALUES (?, ?, ?)",
			environment, binary.LittleEndian.Uint64(secret[:]), secret[8:]); err != nil {
			return nil, fault(err)
		}
	}
}

// SetSampling changes how an environment is sampled; off forgets its units.
func (t *Tx) SetSampling(r *app.SamplingRecord) error {
	if err := t.exec("UPDATE sampling SET off = ?, days = ? WHERE environment_id = ?", r.Off, r.Days,
		r.EnvironmentID); err != nil {
		return err
	}
	if err := t.touch(samplingRecord(r.EnvironmentID, r.Off, r.Days)); err != nil || !r.Off {
		return err
	}
	if err := t.exec("DELETE FROM population_covers WHERE environment_id = ?", r.EnvironmentID); err != nil {
		return err
	}
	return t.exec("DELETE FROM population WHERE environment_id = ?", r.EnvironmentID)
}

// usualDays is for how many days units are kept where nobody said otherwise.
const usualDays = 7

func samplingRecord(environment int64, off bool, days int) row {
	r := row{of: fmt.Sprintf("sampling/%d", environment)}
	if off || days != usualDays { // the row is made with what is usual when it is first read
		r.content = []any{off, days}
	}
	return r
}
