package store

import (
	"context"
	"database/sql"
	"errors"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "tripwires", Why: "kept, also when they are taken away, since stops speak of them"},
	Kept{Table: "tripwire_alerts", Option: "keep-past", Days: 1_100,
		Why: "alerts that stopped something and are over"},
	Kept{Table: "tripwire_calls", Option: "keep-calls", Days: 2, Why: "calls of tripwires that take several"},
)

var (
	_ = writes((*Tx).PutTripwire)
	_ = writes((*Tx).PutAlert)
	_ = writes((*Tx).ArmTripwire)
	_ = writes((*Tx).NoteRefused)
)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, tripwireRecord, "SELECT id, environment_id, gone, body FROM tripwires WHERE environment_id = ?", id)
	read(v, alertRecord, "SELECT a.tripwire, a.identity, a.name, a.fired, a.stop, a.cleared FROM tripwires t "+
		"JOIN tripwire_alerts a ON a.tripwire = t.id WHERE t.environment_id = ?", id)
})

type tripwireRow struct {
	ID          string `db:"id"`
	Environment int64  `db:"environment_id"`
	Gone        bool   `db:"gone"`
	Body        []byte `db:"body"`
}

type tripwireBody struct {
	app.Tripwire
	Kept    []app.TripwireSecret `json:"secrets"`
	Signing string               `json:"signing,omitempty"`
}

func (r tripwireRow) tripwire() (app.Tripwire, error) {
	b, err := decode[tripwireBody](r.Body)
	w := b.Tripwire
	w.ID, w.Environment, w.Gone, w.Secrets, w.Signing = r.ID, r.Environment, r.Gone, b.Kept, b.Signing
	return w, err
}

func tripwireRecord(r tripwireRow) row {
	return row{of: "tripwires/" + r.ID, content: []any{r.Gone, string(r.Body)}}
}

func alertRecord(a app.TripwireAlert) row {
	return row{of: "tripwire_alerts/" + a.Tripwire + "/" + a.Identity, mayGo: a.Cleared > 0,
		content: []any{a.Name, a.Fired, a.Stop, a.Cleared}}
}

func tripwires(rows []tripwireRow, err error) ([]app.Tripwire, error) {
	out := make([]app.Tripwire, 0, len(rows))
	for _, r := range rows {
		w, e := r.tripwire()
		if e != nil {
			return nil, e
		}
		out = append(out, w)
	}
	return out, err
}

const tripwireColumns = "id, environment_id, gone, body"

// Tripwires lists the tripwires of an environment.
func (r reader) Tripwires(environment int64) ([]app.Tripwire, error) {
	return tripwires(list[tripwireRow](r.ctx, r.q, "SELECT "+tripwireColumns+" FROM tripwires "+
		"WHERE environment_id = ? AND gone = 0 ORDER BY id", environment))
}

// Tripwires lists the tripwires of an environment.
func (s *Store) Tripwires(ctx context.Context, environment int64) ([]app.Tripwire, error) {
	return reader{ctx, s.pages}.Tripwires(environment)
}

// AllTripwires lists the tripwires of all environments.
func (s *Store) AllTripwires(ctx context.Context) ([]app.Tripwire, error) {
	return tripwires(list[tripwireRow](ctx, s.door, "SELECT "+tripwireColumns+" FROM tripwires WHERE gone = 0"))
}

// TripwireNames are the titles of the tripwires of an environment, also of those that are gone, by id.
func (s *Store) TripwireNames(ctx context.Context, environment int64) (map[string]string, error) {
	all, err := tripwires(list[tripwireRow](ctx, s.door, "SELECT "+tripwireColumns+" FROM tripwires "+
		"WHERE environment_id = ?", environment))
	out := map[string]string{}
	for _, w := range all {
		out[w.ID] = w.Title
	}
	return out, err
}

const alertColumns = "tripwire, identity, name, fired, stop, cleared"

// TripwireAlert is an alert that a tripwire heard of; nil for none.
func (t *Tx) TripwireAlert(tripwire, identity string) (*app.TripwireAlert, error) {
	a := &app.TripwireAlert{}
	err := t.get(a, "SELECT "+alertColumns+" FROM tripwire_alerts WHERE tripwire = ? AND identity = ?", tripwire,
		identity)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}

// TripwireAlerts lists the newest alerts of the tripwires of an environment.
func (s *Store) TripwireAlerts(ctx context.Context, environment int64, most int) ([]app.TripwireAlert, error) {
	return list[app.TripwireAlert](ctx, s.pages, "SELECT a.tripwire, a.identity, a.name, a.fired, a.stop, a.cleared "+
		"FROM tripwires t JOIN tripwire_alerts a ON a.tripwire = t.id WHERE t.environment_id = ? AND t.gone = 0 "+
		"ORDER BY a.fired DESC LIMIT ?", environment, most)
}

// TripwireRefusedAt is the minute of the last entry of refused calls.
func (t *Tx) TripwireRefusedAt(tripwire string) (minute int64, err error) {
	return minute, t.get(&minute, "SELECT refused FROM tripwires WHERE id = ? FOR UPDATE", tripwire)
}

// PutTripwire saves a tripwire.
func (t *Tx) PutTripwire(w *app.Tripwire) error {
	r := tripwireRow{w.ID, w.Environment, w.Gone, []byte(encode(tripwireBody{*w, w.Secrets, w.Signing}))}
	if err := t.later("INSERT INTO tripwires (id, environment_id, gone, body) VALUES (?, ?, ?, ?) ON DUPLICATE KEY "+
		"UPDATE gone = VALUES(gone), body = VALUES(body)", r.ID, r.Environment, r.Gone, string(r.Body)); err != nil {
		return err
	}
	return t.touch(tripwireRecord(r))
}

// PutAlert saves an alert that a tripwire heard of.
func (t *Tx) PutAlert(a *app.TripwireAlert) error {
	if err := t.later("INSERT INTO tripwire_alerts ("+alertColumns+") VALUES (?, ?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE name = VALUES(name), fired = VALUES(fired), stop = VALUES(stop), "+
		"cleared = VALUES(cleared)", a.Tripwire, a.Identity, a.Name, a.Fired, a.Stop, a.Cleared); err != nil {
		return err
	}
	return t.touch(alertRecord(*a))
}

// ArmTripwire arms a tripwire again: what it stopped for is over, and what it counted is not counted any more.
func (t *Tx) ArmTripwire(a *app.TripwireArmed) error {
	if err := t.exec("UPDATE tripwire_alerts SET cleared = ? WHERE tripwire = ? AND cleared = 0", a.At,
		a.ID); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM tripwire_calls WHERE tripwire = ?", a.ID); err != nil {
		return err
	}
	// Also where no alert was heard: whoever arms it has the chain speak of it.
	if err := touchRows(t, tripwireRecord, "SELECT "+tripwireColumns+" FROM tripwires WHERE id "+
		"= ?", a.ID); err != nil {
		return err
	}
	return touchRows(t, alertRecord, "SELECT "+alertColumns+" FROM tripwire_alerts WHERE tripwire = ? AND cleared = ?",
		a.ID, a.At)
}

// NoteRefused notes that refused calls stand in the audit for a minute.
func (t *Tx) NoteRefused(r *app.TripwireRefused) error {
	return t.later("UPDATE tripwires SET refused = ? WHERE id = ?", r.Minute, r.ID)
}

// CountCall notes a call of an alert, and tells how many came since a time.
func (s *Store) CountCall(ctx context.Context, tripwire, identity string, at, since int64) (n int, err error) {
	if _, err := s.door.ExecContext(ctx, "INSERT INTO tripwire_calls (tripwire, identity, at) VALUES (?, ?, ?)",
		tripwire, identity, at); err != nil {
		return 0, fault(err)
	}
	err = s.door.GetContext(ctx, &n, "SELECT COUNT(*) FROM tripwire_calls WHERE tripwire = ? AND identity = ? "+
		"AND at > ?", tripwire, identity, since)
	return n, fault(err)
}
