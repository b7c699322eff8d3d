// Package store keeps the records in MariaDB.
//
// Its nouns are a [Store], and a [Tx] in which a use case reads and writes. The use cases
// declare the few methods that they need; this package imports none of them. The smallest use:
//
//	st, err := store.Open(ctx, dsn, log)
//	err = st.Write(ctx, func(tx *store.Tx) error { ... }) // committed as a whole, or not at all
//
// Connections come from pools that do not share: see [pools].
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"

	"greenlever.example/greenlever/internal/app"
)

// Store is the records.
type Store struct {
	pools
	config *mysql.Config
	log    *slog.Logger
	kept   atomic.Pointer[[]byte] // the secret of event ids

	cluster atomic.Bool // the records are one of a cluster
}

// pools are connections by what they are for, so that nothing waits for something that
// matters less: however many reports come in and however long a report page takes, a stop
// finds a connection, and so does the feed that carries it.
type pools struct {
	changes *sqlx.DB // what people change, and nothing else
	door    *sqlx.DB // who asks and for which place: a few rows by their keys
	feed    *sqlx.DB // the revision log, rulesets and access keys
	pages   *sqlx.DB // everything that is shown
	work    *sqlx.DB // reports, counts and what is done behind
}

// purpose is how a pool's connections are set up.
type purpose struct {
	connections int
	read        time.Duration // without an answer for so long the connection counts as dead
	lockWait    int           // seconds that a statement waits for a row
	idle        int           // seconds that a transaction may say nothing before the server ends it
	statement   int           // seconds that a statement may take; 0: any time
	several     bool          // a message may hold several statements
}

// The bounds of a stop follow from these: a process that was frozen or cut off loses its rows
// after idle seconds, a lock wait ends before the reader gives its connection up, and a
// transaction that lost either is run again.
var purposes = map[string]purpose{
	"changes": {connections: 8, read: 6 * time.Second, lockWait: 2, idle: 4, several: true},
	"door":    {connections: 12, read: 4 * time.Second, lockWait: 2, idle: 4, several: true},
	"feed":    {connections: 6, read: 5 * time.Second, lockWait: 2, idle: 10},
	"pages":   {connections: 12, read: 20 * time.Second, lockWait: 5, idle: 10, statement: 15},
	"work":    {connections: 6, read: 20 * time.Second, lockWait: 5, idle: 10, several: true},
}

const (
	dialTimeout  = 3 * time.Second
	writeTimeout = 5 * time.Second
)

// Connections are how many there may be at once, by what they are for: see [UsualConnections].
type Connections map[string]int

// UsualConnections are those of a process on two processors.
func UsualConnections() Connections {
	out := Connections{}
	for name, p := range purposes {
		out[name] = p.connections
	}
	return out
}

// New makes the store of a database that a DSN of go-sql-driver/mysql names. It does not
// connect: the database may be away. What the DSN leaves open is set to what this package needs.
func New(dsn string, log *slog.Logger, connections ...Connections) (*Store, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the database's address: %w (it looks like "+
			"user:password@tcp(127.0.0.1:3307)/greenlever)", err)
	}
	if c.DBName == "" {
		return nil, errors.New("the database's address names no database: put /greenlever at its end")
	}
	c.ParseTime, c.ClientFoundRows, c.InterpolateParams, c.RejectReadOnly = true, true, true, true
	c.Loc, c.Collation = time.UTC, "utf8mb4_bin"
	c.Timeout, c.WriteTimeout = dialTimeout, writeTimeout
	c.Logger = &mysql.NopLogger{} // every error comes back to the caller, who logs it once
	if c.Params == nil {
		c.Params = map[string]string{}
	}
	c.Params["sql_mode"] = "'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO," +
		"NO_ENGINE_SUBSTITUTION'"
	c.Params["time_zone"] = "'+00:00'"
	// What is read after a lock was taken must be what stands, not what stood when the
	// transaction began.
	c.Params["tx_isolation"] = "'READ-COMMITTED'"
	s := &Store{config: c, log: log}
	for name, into := range map[string]**sqlx.DB{"changes": &s.changes, "door": &s.door, "feed": &s.feed,
		"pages": &s.pages, "work": &s.pools.work} {
		p := purposes[name]
		for _, most := range connections {
			if most[name] > 0 {
				p.connections = most[name]
			}
		}
		if *into, err = p.open(c, &s.cluster); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (p purpose) open(c *mysql.Config, cluster *atomic.Bool) (*sqlx.DB, error) {
	c = c.Clone()
	c.ReadTimeout, c.MultiStatements = p.read, p.several
	c.Params["innodb_lock_wait_timeout"] = strconv.Itoa(p.lockWait)
	c.Params["idle_transaction_timeout"] = strconv.Itoa(p.idle)
	if p.statement > 0 {
		c.Params["max_statement_time"] = strconv.Itoa(p.statement)
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sqlx.NewDb(sql.OpenDB(noting{connector, cluster}), "mysql")
	db.SetMaxOpenConns(p.connections)
	db.SetMaxIdleConns(p.connections)
	db.SetConnMaxLifetime(5 * time.Minute)
	return db, nil
}

// Open makes the store and brings its tables up to date.
func Open(ctx context.Context, dsn string, log *slog.Logger, connections ...Connections) (*Store, error) {
	s, err := New(dsn, log, connections...)
	if err != nil {
		return nil, err
	}
	if err := s.Migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (p *pools) all() []*sqlx.DB {
	return []*sqlx.DB{p.changes, p.door, p.feed, p.pages, p.work}
}

// Pools are the connections by what they are for, for who watches them.
func (s *Store) Pools() map[string]*sql.DB {
	return map[string]*sql.DB{"changes": s.changes.DB, "door": s.door.DB, "feed": s.feed.DB, "pages": s.pages.DB,
		"work": s.pools.work.DB}
}

// Close ends all connections.
func (s *Store) Close() (err error) {
	for _, db := range s.all() {
		err = errors.Join(err, db.Close())
	}
	return err
}

// Ping tells whether the records can be reached by who changes something.
func (s *Store) Ping(ctx context.Context) error { return fault(s.door.PingContext(ctx)) }

// Now is the database's clock, in Unix milliseconds: the one clock that all processes of the
// service share.
func (s *Store) Now(ctx context.Context) (int64, error) {
	var now int64
	err := s.feed.GetContext(ctx, &now, "SELECT CAST(UNIX_TIMESTAMP(NOW(3)) * 1000 AS SIGNED)")
	return now, fault(err)
}

func (t *Tx) get(into any, query string, args ...any) error {
	return sqlx.GetContext(t.ctx, t.tx, into, query, args...)
}

func (t *Tx) list(into any, query string, args ...any) error {
	return sqlx.SelectContext(t.ctx, t.tx, into, query, args...)
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

// portion is how many rows one statement takes.
const portion = 500

// values is the text of n rows of so many places each.
func values(n, places int) string {
	row := "(" + marks(places) + "),"
	return strings.TrimSuffix(strings.Repeat(row, n), ",")
}

// marks is the text of n places.
func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

func anys[T any](of []T) []any {
	out := make([]any, len(of))
	for i, v := range of {
		out[i] = v
	}
	return out
}

func newSecret() []byte {
	b := make([]byte, 32)
	rand.Read(b) // never fails
	return b
}

// unreachable tells a fault of the connection from one of what was read.
func unreachable(err error) bool {
	var f *app.Fault
	return errors.As(err, &f) && f.Kind == app.Unavailable || errors.Is(err, context.Canceled)
}
