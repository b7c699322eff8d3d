package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"
)

// A transaction holds rows that others wait for, so what it says to MariaDB goes in few
// messages: reads that belong together in one, and writes of which nothing is asked back are
// gathered and sent in one, at the latest with the commit. Which connections take several
// statements in a message, their purpose says; every value is an argument.

// messages is a transaction's connection. Whatever is asked over it comes after what waits, so
// nobody can read past what was written before.
type messages struct {
	tx      *sqlx.Tx
	waiting []string // statements
	with    []any    // their arguments
	size    int
	failed  error // of what waited: the transaction cannot be committed
}

// batched is how many bytes of statements and arguments go in one message, about; a statement
// that is larger goes by itself.
const batched = 256 << 10

// add has a statement wait for the next message.
func (m *messages) add(ctx context.Context, query string, args ...any) error {
	size := len(query)
	for _, a := range args {
		switch v := a.(type) {
		case string:
			size += len(v)
		case []byte:
			size += len(v)
		}
	}
	if m.size+size > batched {
		if err := m.flush(ctx); err != nil {
			return err
		}
	}
	m.waiting, m.with, m.size = append(m.waiting, query), append(m.with, args...), m.size+size
	return nil
}

// flush sends what waits.
func (m *messages) flush(ctx context.Context) error {
	if len(m.waiting) == 0 || m.failed != nil {
		return m.failed
	}
	query, args := strings.Join(m.waiting, ";\n"), m.with
	m.waiting, m.with, m.size = nil, nil, 0
	_, m.failed = m.tx.ExecContext(ctx, query, args...)
	return m.failed
}

// commit sends what waits and the commit in one message, since others wait for the rows until
// then. Where that was answered it is committed, whatever becomes of the connection.
func (m *messages) commit(ctx context.Context) error {
	switch {
	case m.failed != nil:
		return m.failed
	case ctx.Err() != nil:
		return ctx.Err()
	case len(m.waiting) == 0:
		return m.tx.Commit()
	}
	m.waiting = append(m.waiting, "COMMIT")
	if err := m.flush(context.WithoutCancel(ctx)); err != nil { // who hangs up now hears nothing of it anyway
		return err
	}
	_ = m.tx.Commit() // of nothing: it gives the connection back
	return nil
}

// QueryContext queries after what waits.
func (m *messages) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := m.flush(ctx); err != nil {
		return nil, err
	}
	return m.tx.QueryContext(ctx, query, args...)
}

// QueryxContext queries after what waits.
func (m *messages) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	if err := m.flush(ctx); err != nil {
		return nil, err
	}
	return m.tx.QueryxContext(ctx, query, args...)
}

// QueryRowxContext queries after what waits. A row cannot be made to hold an error of ours, so
// where that failed the query is cancelled; the transaction ends with the error that counts.
func (m *messages) QueryRowxContext(ctx context.Context, query string, args ...any) *sqlx.Row {
	if m.flush(ctx) != nil {
		cancelled, cancel := context.WithCancel(ctx)
		cancel()
		ctx = cancelled
	}
	return m.tx.QueryRowxContext(ctx, query, args...)
}

// ExecContext executes after what waits.
func (m *messages) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := m.flush(ctx); err != nil {
		return nil, err
	}
	return m.tx.ExecContext(ctx, query, args...)
}

// later runs a statement with the next message, of which only an error matters. Everything that
// is read in this transaction, and its commit, come after it.
func (t *Tx) later(query string, args ...any) error { return t.tx.add(t.ctx, query, args...) }

// query is what is asked, and the slice of structs that its rows go into.
type query struct {
	into any
	text string
	args []any
}

// several reads in one message, in order; each query sees what was committed when its turn came.
func (t *Tx) several(all ...query) error { return several(t.ctx, t.tx, all...) }

func several(ctx context.Context, over sqlx.QueryerContext, all ...query) (err error) {
	texts, args := make([]string, len(all)), []any{}
	for i, q := range all {
		texts[i], args = q.text, append(args, q.args...)
	}
	rows, err := over.QueryxContext(ctx, strings.Join(texts, ";\n"), args...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for i, q := range all {
		if i > 0 && !rows.NextResultSet() {
			if err := rows.Err(); err != nil {
				return err
			}
			return fmt.Errorf("MariaDB answered %d of %d queries", i, len(all))
		}
		if err := sqlx.StructScan(rows, q.into); err != nil {
			return err
		}
	}
	return rows.Err()
}
