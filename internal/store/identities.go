package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "identities", Why: "whom providers of identities know as which account"},
	Kept{Table: "identity_teams", Why: "teams that a provider said at a sign-in; they count for 8 hours at most"},
	Kept{Table: "account_seen", Why: "when each account was seen last"},
)

var _ = writes((*Tx).PutIdentity)

var _ = writes((*Tx).DropIdentity)

var _ = writes((*Tx).RemoveAccount)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, identityRecord, "SELECT "+identityColumns+" FROM identities")
})

const identityColumns = "id, account_id, issuer, subject, made, confirmed"

func identityRecord(i app.Identity) row {
	out := row{of: "identities/" + i.ID}
	if i.AccountID != "" {
		out.content = []any{i.AccountID, i.Issuer, i.Subject, i.Made, i.Confirmed}
	}
	return out
}

// memberships are those of teams by hand, and those that a provider said lately.
const memberships = "(SELECT team_id, account_id FROM team_members UNION SELECT team_id, account_id FROM " +
	"identity_teams " +
	"WHERE until > UNIX_TIMESTAMP(NOW(3)) * 1000)"

// PutIdentity keeps whom a subject is.
func (t *Tx) PutIdentity(i *app.Identity) error {
	if err := t.exec("INSERT INTO identities ("+identityColumns+") VALUES (?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE "+
		"confirmed = VALUES(confirmed)", i.ID, i.AccountID, i.Issuer, i.Subject, i.Made, i.Confirmed); err != nil {
		return err
	}
	return t.touch(identityRecord(*i))
}

// DropIdentity takes the binding away.
func (t *Tx) DropIdentity(i *app.IdentityGone) error {
	if err := t.exec("DELETE FROM identities WHERE id = ?", i.ID); err != nil {
		return err
	}
	return t.touch(identityRecord(app.Identity{ID: i.ID}))
}

// SetIdentityTeams keeps in which teams a provider says somebody is, until a time in Unix milliseconds.
func (t *Tx) SetIdentityTeams(account string, keys []string, until int64) error {
	if err := t.exec("DELETE FROM identity_teams WHERE account_id = ?", account); err != nil || len(keys) == 0 {
		return err
	}
	return t.exec("INSERT INTO identity_teams (account_id, team_id, until) SELECT ?, id, ? FROM teams WHERE "+
		"team_key IN ("+
		marks(len(keys))+")", append([]any{account, until}, anys(keys)...)...)
}

// RemoveAccount takes out of an account what is personal; its id stays, since the audit names it.
func (t *Tx) RemoveAccount(a *app.AccountGone) error {
	if err := t.exec("UPDATE accounts SET email = ?, name = ?, password = '' WHERE id = ?", a.Email, a.Name,
		a.ID); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM account_seen WHERE account_id = ?", a.ID); err != nil {
		return err
	}
	return t.touchAccount(a.ID)
}

// Identity finds whom a subject is; nil where nobody knows.
func (s *Store) Identity(ctx context.Context, id string) (*app.Identity, error) {
	all, err := list[app.Identity](ctx, s.door, "SELECT "+identityColumns+" FROM identities WHERE id = ?", id)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Identities lists those of an account.
func (s *Store) Identities(ctx context.Context, account string) ([]app.Identity, error) {
	return list[app.Identity](ctx, s.door, "SELECT "+identityColumns+" FROM identities WHERE account_id = ? "+
		"ORDER BY made",
		account)
}

// See notes when accounts were seen last, in Unix milliseconds.
func (s *Store) See(ctx context.Context, account string, at int64) error {
	_, err := s.door.ExecContext(ctx, "INSERT INTO account_seen (account_id, at) VALUES (?, ?) ON DUPLICATE KEY "+
		"UPDATE at "+
		"= GREATEST(at, VALUES(at))", account, at)
	return fault(err)
}

// Seen says when accounts were seen last, by id.
func (s *Store) Seen(ctx context.Context) (map[string]int64, error) {
	rows, err := list[struct {
		Account string `db:"account_id"`
		At      int64  `db:"at"`
	}](ctx, s.door, "SELECT account_id, at FROM account_seen")
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Account] = r.At
	}
	return out, err
}

// saidMembers are the members of teams that a provider said, by team id.
func (s *Store) saidMembers(ctx context.Context) (map[string][]string, error) {
	rows, err := list[struct {
		Team    string `db:"team_id"`
		Account string `db:"account_id"`
	}](ctx, s.door, "SELECT team_id, account_id FROM identity_teams WHERE until > UNIX_TIMESTAMP(NOW(3)) * 1000")
	if err != nil {
		return nil, fmt.Errorf("teams that providers say: %w", err)
	}
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Team] = append(out[r.Team], r.Account)
	}
	return out, nil
}
