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
	rows, err := list[tokenRow](ctx, s.door, "SELECT "+tokenColumns+" FROM tokens WHERE account_id = ? ORDER BY "+
		"created",
		account)
	out := make([]app.Token, len(rows))
	for i := range rows {
		r := &rows[i]
		out[i] = app.Token{ID: r.ID, AccountID: r.Account, Name: r.Name, Created: r.Created, Expires: r.Expires}
		if out[i].Narrow, err = narrowOf(r.Narrow); err != nil {
			return nil, err
		}
	}
	return out, err
}

// AddToken keeps a token.
func (t *Tx) AddToken(k *app.Token) error {
	var narrow []byte
	if k.Narrow != nil {
		narrow = []byte(encode(k.Narrow))
	}
	if err := t.exec("INSERT INTO tokens (id, account_id, name, digest, created, expires, narrow) VALUES (?, ?, ?, "+
		"?, ?, ?, ?)",
		k.ID, k.AccountID, k.Name, k.Digest, k.Created, k.Expires, narrow); err != nil {
		return err
	}
	return t.touch(tokenRecord(tokenRow{k.ID, k.AccountID, k.Name, k.Digest, k.Created, k.Expires, narrow}))
}

func narrowOf(raw []byte) (*app.Narrow, error) {
	if len(raw) == 0 {
		return nil, nil
	}
	n, err := decode[app.Narrow](raw)
	return &n, err
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
	Narrow  []byte `db:"narrow"`
}

func tokenRecord(k tokenRow) row {
	content := []any{k.Account, k.Name, hex.EncodeToString(k.Digest), k.Created, k.Expires}
	if len(k.Narrow) > 0 {
		content = append(content, string(k.Narrow))
	}
	return row{of: "tokens/" + k.ID, content: content, mayGo: true}
}
