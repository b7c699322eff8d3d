package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
)

// portion is how many rows one statement takes.
const portion = 500

// values is the text of n rows of so many places each.
func values(n, places int) string {
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", places), ",") + "),"
	return strings.TrimSuffix(strings.Repeat(row, n), ",")
}

// TakeReport records a report once: it tells whether it was new.
func (s *Store) TakeReport(ctx context.Context, environment int64, r *app.Report, now int64) (bool, error) {
	taken := false
	err := s.Write(ctx, func(t *Tx) error {
		var err error
		if taken, err = t.takeStatus(environment, &r.Status, "", now); err != nil || !taken {
			return err
		}
		behind := slices.Clone(r.Behind)
		slices.SortFunc(behind, func(a, b app.Follower) int { return cmp.Compare(a.Instance, b.Instance) }) // one order of locks
		for i := range behind {
			if _, err := t.takeStatus(environment, &behind[i].Status, r.Instance, now-max(0, behind[i].Age)); err != nil {
				return err
			}
		}
		for i := range r.Counts {
			if l := &r.Counts[i]; l.Application == "" && l.Version == "" {
				l.Application, l.Version = r.Application, r.Version
			}
		}
		for i := range r.Unknown {
			r.Unknown[i].Application = cmp.Or(r.Unknown[i].Application, r.Application)
		}
		return t.addUses(environment, now, r.Counts, r.Unknown)
	})
	return taken, err
}

// takeStatus records what an instance says of itself, unless something newer is known.
func (t *Tx) takeStatus(environment int64, r *app.Status, via string, seen int64) (taken bool, err error) {
	if err := t.exec("INSERT IGNORE INTO instances (environment_id, id, application, version, epoch, revision, source, skew_millis, sequence, seen, gone, started) "+
		"VALUES (?, ?, ?, ?, 0, 0, '', 0, 0, 0, FALSE, ?)", environment, r.Instance, r.Application, r.Version, cmp.Or(r.Started, seen)); err != nil {
		return false, err
	}
	var sequence int64
	if err := t.get(&sequence, "SELECT sequence FROM instances WHERE environment_id = ? AND id = ? FOR UPDATE", environment, r.Instance); err != nil || r.Sequence <= sequence {
		return false, err
	}
	var busy app.Busy
	if r.Busy != nil {
		busy = *r.Busy
	}
	goneAt := int64(0)
	if r.Leaving {
		goneAt = seen
	}
	if err := t.exec("UPDATE instances SET kind = ?, via = ?, application = ?, version = ?, epoch = ?, revision = ?, source = ?, skew_millis = ?, sequence = ?, seen = GREATEST(seen, ?), gone = ?, gone_at = ?, "+
		"too_old = ?, busy_unit = ?, busy_calls = ?, busy_of = ?, streams = ?, pollers = ? WHERE environment_id = ? AND id = ?",
		r.Kind, via, r.Application, r.Version, r.Epoch, r.Revision, r.Source, r.SkewMillis, r.Sequence, seen, r.Leaving, goneAt,
		app.Texts(r.TooOld), busy.Unit, busy.Calls, busy.Of, r.Streams, r.Pollers, environment, r.Instance); err != nil {
		return false, err
	}
	for some := range slices.Chunk(r.Applied, portion) {
		args := make([]any, 0, 5*len(some))
		for _, a := range some {
			args = append(args, environment, r.Instance, a.Epoch, a.Revision, a.At)
		}
		if err := t.exec("INSERT IGNORE INTO applied (environment_id, instance, epoch, revision, at) VALUES "+values(len(some), 5), args...); err != nil {
			return false, err
		}
	}
	return true, nil
}

// AddCounts records what was decided in the service itself.
func (s *Store) AddCounts(ctx context.Context, environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error {
	return s.Write(ctx, func(t *Tx) error { return t.addUses(environment, now, lines, unknown) })
}

func (t *Tx) addUses(environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error {
	lines = slices.Clone(lines)
	kinds := make(map[app.CountLine][]byte, len(lines))
	kindOf := func(l app.CountLine) []byte {
		l.Count = 0
		if kinds[l] == nil {
			sum := sha256.Sum256([]byte(encode(l)))
			kinds[l] = sum[:16]
		}
		return kinds[l]
	}
	slices.SortFunc(lines, func(a, b app.CountLine) int { return slices.Compare(kindOf(a), kindOf(b)) }) // one order of locks
	for some := range slices.Chunk(lines, portion) {
		var about, counts []any
		for _, l := range some {
			about = append(about, environment, kindOf(l), l.Flag, l.Variant, l.Reason, l.Rule, l.Revision, l.Application, l.Version)
			counts = append(counts, environment, 1, now/60_000, kindOf(l), l.Count)
		}
		if err := t.exec("INSERT IGNORE INTO use_kinds (environment_id, kind, flag, variant, reason, rule, revision, application, version) VALUES "+values(len(some), 9), about...); err != nil {
			return err
		}
		if err := t.exec("INSERT INTO uses (environment_id, span, minute, kind, count) VALUES "+values(len(some), 5)+" ON DUPLICATE KEY UPDATE count = count + VALUES(count)", counts...); err != nil {
			return err
		}
	}
	return t.noteAsked(environment, now, lines, unknown)
}

// noteAsked records which flags code asks for, and how it asked in vain.
func (t *Tx) noteAsked(environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error {
	asked := map[string]app.AskedLine{}
	for _, l := range lines {
		asked[l.Flag] = app.AskedLine{Flag: l.Flag, Application: l.Application}
	}
	for _, l := range unknown {
		asked[l.Flag] = l
	}
	keys := make([]string, 0, len(asked))
	for k := range asked {
		if k != "" && len(k) <= 200 {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys) // one order of locks
	for some := range slices.Chunk(keys, portion) {
		args := make([]any, 0, 8*len(some))
		for _, k := range some {
			l, mistyped := asked[k], int64(0)
			if l.Mistyped {
				mistyped = now
			}
			args = append(args, environment, k, now, now, l.Type, string(l.Fallback), l.Application, mistyped)
		}
		if err := t.exec("INSERT INTO asked (environment_id, flag, first, last, type, fallback, application, mistyped) VALUES "+values(len(some), 8)+
			" ON DUPLICATE KEY UPDATE last = VALUES(last), application = VALUES(application), mistyped = GREATEST(mistyped, VALUES(mistyped)), "+
			"type = IF(VALUES(type) = '', type, VALUES(type)), fallback = IF(VALUES(type) = '', fallback, VALUES(fallback))", args...); err != nil {
			return err
		}
	}
	return nil
}

// Asked lists the flags that code asks for in an environment.
func (s *Store) Asked(ctx context.Context, environment int64) ([]app.Asked, error) {
	return list[app.Asked](ctx, s.db, "SELECT flag, first, last, type, fallback, application, mistyped FROM asked WHERE environment_id = ? ORDER BY flag LIMIT 5000", environment)
}

// Instances lists the instances of an environment that were seen since a time, and all that
// fell silent without saying goodbye.
func (s *Store) Instances(ctx context.Context, environment, since int64) ([]app.Instance, error) {
	return list[app.Instance](ctx, s.db, "SELECT * FROM instances WHERE environment_id = ? AND (seen >= ? OR NOT gone) ORDER BY application, id", environment, since)
}

// AccountFor records that a person vouches for an instance that fell silent: it is gone. It
// tells whether there was one.
func (t *Tx) AccountFor(environment int64, instance string, at int64) (*app.Instance, error) {
	i, err := get[app.Instance](t.ctx, t.tx, "there is no instance "+instance, "SELECT * FROM instances WHERE environment_id = ? AND id = ? FOR UPDATE", environment, instance)
	if err != nil {
		return nil, err
	}
	return i, t.exec("UPDATE instances SET gone = TRUE, gone_at = ? WHERE environment_id = ? AND id = ? AND NOT gone", at, environment, instance)
}

// Uses sums counts from one Unix minute up to another in steps of so many minutes: of one
// flag in every detail, or of all flags by variant where the flag is empty.
func (s *Store) Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error) {
	if flag == "" {
		return list[app.UseRow](ctx, s.db, "SELECT u.minute DIV ? * ? minute, k.flag, k.variant, CAST(SUM(u.count) AS UNSIGNED) count FROM uses u JOIN use_kinds k ON k.environment_id = u.environment_id AND k.kind = u.kind "+
			"WHERE u.environment_id = ? AND u.minute >= ? AND u.minute < ? GROUP BY 1, k.flag, k.variant ORDER BY 1, k.flag, k.variant", step, step, environment, from, to)
	}
	return list[app.UseRow](ctx, s.db, "SELECT u.minute DIV ? * ? minute, k.flag, k.variant, k.reason, k.rule, k.revision, k.application, k.version, CAST(SUM(u.count) AS UNSIGNED) count "+
		"FROM use_kinds k JOIN uses u ON u.environment_id = k.environment_id AND u.kind = k.kind WHERE k.environment_id = ? AND k.flag = ? AND u.minute >= ? AND u.minute < ? "+
		"GROUP BY 1, k.variant, k.reason, k.rule, k.revision, k.application, k.version ORDER BY 1, k.variant", step, step, environment, flag, from, to)
}

// Minutes after which counts are gathered by the hour, by the day, and forgotten.
const (
	hourlyAfter = 2 * 24 * 60
	dailyAfter  = 35 * 24 * 60
	usesKept    = 400 * 24 * 60
)

// ThinUses gathers old counts into longer spans and forgets very old ones. No count is lost
// or counted twice, however often it is interrupted.
func (s *Store) ThinUses(ctx context.Context, now int64) error {
	minute := now / 60_000
	for _, g := range []struct{ span, into, before int64 }{{1, 60, minute - hourlyAfter}, {60, 1440, minute - dailyAfter}} {
		before := g.before / g.into * g.into
		err := s.Write(ctx, func(t *Tx) error {
			if err := t.exec("INSERT INTO uses (environment_id, span, minute, kind, count) SELECT environment_id, ?, minute DIV ? * ?, kind, SUM(count) FROM uses WHERE span = ? AND minute < ? GROUP BY 1, 3, 4 "+
				"ON DUPLICATE KEY UPDATE count = uses.count + VALUES(count)", g.into, g.into, g.into, g.span, before); err != nil {
				return err
			}
			return t.exec("DELETE FROM uses WHERE span = ? AND minute < ?", g.span, before)
		})
		if err != nil {
			return err
		}
	}
	return s.Write(ctx, func(t *Tx) error {
		if err := t.exec("DELETE FROM uses WHERE minute < ?", minute-usesKept); err != nil {
			return err
		}
		return t.exec("DELETE k FROM use_kinds k LEFT JOIN uses u ON u.environment_id = k.environment_id AND u.kind = k.kind WHERE u.kind IS NULL")
	})
}

// Applied lists when instances of an environment began to decide by revisions of an epoch,
// from one on, by instance.
func (s *Store) Applied(ctx context.Context, environment, epoch, from int64) (map[string][]app.Applied, error) {
	rows, err := list[struct {
		Instance string `db:"instance"`
		app.Applied
	}](ctx, s.db, "SELECT instance, epoch, revision, at FROM applied WHERE environment_id = ? AND epoch = ? AND revision >= ? ORDER BY revision", environment, epoch, from)
	out := map[string][]app.Applied{}
	for _, r := range rows {
		out[r.Instance] = append(out[r.Instance], r.Applied)
	}
	return out, err
}

// CommitTimes gives when an environment's revisions were committed, from one on, at most
// limit of them.
func (s *Store) CommitTimes(ctx context.Context, environment, from int64, limit int) (map[int64]int64, error) {
	rows, err := list[app.Applied](ctx, s.db, "SELECT 0 epoch, revision, at FROM revisions WHERE environment_id = ? AND revision >= ? ORDER BY revision LIMIT ?", environment, from, limit)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.Revision] = r.At
	}
	return out, err
}

// NameOf names an environment with its project, such as pinecrest/production.
func (s *Store) NameOf(ctx context.Context, environment int64) (string, error) {
	v, err := get[string](ctx, s.db, "there is no such environment", "SELECT CONCAT(p.project_key, '/', e.environment_key) FROM environments e JOIN projects p ON p.id = e.project_id WHERE e.id = ?", environment)
	if err != nil {
		return "", err
	}
	return *v, nil
}

// AllEnvironments lists every environment, and the epoch.
func (s *Store) AllEnvironments(ctx context.Context) ([]app.Environment, int64, error) {
	envs, err := list[app.Environment](ctx, s.db, "SELECT * FROM environments ORDER BY id")
	if err != nil {
		return nil, 0, err
	}
	epoch, err := get[int64](ctx, s.db, "", "SELECT epoch FROM installation")
	if err != nil {
		return nil, 0, err
	}
	return envs, *epoch, nil
}

// DeliveredUpTo is the last revision whose delivery stands in the records; 0 for none.
func (s *Store) DeliveredUpTo(ctx context.Context, environment, epoch int64) (int64, error) {
	v, err := get[int64](ctx, s.db, "", "SELECT COALESCE(MAX(revision), 0) FROM deliveries WHERE environment_id = ? AND epoch = ?", environment, epoch)
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// Deliveries lists the newest deliveries that are recorded, newest first.
func (s *Store) Deliveries(ctx context.Context, environment int64, limit int) ([]app.Delivery, error) {
	rows, err := list[[]byte](ctx, s.db, "SELECT body FROM deliveries WHERE environment_id = ? AND at > 0 ORDER BY epoch DESC, revision DESC LIMIT ?", environment, limit)
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

// AddDeliveries records how revisions spread; false where another process was first.
func (t *Tx) AddDeliveries(environment int64, all []app.Delivery) (bool, error) {
	for _, d := range all {
		res, err := t.tx.ExecContext(t.ctx, "INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body) VALUES (?, ?, ?, ?, ?)", environment, d.Epoch, d.Revision, d.At, encode(d))
		if err != nil {
			return false, err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return false, err
		}
	}
	return true, nil
}

// Lease gives one of several processes the right to do what must be done once, for a while.
// The fence grows with each holder; it is 0 for a process that does not have the lease. The
// database's clock decides, so that those of the processes do not matter.
func (s *Store) Lease(ctx context.Context, name, holder string, life time.Duration) (fence int64, err error) {
	if _, err := s.db.ExecContext(ctx, "INSERT IGNORE INTO leases (name, holder, fence, until) VALUES (?, '', 0, '2000-01-01')", name); err != nil {
		return 0, fault(err)
	}
	if _, err := s.db.ExecContext(ctx, "UPDATE leases SET fence = fence + (holder <> ?), until = NOW(6) + INTERVAL ? MICROSECOND, holder = ? WHERE name = ? AND (holder = ? OR until < NOW(6))",
		holder, life.Microseconds(), holder, name, holder); err != nil {
		return 0, fault(err)
	}
	err = s.db.GetContext(ctx, &fence, "SELECT fence FROM leases WHERE name = ? AND holder = ? AND until > NOW(6)", name, holder)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return fence, fault(err)
}

// Release gives back what leases a process has, so that another need not wait for their end.
func (s *Store) Release(ctx context.Context, holder string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE leases SET until = '2000-01-01' WHERE holder = ?", holder)
	return fault(err)
}

// Fence checks inside a transaction that a lease is still the one that was given, and holds
// it until the transaction ends.
func (t *Tx) Fence(name string, fence int64) (bool, error) {
	var now int64
	err := t.get(&now, "SELECT fence FROM leases WHERE name = ? FOR UPDATE", name)
	return now == fence, err
}
