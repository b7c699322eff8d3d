package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

var _ = keeps(
	Kept{Table: "leases", Why: "a row for each kind of work"},
)

// Lease gives one of several processes the right to do what must be done once, for a while.
// The fence grows with each holder; it is 0 for a process that does not have the lease. The
// database's clock decides, so that those of the processes do not matter.
func (s *Store) Lease(ctx context.Context, name, holder string, life time.Duration) (fence int64, err error) {
	return lease(ctx, s.work, name, holder, life)
}

func lease(ctx context.Context, db *sqlx.DB, name, holder string, life time.Duration) (fence int64, err error) {
	if _, err := db.ExecContext(ctx, "INSERT IGNORE INTO leases (name, holder, fence, until) "+
		"VALUES (?, '', 0, '2000-01-01')", name); err != nil {
		return 0, fault(err)
	}
	if _, err := db.ExecContext(ctx, "UPDATE leases SET fence = fence + (holder <> ?), until = NOW(6) + INTERVAL ? "+
		"MICROSECOND, holder = ? WHERE name = ? AND (holder = ? OR until < NOW(6))",
		holder, life.Microseconds(), holder, name, holder); err != nil {
		return 0, fault(err)
	}
	err = db.GetContext(ctx, &fence, "SELECT fence FROM leases WHERE name = ? AND holder = ? AND until > NOW(6)", name,
		holder)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return fence, fault(err)
}

// EndLeases gives back what leases a process has, so that another need not wait for their end.
func (s *Store) EndLeases(ctx context.Context, holder string) error {
	_, err := s.work.ExecContext(ctx, "UPDATE leases SET until = '2000-01-01' WHERE holder = ?", holder)
	return fault(err)
}

// Fence checks inside a transaction that a lease is still the one that was given, and holds
// it until the transaction ends.
func (t *Tx) Fence(name string, fence int64) (bool, error) {
	var now int64
	err := t.get(&now, "SELECT fence FROM leases WHERE name = ? FOR UPDATE", name)
	return now == fence, err
}
