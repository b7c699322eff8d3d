package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "tokens", Why: "they go when they expire"},
)

var _ = writes((*Tx).AddToken)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, tokenRecord, "SELECT "+tokenColumns+" FROM tokens")
})

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

type tokenRow struct {
	ID      string `db:"id"`
	Account string `db:"account_id"`
	Name    string `db:"name"`
	Digest  []byte `db:"digest"`
	Created int64  `db:"created"`
	Expires int64  `db:"expires"`
}

func tokenRecord(k tokenRow) row {
	return row{of: "tokens/" + k.ID, content: []any{k.Account, k.Name, hex.EncodeToString(k.Digest), k.Created,
		k.Expires}, mayGo: true}
}
