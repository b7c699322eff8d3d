package store

import (
	"context"
	"crypto/subtle"
	"database/sql"
	"errors"

	"greenlever.example/greenlever/internal/app"
)

// Accounts lists all accounts by e-mail address.
func (s *Store) Accounts(ctx context.Context) ([]app.Account, error) {
	return list[app.Account](ctx, s.db, "SELECT * FROM accounts ORDER BY email")
}

// Account finds an account by id.
func (s *Store) Account(ctx context.Context, id string) (*app.Account, error) {
	return get[app.Account](ctx, s.db, "there is no such account", "SELECT * FROM accounts WHERE id = ?", id)
}

// AccountByEmail finds an account by its e-mail address.
func (s *Store) AccountByEmail(ctx context.Context, email string) (*app.Account, error) {
	return get[app.Account](ctx, s.db, "there is no account "+email, "SELECT * FROM accounts WHERE email = ?", email)
}

// AddAccount makes an account.
func (t *Tx) AddAccount(a *app.Account) error {
	err := t.exec("INSERT INTO accounts (id, email, name, password, keeper, created) VALUES (?, ?, ?, ?, ?, ?)", a.ID, a.Email, a.Name, a.Password, a.Keeper, a.Created)
	if isDuplicate(err) {
		return app.InvalidField("email", "there is an account %s already", a.Email)
	}
	return err
}

// SetPassword saves a password's hash and ends the sessions of the account, but for the
// one whose digest is given.
func (t *Tx) SetPassword(account, hash string, but []byte) error {
	if err := t.exec("UPDATE accounts SET password = ? WHERE id = ?", hash, account); err != nil {
		return err
	}
	return t.exec("DELETE FROM sessions WHERE account_id = ? AND digest <> ?", account, append([]byte{}, but...))
}

// SetUpCode keeps the digest of a code for the first account, where there is none yet; it
// tells whether it did.
func (s *Store) SetUpCode(ctx context.Context, digest []byte) (bool, error) {
	res, err := s.db.ExecContext(ctx, "UPDATE installation SET set_up_digest = ? WHERE NOT EXISTS (SELECT 1 FROM accounts)", digest)
	if err != nil {
		return false, fault(err)
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// UseSetUpCode uses the code up; it tells whether it was the right one.
func (t *Tx) UseSetUpCode(digest []byte) (bool, error) {
	var have []byte
	if err := t.get(&have, "SELECT COALESCE(set_up_digest, '') FROM installation FOR UPDATE"); err != nil {
		return false, err
	}
	if len(have) == 0 || subtle.ConstantTimeCompare(have, digest) != 1 {
		return false, nil
	}
	return true, t.exec("UPDATE installation SET set_up_digest = NULL")
}

type roleRow struct {
	ProjectID int64    `db:"project_id"`
	AccountID string   `db:"account_id"`
	Role      app.Role `db:"role"`
}

// RolesOf gives the roles of an account by project.
func (s *Store) RolesOf(ctx context.Context, account string) (map[int64][]app.Role, error) {
	rows, err := list[roleRow](ctx, s.db, "SELECT * FROM roles WHERE account_id = ? ORDER BY role", account)
	out := map[int64][]app.Role{}
	for _, r := range rows {
		out[r.ProjectID] = append(out[r.ProjectID], r.Role)
	}
	return out, err
}

// RolesIn gives the roles in a project by account.
func (s *Store) RolesIn(ctx context.Context, project int64) (map[string][]app.Role, error) {
	return rolesIn(list[roleRow](ctx, s.db, "SELECT * FROM roles WHERE project_id = ? ORDER BY role", project))
}

// RolesIn gives the roles in a project by account.
func (t *Tx) RolesIn(project int64) (map[string][]app.Role, error) {
	return rolesIn(list[roleRow](t.ctx, t.tx, "SELECT * FROM roles WHERE project_id = ? ORDER BY role", project))
}

func rolesIn(rows []roleRow, err error) (map[string][]app.Role, error) {
	out := map[string][]app.Role{}
	for _, r := range rows {
		out[r.AccountID] = append(out[r.AccountID], r.Role)
	}
	return out, err
}

// SetRoles replaces the roles of an account in a project.
func (t *Tx) SetRoles(project int64, account string, roles []app.Role) error {
	if err := t.exec("DELETE FROM roles WHERE project_id = ? AND account_id = ?", project, account); err != nil {
		return err
	}
	for _, r := range roles {
		if err := t.exec("INSERT INTO roles (project_id, account_id, role) VALUES (?, ?, ?)", project, account, r); err != nil {
			return err
		}
	}
	return nil
}

// AddSession keeps a session under its secret's digest.
func (t *Tx) AddSession(digest []byte, account, csrf string, created, expires int64) error {
	return t.exec("INSERT INTO sessions (digest, account_id, csrf, created, expires) VALUES (?, ?, ?, ?, ?)", digest, account, csrf, created, expires)
}

// Session finds a session that has not expired; nil where there is none.
func (s *Store) Session(ctx context.Context, digest []byte, now int64) (*app.Session, error) {
	var v app.Session
	err := s.db.GetContext(ctx, &v, "SELECT account_id, csrf FROM sessions WHERE digest = ? AND expires > ?", digest, now)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &v, fault(err)
}

// EndSession removes a session.
func (s *Store) EndSession(ctx context.Context, digest []byte) error {
	_, err := s.db.ExecContext(ctx, "DELETE FROM sessions WHERE digest = ?", digest)
	return fault(err)
}

// Tokens lists the tokens of an account.
func (s *Store) Tokens(ctx context.Context, account string) ([]app.Token, error) {
	return list[app.Token](ctx, s.db, "SELECT * FROM tokens WHERE account_id = ? ORDER BY created", account)
}

// TokenByDigest finds a token, expired or not; nil where there is none.
func (s *Store) TokenByDigest(ctx context.Context, digest []byte) (*app.Token, error) {
	var v app.Token
	err := s.db.GetContext(ctx, &v, "SELECT * FROM tokens WHERE digest = ?", digest)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &v, fault(err)
}

// AddToken keeps a token.
func (t *Tx) AddToken(k *app.Token) error {
	return t.exec("INSERT INTO tokens (id, account_id, name, digest, created, expires) VALUES (?, ?, ?, ?, ?, ?)", k.ID, k.AccountID, k.Name, k.Digest, k.Created, k.Expires)
}

// RemoveToken ends a token; the name is empty where there was none.
func (t *Tx) RemoveToken(account, id string) (name string, err error) {
	if err := t.get(&name, "SELECT name FROM tokens WHERE account_id = ? AND id = ?", account, id); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return "", nil
		}
		return "", err
	}
	return name, t.exec("DELETE FROM tokens WHERE id = ?", id)
}

// AccessKeys lists the access keys of an environment, revoked ones too.
func (s *Store) AccessKeys(ctx context.Context, environment int64) ([]app.AccessKey, error) {
	return list[app.AccessKey](ctx, s.db, "SELECT * FROM access_keys WHERE environment_id = ? ORDER BY revoked > 0, created", environment)
}

// LiveAccessKeys lists all access keys that are not revoked.
func (s *Store) LiveAccessKeys(ctx context.Context) ([]app.AccessKey, error) {
	return list[app.AccessKey](ctx, s.db, "SELECT * FROM access_keys WHERE revoked = 0")
}

// AccessKeys lists the access keys of an environment; its row must be held.
func (t *Tx) AccessKeys(environment int64) ([]app.AccessKey, error) {
	return list[app.AccessKey](t.ctx, t.tx, "SELECT * FROM access_keys WHERE environment_id = ?", environment)
}

// AddAccessKey keeps an access key.
func (t *Tx) AddAccessKey(k *app.AccessKey) error {
	return t.exec("INSERT INTO access_keys (id, environment_id, kind, purpose, hint, digest, created, origins) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		k.ID, k.EnvironmentID, k.Kind, k.Purpose, k.Hint, k.Digest, k.Created, encode(k.Origins))
}

// RevokeAccessKey ends an access key.
func (t *Tx) RevokeAccessKey(id string, at int64) error {
	return t.exec("UPDATE access_keys SET revoked = ? WHERE id = ? AND revoked = 0", at, id)
}
