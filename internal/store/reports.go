package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"slices"
	"time"

	"greenlever.example/core/wire"
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
			taken[i] = b.status(&r.Status, "", r.Key, now)
			if !taken[i] {
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
func (s *Store) AddCounts(ctx context.Context, environment, now int64, lines []wire.CountLine,
	unknown []wire.UnknownLine) error {
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
	counts      map[wire.CountLine]uint64
	unknown     []wire.UnknownLine
}

// known is an instance as the records and this batch know it.
type known struct {
	wire.Status
	via     string
	seen    int64
	key     string
	changed bool
}

type appliedRow struct {
	instance string
	wire.Applied
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
		if err := b.t.list(&rows, "SELECT i.id, i.sequence, i.seen, i.via, COALESCE((SELECT k.id FROM access_keys k "+
			"WHERE k.id = n.access_key AND k.revoked = 0), '') access_key FROM instances i "+
			"LEFT JOIN introductions n ON n.environment_id = i.environment_id AND n.instance = i.id "+
			"WHERE i.environment_id = ? AND i.id IN ("+marks(len(some))+") ORDER BY i.id FOR UPDATE",
			append([]any{b.environment}, anys(some)...)...); err != nil {
			return err
		}
		for _, r := range rows {
			b.known[r.ID] = &known{Status: wire.Status{Sequence: r.Sequence}, seen: r.Seen, via: r.Via, key: r.Key}
		}
	}
	if len(b.known) == len(ids) {
		return nil
	}
	var rows []struct {
		Key   string `db:"access_key"`
		Count int    `db:"count"`
	}
	if err := b.t.list(&rows, "SELECT n.access_key, COUNT(*) count FROM introductions n "+
		"JOIN instances i ON i.environment_id = n.environment_id AND i.id = n.instance "+
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
func (b *batch) status(s *wire.Status, via, key string, seen int64) bool {
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

func (b *batch) count(l wire.CountLine) {
	if b.counts == nil {
		b.counts = map[wire.CountLine]uint64{}
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
		return cmp.Or(cmp.Compare(x.instance, y.instance), cmp.Compare(x.Epoch, y.Epoch),
			cmp.Compare(x.Revision, y.Revision))
	})
	for some := range slices.Chunk(b.applied, portion) {
		args := make([]any, 0, 6*len(some))
		for _, a := range some {
			args = append(args, b.environment, a.instance, a.Epoch, a.Revision, a.At, a.Digest)
		}
		if err := b.t.exec(
			"INSERT IGNORE INTO applied (environment_id, instance, epoch, revision, at, digest) VALUES "+
				values(len(some), 6), args...); err != nil {
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
			var busy wire.Busy
			if k.Busy != nil {
				busy = *k.Busy
			}
			goneAt := int64(0)
			if k.Leaving {
				goneAt = k.seen
			}
			about = append(about, b.environment, id, k.Kind, k.via, k.Application, k.Version, k.Epoch, k.Revision,
				k.Source, k.SkewMillis, k.Sequence, k.seen, k.Leaving, goneAt,
				cmp.Or(k.Started, k.seen), app.Texts(k.TooOld), busy.Unit, busy.Calls, busy.Of, k.Streams, k.Pollers)
			keys = append(keys, b.environment, id, k.key, k.Digest)
		}
		if err := b.t.exec("INSERT INTO instances (environment_id, id, kind, via, application, version, epoch, "+
			"revision, source, skew_millis, sequence, seen, gone, gone_at, started, too_old, busy_unit, busy_calls, "+
			"busy_of, streams, pollers) VALUES "+
			values(len(some), 21)+" ON DUPLICATE KEY UPDATE kind = VALUES(kind), via = VALUES(via), application = "+
			"VALUES(application), version = VALUES(version), epoch = VALUES(epoch), revision = VALUES(revision), "+
			"source = VALUES(source), skew_millis = VALUES(skew_millis), sequence = VALUES(sequence), seen = "+
			"VALUES(seen), gone = VALUES(gone), gone_at = VALUES(gone_at), too_old = VALUES(too_old), "+
			"busy_unit = VALUES(busy_unit), busy_calls = VALUES(busy_calls), busy_of = VALUES(busy_of), streams = "+
			"VALUES(streams), pollers = VALUES(pollers)", about...); err != nil {
			return err
		}
		if err := b.t.exec("INSERT INTO introductions (environment_id, instance, access_key, digest) VALUES "+
			values(len(some), 4)+
			" ON DUPLICATE KEY UPDATE access_key = VALUES(access_key), digest = VALUES(digest)", keys...); err != nil {
			return err
		}
	}
	return nil
}

// counted is a line under the version of its flag, with the digest that it is found by.
type counted struct {
	wire.CountLine
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
	sums := map[wire.CountLine]uint64{}
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
		if err := t.list(&rows, "SELECT f.flag, COALESCE((SELECT v.version FROM flag_versions v "+
			"WHERE v.environment_id = f.environment_id AND v.flag = f.flag AND v.revision <= ? "+
			"ORDER BY v.revision DESC LIMIT 1), 0) version "+
			"FROM flags f WHERE f.environment_id = ? AND f.flag IN ("+marks(len(some))+")",
			append([]any{revision, environment}, anys(some)...)...); err != nil {
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
			about = append(about, b.environment, l.kind, l.Flag, l.Variant, l.Reason, l.Rule, 0, l.FlagVersion,
				l.Application, l.Version, minute)
			counts = append(counts, b.environment, 1, minute, l.kind, l.Count)
			days[dayKey{l.Flag, l.Variant}] += l.Count
		}
		// When a kind was last met is kept to a day, so that its row is seldom written.
		if err := b.t.exec("INSERT INTO use_kinds (environment_id, kind, flag, variant, reason, rule, revision, "+
			"flag_version, application, version, last) VALUES "+values(len(some), 11)+
			" ON DUPLICATE KEY UPDATE last = IF(VALUES(last) > last + 1440, VALUES(last), last)",
			about...); err != nil {
			return err
		}
		if err := b.t.exec("INSERT INTO uses (environment_id, span, minute, kind, count) VALUES "+values(len(some),
			5)+" ON DUPLICATE KEY UPDATE count = count + VALUES(count)", counts...); err != nil {
			return err
		}
	}
	keys := make([]dayKey, 0, len(days))
	for k := range days {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(x, y dayKey) int {
		return cmp.Or(cmp.Compare(x.flag, y.flag), cmp.Compare(x.variant, y.variant))
	})
	for some := range slices.Chunk(keys, portion) {
		var args []any
		for _, k := range some {
			args = append(args, b.environment, b.now/dayMillis, k.flag, k.variant, days[k])
		}
		if err := b.t.exec("INSERT INTO use_days (environment_id, day, flag, variant, count) VALUES "+values(len(some),
			5)+" ON DUPLICATE KEY UPDATE count = count + VALUES(count)", args...); err != nil {
			return err
		}
	}
	return nil
}

// maxAsked bounds how many flags that do not exist are noted in an environment.
const maxAsked = 5_000

// writeAsked records which flags code asks for, and how it asked in vain.
func (b *batch) writeAsked(lines []counted) error {
	asked := map[string]wire.UnknownLine{}
	for _, l := range lines {
		if l.Application != wire.BulkUse { // who fetches all answers says nothing of which are used
			asked[l.Flag] = wire.UnknownLine{Flag: l.Flag, Application: l.Application}
		}
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
		if err := b.t.exec("INSERT INTO asked (environment_id, flag, first, last, type, fallback, application, "+
			"mistyped) VALUES "+values(len(some), 8)+
			" ON DUPLICATE KEY UPDATE last = VALUES(last), application = VALUES(application), mistyped = "+
			"GREATEST(mistyped, VALUES(mistyped)), "+
			"type = IF(VALUES(type) = '', type, VALUES(type)), fallback = IF(VALUES(type) = '', fallback, "+
			"VALUES(fallback))", args...); err != nil {
			return err
		}
	}
	return nil
}
