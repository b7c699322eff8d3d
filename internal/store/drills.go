package store

import (
	"context"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "drills", Option: "keep-past", Days: 1_100, Why: "stops that were practised"},
)

var _ = writes((*Tx).AddDrill)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, drillRecord, "SELECT "+drillColumns+" FROM drills WHERE environment_id = ?", id)
})

const drillColumns = "id, environment_id, kind, at, revision, body"

type drillRow struct {
	ID          string `db:"id"`
	Environment int64  `db:"environment_id"`
	Kind        string `db:"kind"`
	At          int64  `db:"at"`
	Revision    int64  `db:"revision"`
	Body        []byte `db:"body"`
}

func drillRecord(r drillRow) row {
	return row{of: "drills/" + r.ID, content: []any{r.Environment, r.Kind, r.At, r.Revision, string(r.Body)},
		mayGo: true}
}

func drills(rows []drillRow, err error) ([]app.Drill, error) {
	out := make([]app.Drill, 0, len(rows))
	for _, r := range rows {
		d, e := decode[app.Drill](r.Body)
		if e != nil {
			return nil, e
		}
		out = append(out, d)
	}
	return out, err
}

// AddDrill records a drill.
func (t *Tx) AddDrill(d *app.Drill) error {
	r := drillRow{d.ID, d.EnvironmentID, string(d.Kind), d.At, d.Revision, []byte(encode(d))}
	if err := t.later("INSERT INTO drills ("+drillColumns+") VALUES (?, ?, ?, ?, ?, ?)", r.ID, r.Environment, r.Kind,
		r.At, r.Revision, string(r.Body)); err != nil {
		return err
	}
	return t.touch(drillRecord(r))
}

// Drills lists the newest drills of an environment, newest first; reminders are none.
func (s *Store) Drills(ctx context.Context, environment int64, most int) ([]app.Drill, error) {
	return drills(list[drillRow](ctx, s.pages, "SELECT "+drillColumns+" FROM drills WHERE environment_id = ? "+
		"AND kind <> 'reminder' ORDER BY at DESC, id LIMIT ?", environment, most))
}

// Drill finds a drill.
func (s *Store) Drill(ctx context.Context, environment int64, id string) (*app.Drill, error) {
	row, err := get[drillRow](ctx, s.pages, "there is no such drill in this environment", "SELECT "+drillColumns+
		" FROM drills WHERE environment_id = ? AND id = ? AND kind <> 'reminder'", environment, id)
	if err != nil {
		return nil, err
	}
	d, err := decode[app.Drill](row.Body)
	return &d, err
}

// Rehearsed lists which of an environment's revisions from one on are those of rehearsals.
func (s *Store) Rehearsed(ctx context.Context, environment, from int64) ([]int64, error) {
	return list[int64](ctx, s.pages, "SELECT revision FROM drills WHERE environment_id = ? AND revision "+
		">= ?", environment,
		from)
}

// RemindedAt is when webhooks were last told what was not practised, or when the environment was made.
func (s *Store) RemindedAt(ctx context.Context, environment int64) (at int64, err error) {
	err = s.work.GetContext(ctx, &at, "SELECT GREATEST(e.created, COALESCE((SELECT MAX(d.at) FROM drills d "+
		"WHERE d.environment_id = e.id AND d.kind = 'reminder'), 0)) FROM environments e WHERE e.id = ?", environment)
	return at, fault(err)
}

// Practised tells when each flag of an environment was last stopped or part of a drill, by key, and when each of its
// tripwires last heard an alert that it stops for, or was part of a drill, by id.
func (s *Store) Practised(ctx context.Context, environment int64) (flags, tripwires map[string]int64, err error) {
	type stopped struct {
		Flags []byte `db:"flags"`
		At    int64  `db:"at"`
	}
	rows, err := list[stopped](ctx, s.pages, "SELECT flags, MAX(at) at FROM stops WHERE environment_id = ? "+
		"GROUP BY flags", environment)
	if err != nil {
		return nil, nil, err
	}
	flags, tripwires = map[string]int64{}, map[string]int64{}
	for _, r := range rows {
		keys, err := decode[[]string](r.Flags)
		if err != nil {
			return nil, nil, err
		}
		for _, key := range keys {
			flags[key] = max(flags[key], r.At)
		}
	}
	held, err := drills(list[drillRow](ctx, s.pages, "SELECT "+drillColumns+" FROM drills WHERE environment_id = ?",
		environment))
	if err != nil {
		return nil, nil, err
	}
	for _, d := range held {
		for _, key := range d.Flags {
			flags[key] = max(flags[key], d.At)
		}
		if d.Tripwire != "" {
			tripwires[d.Tripwire] = max(tripwires[d.Tripwire], d.At)
		}
	}
	type heard struct {
		ID string `db:"tripwire"`
		At int64  `db:"at"`
	}
	fired, err := list[heard](ctx, s.pages, "SELECT a.tripwire, MAX(a.fired) at FROM tripwires t JOIN "+
		"tripwire_alerts a "+
		"ON a.tripwire = t.id WHERE t.environment_id = ? GROUP BY a.tripwire", environment)
	for _, h := range fired {
		tripwires[h.ID] = max(tripwires[h.ID], h.At)
	}
	return flags, tripwires, err
}
