// Package store keeps the records in MariaDB.
//
// Its nouns are a [Store], and a [Tx] in which a use case reads and writes. The use cases
// declare the few methods that they need; this package imports none of them. The smallest use:
//
//	st, err := store.Open(ctx, dsn)
//	err = st.Write(ctx, func(tx *store.Tx) error { ... }) // committed as a whole, or not at all
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"greenlever.example/greenlever/internal/app"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Timeouts of a connection: a server that hangs must not hang its callers for ever.
const (
	dialTimeout  = 5 * time.Second
	readTimeout  = 20 * time.Second
	writeTimeout = 20 * time.Second
	tries        = 12 // of a transaction that lost a deadlock or a certification
)

// Store is the records.
type Store struct{ db *sqlx.DB }

// Open connects to the database that a DSN of go-sql-driver/mysql names and brings its
// tables up to date. What the DSN leaves open is set to what this package needs.
func Open(ctx context.Context, dsn string, log *slog.Logger) (*Store, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w (it looks like user:password@tcp(127.0.0.1:3307)/greenlever)", err)
	}
	if c.DBName == "" {
		return nil, errors.New("the database's address names no database: put /greenlever at its end")
	}
	c.ParseTime, c.ClientFoundRows, c.InterpolateParams, c.RejectReadOnly = true, true, true, true
	c.Loc, c.Collation = time.UTC, "utf8mb4_bin"
	c.Timeout, c.ReadTimeout, c.WriteTimeout = dialTimeout, readTimeout, writeTimeout
	c.Logger = &mysql.NopLogger{} // every error comes back to the caller, who logs it once
	if c.Params == nil {
		c.Params = map[string]string{}
	}
	c.Params["sql_mode"] = "'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION'"
	c.Params["time_zone"] = "'+00:00'"
	// What is read after a lock was taken must be what stands, not what stood when the
	// transaction began.
	c.Params["tx_isolation"] = "'READ-COMMITTED'"
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sqlx.NewDb(sql.OpenDB(connector), "mysql")
	db.SetMaxOpenConns(40)
	db.SetMaxIdleConns(20)
	db.SetConnMaxLifetime(5 * time.Minute)
	if err := migrate(ctx, db.DB, log); err != nil {
		db.Close()
		return nil, err
	}
	return &Store{db}, nil
}

func migrate(ctx context.Context, db *sql.DB, log *slog.Logger) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewMySQLTableLocker()
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files, goose.WithLocker(locker), goose.WithSlog(log))
	if err != nil {
		return err
	}
	if _, err = p.Up(ctx); err != nil {
		return fmt.Errorf("bring the tables up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping tells whether the records can be reached.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// Tx is a transaction.
type Tx struct {
	ctx context.Context
	tx  *sqlx.Tx
}

// Write runs a use case in one transaction and commits it. A transaction that lost a
// deadlock, a lock wait or a certification is run again, so fn must have no other effects.
// A connection that was lost while committing is not: whether it was committed is unknown,
// and the caller finds out by its idempotency key.
func (s *Store) Write(ctx context.Context, fn func(*Tx) error) error {
	var err error
	for try := range tries {
		if err = s.once(ctx, fn); !again(err) {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try+1) * rand.N(8*time.Millisecond)):
		}
	}
	return fault(err)
}

func (s *Store) once(ctx context.Context, fn func(*Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := fn(&Tx{ctx, tx}); err != nil {
		return err
	}
	return tx.Commit()
}

// Numbers of MariaDB's errors.
const (
	erDuplicate   = 1062
	erLockWait    = 1205
	erDeadlock    = 1213 // also a lost certification
	erNotReady    = 1047 // a Galera node without a majority
	erCheckRecord = 1020 // the record changed since it was read
)

func again(err error) bool {
	if errors.Is(err, errMeanwhile) {
		return true
	}
	var e *mysql.MySQLError
	if !errors.As(err, &e) {
		return false
	}
	return e.Number == erDeadlock || e.Number == erLockWait || e.Number == erCheckRecord
}

func isDuplicate(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && e.Number == erDuplicate
}

// fault turns errors of the connection into one that the caller may see and try again
// after. Errors of a use case come through as they are.
func fault(err error) error {
	var e *mysql.MySQLError
	var n net.Error
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return app.Faultf(app.NotFound, "there is no such thing")
	case errors.As(err, &e) && e.Number != erNotReady && !again(err):
		return fmt.Errorf("records: %w", err)
	case errors.As(err, &e), again(err), errors.As(err, &n), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, driver.ErrBadConn), errors.Is(err, io.EOF):
		return &app.Fault{Kind: app.Unavailable, Detail: "the records cannot be reached now: try again with the same Idempotency-Key", More: map[string]any{"cause": err.Error()}}
	}
	return err
}

func (t *Tx) get(into any, query string, args ...any) error {
	return t.tx.GetContext(t.ctx, into, query, args...)
}

func (t *Tx) list(into any, query string, args ...any) error {
	return t.tx.SelectContext(t.ctx, into, query, args...)
}

func (t *Tx) exec(query string, args ...any) error {
	_, err := t.tx.ExecContext(t.ctx, query, args...)
	return err
}

// get reads one row; where there is none, a Fault that says what was looked for.
func get[T any](ctx context.Context, q sqlx.QueryerContext, missing, query string, args ...any) (*T, error) {
	v := new(T)
	err := sqlx.GetContext(ctx, q, v, query, args...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, app.Faultf(app.NotFound, "%s", missing)
	}
	if err != nil {
		return nil, fault(err)
	}
	return v, nil
}

// list reads rows; none is an empty list.
func list[T any](ctx context.Context, q sqlx.QueryerContext, query string, args ...any) ([]T, error) {
	v := []T{}
	err := sqlx.SelectContext(ctx, q, &v, query, args...)
	return v, fault(err)
}

func encode(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values of ours
	}
	return string(raw)
}

func decode[T any](raw []byte) (T, error) {
	var v T
	err := json.Unmarshal(raw, &v)
	return v, err
}
