package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"math"
	"slices"

	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "evidence_runs", Why: "kept with their releases"},
	Kept{Table: "exposures", Option: "keep-exposures", Days: 7, Why: "units of evidence runs, by keyed hashes; " +
		"they go after the run has ended"},
	Kept{Table: "bad_units", Option: "keep-exposures", Days: 7,
		Why: "up to 200 units of each side of a run to which " +
			"something bad happened, by name; they go after the run has ended"},
	Kept{Table: "evidence_counts", Why: "kept with their runs"},
	Kept{Table: "evidence_points", Why: "kept with their runs; a run has a few thousand at most"},
	Kept{Table: "evidence_marks", Why: "a row for each process of the service; it goes a day after the process"},
	Kept{Table: "measures", Option: "keep-measures", Days: 30, Why: "what was measured in all, by minute"},
	Kept{Table: "ingested", Option: "keep-batches", Days: 2, Why: "batches of measurements that were taken"},
)

type evidenceRow struct {
	ID          int64  `db:"id"`
	Release     string `db:"release_id"`
	Run         int    `db:"run"`
	Environment int64  `db:"environment_id"`
	Began       int64  `db:"began"`
	Ended       int64  `db:"ended"`
	Secret      []byte `db:"secret"`
	Body        []byte `db:"body"`
}

const evidenceColumns = "id, release_id, run, environment_id, began, ended, secret, body"

func (r evidenceRow) run() (*app.EvidenceRun, error) {
	out := &app.EvidenceRun{ID: r.ID, Release: r.Release, Run: r.Run, Environment: r.Environment, Began: r.Began,
		Ended: r.Ended, Secret: r.Secret}
	var err error
	out.State, err = decode[evidence.State](r.Body)
	return out, err
}

// OpenRun finds an evidence run, or begins it.
func (s *Store) OpenRun(ctx context.Context, r *app.EvidenceRun) (*app.EvidenceRun, error) {
	if _, err := s.work.ExecContext(ctx, "INSERT IGNORE INTO evidence_runs (release_id, run, environment_id, "+
		"began, ended, secret, taken, body) VALUES (?, ?, ?, ?, 0, ?, ?, ?)", r.Release, r.Run, r.Environment, r.Began,
		r.Secret, encode(evidence.Positions{}), encode(evidence.State{})); err != nil {
		return nil, fault(err)
	}
	return s.EvidenceRun(ctx, r.Release, r.Run)
}

// EvidenceRun reads an evidence run of a release.
func (s *Store) EvidenceRun(ctx context.Context, release string, run int) (*app.EvidenceRun, error) {
	row, err := get[evidenceRow](ctx, s.work, "there is no such evidence run", "SELECT "+evidenceColumns+
		" FROM evidence_runs WHERE release_id = ? AND run = ?", release, run)
	if err != nil {
		return nil, err
	}
	return row.run()
}

// EvidencePoints lists what the runs of a release had found, in order: most points of it, evenly, with the last one.
func (s *Store) EvidencePoints(ctx context.Context, release string, most int) ([]app.EvidencePoint, error) {
	rows, err := list[struct {
		Run  int    `db:"run"`
		At   int64  `db:"at"`
		Body []byte `db:"body"`
	}](ctx, s.pages, "SELECT k.number AS run, p.at, p.body FROM (SELECT p.run, p.at, r.run AS number, "+
		"ROW_NUMBER() OVER (ORDER BY r.run DESC, p.at DESC) - 1 AS place, COUNT(*) OVER () AS in_all "+
		"FROM evidence_runs r JOIN evidence_points p ON p.run = r.id WHERE r.release_id = ?) k "+
		"JOIN evidence_points p ON p.run = k.run AND p.at = k.at WHERE k.place % GREATEST(1, CEIL(k.in_all / ?)) = 0 "+
		"ORDER BY k.number, p.at", release, most)
	out := make([]app.EvidencePoint, 0, len(rows))
	for _, r := range rows {
		f, e := decode[evidence.Findings](r.Body)
		if e != nil {
			return nil, e
		}
		out = append(out, app.EvidencePoint{Run: r.Run, At: r.At, Findings: f})
	}
	return out, err
}

// Missed is what of the reports of a run was not counted, by cause.
func (s *Store) Missed(ctx context.Context, release string, run int) (map[string]int64, error) {
	rows, err := list[struct {
		What  string `db:"what"`
		Count int64  `db:"count"`
	}](ctx, s.pages, "SELECT c.what, c.count FROM evidence_runs r JOIN evidence_counts c ON c.run = r.id "+
		"WHERE r.release_id = ? AND r.run = ?", release, run)
	out := map[string]int64{}
	for _, r := range rows {
		out[r.What] = r.Count
	}
	return out, err
}

// Heard is when a metric last got an event in an environment, as a Unix minute; 0: never.
func (s *Store) Heard(ctx context.Context, environment int64, metric string) (minute int64, err error) {
	err = s.work.GetContext(ctx, &minute, "SELECT COALESCE(MAX(minute), 0) FROM measures WHERE environment_id = ? "+
		"AND metric = ?", environment, metric)
	return minute, fault(err)
}

// Measured lists what was measured of a metric since a Unix minute.
func (s *Store) Measured(ctx context.Context, environment int64, metric string, from, to int64) ([]app.MeasureRow,
	error) {
	return list[app.MeasureRow](ctx, s.pages, "SELECT minute, application, version, flag, variant, count, bad, sum "+
		"FROM measures WHERE environment_id = ? AND metric = ? AND minute >= ? AND minute < ? ORDER BY minute",
		environment, metric, from, to)
}

// Mark says up to when a process has written what arrived there, and until when that counts.
func (s *Store) Mark(ctx context.Context, node string, mark, until int64) error {
	_, err := s.work.ExecContext(ctx, "INSERT INTO evidence_marks (node, mark, until) VALUES (?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE mark = VALUES(mark), until = VALUES(until)", node, mark, until)
	return fault(err)
}

// Marked is up to when all processes have written what arrived, of those that are known to live.
func (s *Store) Marked(ctx context.Context, now int64) (mark int64, err error) {
	err = s.work.GetContext(ctx, &mark, "SELECT COALESCE(MIN(mark), ?) FROM evidence_marks WHERE until > ?", now, now)
	return min(mark, now), fault(err)
}

// LookAtRun has a run take what is due of its ledger: nobody else writes there meanwhile, and what was found is
// committed with what it was found by. look gives the state that follows, and a point to keep, or nil for neither.
func (s *Store) LookAtRun(ctx context.Context, id int64, look func(run *app.EvidenceRun,
	due app.Due) (*evidence.State, *app.EvidencePoint, error)) error {
	return s.background(ctx, func(t *Tx) error {
		var row evidenceRow
		if err := t.get(&row, "SELECT "+evidenceColumns+" FROM evidence_runs WHERE id = ? FOR UPDATE",
			id); err != nil {
			return err
		}
		run, err := row.run()
		if err != nil {
			return err
		}
		next, point, err := look(run, func(from, to int64) ([]evidence.Unit, int64, error) {
			return t.dueUnits(id, from, to, dueAtOnce)
		})
		if err != nil || next == nil {
			return err
		}
		if err := t.exec("UPDATE evidence_runs SET taken = ?, body = ? WHERE id = ?", encode(next.Positions()),
			encode(next), id); err != nil {
			return err
		}
		// those that waited in vain for their exposure
		if err := t.exec("DELETE FROM exposures WHERE run = ? AND arm = 0 AND exposed < ? LIMIT 5000", id,
			next.Positions().Oldest()-int64(evidence.Waits)); err != nil || point == nil {
			return err
		}
		return t.exec("INSERT INTO evidence_points (run, at, body) VALUES (?, ?, ?) "+
			"ON DUPLICATE KEY UPDATE body = VALUES(body)", id, point.At, encode(&point.Findings))
	})
}

type exposureRow struct {
	Unit    uint64 `db:"unit"`
	Arm     int8   `db:"arm"`
	Stage   int    `db:"stage"`
	Cohort  int    `db:"cohort"`
	Way     int    `db:"way"`
	Exposed int64  `db:"exposed"`
	Events  []byte `db:"events"`
	With    string `db:"attributes"` // a list as JSON; empty for none
}

func (r *exposureRow) toUnit() (u evidence.Unit, err error) {
	u = evidence.Unit{Arm: evidence.Arm(r.Arm), Stage: r.Stage, Cohort: r.Cohort, Way: r.Way, Exposed: r.Exposed}
	if r.With != "" {
		if err := json.Unmarshal([]byte(r.With), &u.With); err != nil {
			return u, err
		}
	}
	u.Events, err = evidence.ReadEvents(r.Events)
	return u, err
}

const exposureColumns = "unit, arm, stage, cohort, way, exposed, events, attributes"

// dueAtOnce is how many units are taken in one transaction.
const dueAtOnce = 50_000

// dueUnits reads units by when they were first exposed, and tells up to when: where there are more than the most, only
// whole beats are read, at least one.
func (t *Tx) dueUnits(run, from, to int64, most int) ([]evidence.Unit, int64, error) {
	var rows []exposureRow
	if err := t.list(&rows,
		"SELECT "+exposureColumns+" FROM exposures WHERE run = ? AND arm IN (1, 2, 3) AND exposed >= ? "+
			"AND exposed < ? ORDER BY exposed, unit LIMIT ?", run, from, to, most); err != nil {
		return nil, 0, err
	}
	if len(rows) == most {
		last := rows[most-1].Exposed
		if last -= last % int64(evidence.Beat); last <= rows[0].Exposed {
			return t.dueUnits(run, from, to, 2*most)
		}
		to = last
	}
	out := make([]evidence.Unit, 0, len(rows))
	for i := range rows {
		if rows[i].Exposed >= to {
			continue
		}
		u, err := rows[i].toUnit()
		if err != nil {
			return nil, 0, err
		}
		out = append(out, u)
	}
	return out, to, nil
}

// EndRun closes a run: nothing more is taken for it.
func (s *Store) EndRun(ctx context.Context, id, at int64) error {
	_, err := s.work.ExecContext(ctx, "UPDATE evidence_runs SET ended = ? WHERE id = ? AND ended = 0", at, id)
	return fault(err)
}

// OpenRuns lists the runs that have not ended.
func (s *Store) OpenRuns(ctx context.Context) (out []app.EvidenceRun, err error) {
	rows, err := list[evidenceRow](ctx, s.work, "SELECT "+evidenceColumns+" FROM evidence_runs WHERE ended = 0")
	for _, r := range rows {
		one, e := r.run()
		if e != nil {
			return nil, e
		}
		out = append(out, *one)
	}
	return out, err
}

// TakeBatches records batches of measurements, each once, in one transaction: it tells of each whether it was new.
func (s *Store) TakeBatches(ctx context.Context, environment int64, all []app.Batch, now int64) ([]bool, error) {
	taken := make([]bool, len(all))
	err := s.background(ctx, func(t *Tx) error {
		var fresh []*app.Evidence
		for i := range all {
			taken[i] = true
			if all[i].ID != "" {
				digest := sha256.Sum256([]byte(all[i].ID))
				res, err := t.tx.ExecContext(t.ctx, "INSERT IGNORE INTO ingested (environment_id, batch, at) "+
					"VALUES (?, ?, ?)",
					environment, digest[:], now)
				if err != nil {
					return err
				}
				n, err := res.RowsAffected()
				if err != nil {
					return err
				}
				taken[i] = n > 0
			}
			if taken[i] {
				fresh = append(fresh, all[i].Evidence)
			}
		}
		return t.bring(environment, now, fresh)
	})
	return taken, err
}

// bring writes what reports bring for releases and metrics.
func (t *Tx) bring(environment, now int64, all []*app.Evidence) error {
	news, missed := map[int64]map[uint64]*app.UnitNews{}, map[int64]map[string]int64{}
	var lines []measured
	for _, e := range all {
		for i := range e.Units {
			n := &e.Units[i]
			if news[n.Run] == nil {
				news[n.Run] = map[uint64]*app.UnitNews{}
			}
			if had := news[n.Run][n.Unit]; had != nil {
				had.Exposures, had.Events = append(had.Exposures, n.Exposures...), append(had.Events, n.Events...)
				had.Known, had.Bad = had.Known && n.Known, had.Bad || n.Bad
				continue
			}
			one := *n
			news[n.Run][n.Unit] = &one
		}
		for run, causes := range e.Missed {
			for what, count := range causes {
				miss(missed, run, what, count)
			}
		}
		for _, m := range e.Measures {
			lines = append(lines, measured{m.Metric, m.Application, m.Version, m.Flag, m.Variant, m.Count, m.Bad,
				m.Sum})
		}
	}
	for _, run := range slices.Sorted(maps.Keys(news)) { // one order of locks
		if err := t.bringUnits(run, news[run], missed); err != nil {
			return err
		}
	}
	for _, run := range slices.Sorted(maps.Keys(missed)) {
		for _, what := range slices.Sorted(maps.Keys(missed[run])) {
			if err := t.later("INSERT INTO evidence_counts (run, what, count) VALUES (?, ?, ?) "+
				"ON DUPLICATE KEY UPDATE "+
				"count = count + VALUES(count)", run, what, missed[run][what]); err != nil {
				return err
			}
		}
	}
	return t.measure(environment, now/60_000, lines)
}

func miss(missed map[int64]map[string]int64, run int64, what string, count int64) {
	if missed[run] == nil {
		missed[run] = map[string]int64{}
	}
	missed[run][what] += count
}

// bringUnits writes what is new of the units of a run.
func (t *Tx) bringUnits(run int64, news map[uint64]*app.UnitNews, missed map[int64]map[string]int64) error {
	var taken []byte
	if err := t.get(&taken, "SELECT taken FROM evidence_runs WHERE id = ? AND ended = 0 FOR UPDATE", run); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return nil // it has ended
		}
		return err
	}
	var at evidence.Positions
	if err := json.Unmarshal(taken, &at); err != nil {
		return err
	}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(news)), portion) {
		var rows []exposureRow
		if err := t.list(&rows, "SELECT "+exposureColumns+" FROM exposures WHERE run = ? AND unit IN ("+
			marks(len(some))+")", append([]any{run}, anys(some)...)...); err != nil {
			return err
		}
		had := map[uint64]*evidence.Unit{}
		for i := range rows {
			u, err := rows[i].toUnit()
			if err != nil {
				return err
			}
			had[rows[i].Unit] = &u
		}
		args := make([]any, 0, 9*len(some))
		for _, unit := range some {
			u, changed := news[unit].Into(had[unit], at, func(what string) { miss(missed, run, what, 1) })
			if changed {
				args = append(args, run, unit, int8(u.Arm), u.Stage, u.Cohort, u.Way, u.Exposed,
					evidence.AppendEvents(nil, u.Events), with(u.With))
			}
		}
		if err := t.keepBad(run, news, some); err != nil {
			return err
		}
		if len(args) == 0 {
			continue
		}
		if err := t.exec("INSERT INTO exposures (run, "+exposureColumns+") VALUES "+values(len(args)/9, 9)+
			" ON DUPLICATE KEY UPDATE arm = VALUES(arm), stage = VALUES(stage), cohort = VALUES(cohort), "+
			"way = VALUES(way), exposed = VALUES(exposed), events = VALUES(events), attributes = VALUES(attributes)",
			args...); err != nil {
			return err
		}
	}
	return nil
}

// with writes the values that are told with a unit.
func with(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return encode(values)
}

// badKept is how many units are kept by name of each side: those with the smallest hashes, which are as good as drawn.
const badKept = 200

// keepBad keeps some of the units to which something bad happened by name.
func (t *Tx) keepBad(run int64, news map[uint64]*app.UnitNews, some []uint64) error {
	for _, side := range []evidence.Arm{evidence.New, evidence.Old, evidence.Alone} {
		var args []any
		limit := uint64(math.MaxUint64)
		for _, unit := range some {
			n := news[unit]
			if !n.Bad || n.Side != side {
				continue
			}
			if args == nil {
				if err := t.get(&limit, "SELECT unit FROM bad_units WHERE run = ? AND side = ? "+
					"ORDER BY unit LIMIT 1 OFFSET ?", run,
					int8(side), badKept-1); err != nil && !errors.Is(err, sql.ErrNoRows) {
					return err
				}
				args = []any{}
			}
			if unit < limit {
				args = append(args, run, int8(side), unit, n.Name)
			}
		}
		if len(args) == 0 {
			continue
		}
		if err := t.exec("INSERT IGNORE INTO bad_units (run, side, unit, name) VALUES "+values(len(args)/4, 4),
			args...); err != nil {
			return err
		}
		if err := t.exec("DELETE FROM bad_units WHERE run = ? AND side = ? AND unit > (SELECT u FROM "+
			"(SELECT unit u FROM bad_units WHERE run = ? AND side = ? ORDER BY unit LIMIT 1 OFFSET ?) kept)", run,
			int8(side), run, int8(side), badKept-1); err != nil {
			return err
		}
	}
	return nil
}

// BadUnits lists units of a run to which something bad happened, of each side a part that is as good as drawn.
func (s *Store) BadUnits(ctx context.Context, release string, run int) ([]app.BadUnit, error) {
	rows, err := list[struct {
		exposureRow
		Name string `db:"name"`
	}](ctx, s.pages, "SELECT b.name, e.unit, e.arm, e.stage, e.cohort, e.way, e.exposed, e.events, e.attributes "+
		"FROM evidence_runs r JOIN "+
		"bad_units b ON b.run = r.id JOIN exposures e ON e.run = b.run AND e.unit = b.unit WHERE r.release_id = ? "+
		"AND r.run = ? AND e.arm > 0 ORDER BY e.exposed, e.unit", release, run)
	out := make([]app.BadUnit, 0, len(rows))
	for i := range rows {
		u, e := rows[i].toUnit()
		if e != nil {
			return nil, e
		}
		out = append(out, app.BadUnit{Name: rows[i].Name, Unit: u})
	}
	return out, err
}

type measured struct {
	metric, application, version, flag, variant string
	count, bad                                  uint64
	sum                                         float64
}

// measure adds what was measured in a minute.
func (t *Tx) measure(environment, minute int64, lines []measured) error {
	sums := map[measured]*measured{}
	for _, l := range lines {
		key := measured{l.metric, l.application, l.version, l.flag, l.variant, 0, 0, 0}
		if sums[key] == nil {
			sums[key] = &measured{}
		}
		sums[key].count, sums[key].bad, sums[key].sum = sums[key].count+l.count, sums[key].bad+l.bad,
			sums[key].sum+l.sum
	}
	keys := slices.SortedFunc(maps.Keys(sums), func(a, b measured) int {
		return slices.Compare([]string{a.metric, a.application, a.version, a.flag, a.variant},
			[]string{b.metric, b.application, b.version, b.flag, b.variant})
	})
	for some := range slices.Chunk(keys, portion) {
		args := make([]any, 0, 10*len(some))
		for _, k := range some {
			s := sums[k]
			args = append(args, environment, k.metric, minute, k.application, k.version, k.flag, k.variant, s.count,
				s.bad, s.sum)
		}
		if err := t.exec("INSERT INTO measures (environment_id, metric, minute, application, version, flag, "+
			"variant, count, bad, sum) VALUES "+values(len(some), 10)+" ON DUPLICATE KEY UPDATE "+
			"count = count + VALUES(count), bad = bad + VALUES(bad), sum = sum + VALUES(sum)", args...); err != nil {
			return err
		}
	}
	return nil
}
