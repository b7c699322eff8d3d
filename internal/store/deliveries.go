package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "applied", Option: "keep-applied", Days: 1, Why: "when instances took revisions, before that is " +
		"summed up as a delivery", Bytes: 500 * 90},
	Kept{Table: "deliveries", Option: "keep-deliveries", Days: 400, Why: "how revisions spread", Bytes: 300},
)

var _ = speaks("environment", func(v *reading, id int64) {
	type delivery struct {
		Epoch    int64  `db:"epoch"`
		Revision int64  `db:"revision"`
		At       int64  `db:"at"`
		Body     []byte `db:"body"`
	}
	readPages(v, func(d delivery) row { return deliveryRecord(id, d.Epoch, d.Revision, d.At, string(d.Body)) },
		"SELECT epoch, revision, at, body FROM deliveries WHERE environment_id = ? AND at > 0 "+
			"AND JSON_VALUE(body, '$.expected') > 0", []any{id}, "epoch, revision",
		func(d delivery) (string, []any) {
			return "(epoch > ? OR epoch = ? AND revision > ?)", []any{d.Epoch, d.Epoch, d.Revision}
		})
})

// Applied lists when instances of an environment began to decide by revisions of an epoch,
// from one on, by instance. Those of another history are left out.
func (s *Store) Applied(ctx context.Context, environment, epoch, from int64) (map[string][]wire.Applied, error) {
	rows, err := list[struct {
		Instance string `db:"instance"`
		wire.Applied
	}](ctx, s.pages, "SELECT a.instance, a.epoch, a.revision, a.at, a.digest FROM applied a "+
		"JOIN revisions r ON r.environment_id = a.environment_id AND r.revision = a.revision "+
		"WHERE a.environment_id = ? AND a.epoch = ? AND a.revision >= ? AND (a.digest = '' OR r.digest = '' "+
		"OR a.digest = r.digest) ORDER BY a.revision", environment, epoch, from)
	out := map[string][]wire.Applied{}
	for _, r := range rows {
		out[r.Instance] = append(out[r.Instance], r.Applied)
	}
	return out, err
}

// CommitTimes gives when an environment's revisions were committed, from one on, at most
// limit of them.
func (s *Store) CommitTimes(ctx context.Context, environment, from int64, limit int) (map[int64]int64, error) {
	rows, err := list[wire.Applied](ctx, s.pages, "SELECT 0 epoch, revision, at, '' digest FROM revisions "+
		"WHERE environment_id = ? AND revision >= ? ORDER BY revision LIMIT ?", environment, from, limit)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.Revision] = r.At
	}
	return out, err
}

// DeliveredUpTo is the last revision whose delivery stands in the records; 0 for none.
func (s *Store) DeliveredUpTo(ctx context.Context, environment, epoch int64) (int64, error) {
	v, err := get[int64](ctx, s.pages, "", "SELECT COALESCE(MAX(revision), 0) FROM deliveries "+
		"WHERE environment_id = ? AND epoch = ?", environment, epoch)
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// Deliveries lists the newest deliveries that are recorded, newest first.
func (s *Store) Deliveries(ctx context.Context, environment int64, limit int) ([]app.Delivery, error) {
	rows, err := list[[]byte](ctx, s.pages, "SELECT body FROM deliveries WHERE environment_id = ? AND at > 0 "+
		"ORDER BY epoch DESC, revision DESC LIMIT ?", environment, limit)
	out := make([]app.Delivery, 0, len(rows))
	for _, raw := range rows {
		d, e := decode[app.Delivery](raw)
		if e != nil {
			return nil, e
		}
		out = append(out, d)
	}
	return out, err
}

// DeliveriesOf gives how revisions of an environment spread, by revision, of those whose delivery is over.
func (s *Store) DeliveriesOf(ctx context.Context, environment int64,
	revisions []int64) (map[int64]app.Delivery, error) {
	out := map[int64]app.Delivery{}
	if len(revisions) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In("SELECT body FROM deliveries WHERE environment_id = ? AND revision IN (?) AND at > 0 "+
		"ORDER BY epoch", environment, revisions)
	if err != nil {
		return nil, err
	}
	rows, err := list[[]byte](ctx, s.pages, query, args...)
	for _, raw := range rows {
		d, e := decode[app.Delivery](raw)
		if e != nil {
			return nil, e
		}
		out[d.Revision] = d
	}
	return out, err
}

// AddDeliveries records how revisions spread; false where another process was first.
func (t *Tx) AddDeliveries(environment int64, all []app.Delivery) (bool, error) {
	for _, d := range all {
		body := encode(d)
		res, err := t.tx.ExecContext(t.ctx, "INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, "+
			"body) VALUES (?, ?, ?, ?, ?)", environment, d.Epoch, d.Revision, d.At, body)
		if err != nil {
			return false, err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			t.touched = nil // nothing of this stays: the caller ends here
			return false, err
		}
		if d.Expected == 0 {
			continue // the audit says nothing of those that nobody was there for
		}
		if err := t.touch(deliveryRecord(environment, d.Epoch, d.Revision, d.At, body)); err != nil {
			return false, err
		}
	}
	return true, nil
}

func deliveryRecord(environment, epoch, revision, at int64, body string) row {
	return row{of: fmt.Sprintf("deliveries/%d/%d/%d", environment, epoch, revision), content: []any{at, body},
		mayGo: true}
}
