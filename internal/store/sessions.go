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
	var found []struct {
		app.Caller
		Held []byte `db:"narrow"`
	}
	var accounts []app.Account
	var grants []grantRow
	var teams []struct {
		Key string `db:"team_key"`
	}
	err := several(ctx, s.door, query{&found, credential, args},
		query{&accounts, "SELECT " + accountColumns + " WHERE a.id = (" + account + ")", args[:1]},
		query{&grants, grantQuery("(" + account + ")"), []any{args[0], args[0], args[0]}},
		query{&teams, "SELECT t.team_key FROM " + memberships + " m JOIN teams t ON t.id = m.team_id WHERE " +
			"m.account_id = (" +
			account + ")", args[:1]})
	if err != nil || len(found) == 0 || len(accounts) == 0 {
		return nil, fault(err)
	}
	c := &found[0].Caller
	c.Account = accounts[0]
	for _, t := range teams {
		c.Teams = append(c.Teams, t.Key)
	}
	c.Narrow, err = narrowOf(found[0].Held)
	c.Grants = granted(grants).Within(c.Narrow)
	return c, err
}

// CallerByToken finds who holds a token, expired or not; nil where it is not known.
func (s *Store) CallerByToken(ctx context.Context, digest []byte) (*app.Caller, error) {
	return s.caller(ctx, "SELECT id credential, name label, expires, narrow FROM tokens WHERE digest = ?",
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
