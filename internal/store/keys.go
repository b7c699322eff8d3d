package store

import (
	"context"
	"encoding/hex"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "access_keys", Option: "keep-revoked-keys", Days: 400, Why: "revoked access keys"},
)

var _ = writes(func(t *Tx, k *app.AccessKey) error {
	if k.Revoked > 0 {
		return t.RevokeAccessKey(k.ID, k.Revoked)
	}
	return t.AddAccessKey(k)
})

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, keyRecord, "SELECT "+keyColumns+" FROM access_keys")
})

// AccessKeys lists the access keys of an environment, revoked ones too.
func (s *Store) AccessKeys(ctx context.Context, environment int64) ([]app.AccessKey, error) {
	return list[app.AccessKey](ctx, s.door, "SELECT "+keyColumns+" FROM access_keys WHERE environment_id = ? ORDER "+
		"BY revoked > 0, created", environment)
}

// LiveAccessKeys lists all access keys that are not revoked, of environments that live.
func (s *Store) LiveAccessKeys(ctx context.Context) ([]app.AccessKey, error) {
	return list[app.AccessKey](ctx, s.feed, `
		SELECT `+keyColumns+` FROM access_keys
		WHERE revoked = 0 AND environment_id NOT IN (SELECT environment_id FROM environment_states)`)
}

// AccessKeys lists the access keys of an environment; its row must be held.
func (t *Tx) AccessKeys(environment int64) ([]app.AccessKey, error) {
	return list[app.AccessKey](t.ctx, t.tx, "SELECT "+keyColumns+" FROM access_keys WHERE environment_id = ?",
		environment)
}

// AddAccessKey keeps an access key.
func (t *Tx) AddAccessKey(k *app.AccessKey) error {
	if err := t.exec("INSERT INTO access_keys (id, environment_id, kind, purpose, hint, digest, created, origins) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		k.ID, k.EnvironmentID, k.Kind, k.Purpose, k.Hint, k.Digest, k.Created, k.Origins); err != nil {
		return err
	}
	return t.touchKey(k.ID)
}

// RevokeAccessKey ends an access key.
func (t *Tx) RevokeAccessKey(id string, at int64) error {
	if err := t.exec("UPDATE access_keys SET revoked = ? WHERE id = ? AND revoked = 0", at, id); err != nil {
		return err
	}
	return t.touchKey(id)
}

func (t *Tx) touchKey(id string) error {
	return touchRows(t, keyRecord, "SELECT "+keyColumns+" FROM access_keys WHERE id = ?", id)
}

type keyRow struct {
	ID          string `db:"id"`
	Environment int64  `db:"environment_id"`
	Kind        string `db:"kind"`
	Purpose     string `db:"purpose"`
	Hint        string `db:"hint"`
	Digest      []byte `db:"digest"`
	Created     int64  `db:"created"`
	Revoked     int64  `db:"revoked"`
	Origins     []byte `db:"origins"`
}

func keyRecord(k keyRow) row {
	return row{of: "access_keys/" + k.ID, content: []any{k.Environment, k.Kind, k.Purpose, k.Hint,
		hex.EncodeToString(k.Digest), k.Created, k.Revoked, string(k.Origins)}, mayGo: k.Revoked > 0}
}
