package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"github.com/jmoiron/sqlx"
)

// A transaction holds rows that others wait for, so what it says to MariaDB goes in few
// messages: reads that belong together in one, and writes of which nothing is asked back are
// gathered and sent in one, at the latest with the commit. Which connections take several
// statements in a message, their purpose says; every value is an argument.

//
// Not on a cluster. There a transaction may be aborted between two statements of a message,
// with the first answered well; the second then begins anew, and half of the transaction would
// be committed. So there every statement goes by itself, and its error is seen before the next.

// messages is a transaction's connection. Whatever is asked over it comes after what waits, so
// nobody can read past what was written before.
type messages struct {
	tx      *sqlx.Tx
	apart   bool // each statement goes by itself
	waiting []statement
	size    int
	failed  error // of what waited: the transaction cannot be committed
}

type statement struct {
	text string
	args []any
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
	m.waiting, m.size = append(m.waiting, statement{query, args}), m.size+size
	return nil
}

// flush sends what waits.
func (m *messages) flush(ctx context.Context) error {
	if len(m.waiting) == 0 || m.failed != nil {
		return m.failed
	}
	all := m.waiting
	m.waiting, m.size = nil, 0
	for len(all) > 0 && m.failed == nil {
		n := len(all)
		if m.apart {
			n = 1
		}
		text, args := joined(all[:n])
		_, m.failed = m.tx.ExecContext(ctx, text, args...)
		all = all[n:]
	}
	return m.failed
}

// joined is statements as one message.
func joined(all []statement) (string, []any) {
	texts, args := make([]string, len(all)), []any{}
	for i, s := range all {
		texts[i], args = s.text, append(args, s.args...)
	}
	return strings.Join(texts, ";\n"), args
}

// commit sends what waits and the commit in one message, since others wait for the rows until
// then. Where that was answered it is committed, whatever becomes of the connection.
func (m *messages) commit(ctx context.Context) error {
	switch {
	case m.failed != nil:
		return m.failed
	case ctx.Err() != nil:
		return ctx.Err()
	case m.apart:
		if err := m.flush(ctx); err != nil {
			return err
		}
		return m.tx.Commit()
	case len(m.waiting) == 0:
		return m.tx.Commit()
	}
	m.waiting = append(m.waiting, statement{text: "COMMIT"})
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
func (t *Tx) several(all ...query) error {
	if !t.tx.apart {
		return several(t.ctx, t.tx, all...)
	}
	for _, q := range all {
		if err := several(t.ctx, t.tx, q); err != nil {
			return err
		}
	}
	return nil
}

func several(ctx context.Context, over sqlx.QueryerContext, all ...query) (err error) {
	statements := make([]statement, len(all))
	for i, q := range all {
		statements[i] = statement{q.text, q.args}
	}
	text, args := joined(statements)
	rows, err := over.QueryxContext(ctx, text, args...)
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

// noting makes connections, and notes whether they are to one of a cluster.
type noting struct {
	driver.Connector
	cluster *atomic.Bool
}

// Connect makes a connection.
func (n noting) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := n.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	on, err := isOn(ctx, c.(driver.QueryerContext), "wsrep_on")
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	if on {
		n.cluster.Store(true)
	}
	return c, nil
}

// Apart has every statement of a transaction go by itself, as on a cluster, which is noticed
// without being told; tests hold both ways to the same.
func (s *Store) Apart() { s.cluster.Store(true) }

// isOn reads a variable of the server; one that it does not know is off.
func isOn(ctx context.Context, c driver.QueryerContext, variable string) (bool, error) {
	rows, err := c.QueryContext(ctx, "SHOW VARIABLES LIKE '"+variable+"'", nil)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	row := make([]driver.Value, 2)
	if err := rows.Next(row); err != nil {
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return false, err
	}
	value, _ := row[1].([]byte)
	return string(value) == "ON", nil
}
