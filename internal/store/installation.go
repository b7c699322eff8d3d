package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "installation", Why: "one row"},
)

var _ = writes((*Tx).RaiseEpoch)

var _ = speaks("access", func(v *reading, _ int64) {
	type installation struct {
		Epoch int64 `db:"epoch"`
	}
	read(v, func(i installation) row { return epochRecord(i.Epoch) }, "SELECT epoch FROM installation")
})

// Epoch is the installation's generation.
func (s *Store) Epoch(ctx context.Context) (int64, error) {
	v, err := get[int64](ctx, s.feed, "the installation has no epoch", "SELECT epoch FROM installation")
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// Epoch is the installation's generation.
func (t *Tx) Epoch() (epoch int64, err error) {
	if t.epoch > 0 {
		return t.epoch, nil
	}
	err = t.get(&epoch, "SELECT epoch FROM installation")
	return epoch, err
}

// RaiseEpoch starts a new epoch; it holds all environments, so that no change is half in each.
func (t *Tx) RaiseEpoch(r *app.EpochRecord) (err error) {
	if r.Was, err = t.Epoch(); err != nil {
		return err
	}
	var ids []int64
	if err := t.list(&ids, "SELECT id FROM environments ORDER BY id FOR UPDATE"); err != nil {
		return err
	}
	t.epoch = 0 // it changes
	if err := t.exec("UPDATE installation SET epoch = GREATEST(epoch + 1, ?)", r.At); err != nil {
		return err
	}
	if err := t.exec("UPDATE environments SET behind = 0"); err != nil {
		return err
	}
	if r.Epoch, err = t.Epoch(); err != nil {
		return err
	}
	if err := t.touch(epochRecord(r.Epoch)); err != nil {
		return err
	}
	// How the revisions that stand spread was recorded in their own epoch.
	return t.exec(`
		INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body)
		SELECT id, ?, revision, 0, '{}' FROM environments WHERE revision > 0`, r.Epoch)
}

func epochRecord(epoch int64) row { return row{of: "installation/1", content: []any{epoch}} }
