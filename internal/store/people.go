package store

import (
	"context"
	"crypto/subtle"
	"database/sql"
	"errors"
	"slices"

	"greenlever.example/greenlever/internal/app"
)

// Accounts of other tables: who is disabled stands beside, so that processes of the release
// before read the accounts as they did.
const (
	accountColumns = "a.id, a.email, a.name, a.password, a.keeper, a.created, COALESCE(d.at, 0) disabled FROM " +
		"accounts a LEFT JOIN disabled_accounts d ON d.account_id = a.id"
	tokenColumns = "id, account_id, name, digest, created, expires"
	keyColumns   = "id, environment_id, kind, purpose, hint, digest, created, revoked, origins"
)

// Accounts lists all accounts by e-mail address.
func (s *Store) Accounts(ctx context.Context) ([]app.Account, error) {
	return list[app.Account](ctx, s.door, "SELECT "+accountColumns+" ORDER BY a.email")
}

// Account finds an account by id.
func (s *Store) Account(ctx context.Context, id string) (*app.Account, error) {
	return get[app.Account](ctx, s.door, "there is no such account", "SELECT "+accountColumns+" WHERE a.id = ?", id)
}

// AccountByEmail finds an account by its e-mail address.
func (s *Store) AccountByEmail(ctx context.Context, email string) (*app.Account, error) {
	return get[app.Account](ctx, s.door, "there is no account "+email, "SELECT "+accountColumns+" WHERE a.email = ?",
		email)
}

// LockAccounts reads all accounts and holds them until the end of the transaction.
func (t *Tx) LockAccounts() ([]app.Account, error) {
	return list[app.Account](t.ctx, t.tx, "SELECT "+accountColumns+" ORDER BY a.id FOR UPDATE")
}

// SetAccount saves name and rights of an account; one that is disabled has no sessions and no
// tokens any more.
func (t *Tx) SetAccount(a *app.Account, by string) error {
	if err := t.exec("UPDATE accounts SET name = ?, keeper = ? WHERE id = ?", a.Name, a.Keeper, a.ID); err != nil {
		return err
	}
	if a.Disabled == 0 {
		if err := t.exec("DELETE FROM disabled_accounts WHERE account_id = ?", a.ID); err != nil {
			return err
		}
		return t.touchAccount(a.ID)
	}
	if err := t.exec("INSERT IGNORE INTO disabled_accounts (account_id, at, by_id) VALUES (?, ?, ?)", a.ID, a.Disabled,
		by); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM sessions WHERE account_id = ?", a.ID); err != nil {
		return err
	}
	if err := t.endTokens("account_id = ?", a.ID); err != nil {
		return err
	}
	return t.touchAccount(a.ID)
}

// AddAccount makes an account.
func (t *Tx) AddAccount(a *app.Account) error {
	err := t.exec("INSERT INTO accounts (id, email, name, password, keeper, created) VALUES (?, ?, ?, ?, ?, ?)", a.ID,
		a.Email, a.Name, a.Password, a.Keeper, a.Created)
	if isDuplicate(err) {
		return app.InvalidField("email", "there is an account %s already", a.Email)
	}
	if err != nil {
		return err
	}
	return t.touchAccount(a.ID)
}

func (t *Tx) touchAccount(id string) error {
	return touchRows(t, accountRecord, accountRows+" WHERE a.id = ?", id)
}

// SetPassword saves a password's hash and ends the account's sessions, but for the one whose
// digest is given, and its tokens, but for those with one of the names.
func (t *Tx) SetPassword(account, hash string, but []byte, keep []string) error {
	if err := t.exec("UPDATE accounts SET password = ? WHERE id = ?", hash, account); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM sessions WHERE account_id = ? AND digest <> ?", account,
		append([]byte{}, but...)); err != nil {
		return err
	}
	if err := t.endTokens("account_id = ? AND name NOT IN ("+marks(len(keep)+1)+")", append([]any{account, ""},
		anys(keep)...)...); err != nil {
		return err
	}
	return t.touchAccount(account)
}

// SetUpSecret gives what the code for the first account is made of, the same for all
// processes of the service; nothing where there is an account already.
func (s *Store) SetUpSecret(ctx context.Context) ([]byte, error) {
	some, err := list[int](ctx, s.door, "SELECT 1 FROM accounts LIMIT 1")
	if err != nil || len(some) > 0 {
		return nil, err
	}
	return s.secret(ctx)
}

// SetUpCode keeps the digest of the code for the first account, where there is none yet.
func (s *Store) SetUpCode(ctx context.Context, digest []byte) error {
	_, err := s.door.ExecContext(ctx, "UPDATE installation SET set_up_digest = ? WHERE NOT EXISTS (SELECT 1 "+
		"FROM accounts)", digest)
	return fault(err)
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
	rows, err := list[roleRow](ctx, s.door, "SELECT project_id, account_id, role FROM roles WHERE account_id = ? "+
		"ORDER BY role", account)
	out := map[int64][]app.Role{}
	for _, r := range rows {
		out[r.ProjectID] = append(out[r.ProjectID], r.Role)
	}
	return out, err
}

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

// RolesIn gives the roles in a project by account.
func (s *Store) RolesIn(ctx context.Context, project int64) (map[string][]app.Role, error) {
	return rolesIn(list[roleRow](ctx, s.door, "SELECT project_id, account_id, role FROM roles WHERE project_id = ? "+
		"ORDER BY role", project))
}

// RolesIn gives the roles in a project by account.
func (t *Tx) RolesIn(project int64) (map[string][]app.Role, error) {
	return rolesIn(list[roleRow](t.ctx, t.tx, "SELECT project_id, account_id, role FROM roles WHERE project_id = ? "+
		"ORDER BY role", project))
}

func rolesIn(rows []roleRow, err error) (map[string][]app.Role, error) {
	out := map[string][]app.Role{}
	for _, r := range rows {
		out[r.AccountID] = append(out[r.AccountID], r.Role)
	}
	return out, err
}

// SetRoles replaces the roles of an account in a project.
func (t *Tx) SetRoles(r *app.RolesRecord) error {
	if err := t.exec("DELETE FROM roles WHERE project_id = ? AND account_id = ?", r.ProjectID, r.Account); err != nil {
		return err
	}
	names := make([]string, 0, len(r.Roles))
	for _, role := range r.Roles {
		if err := t.exec("INSERT INTO roles (project_id, account_id, role) VALUES (?, ?, ?)", r.ProjectID, r.Account,
			role); err != nil {
			return err
		}
		names = append(names, string(role))
	}
	slices.Sort(names)
	return t.touch(rolesRecord(r.ProjectID, r.Account, names))
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

// Tokens lists the tokens of an account.
func (s *Store) Tokens(ctx context.Context, account string) ([]app.Token, error) {
	return list[app.Token](ctx, s.door, "SELECT "+tokenColumns+" FROM tokens WHERE account_id = ? ORDER BY created",
		account)
}

// AddToken keeps a token.
func (t *Tx) AddToken(k *app.Token) error {
	if err := t.exec("INSERT INTO tokens (id, account_id, name, digest, created, expires) VALUES (?, ?, ?, ?, ?, ?)",
		k.ID, k.AccountID, k.Name, k.Digest, k.Created, k.Expires); err != nil {
		return err
	}
	return t.touch(tokenRecord(tokenRow{k.ID, k.AccountID, k.Name, k.Digest, k.Created, k.Expires}))
}

// RemoveToken ends a token; the name is empty where there was none.
func (t *Tx) RemoveToken(account, id string) (name string, err error) {
	if err := t.get(&name, "SELECT name FROM tokens WHERE account_id = ? AND id = ?", account, id); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return "", nil
		}
		return "", err
	}
	return name, t.endTokens("id = ?", id)
}

// endTokens removes tokens, and has the chain say that they are gone.
func (t *Tx) endTokens(where string, args ...any) error {
	gone := func(k tokenRow) row { return row{of: "tokens/" + k.ID} }
	if err := touchRows(t, gone, "SELECT "+tokenColumns+" FROM tokens WHERE "+where+" FOR UPDATE",
		args...); err != nil {
		return err
	}
	return t.exec("DELETE FROM tokens WHERE "+where, args...)
}

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
