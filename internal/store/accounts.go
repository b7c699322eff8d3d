package store

import (
	"context"
	"crypto/subtle"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "accounts", Why: "people; kept, since the audit names them"},
	Kept{Table: "disabled_accounts", Why: "a row for each account that is disabled"},
)

var _ = writes((*Tx).AddAccount)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, accountRecord, accountRows)
})

// Accounts of other tables: who is disabled stands beside, so that processes of the release
// before read the accounts as they did.
const (
	accountColumns = "a.id, a.email, a.name, a.password, a.keeper, a.created, COALESCE(d.at, 0) disabled FROM " +
		"accounts a LEFT JOIN disabled_accounts d ON d.account_id = a.id"
	tokenColumns = "id, account_id, name, digest, created, expires, narrow"
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

type accountRow struct {
	ID       string `db:"id"`
	Email    string `db:"email"`
	Name     string `db:"name"`
	Password string `db:"password"`
	Keeper   bool   `db:"keeper"`
	Created  int64  `db:"created"`
	Disabled int64  `db:"disabled"`
	By       string `db:"by_id"`
}

const accountRows = "SELECT a.id, a.email, a.name, a.password, a.keeper, a.created, COALESCE(d.at, 0) disabled, " +
	"COALESCE(d.by_id, '') by_id FROM accounts a LEFT JOIN disabled_accounts d ON d.account_id = a.id"

func accountRecord(a accountRow) row {
	return row{of: "accounts/" + a.ID, content: []any{a.Email, a.Name, a.Password, a.Keeper, a.Created, a.Disabled,
		a.By}}
}
