package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"errors"

	"greenlever.example/greenlever/internal/app"
)

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
