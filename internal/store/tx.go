package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Tx is a transaction.
type Tx struct {
	reader
	tx      *messages
	store   *Store
	touched []audit.Record         // written and not in an entry yet
	epoch   int64                  // read under an environment's lock, so that it stands; 0: not read
	heads   map[string]*audit.Head // of chains that are held; nil: not begun
}

func newTx(ctx context.Context, tx *sqlx.Tx, s *Store) *Tx {
	m := &messages{tx: tx, apart: s.cluster.Load()}
	return &Tx{reader: reader{ctx, m}, tx: m, store: s, heads: map[string]*audit.Head{}}
}

// reader is what is read alike over a pool and in a transaction, where it comes after what that wrote.
type reader struct {
	ctx context.Context
	q   sqlx.QueryerContext
}

// Write runs a use case in one transaction and commits it. A transaction that lost a
// deadlock, a lock wait or a certification is run again until the caller's deadline, so fn
// must have no other effects. A connection that was lost while committing is not: whether it
// was committed is unknown, and the caller finds out by its idempotency key.
func (s *Store) Write(ctx context.Context, fn func(*Tx) error) error {
	return s.run(ctx, s.changes, fn, losing)
}

// Insist is Write for what must arrive, such as a stop: whatever breaks, it is tried again
// until the caller's deadline. fn must find out by itself whether it was committed before.
func (s *Store) Insist(ctx context.Context, fn func(*Tx) error) error {
	return s.run(ctx, s.changes, fn, func(err error) bool { return losing(err) || broken(err) })
}

// background is Write for work that nobody waits for.
func (s *Store) background(ctx context.Context, fn func(*Tx) error) error {
	return s.run(ctx, s.work, fn, losing)
}

// Times between tries: doubled from the first to the longest, and drawn at random up to that,
// so that those who lost against each other do not meet again.
const (
	firstPause   = 4 * time.Millisecond
	longestPause = 300 * time.Millisecond
	longestTry   = 30 * time.Second // of a caller without a deadline
)

func (s *Store) run(ctx context.Context, db *sqlx.DB, fn func(*Tx) error, again func(error) bool) error {
	if _, ok := ctx.Deadline(); !ok {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, longestTry)
		defer cancel()
	}
	for pause := firstPause; ; pause = min(2*pause, longestPause) {
		err := s.once(ctx, db, fn)
		if err == nil || !again(err) {
			return fault(err)
		}
		select {
		case <-ctx.Done():
			return fault(err) // what went wrong says more than that time ran out
		case <-time.After(rand.N(pause)):
		}
	}
}

func (s *Store) once(ctx context.Context, db *sqlx.DB, fn func(*Tx) error) error {
	return within(ctx, db, nil, func(tx *sqlx.Tx) (bool, error) {
		t := newTx(ctx, tx, s)
		if err := fn(t); err != nil {
			if t.tx.failed != nil {
				return false, t.tx.failed
			}
			return false, err
		}
		if len(t.touched) > 0 {
			return false, fmt.Errorf("records were written without an entry in the audit: %s", t.touched[0].Of)
		}
		err := t.tx.commit(ctx)
		return err == nil, err
	})
}

// within runs a function in a transaction, and is the one place where one begins. The function tells whether
// it committed; else all is rolled back. A connection on which that fails is given up: the transaction may
// still be open there, so what comes next would read in its past, or begin by committing it.
func within(ctx context.Context, db *sqlx.DB, o *sql.TxOptions, fn func(*sqlx.Tx) (bool, error)) error {
	conn, err := db.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close() // gives it back
	tx, err := conn.BeginTxx(ctx, o)
	if err != nil {
		return err
	}
	committed := false
	defer func() { // after a panic too
		if !committed && tx.Rollback() != nil {
			_ = conn.Raw(func(any) error { return driver.ErrBadConn })
		}
	}()
	committed, err = fn(tx)
	return err
}

// Numbers of MariaDB's errors.
const (
	erDuplicate   = 1062
	erLockWait    = 1205
	erDeadlock    = 1213 // also a lost certification
	erNotReady    = 1047 // a Galera node without a majority
	erCheckRecord = 1020 // the record changed since it was read
	erShutdown    = 1053
	erTooMany     = 1040 // connections
	erKilled      = 1927
	erInterrupted = 1317
	erTooLong     = 1969 // a statement
	erNoSpace     = 1021
	erTableFull   = 1114
	erWrite       = 3    // to a file, such as on a full disk
	erCommit      = 1180 // failed: whether it was committed is not known
	erReadOnly    = 1290 // RejectReadOnly turns it into a bad connection
)

// losing tells whether a transaction lost against another one and had no effect.
func losing(err error) bool {
	if errors.Is(err, errMeanwhile) {
		return true
	}
	var e *mysql.MySQLError
	if !errors.As(err, &e) {
		return false
	}
	return e.Number == erDeadlock || e.Number == erLockWait || e.Number == erCheckRecord
}

// broken tells whether the records could not be reached, or gave up: trying again may help.
func broken(err error) bool {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		switch e.Number {
		case erNotReady, erShutdown, erTooMany, erKilled, erInterrupted, erTooLong, erNoSpace, erTableFull, erWrite,
			erCommit, erReadOnly:
			return true
		}
		return false
	}
	var n net.Error
	return errors.As(err, &n) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) ||
		errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, sql.ErrTxDone) || errors.Is(err, sql.ErrConnDone)
}

func isDuplicate(err error) bool {
	var e *mysql.MySQLError
	return errors.As(err, &e) && e.Number == erDuplicate
}

// fault turns errors of the connection into one that the caller may see and try again
// after. Errors of a use case come through as they are, and so does a caller who hung up.
func fault(err error) error {
	var e *mysql.MySQLError
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, sql.ErrNoRows):
		return app.Faultf(app.NotFound, "there is no such thing")
	case losing(err):
		return unavailable("others change the same things all the time", err)
	case broken(err), errors.Is(err, context.DeadlineExceeded):
		return unavailable("the records cannot be reached now", err)
	case errors.As(err, &e):
		return fmt.Errorf("records: %w", err)
	}
	return err
}

func unavailable(what string, err error) error {
	return &app.Fault{Kind: app.Unavailable, Detail: what + ": try again with the same Idempotency-Key",
		More: map[string]any{"cause": err.Error()}}
}
