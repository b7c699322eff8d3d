package store

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/greenlever/internal/app/audit"
)

// What a transaction writes to the records that the chain speaks of, it notes with touch; the
// next entry of the audit holds the digests, and a transaction that would commit without one
// fails. The verifier reads the rows again with recordsOf and compares. Both make a row's
// digest in one place: the functions below.

// touch notes that a row is written as it is in content; none stands for a row that is gone.
func (t *Tx) touch(r row) error {
	secret, err := t.store.secret(t.ctx)
	if err != nil {
		return err
	}
	t.touched = append(t.touched, r.record(secret))
	return nil
}

// row is a row as the chain speaks of it.
type row struct {
	of       string // table and key
	content  []any  // nil: the row is gone
	mayGo    bool   // it is forgotten some day, without an entry
	revision int64  // that the row is of, and the digest of the entry that it names
	entry    string
}

// record is the row's digest, under the installation's secret: rows hold addresses and names,
// which nobody should find by trying.
func (r row) record(secret []byte) audit.Record {
	out := audit.Record{Of: r.of, MayGo: r.mayGo, Revision: r.revision, Entry: r.entry}
	if r.content != nil {
		mac := hmac.New(sha256.New, secret)
		fmt.Fprintf(mac, "greenlever record\n%s\n%s", r.of, encode(r.content))
		out.Digest = hex.EncodeToString(mac.Sum(nil)[:16])
	}
	return out
}

// touchRows reads rows that were just written, and notes them.
func touchRows[T any](t *Tx, record func(T) row, query string, args ...any) error {
	var rows []T
	if err := t.list(&rows, query, args...); err != nil {
		return err
	}
	for _, r := range rows {
		if err := t.touch(record(r)); err != nil {
			return err
		}
	}
	return nil
}

// Records reads all rows that a chain speaks of, with their digests.
func (s *Store) Records(ctx context.Context, chain string, visit func(audit.Record)) error {
	r, err := s.reading(ctx, chain)
	for done := err != nil; !done && err == nil; {
		done, err = r.next(ctx, visit)
	}
	return err
}

// reading reads the rows that a chain speaks of, table by table, and large ones in pages.
type reading struct {
	s      *Store
	secret []byte
	parts  []part
}

// part reads some rows; done tells that there are no more of them.
type part func(ctx context.Context, visit func(row)) (done bool, err error)

func (s *Store) reading(ctx context.Context, chain string) (*reading, error) {
	secret, err := s.secret(ctx)
	if err != nil {
		return nil, err
	}
	v := &reading{s: s, secret: secret}
	kind, number, _ := strings.Cut(chain, ":")
	id, _ := strconv.ParseInt(number, 10, 64)
	for _, rows := range spoken[kind] {
		rows(v, id)
	}
	return v, nil
}

// next reads one part; done tells that it was the last.
func (v *reading) next(ctx context.Context, visit func(audit.Record)) (done bool, err error) {
	if len(v.parts) == 0 {
		return true, nil
	}
	over, err := v.parts[0](ctx, func(r row) {
		if r.content != nil {
			visit(r.record(v.secret))
		}
	})
	if err == nil && over {
		v.parts = v.parts[1:]
	}
	return len(v.parts) == 0, err
}

// read adds a table that is read at once.
func read[T any](v *reading, record func(T) row, query string, args ...any) {
	v.parts = append(v.parts, func(ctx context.Context, visit func(row)) (bool, error) {
		return true, stream(ctx, v.s, func(one T) { visit(record(one)) }, query, args...)
	})
}

// pageRows is how many rows of a large table are read at a time.
const pageRows = 4_000

// readPages adds a table that is read in pages, in an order; behind says what comes after a row.
func readPages[T any](v *reading, record func(T) row, query string, args []any, order string,
	behind func(T) (string, []any)) {
	var last *T
	v.parts = append(v.parts, func(ctx context.Context, visit func(row)) (bool, error) {
		page, with := query, args
		if last != nil {
			condition, more := behind(*last)
			page, with = page+" AND "+condition, append(slices.Clone(with), more...)
		}
		n := 0
		err := stream(ctx, v.s, func(one T) {
			visit(record(one))
			last = &one
			n++
		}, fmt.Sprintf("%s ORDER BY %s LIMIT %d", page, order, pageRows), with...)
		return n < pageRows, err
	})
}

func stream[T any](ctx context.Context, s *Store, visit func(T), query string, args ...any) error {
	rows, err := s.pages.QueryxContext(ctx, query, args...)
	if err != nil {
		return fault(err)
	}
	defer rows.Close()
	for rows.Next() {
		var one T
		if err := rows.StructScan(&one); err != nil {
			return err
		}
		visit(one)
	}
	return fault(rows.Err())
}

// versioned reads documents as they stand, and all of their versions.
func versioned(v *reading, table, versions, key string, id int64) {
	columns := "environment_id, " + key + " doc_key, version, revision, document"
	read(v, func(d documentRow) row { return documentRecord(table, d) },
		"SELECT "+columns+" FROM "+table+" WHERE environment_id = ?", id)
	readPages(v, func(d documentRow) row { return versionRecord(versions, d) },
		"SELECT "+columns+" FROM "+versions+" WHERE environment_id = ?", []any{id}, key+", version",
		func(d documentRow) (string, []any) {
			return "(" + key + " > ? OR " + key + " = ? AND version > ?)", []any{d.Key, d.Key, d.Version}
		})
}

// perEntry is how many records one entry takes over.
const perEntry = 500

// AdoptRecords has the chains speak of rows as they stand that were written by programs which
// do not say what they write, so that they are compared from now on: those of before the chain
// held digests, and those that a process of the release before wrote beside this one. Such a
// process is among the instances; it is taken out once it is away and its rows are taken over.
func (s *Store) AdoptRecords(ctx context.Context, entry func(chain string) audit.Entry) error {
	var older bool
	if err := s.pages.GetContext(ctx, &older,
		"SELECT EXISTS (SELECT 1 FROM instances WHERE kind = 'service')"); err != nil {
		return fault(err)
	}
	chains, err := list[string](ctx, s.pages, "SELECT chain FROM audit_heads WHERE sequence > 0 AND (? "+
		"OR NOT EXISTS (SELECT 1 FROM audit a WHERE a.chain = audit_heads.chain AND a.entry LIKE '%\"records\":[%'))",
		older)
	if err != nil {
		return err
	}
	for _, chain := range chains {
		if err := s.background(ctx, func(t *Tx) error { return t.adopt(chain, older, entry(chain)) }); err != nil {
			return err
		}
	}
	if !older {
		return nil
	}
	_, err = s.work.ExecContext(ctx, "DELETE FROM instances WHERE kind = 'service' AND (gone "+
		"OR seen < (UNIX_TIMESTAMP() - ?) * 1000)", awayAfter)
	return fault(err)
}

// awayAfter is after how many seconds without a word a process of the release before is away.
const awayAfter = 120

// adopt reads the rows while the chain's head is held: whoever writes one now waits for that.
func (t *Tx) adopt(chain string, again bool, entry audit.Entry) error {
	var sequence int64
	if err := t.get(&sequence, "SELECT sequence FROM audit_heads WHERE chain = ? FOR UPDATE", chain); err != nil {
		return err
	}
	var has bool // another node may have been first
	if err := t.get(&has, "SELECT EXISTS (SELECT 1 FROM audit WHERE chain = ? AND action = ?)", chain,
		audit.Adopted); err != nil || has && !again {
		return err
	}
	var all []audit.Record
	if err := t.store.Records(t.ctx, chain, func(r audit.Record) { all = append(all, r) }); err != nil {
		return err
	}
	for i := 0; i < len(all); i += perEntry {
		t.touched = all[i:min(i+perEntry, len(all))]
		if _, err := t.Append(chain, entry, nil); err != nil {
			return err
		}
	}
	return nil
}

// NoteInstallation has the next entry speak of the installation's row.
func (t *Tx) NoteInstallation() error {
	return t.touchInstallation()
}
