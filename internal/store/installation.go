package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "installation", Why: "one row"},
)

var (
	_ = writes((*Tx).RaiseEpoch)
	_ = writes((*Tx).SetEmergencyKey)
)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, installationRecord, "SELECT epoch, emergency_key FROM installation")
})

// Epoch is the installation's generation.
func (s *Store) Epoch(ctx context.Context) (int64, error) {
	v, err := get[int64](ctx, s.feed, "the installation has no epoch", "SELECT epoch FROM installation")
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// EmergencyKey is the public half of the key that emergency orders are signed with; empty where there is none.
func (s *Store) EmergencyKey(ctx context.Context) (string, error) {
	v, err := get[string](ctx, s.door, "there is no installation", "SELECT emergency_key FROM installation")
	if err != nil {
		return "", err
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
	if err := t.touchInstallation(); err != nil {
		return err
	}
	// How the revisions that stand spread was recorded in their own epoch.
	return t.exec(`
		INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body)
		SELECT id, ?, revision, 0, '{}' FROM environments WHERE revision > 0`, r.Epoch)
}

type installationRow struct {
	Epoch     int64  `db:"epoch"`
	Emergency string `db:"emergency_key"`
}

func installationRecord(i installationRow) row {
	out := row{of: "installation/1", content: []any{i.Epoch}}
	if i.Emergency != "" { // of those before there was one, entries speak without it
		out.content = append(out.content, i.Emergency)
	}
	return out
}

// touchInstallation has the next entry speak of the installation as it stands.
func (t *Tx) touchInstallation() error {
	var i installationRow
	if err := t.get(&i, "SELECT epoch, emergency_key FROM installation"); err != nil {
		return err
	}
	return t.touch(installationRecord(i))
}

// SetEmergencyKey keeps the public half of a new emergency key.
func (t *Tx) SetEmergencyKey(r *app.EmergencyKey) error {
	if err := t.exec("UPDATE installation SET emergency_key = ?", r.Public); err != nil {
		return err
	}
	return t.touchInstallation()
}
