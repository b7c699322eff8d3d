package store

import (
	"context"
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "emergency_orders", Why: "kept, so that an old order can never stop again"},
)

var _ = writes((*Tx).AddOrder)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, orderRecord, "SELECT "+orderColumns+" FROM emergency_orders WHERE environment_id = ?", id)
})

const orderColumns = "environment_id, id, at, lifts, body"

type orderRow struct {
	Environment int64  `db:"environment_id"`
	ID          string `db:"id"`
	At          int64  `db:"at"`
	Lifts       []byte `db:"lifts"`
	Body        string `db:"body"`
}

func orderRecord(r orderRow) row {
	return row{of: "emergency_orders/" + r.ID, content: []any{r.Environment, r.At, string(r.Lifts), r.Body}}
}

// AddOrder records an emergency order.
func (t *Tx) AddOrder(o *app.EmergencyOrder) error {
	r := orderRow{o.EnvironmentID, o.ID, o.At, []byte(encode(append([]string{}, o.Lifts...))), o.Text}
	if err := t.later("INSERT INTO emergency_orders ("+orderColumns+") VALUES (?, ?, ?, ?, ?)", r.Environment, r.ID,
		r.At, string(r.Lifts), r.Body); err != nil {
		return err
	}
	return t.touch(orderRecord(r))
}

// Settled lists the ids of the emergency orders that an environment's records know, and of what those lifted.
func (t *Tx) Settled(environment int64) ([]string, error) {
	return settled(list[orderRow](t.ctx, t.tx, selectOrders, environment))
}

func (s *Store) settled(ctx context.Context, environment int64) ([]string, error) {
	return settled(list[orderRow](ctx, s.door, selectOrders, environment))
}

const selectOrders = "SELECT " + orderColumns + " FROM emergency_orders WHERE environment_id = ? ORDER BY at, id"

func settled(rows []orderRow, err error) ([]string, error) {
	var ids []string
	for _, r := range rows {
		lifts, e := decode[[]string](r.Lifts)
		if e != nil {
			return nil, e
		}
		ids = append(append(ids, r.ID), lifts...)
	}
	slices.Sort(ids)
	return slices.Compact(ids), err
}

// emergencyOf is what orders of an environment are told by; nil where the installation has no key.
func (t *Tx) emergencyOf(environment int64) (*flag.Emergency, error) {
	e := &flag.Emergency{}
	row := struct {
		Key     string `db:"emergency_key"`
		Project string `db:"project_key"`
		Name    string `db:"environment_key"`
	}{}
	err := t.get(&row, "SELECT i.emergency_key, p.project_key, e.environment_key FROM installation i "+
		"JOIN environments e ON e.id = ? JOIN projects p ON p.id = e.project_id", environment)
	if err != nil || row.Key == "" {
		return nil, err
	}
	e.Key, e.Of = row.Key, row.Project+"/"+row.Name
	return e, nil
}

// GenuineStop tells whether a service over these records, or over those that they are a backup of, gave a stop.
func (s *Store) GenuineStop(ctx context.Context, environment int64, stop flag.Stop) (bool, error) {
	secret, err := s.secret(ctx)
	return err == nil && stop.Genuine(secret, environment), err
}

// prove gives stops their proofs.
func prove(stops []flag.Stop, secret []byte, environment int64) {
	for i := range stops {
		stops[i].Proof = stops[i].Prove(secret, environment)
	}
}
