package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"greenlever.example/greenlever/internal/app"
)

// Bounds of who may be introduced, so that a key that invents instances does little harm.
const (
	maxInstances   = 50_000 // in an environment, those that left not counted
	maxIntroduced  = 10_000 // by one access key
	introducedLong = 24 * time.Hour
)

// TakeReports records reports of an environment, each once, in one transaction: it tells of
// each whether it was new. An instance is spoken for by the access key that introduced it, and by another one
// only after it was silent for long.
func (s *Store) TakeReports(ctx context.Context, environment int64, all []app.Incoming, now int64) ([]bool, error) {
	taken := make([]bool, len(all))
	err := s.background(ctx, func(t *Tx) error {
		b := &batch{t: t, store: s, environment: environment, now: now}
		if err := b.meet(all); err != nil {
			return err
		}
		for i, r := range all {
			if taken[i] = b.status(&r.Status, "", r.Key, now); !taken[i] {
				continue
			}
			for j := range r.Behind {
				f := &r.Behind[j]
				b.status(&f.Status, r.Instance, r.Key, now-max(0, f.Age))
			}
			for _, l := range r.Counts {
				if l.Application == "" && l.Version == "" {
					l.Application, l.Version = r.Application, r.Version
				}
				b.count(l)
			}
			for _, l := range r.Unknown {
				l.Application = cmp.Or(l.Application, r.Application)
				b.unknown = append(b.unknown, l)
			}
		}
		return b.write()
	})
	return taken, err
}

// AddCounts records what was decided in the service itself.
func (s *Store) AddCounts(ctx context.Context, environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error {
	return s.background(ctx, func(t *Tx) error {
		b := &batch{t: t, store: s, environment: environment, now: now, unknown: unknown}
		for _, l := range lines {
			b.count(l)
		}
		return b.write()
	})
}

// batch gathers what reports say before it is written, a statement for each table.
type batch struct {
	t           *Tx
	store       *Store
	environment int64
	now         int64
	known       map[string]*known
	introduced  map[string]int // by access key
	instances   int
	applied     []appliedRow
	counts      map[app.CountLine]uint64
	unknown     []app.AskedLine
}

// known is an instance as the records and this batch know it.
type known struct {
	app.Status
	via     string
	seen    int64
	key     string
	changed bool
}

type appliedRow struct {
	instance string
	app.Applied
}

// meet reads what is known of the instances that reports speak of, and holds their rows.
func (b *batch) meet(all []app.Incoming) error {
	b.known, b.introduced = map[string]*known{}, map[string]int{}
	var ids []string
	for _, r := range all {
		ids = append(ids, r.Instance)
		for i := range r.Behind {
			ids = append(ids, r.Behind[i].Instance)
		}
	}
	slices.Sort(ids) // one order of locks
	ids = slices.Compact(ids)
	for some := range slices.Chunk(ids, portion) {
		var rows []struct {
			ID       string `db:"id"`
			Sequence int64  `db:"sequence"`
			Seen     int64  `db:"seen"`
			Via      string `db:"via"`
			Key      string `db:"access_key"`
		}
		// A key that was revoked has no say any more.
		if err := b.t.list(&rows, "SELECT i.id, i.sequence, i.seen, i.via, COALESCE((SELECT k.id FROM access_keys k WHERE k.id = n.access_key AND k.revoked = 0), '') access_key FROM instances i "+
			"LEFT JOIN introductions n ON n.environment_id = i.environment_id AND n.instance = i.id WHERE i.environment_id = ? AND i.id IN ("+marks(len(some))+") ORDER BY i.id FOR UPDATE",
			append([]any{b.environment}, anys(some)...)...); err != nil {
			return err
		}
		for _, r := range rows {
			b.known[r.ID] = &known{Status: app.Status{Sequence: r.Sequence}, seen: r.Seen, via: r.Via, key: r.Key}
		}
	}
	if len(b.known) == len(ids) {
		return nil
	}
	var rows []struct {
		Key   string `db:"access_key"`
		Count int    `db:"count"`
	}
	if err := b.t.list(&rows, "SELECT n.access_key, COUNT(*) count FROM introductions n JOIN instances i ON i.environment_id = n.environment_id AND i.id = n.instance "+
		"WHERE n.environment_id = ? AND NOT i.gone GROUP BY n.access_key", b.environment); err != nil {
		return err
	}
	for _, r := range rows {
		b.introduced[r.Key], b.instances = r.Count, b.instances+r.Count
	}
	return nil
}

// status takes what an instance says of itself, unless something newer is known, or the key
// has no say in it.
func (b *batch) status(s *app.Status, via, key string, seen int64) bool {
	k := b.known[s.Instance]
	if k == nil {
		if b.instances >= maxInstances || b.introduced[key] >= maxIntroduced {
			return false
		}
		b.instances++
		b.introduced[key]++
		k = &known{key: key}
		b.known[s.Instance] = k
	}
	if k.key != key && k.key != "" && key != "" {
		long := introducedLong
		if via != "" && k.via != "" { // outposts change keys under those who follow through them
			long = app.SilentAfter * time.Millisecond
		}
		if s.Leaving || k.seen > b.now-long.Milliseconds() {
			return false
		}
	}
	if s.Sequence <= k.Sequence {
		return false
	}
	for _, a := range s.Applied {
		b.applied = append(b.applied, appliedRow{s.Instance, a})
	}
	k.Status, k.via, k.key, k.seen, k.changed = *s, via, cmp.Or(key, k.key), max(k.seen, seen), true
	return true
}

func (b *batch) count(l app.CountLine) {
	if b.counts == nil {
		b.counts = map[app.CountLine]uint64{}
	}
	n := l.Count
	l.Count = 0
	b.counts[l] += n
}

func (b *batch) write() error {
	if err := b.writeInstances(); err != nil {
		return err
	}
	slices.SortFunc(b.applied, func(x, y appliedRow) int {
		return cmp.Or(cmp.Compare(x.instance, y.instance), cmp.Compare(x.Epoch, y.Epoch), cmp.Compare(x.Revision, y.Revision))
	})
	for some := range slices.Chunk(b.applied, portion) {
		args := make([]any, 0, 6*len(some))
		for _, a := range some {
			args = append(args, b.environment, a.instance, a.Epoch, a.Revision, a.At, a.Digest)
		}
		if err := b.t.exec("INSERT IGNORE INTO applied (environment_id, instance, epoch, revision, at, digest) VALUES "+values(len(some), 6), args...); err != nil {
			return err
		}
	}
	lines, err := b.countLines()
	if err != nil {
		return err
	}
	if err := b.writeUses(lines); err != nil {
		return err
	}
	return b.writeAsked(lines)
}

func (b *batch) writeInstances() error {
	var ids []string
	for id, k := range b.known {
		if k.changed {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	for some := range slices.Chunk(ids, portion) {
		var about, keys []any
		for _, id := range some {
			k := b.known[id]
			var busy app.Busy
			if k.Busy != nil {
				busy = *k.Busy
			}
			goneAt := int64(0)
			if k.Leaving {
				goneAt = k.seen
			}
			about = append(about, b.environment, id, k.Kind, k.via, k.Application, k.Version, k.Epoch, k.Revision, k.Source, k.SkewMillis, k.Sequence, k.seen, k.Leaving, goneAt,
				cmp.Or(k.Started, k.seen), app.Texts(k.TooOld), busy.Unit, busy.Calls, busy.Of, k.Streams, k.Pollers)
			keys = append(keys, b.environment, id, k.key, k.Digest)
		}
		if err := b.t.exec("INSERT INTO instances (environment_id, id, kind, via, application, version, epoch, revision, source, skew_millis, sequence, seen, gone, gone_at, started, too_old, busy_unit, busy_calls, busy_of, streams, pollers) VALUES "+
			values(len(some), 21)+" ON DUPLICATE KEY UPDATE kind = VALUES(kind), via = VALUES(via), application = VALUES(application), version = VALUES(version), epoch = VALUES(epoch), revision = VALUES(revision), "+
			"source = VALUES(source), skew_millis = VALUES(skew_millis), sequence = VALUES(sequence), seen = VALUES(seen), gone = VALUES(gone), gone_at = VALUES(gone_at), too_old = VALUES(too_old), "+
			"busy_unit = VALUES(busy_unit), busy_calls = VALUES(busy_calls), busy_of = VALUES(busy_of), streams = VALUES(streams), pollers = VALUES(pollers)", about...); err != nil {
			return err
		}
		if err := b.t.exec("INSERT INTO introductions (environment_id, instance, access_key, digest) VALUES "+values(len(some), 4)+
			" ON DUPLICATE KEY UPDATE access_key = VALUES(access_key), digest = VALUES(digest)", keys...); err != nil {
			return err
		}
	}
	return nil
}

// counted is a line under the version of its flag, with the digest that it is found by.
type counted struct {
	app.CountLine
	kind []byte
}

// countLines sums counts by the version of the flag that they are of: a revision of the
// environment that did not touch the flag makes no new kind of count.
func (b *batch) countLines() ([]counted, error) {
	byRevision := map[int64][]string{}
	for l := range b.counts {
		if l.FlagVersion == 0 {
			byRevision[l.Revision] = append(byRevision[l.Revision], l.Flag)
		}
	}
	versions := map[flagAt]int64{}
	for revision, flags := range byRevision {
		slices.Sort(flags)
		if err := b.store.versionsAt(b.t, b.environment, revision, slices.Compact(flags), versions); err != nil {
			return nil, err
		}
	}
	sums := map[app.CountLine]uint64{}
	for l, n := range b.counts {
		if l.FlagVersion == 0 {
			l.FlagVersion = versions[flagAt{l.Flag, l.Revision}]
		}
		l.Revision = 0
		sums[l] += n
	}
	lines := make([]counted, 0, len(sums))
	for l, n := range sums {
		sum := sha256.Sum256([]byte(encode(l)))
		l.Count = n
		lines = append(lines, counted{l, sum[:16]})
	}
	slices.SortFunc(lines, func(x, y counted) int { return slices.Compare(x.kind, y.kind) }) // one order of locks
	return lines, nil
}

// flagAt is a flag at a revision of its environment.
type flagAt struct {
	flag     string
	revision int64
}

// versionsAt finds which versions flags had at a revision.
func (s *Store) versionsAt(t *Tx, environment, revision int64, flags []string, into map[flagAt]int64) error {
	for some := range slices.Chunk(flags, portion) {
		var rows []struct {
			Flag    string `db:"flag"`
			Version int64  `db:"version"`
		}
		if err := t.list(&rows, "SELECT f.flag, COALESCE((SELECT v.version FROM flag_versions v WHERE v.environment_id = f.environment_id AND v.flag = f.flag AND v.revision <= ? ORDER BY v.revision DESC LIMIT 1), 0) version "+
			"FROM flags f WHERE f.environment_id = ? AND f.flag IN ("+marks(len(some))+")", append([]any{revision, environment}, anys(some)...)...); err != nil {
			return err
		}
		for _, r := range rows {
			into[flagAt{r.Flag, revision}] = r.Version
		}
	}
	return nil
}

func (b *batch) writeUses(lines []counted) error {
	minute := b.now / 60_000
	type dayKey struct{ flag, variant string }
	days := map[dayKey]uint64{}
	for some := range slices.Chunk(lines, portion) {
		var about, counts []any
		for _, l := range some {
			about = append(about, b.environment, l.kind, l.Flag, l.Variant, l.Reason, l.Rule, 0, l.FlagVersion, l.Application, l.Version, minute)
			counts = append(counts, b.environment, 1, minute, l.kind, l.Count)
			days[dayKey{l.Flag, l.Variant}] += l.Count
		}
		// When a kind was last met is kept to a day, so that its row is seldom written.
		if err := b.t.exec("INSERT INTO use_kinds (environment_id, kind, flag, variant, reason, rule, revision, flag_version, application, version, last) VALUES "+values(len(some), 11)+
			" ON DUPLICATE KEY UPDATE last = IF(VALUES(last) > last + 1440, VALUES(last), last)", about...); err != nil {
			return err
		}
		if err := b.t.exec("INSERT INTO uses (environment_id, span, minute, kind, count) VALUES "+values(len(some), 5)+" ON DUPLICATE KEY UPDATE count = count + VALUES(count)", counts...); err != nil {
			return err
		}
	}
	keys := make([]dayKey, 0, len(days))
	for k := range days {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(x, y dayKey) int { return cmp.Or(cmp.Compare(x.flag, y.flag), cmp.Compare(x.variant, y.variant)) })
	for some := range slices.Chunk(keys, portion) {
		var args []any
		for _, k := range some {
			args = append(args, b.environment, b.now/dayMillis, k.flag, k.variant, days[k])
		}
		if err := b.t.exec("INSERT INTO use_days (environment_id, day, flag, variant, count) VALUES "+values(len(some), 5)+" ON DUPLICATE KEY UPDATE count = count + VALUES(count)", args...); err != nil {
			return err
		}
	}
	return nil
}

// maxAsked bounds how many flags that do not exist are noted in an environment.
const maxAsked = 5_000

// writeAsked records which flags code asks for, and how it asked in vain.
func (b *batch) writeAsked(lines []counted) error {
	asked := map[string]app.AskedLine{}
	for _, l := range lines {
		asked[l.Flag] = app.AskedLine{Flag: l.Flag, Application: l.Application}
	}
	for _, l := range b.unknown {
		if l.Flag != "" && len(l.Flag) <= 200 {
			asked[l.Flag] = l
		}
	}
	if len(b.unknown) > 0 {
		var have int
		if err := b.t.get(&have, "SELECT COUNT(*) FROM asked WHERE environment_id = ?", b.environment); err != nil {
			return err
		}
		for _, l := range b.unknown {
			if have++; have > maxAsked && !l.Mistyped {
				delete(asked, l.Flag)
			}
		}
	}
	keys := make([]string, 0, len(asked))
	for k := range asked {
		keys = append(keys, k)
	}
	slices.Sort(keys) // one order of locks
	for some := range slices.Chunk(keys, portion) {
		args := make([]any, 0, 8*len(some))
		for _, k := range some {
			l, mistyped := asked[k], int64(0)
			if l.Mistyped {
				mistyped = b.now
			}
			args = append(args, b.environment, k, b.now, b.now, l.Type, string(l.Fallback), l.Application, mistyped)
		}
		if err := b.t.exec("INSERT INTO asked (environment_id, flag, first, last, type, fallback, application, mistyped) VALUES "+values(len(some), 8)+
			" ON DUPLICATE KEY UPDATE last = VALUES(last), application = VALUES(application), mistyped = GREATEST(mistyped, VALUES(mistyped)), "+
			"type = IF(VALUES(type) = '', type, VALUES(type)), fallback = IF(VALUES(type) = '', fallback, VALUES(fallback))", args...); err != nil {
			return err
		}
	}
	return nil
}

// Asked lists the flags that code asks for in an environment.
func (s *Store) Asked(ctx context.Context, environment int64) ([]app.Asked, error) {
	return list[app.Asked](ctx, s.pages, "SELECT flag, first, last, type, fallback, application, mistyped FROM asked WHERE environment_id = ? ORDER BY flag LIMIT 5000", environment)
}

// instanceColumns are an instance's, with whether it is of another history than the records'.
const instanceColumns = "i.environment_id, i.id, i.kind, i.via, i.application, i.version, i.epoch, i.revision, i.source, i.skew_millis, i.sequence, i.started, i.seen, i.gone, i.gone_at, i.too_old, " +
	"i.busy_unit, i.busy_calls, i.busy_of, i.streams, i.pollers, " +
	"(i.epoch = g.epoch AND (i.revision > e.revision OR COALESCE(n.digest, '') <> '' AND COALESCE(r.digest, '') <> '' AND n.digest <> r.digest)) other"

const instanceTables = "instances i JOIN installation g JOIN environments e ON e.id = i.environment_id LEFT JOIN introductions n ON n.environment_id = i.environment_id AND n.instance = i.id " +
	"LEFT JOIN revisions r ON r.environment_id = i.environment_id AND r.revision = i.revision"

// Instances lists the instances of an environment that were seen since a time, and all that
// fell silent without saying goodbye.
func (s *Store) Instances(ctx context.Context, environment, since int64) ([]app.Instance, error) {
	return list[app.Instance](ctx, s.pages, "SELECT "+instanceColumns+" FROM "+instanceTables+" WHERE i.environment_id = ? AND (NOT i.gone OR i.gone AND i.seen >= ?) ORDER BY i.application, i.id", environment, since)
}

// AccountFor records that a person vouches for instances that fell silent: they are gone.
// It gives those that were meant: the one with an id, or, without one, all that have been
// silent since a time.
func (t *Tx) AccountFor(environment int64, instance string, silentSince, at int64) ([]app.Instance, error) {
	where, arg := "i.id = ?", any(instance)
	if instance == "" {
		where, arg = "NOT i.gone AND i.seen < ?", silentSince
	}
	all, err := list[app.Instance](t.ctx, t.tx, "SELECT "+instanceColumns+" FROM "+instanceTables+" WHERE i.environment_id = ? AND "+where+" AND i.kind <> 'service' ORDER BY i.id LIMIT 60000", environment, arg)
	if err != nil {
		return nil, err
	}
	for some := range slices.Chunk(all, portion) {
		ids := []any{at, environment, silentSince}
		for i := range some {
			ids = append(ids, some[i].ID)
		}
		if err := t.exec("UPDATE instances SET gone = TRUE, gone_at = ? WHERE environment_id = ? AND NOT gone AND seen < ? AND id IN ("+marks(len(some))+")", ids...); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// NodeLives renews a node's lease and says what it has; a leaving one gives it back.
func (s *Store) NodeLives(ctx context.Context, n *app.Node, life time.Duration, leaving bool) error {
	if leaving {
		_, err := s.work.ExecContext(ctx, "DELETE FROM nodes WHERE id = ?", n.ID)
		return fault(err)
	}
	_, err := s.work.ExecContext(ctx, "INSERT INTO nodes (id, version, started, until, body) VALUES (?, ?, ?, NOW(6) + INTERVAL ? MICROSECOND, ?) ON DUPLICATE KEY UPDATE until = VALUES(until), body = VALUES(body)",
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
	}](ctx, s.pages, "SELECT id, version, started, GREATEST(0, TIMESTAMPDIFF(MICROSECOND, until, NOW(6)) DIV 1000) silent, body FROM nodes ORDER BY started, id")
	out := make([]app.Node, 0, len(rows))
	for _, r := range rows {
		places, e := decode[map[int64]app.NodePlace](r.Body)
		err = errors.Join(err, e)
		out = append(out, app.Node{ID: r.ID, Version: r.Version, Started: r.Started, Silent: r.Silent, Places: places})
	}
	return out, err
}

// Uses sums counts from one Unix minute up to another in steps of so many minutes: of one
// flag in every detail, or of all flags by variant where the flag is empty.
func (s *Store) Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error) {
	switch {
	case flag != "":
		return list[app.UseRow](ctx, s.pages, "SELECT u.minute DIV ? * ? minute, k.flag, k.variant, k.reason, k.rule, k.flag_version, k.application, k.version, CAST(SUM(u.count) AS UNSIGNED) count "+
			"FROM use_kinds k JOIN uses u ON u.environment_id = k.environment_id AND u.kind = k.kind WHERE k.environment_id = ? AND k.flag = ? AND u.minute >= ? AND u.minute < ? "+
			"GROUP BY 1, k.variant, k.reason, k.rule, k.flag_version, k.application, k.version ORDER BY 1, k.variant", step, step, environment, flag, from, to)
	case step >= 1440:
		return list[app.UseRow](ctx, s.pages, "SELECT day * 1440 minute, flag, variant, count FROM use_days WHERE environment_id = ? AND day >= ? AND day < ?", environment, from/1440, (to+1439)/1440)
	}
	return list[app.UseRow](ctx, s.pages, "SELECT u.minute DIV ? * ? minute, k.flag, k.variant, CAST(SUM(u.count) AS UNSIGNED) count FROM uses u JOIN use_kinds k ON k.environment_id = u.environment_id AND k.kind = u.kind "+
		"WHERE u.environment_id = ? AND u.span IN (1, 60, 1440) AND u.minute >= ? AND u.minute < ? GROUP BY 1, k.flag, k.variant ORDER BY 1, k.flag, k.variant", step, step, environment, from, to)
}

// Applied lists when instances of an environment began to decide by revisions of an epoch,
// from one on, by instance. Those of another history are left out.
func (s *Store) Applied(ctx context.Context, environment, epoch, from int64) (map[string][]app.Applied, error) {
	rows, err := list[struct {
		Instance string `db:"instance"`
		app.Applied
	}](ctx, s.pages, "SELECT a.instance, a.epoch, a.revision, a.at, a.digest FROM applied a JOIN revisions r ON r.environment_id = a.environment_id AND r.revision = a.revision "+
		"WHERE a.environment_id = ? AND a.epoch = ? AND a.revision >= ? AND (a.digest = '' OR r.digest = '' OR a.digest = r.digest) ORDER BY a.revision", environment, epoch, from)
	out := map[string][]app.Applied{}
	for _, r := range rows {
		out[r.Instance] = append(out[r.Instance], r.Applied)
	}
	return out, err
}

// CommitTimes gives when an environment's revisions were committed, from one on, at most
// limit of them.
func (s *Store) CommitTimes(ctx context.Context, environment, from int64, limit int) (map[int64]int64, error) {
	rows, err := list[app.Applied](ctx, s.pages, "SELECT 0 epoch, revision, at, '' digest FROM revisions WHERE environment_id = ? AND revision >= ? ORDER BY revision LIMIT ?", environment, from, limit)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.Revision] = r.At
	}
	return out, err
}

// NameOf names an environment with its project, such as pinecrest/production.
func (s *Store) NameOf(ctx context.Context, environment int64) (string, error) {
	v, err := get[string](ctx, s.pages, "there is no such environment", "SELECT CONCAT(p.project_key, '/', e.environment_key) FROM environments e JOIN projects p ON p.id = e.project_id WHERE e.id = ?", environment)
	if err != nil {
		return "", err
	}
	return *v, nil
}

// AllEnvironments lists every environment, and the epoch.
func (s *Store) AllEnvironments(ctx context.Context) ([]app.Environment, int64, error) {
	envs, err := list[app.Environment](ctx, s.pages, "SELECT "+environmentColumns+" FROM environments ORDER BY id")
	if err != nil {
		return nil, 0, err
	}
	epoch, err := get[int64](ctx, s.pages, "", "SELECT epoch FROM installation")
	if err != nil {
		return nil, 0, err
	}
	return envs, *epoch, nil
}

// DeliveredUpTo is the last revision whose delivery stands in the records; 0 for none.
func (s *Store) DeliveredUpTo(ctx context.Context, environment, epoch int64) (int64, error) {
	v, err := get[int64](ctx, s.pages, "", "SELECT COALESCE(MAX(revision), 0) FROM deliveries WHERE environment_id = ? AND epoch = ?", environment, epoch)
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// Deliveries lists the newest deliveries that are recorded, newest first.
func (s *Store) Deliveries(ctx context.Context, environment int64, limit int) ([]app.Delivery, error) {
	rows, err := list[[]byte](ctx, s.pages, "SELECT body FROM deliveries WHERE environment_id = ? AND at > 0 ORDER BY epoch DESC, revision DESC LIMIT ?", environment, limit)
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
		body := encode(d)
		res, err := t.tx.ExecContext(t.ctx, "INSERT IGNORE INTO deliveries (environment_id, epoch, revision, at, body) VALUES (?, ?, ?, ?, ?)", environment, d.Epoch, d.Revision, d.At, body)
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

// Lease gives one of several processes the right to do what must be done once, for a while.
// The fence grows with each holder; it is 0 for a process that does not have the lease. The
// database's clock decides, so that those of the processes do not matter.
func (s *Store) Lease(ctx context.Context, name, holder string, life time.Duration) (fence int64, err error) {
	return lease(ctx, s.work, name, holder, life)
}

func lease(ctx context.Context, db *sqlx.DB, name, holder string, life time.Duration) (fence int64, err error) {
	if _, err := db.ExecContext(ctx, "INSERT IGNORE INTO leases (name, holder, fence, until) VALUES (?, '', 0, '2000-01-01')", name); err != nil {
		return 0, fault(err)
	}
	if _, err := db.ExecContext(ctx, "UPDATE leases SET fence = fence + (holder <> ?), until = NOW(6) + INTERVAL ? MICROSECOND, holder = ? WHERE name = ? AND (holder = ? OR until < NOW(6))",
		holder, life.Microseconds(), holder, name, holder); err != nil {
		return 0, fault(err)
	}
	err = db.GetContext(ctx, &fence, "SELECT fence FROM leases WHERE name = ? AND holder = ? AND until > NOW(6)", name, holder)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return fence, fault(err)
}

// Release gives back what leases a process has, so that another need not wait for their end.
func (s *Store) Release(ctx context.Context, holder string) error {
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
