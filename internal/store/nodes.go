package store

import (
	"context"
	"errors"
	"time"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "nodes", Why: "processes of the service; they go a day after their lease ran out"},
)

// NodeLives renews a node's lease and says what it has; a leaving one gives it back.
func (s *Store) NodeLives(ctx context.Context, n *app.Node, life time.Duration, leaving bool) error {
	if leaving {
		_, err := s.work.ExecContext(ctx, "DELETE FROM nodes WHERE id = ?", n.ID)
		return fault(err)
	}
	_, err := s.work.ExecContext(ctx, "INSERT INTO nodes (id, version, started, until, body) "+
		"VALUES (?, ?, ?, NOW(6) + INTERVAL ? MICROSECOND, ?) "+
		"ON DUPLICATE KEY UPDATE until = VALUES(until), body = VALUES(body)",
		n.ID, n.Version, n.Started, life.Microseconds(), encode(n.Places))
	return fault(err)
}

// Nodes lists the processes of the service, those whose lease ran out lately too.
func (s *Store) Nodes(ctx context.Context) ([]app.Node, error) {
	rows, err := list[struct {
		ID      string `db:"id"`
		Version string `db:"version"`
		Started int64  `db:"started"`
		Silent  int64  `db:"silent"`
		Body    []byte `db:"body"`
	}](ctx, s.pages, "SELECT id, version, started, GREATEST(0, TIMESTAMPDIFF(MICROSECOND, until, NOW(6)) DIV 1000) "+
		"silent, body FROM nodes ORDER BY started, id")
	out := make([]app.Node, 0, len(rows))
	for _, r := range rows {
		places, e := decode[map[int64]app.NodePlace](r.Body)
		err = errors.Join(err, e)
		out = append(out, app.Node{ID: r.ID, Version: r.Version, Started: r.Started, Silent: r.Silent, Places: places})
	}
	return out, err
}
