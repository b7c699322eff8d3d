package store

import (
	"context"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "stops", Option: "keep-past", Days: 1_100, Why: "stops that were lifted"},
)

var _ = writes((*Tx).AddStop)

var _ = writes((*Tx).LiftStops)

var _ = writes((*Tx).SayWhyStopped)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, stopRecord, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ?", id)
})

const stopColumns = "id, environment_id, flags, by_id, at, reason, revision, lifted_by, lifted_at, lifted_revision, " +
	"later_reason, later_by, later_at"

func stopsAt(t *Tx, environment, revision int64) ([]flag.Stop, error) {
	var rows []stopRow
	if err := t.list(&rows, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? AND revision <= ? AND "+
		"(lifted_at = 0 OR lifted_revision > ?) ORDER BY revision", environment, revision, revision); err != nil {
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
	Later          string `db:"later_reason"`
	LaterBy        string `db:"later_by"`
	LaterAt        int64  `db:"later_at"`
}

func (r stopRow) record() (app.StopRecord, error) {
	flags, err := decode[[]string](r.Flags)
	return app.StopRecord{ID: r.ID, EnvironmentID: r.EnvironmentID, Flags: flags, By: r.By, At: r.At, Reason: r.Reason,
		Revision: r.Revision, LiftedBy: r.LiftedBy, LiftedAt: r.LiftedAt, LiftedRevision: r.LiftedRevision,
		Later: r.Later, LaterBy: r.LaterBy, LaterAt: r.LaterAt}, err
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

// StandingStops lists the stops of an environment that are not lifted and have one of some
// ids.
func (t *Tx) StandingStops(environment int64, ids []string) ([]app.StopRecord, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	return stopRecords(list[stopRow](t.ctx, t.tx, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? AND "+
		"lifted_at = 0 AND id IN ("+marks(len(ids))+") ORDER BY revision",
		append([]any{environment}, anys(ids)...)...))
}

// stopOf is the id of a stop that stands on a flag; empty for none.
func (t *Tx) stopOf(environment int64, key string) (string, error) {
	var ids []string
	err := t.list(&ids, "SELECT id FROM stops WHERE environment_id = ? AND lifted_at = 0 "+
		"AND JSON_CONTAINS(flags, JSON_QUOTE(?)) ORDER BY revision LIMIT 1", environment, key)
	if err != nil || len(ids) == 0 {
		return "", err
	}
	return ids[0], nil
}

// StopsLike lists the standing stops of exactly the same flags.
func (t *Tx) StopsLike(environment int64, flags []string) ([]app.StopRecord, error) {
	return stopRecords(list[stopRow](t.ctx, t.tx, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? AND "+
		"lifted_at = 0 AND flags = ? ORDER BY revision", environment, encode(flags)))
}

// Stops lists all standing stops of an environment, newest first, and then the newest of
// those that were lifted, at most some of them.
func (s *Store) Stops(ctx context.Context, environment int64, lifted int) ([]app.StopRecord, error) {
	standing, err := stopRecords(list[stopRow](ctx, s.door, "SELECT "+stopColumns+" FROM stops WHERE environment_id "+
		"= ? AND lifted_at = 0 ORDER BY revision DESC", environment))
	if err != nil || lifted == 0 {
		return standing, err
	}
	past, err := stopRecords(list[stopRow](ctx, s.door, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? "+
		"AND lifted_at > 0 ORDER BY revision DESC LIMIT ?", environment, lifted))
	return append(standing, past...), err
}

// AddStop records a stop.
func (t *Tx) AddStop(s *app.StopRecord) error {
	flags := encode(s.Flags)
	if err := t.later("INSERT INTO stops (id, environment_id, flags, by_id, at, reason, revision) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?)",
		s.ID, s.EnvironmentID, flags, s.By, s.At, s.Reason, s.Revision); err != nil {
		return err
	}
	return t.touch(stopRecord(stopRow{ID: s.ID, EnvironmentID: s.EnvironmentID, Flags: []byte(flags), By: s.By,
		At: s.At, Reason: s.Reason, Revision: s.Revision}))
}

// LiftStops records that stops are lifted.
func (t *Tx) LiftStops(l *app.Lift) error {
	marks, ids := marks(len(l.IDs)), anys(l.IDs)
	if err := t.exec("UPDATE stops SET lifted_by = ?, lifted_at = ?, lifted_revision = ? WHERE lifted_at = 0 "+
		"AND id IN ("+marks+")",
		append([]any{l.By, l.At, l.Revision}, ids...)...); err != nil {
		return err
	}
	return touchRows(t, stopRecord, "SELECT "+stopColumns+" FROM stops WHERE id IN ("+marks+")", ids...)
}

// SayWhyStopped gives stops a reason afterwards.
func (t *Tx) SayWhyStopped(r *app.StopReason) error {
	if err := t.exec("UPDATE stops SET later_reason = ?, later_by = ?, later_at = ? WHERE id = ?", r.Reason, r.By,
		r.At, r.ID); err != nil {
		return err
	}
	return touchRows(t, stopRecord, "SELECT "+stopColumns+" FROM stops WHERE id = ?", r.ID)
}

// Stop finds a stop of an environment, also a lifted one; nil for none.
func (t *Tx) Stop(environment int64, id string) (*app.StopRecord, error) {
	all, err := stopRecords(list[stopRow](t.ctx, t.tx, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? "+
		"AND id = ?", environment, id))
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Stop finds a stop of an environment, also a lifted one.
func (s *Store) Stop(ctx context.Context, environment int64, id string) (*app.StopRecord, error) {
	row, err := get[stopRow](ctx, s.door, "there is no such stop in this environment", "SELECT "+stopColumns+
		" FROM stops WHERE environment_id = ? AND id = ?", environment, id)
	if err != nil {
		return nil, err
	}
	out, err := row.record()
	return &out, err
}

// Knows gives those of some ids of stops that an environment's records know, also lifted ones and those that an
// emergency order lifted before they came.
func (s *Store) Knows(ctx context.Context, environment int64, stops []string) (known []string, err error) {
	if len(stops) == 0 {
		return nil, nil
	}
	if known, err = list[string](ctx, s.door, "SELECT id FROM stops WHERE environment_id = ? AND id IN ("+
		marks(len(stops))+")", append([]any{environment}, anys(stops)...)...); err != nil {
		return nil, err
	}
	settled, err := s.settled(ctx, environment)
	return append(known, settled...), err
}

// UnknownFlags gives those of some keys that no flag of an environment has.
func (t *Tx) UnknownFlags(environment int64, keys []string) ([]string, error) {
	var have []string
	if err := t.list(&have, "SELECT flag FROM flags WHERE environment_id = ? AND document <> 'null' AND flag IN ("+
		marks(len(keys))+")",
		append([]any{environment}, anys(keys)...)...); err != nil {
		return nil, err
	}
	known := make(map[string]bool, len(have))
	for _, k := range have {
		known[k] = true
	}
	var unknown []string
	for _, k := range keys {
		if !known[k] {
			unknown = append(unknown, k)
		}
	}
	return unknown, nil
}

func stopRecord(r stopRow) row {
	out := row{of: "stops/" + r.ID, content: []any{r.EnvironmentID, string(r.Flags), r.By, r.At, r.Reason, r.Revision,
		r.LiftedBy, r.LiftedAt, r.LiftedRevision}, mayGo: r.LiftedAt > 0}
	if r.LaterAt > 0 || r.Later+r.LaterBy != "" { // of those before it was known, entries speak without it
		out.content = append(out.content, r.Later, r.LaterBy, r.LaterAt)
	}
	return out
}
