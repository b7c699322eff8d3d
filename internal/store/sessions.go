package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "sessions", Why: "they go when they expire, after 12 hours"},
)

var _ = writes((*Tx).AddSession)

// caller finds who stands behind a credential; nil where it is not known. credential asks for its
// row, and account for the account's id behind it.
func (s *Store) caller(ctx context.Context, credential, account string, args ...any) (*app.Caller, error) {
	var found []app.Caller
	var accounts []app.Account
	var roles []roleRow
	err := several(ctx, s.door, query{&found, credential, args},
		query{&accounts, "SELECT " + accountColumns + " WHERE a.id = (" + account + ")", args[:1]},
		query{&roles, "SELECT project_id, account_id, role FROM roles WHERE account_id = (" + account +
			") ORDER BY role", args[:1]})
	if err != nil || len(found) == 0 || len(accounts) == 0 {
		return nil, fault(err)
	}
	c := &found[0]
	c.Account, c.Roles = accounts[0], map[int64][]app.Role{}
	for _, r := range roles {
		c.Roles[r.ProjectID] = append(c.Roles[r.ProjectID], r.Role)
	}
	return c, nil
}

// CallerByToken finds who holds a token, expired or not; nil where it is not known.
func (s *Store) CallerByToken(ctx context.Context, digest []byte) (*app.Caller, error) {
	return s.caller(ctx, "SELECT id credential, name label, expires FROM tokens WHERE digest = ?",
		"SELECT account_id FROM tokens WHERE digest = ?", digest)
}

// CallerBySession finds whose session it is, if that has not expired; nil where there is none.
func (s *Store) CallerBySession(ctx context.Context, digest []byte, now int64) (*app.Caller, error) {
	return s.caller(ctx, "SELECT csrf, expires FROM sessions WHERE digest = ? AND expires > ?",
		"SELECT account_id FROM sessions WHERE digest = ?", digest, now)
}

// AddSession keeps a session under its secret's digest.
func (t *Tx) AddSession(v *app.Session) error {
	return t.exec("INSERT INTO sessions (digest, account_id, csrf, created, expires, address, agent) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?)",
		v.Digest, v.AccountID, v.CSRF, v.Created, v.Expires, v.Address, v.Agent)
}

const sessionColumns = "digest, account_id, csrf, created, expires, address, agent"

// Sessions lists the sessions of an account that have not expired, the newest first.
func (s *Store) Sessions(ctx context.Context, account string, now int64) ([]app.Session, error) {
	return list[app.Session](ctx, s.door, "SELECT "+sessionColumns+" FROM sessions WHERE account_id = ? AND expires "+
		"> ? ORDER BY created DESC", account, now)
}

// EndSession removes a session of an account; it tells whether there was one.
func (t *Tx) EndSession(account string, digest []byte) (bool, error) {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM sessions WHERE account_id = ? AND digest = ?", account, digest)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}
