package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "flag_versions", Option: "keep-past", Days: 1_100, Why: "documents as they were; the last before " +
		"that is kept", Bytes: 900},
	Kept{Table: "flags", Why: "documents as they are"},
)

var _ = writes((*Tx).PutFlag)

var _ = speaks("environment", func(v *reading, id int64) {
	versioned(v, "flags", "flag_versions", "flag", id)
})

// Flag reads a flag's document in an environment.
func (s *Store) Flag(ctx context.Context, environment int64, key string) (*app.FlagRecord, error) {
	return reader{ctx, s.pages}.Flag(environment, key)
}

type documentRow struct {
	EnvironmentID int64  `db:"environment_id"`
	Key           string `db:"doc_key"`
	Version       int64  `db:"version"`
	Revision      int64  `db:"revision"`
	Document      []byte `db:"document"`
}

// Flag reads a flag's document in an environment.
func (r reader) Flag(environment int64, key string) (*app.FlagRecord, error) {
	var row documentRow
	err := sqlx.GetContext(r.ctx, r.q, &row, "SELECT "+flagColumns+" FROM flags WHERE environment_id = ? AND "+
		"flag = ?",
		environment, key)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noFlag(key)
	}
	if err != nil {
		return nil, fault(err)
	}
	if row.retired() {
		return nil, noFlag(key)
	}
	return row.flag()
}

// tombstone stands in place of the document of a flag that was retired.
const tombstone = "null"

func (r *documentRow) retired() bool { return string(r.Document) == tombstone }

// LastFlag reads the last document that a flag had in an environment, also of one that was retired since; version is
// the
// newest there. Nil where it was forgotten.
func (t *Tx) LastFlag(environment int64, key string) (rec *app.FlagRecord, version int64, err error) {
	rows, err := list[documentRow](t.ctx, t.tx, "SELECT "+flagColumns+" FROM flag_versions WHERE environment_id "+
		"= ? AND "+
		"flag = ? ORDER BY version DESC LIMIT 2", environment, key)
	for i := range rows {
		version = max(version, rows[i].Version)
		if !rows[i].retired() && rec == nil {
			if rec, err = rows[i].flag(); err != nil {
				return nil, 0, err
			}
		}
	}
	return rec, version, err
}

const flagColumns = "environment_id, flag doc_key, version, revision, document"

func noFlag(key string) error {
	return app.Faultf(app.NotFound, "there is no flag %s in this environment", key)
}

func (r *documentRow) flag() (*app.FlagRecord, error) {
	d, err := decode[flag.Document](r.Document)
	return &app.FlagRecord{EnvironmentID: r.EnvironmentID, Key: r.Key, Version: r.Version, Revision: r.Revision,
		Document: &d}, err
}

// Flags reads all documents of an environment.
func (t *Tx) Flags(environment int64) ([]app.FlagRecord, error) {
	rows, err := list[documentRow](t.ctx, t.tx, "SELECT "+flagColumns+" FROM flags WHERE environment_id = ? ORDER "+
		"BY flag", environment)
	if err != nil {
		return nil, err
	}
	out := make([]app.FlagRecord, 0, len(rows))
	for i := range rows {
		if rows[i].retired() {
			continue
		}
		r, err := rows[i].flag()
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
	}
	return out, nil
}

// FlagsIn reads all documents of an environment by key; one that cannot be read is left out.
func (s *Store) FlagsIn(ctx context.Context, environment int64) ([]app.FlagRecord, error) {
	rows, err := list[documentRow](ctx, s.pages, "SELECT "+flagColumns+" FROM flags WHERE environment_id = ? "+
		"ORDER BY "+
		"flag", environment)
	out := make([]app.FlagRecord, 0, len(rows))
	for i := range rows {
		if r, err := rows[i].flag(); err == nil && !rows[i].retired() {
			out = append(out, *r)
		}
	}
	return out, err
}

// FlagStands says of every flag of an environment, by key, which version stands and since when.
func (s *Store) FlagStands(ctx context.Context, environment int64) (map[string]app.FlagStand, error) {
	rows, err := list[app.FlagStand](ctx, s.pages, "SELECT f.flag flag_key, f.version, f.revision, "+
		"COALESCE(r.at, 0) "+
		"changed FROM flags f LEFT JOIN revisions r ON r.environment_id = f.environment_id AND r.revision = "+
		"f.revision WHERE f.environment_id = ? AND f.document <> 'null'", environment)
	out := make(map[string]app.FlagStand, len(rows))
	for _, r := range rows {
		out[r.Key] = r
	}
	return out, err
}

// PutFlag saves a document as a new version, the first one included.
func (t *Tx) PutFlag(r *app.FlagRecord) error {
	return t.putDocument("flags", "flag_versions", "flag", documentRow{r.EnvironmentID, r.Key, r.Version, r.Revision,
		[]byte(encode(r.Document))})
}

// putDocument saves a document in a table, and as a version that stays.
func (t *Tx) putDocument(table, versions, key string, d documentRow) error {
	columns := fmt.Sprintf("(environment_id, %s, version, revision, document) VALUES (?, ?, ?, ?, ?)", key)
	args := []any{d.EnvironmentID, d.Key, d.Version, d.Revision, string(d.Document)}
	if err := t.later("INSERT INTO "+table+" "+columns+" ON DUPLICATE KEY UPDATE version = VALUES(version), "+
		"revision = VALUES(revision), document = VALUES(document)", args...); err != nil {
		return err
	}
	if err := t.later("INSERT INTO "+versions+" "+columns, args...); err != nil {
		return err
	}
	if err := t.touch(documentRecord(table, d)); err != nil {
		return err
	}
	return t.touch(versionRecord(versions, d))
}

func documentRecord(table string, d documentRow) row {
	return row{of: fmt.Sprintf("%s/%d/%s", table, d.EnvironmentID, d.Key), content: []any{d.Version, d.Revision,
		string(d.Document)}}
}

func versionRecord(table string, d documentRow) row {
	return row{of: fmt.Sprintf("%s/%d/%s/%d", table, d.EnvironmentID, d.Key, d.Version), content: []any{d.Revision,
		string(d.Document)}, mayGo: true}
}
