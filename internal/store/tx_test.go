package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
)

// server is one that answers as it is told, and counts connections that are closed.
type server struct {
	commit, rollback error
	closed           int
}

func (s *server) Connect(context.Context) (driver.Conn, error) { return line{s}, nil }
func (s *server) Driver() driver.Driver                        { return nil }

type line struct{ *server }

func (l line) Prepare(string) (driver.Stmt, error) { return nil, io.EOF }
func (l line) Begin() (driver.Tx, error)           { return end(l), nil }
func (l line) Close() error                        { l.closed++; return nil }

type end struct{ *server }

func (e end) Commit() error   { return e.commit }
func (e end) Rollback() error { return e.rollback }

// A connection on which a transaction may still be open is given up: the next one would commit what the
// last one left, which begins with an implicit commit.
func TestDoubtfulConnectionsAreGivenUp(t *testing.T) {
	wrong := errors.New("it cannot be done")
	primary := &mysql.MySQLError{Number: 1047, Message: "WSREP has not yet prepared node for application use"}
	for name, c := range map[string]struct {
		server
		fails error
		given int
	}{
		"committed":                      {server{}, nil, 0},
		"refused and rolled back":        {server{}, wrong, 0},
		"refused and not rolled back":    {server{rollback: primary}, wrong, 1},
		"not committed, and who knows":   {server{commit: &mysql.MySQLError{Number: 1180}}, nil, 1},
		"not committed, not rolled back": {server{commit: primary, rollback: primary}, nil, 1},
	} {
		db := sqlx.NewDb(sql.OpenDB(&c.server), "mysql")
		db.SetMaxIdleConns(1)
		s := &Store{}
		err := s.once(context.Background(), db, func(*Tx) error { return c.fails })
		if (err != nil) != (c.fails != nil || c.commit != nil) {
			t.Errorf("%s: %v", name, err)
		}
		if c.closed != c.given {
			t.Errorf("%s: %d connections were given up", name, c.closed)
		}
		if c.commit != nil && !broken(err) {
			t.Errorf("%s: %v is no reason to try again", name, err)
		}
	}
}
