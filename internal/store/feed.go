package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
)

// AddRevision records the environment's next revision and what it brings to followers.
func (t *Tx) AddRevision(environment int64, e *flag.Event, change string) error {
	if err := t.exec("UPDATE environments SET revision = ? WHERE id = ?", e.Revision, environment); err != nil {
		return err
	}
	return t.exec("INSERT INTO revisions (environment_id, revision, at, change_id, event) VALUES (?, ?, ?, ?, ?)",
		environment, e.Revision, e.At, change, encode(e))
}

// Revisions reads the environment's revisions after one, in order, at most limit of them.
func (s *Store) Revisions(ctx context.Context, environment, after int64, limit int) ([]*flag.Event, error) {
	rows, err := list[[]byte](ctx, s.db, "SELECT event FROM revisions WHERE environment_id = ? AND revision > ? ORDER BY revision LIMIT ?", environment, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]*flag.Event, len(rows))
	for i, raw := range rows {
		e, err := decode[flag.Event](raw)
		if err != nil {
			return nil, fmt.Errorf("revision after %d of environment %d: %w", after, environment, err)
		}
		out[i] = &e
	}
	return out, nil
}

// Heads says where every environment stands, by id.
func (s *Store) Heads(ctx context.Context) (map[int64]feed.Head, error) {
	rows, err := list[struct {
		ID       int64 `db:"id"`
		Revision int64 `db:"revision"`
		Epoch    int64 `db:"epoch"`
	}](ctx, s.db, "SELECT e.id, e.revision, i.epoch FROM installation i LEFT JOIN environments e ON TRUE WHERE e.id IS NOT NULL")
	heads := make(map[int64]feed.Head, len(rows))
	for _, r := range rows {
		heads[r.ID] = feed.Head{Epoch: r.Epoch, Revision: r.Revision}
	}
	return heads, err
}

// Ruleset reads an environment as it stands, at one revision.
func (s *Store) Ruleset(ctx context.Context, environment int64) (*flag.Ruleset, error) {
	return s.ruleset(ctx, environment, newest)
}

// newest stands for the environment's newest revision.
const newest = -1

// RulesetAt reads an environment as it stood at a revision.
func (s *Store) RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error) {
	if revision < 0 {
		return nil, app.Faultf(app.NotFound, "revisions count from 0, before the first change")
	}
	return s.ruleset(ctx, environment, revision)
}

func (s *Store) ruleset(ctx context.Context, environment, revision int64) (*flag.Ruleset, error) {
	secrets, err := s.Sampling(ctx, environment)
	if err != nil {
		return nil, err
	}
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return nil, fault(err)
	}
	defer func() { _ = tx.Rollback() }()
	t := &Tx{ctx, tx}
	var head struct {
		Revision int64 `db:"revision"`
		Epoch    int64 `db:"epoch"`
	}
	if err := t.get(&head, "SELECT e.revision, i.epoch FROM environments e, installation i WHERE e.id = ?", environment); err != nil {
		return nil, fault(err)
	}
	if revision == newest {
		revision = head.Revision
	}
	if revision > head.Revision {
		return nil, app.Faultf(app.NotFound, "there is no revision %d: the newest is %d", revision, head.Revision)
	}
	snap := &flag.Snapshot{Format: flag.Format, Epoch: head.Epoch, Revision: revision}
	if revision > 0 {
		if err := t.get(&snap.At, "SELECT at FROM revisions WHERE environment_id = ? AND revision = ?", environment, revision); err != nil {
			return nil, fault(err)
		}
	}
	for _, part := range []struct {
		table, versions, key string
		into                 *[]json.RawMessage
	}{{"flags", "flag_versions", "flag", &snap.Flags}, {"segments", "segment_versions", "segment", &snap.Segments}} {
		query, args := "SELECT document FROM "+part.table+" WHERE environment_id = ?", []any{environment}
		if revision < head.Revision {
			query = fmt.Sprintf("SELECT v.document FROM %[1]s v JOIN (SELECT %[2]s, MAX(version) version FROM %[1]s WHERE environment_id = ? AND revision <= ? GROUP BY %[2]s) l "+
				"ON l.%[2]s = v.%[2]s AND l.version = v.version WHERE v.environment_id = ?", part.versions, part.key)
			args = []any{environment, revision, environment}
		}
		var docs [][]byte
		if err := t.list(&docs, query, args...); err != nil {
			return nil, fault(err)
		}
		for _, d := range docs {
			*part.into = append(*part.into, d)
		}
	}
	stops, err := stopsAt(t, environment, revision)
	if err != nil {
		return nil, fault(err)
	}
	snap.Stops = stops
	snap.SeeAs = flag.SeeAsKey(secrets.SeeAs)
	_ = tx.Rollback() // lists never change under their digest, so they need no snapshot
	rs, err := flag.NewRuleset(snap)
	if err != nil {
		return nil, err
	}
	_, missing := rs.Needed()
	for _, digest := range missing {
		if rs.Hashes == nil {
			rs.Hashes = map[string]flag.Hashes{}
		}
		if rs.Hashes[digest], err = s.List(ctx, digest); err != nil {
			return nil, err
		}
	}
	return rs, nil
}

func stopsAt(t *Tx, environment, revision int64) ([]flag.Stop, error) {
	var rows []stopRow
	if err := t.list(&rows, "SELECT * FROM stops WHERE environment_id = ? AND revision <= ? AND (lifted_at = 0 OR lifted_revision > ?) ORDER BY revision", environment, revision, revision); err != nil {
		return nil, err
	}
	var out []flag.Stop
	for _, r := range rows {
		s, err := r.record()
		if err != nil {
			return nil, err
		}
		out = append(out, flag.Stop{ID: s.ID, Flags: s.Flags, At: s.At})
	}
	return out, nil
}

// RevisionAt is the newest revision of an environment at a time; 0 before the first.
func (s *Store) RevisionAt(ctx context.Context, environment, at int64) (int64, error) {
	v, err := get[int64](ctx, s.db, "", "SELECT COALESCE(MAX(revision), 0) FROM revisions WHERE environment_id = ? AND at <= ?", environment, at)
	if err != nil {
		return 0, err
	}
	return *v, nil
}

type stopRow struct {
	ID             string `db:"id"`
	EnvironmentID  int64  `db:"environment_id"`
	Flags          []byte `db:"flags"`
	By             string `db:"by_id"`
	At             int64  `db:"at"`
	Reason         string `db:"reason"`
	Revision       int64  `db:"revision"`
	LiftedBy       string `db:"lifted_by"`
	LiftedAt       int64  `db:"lifted_at"`
	LiftedRevision int64  `db:"lifted_revision"`
}

func (r stopRow) record() (app.StopRecord, error) {
	flags, err := decode[[]string](r.Flags)
	return app.StopRecord{ID: r.ID, EnvironmentID: r.EnvironmentID, Flags: flags, By: r.By, At: r.At, Reason: r.Reason,
		Revision: r.Revision, LiftedBy: r.LiftedBy, LiftedAt: r.LiftedAt, LiftedRevision: r.LiftedRevision}, err
}

func stopRecords(rows []stopRow, err error) ([]app.StopRecord, error) {
	out := make([]app.StopRecord, 0, len(rows))
	for _, r := range rows {
		s, e := r.record()
		if e != nil {
			return nil, e
		}
		out = append(out, s)
	}
	return out, err
}

// StandingStops lists the stops of an environment that are not lifted.
func (t *Tx) StandingStops(environment int64) ([]app.StopRecord, error) {
	return stopRecords(list[stopRow](t.ctx, t.tx, "SELECT * FROM stops WHERE environment_id = ? AND lifted_at = 0 ORDER BY revision", environment))
}

// Stops lists the newest stops of an environment, standing ones first.
func (s *Store) Stops(ctx context.Context, environment int64) ([]app.StopRecord, error) {
	return stopRecords(list[stopRow](ctx, s.db, "SELECT * FROM stops WHERE environment_id = ? ORDER BY lifted_at > 0, revision DESC LIMIT 100", environment))
}

// AddStop records a stop.
func (t *Tx) AddStop(s *app.StopRecord) error {
	return t.exec("INSERT INTO stops (id, environment_id, flags, by_id, at, reason, revision) VALUES (?, ?, ?, ?, ?, ?, ?)",
		s.ID, s.EnvironmentID, encode(s.Flags), s.By, s.At, s.Reason, s.Revision)
}

// LiftStop records that a stop is lifted.
func (t *Tx) LiftStop(id, by string, at, revision int64) error {
	return t.exec("UPDATE stops SET lifted_by = ?, lifted_at = ?, lifted_revision = ? WHERE id = ? AND lifted_at = 0", by, at, revision, id)
}
