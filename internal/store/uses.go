package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"slices"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "asked", Option: "keep-asked", Days: 90, Why: "flags that nobody asks for any more"},
	Kept{Table: "use_days", Option: "keep-counts", Days: 400, Why: "sums by day"},
	Kept{Table: "use_kinds", Option: "keep-counts", Days: 400, Why: "what is counted apart", Bytes: 700},
	Kept{Table: "uses", Option: "keep-counts", Days: 400, Why: "counts by the minute for 2 hours, by 5 minutes for " +
		"13, by 15 for 2 days, by 2 hours for 15, by the day after that", Bytes: 700},
)

// Asked lists the flags that code asks for in an environment.
func (s *Store) Asked(ctx context.Context, environment int64) ([]app.Asked, error) {
	return list[app.Asked](ctx, s.pages, "SELECT flag, first, last, type, fallback, application, mistyped "+
		"FROM asked WHERE environment_id = ? ORDER BY flag LIMIT 5000", environment)
}

// Uses sums counts from one Unix minute up to another in steps of so many minutes: of one
// flag in every detail, or of all flags by variant where the flag is empty.
func (s *Store) Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error) {
	switch {
	case flag != "":
		return list[app.UseRow](ctx, s.pages, "SELECT u.minute DIV ? * ? minute, k.flag, k.variant, k.reason, "+
			"k.rule, k.flag_version flagversion, k.application, k.version, CAST(SUM(u.count) AS UNSIGNED) count "+
			"FROM use_kinds k JOIN uses u ON u.environment_id = k.environment_id AND u.kind = k.kind "+
			"WHERE k.environment_id = ? AND k.flag = ? AND u.minute >= ? AND u.minute < ? "+
			"GROUP BY 1, k.variant, k.reason, k.rule, k.flag_version, k.application, k.version ORDER BY 1, k.variant",
			step, step, environment, flag, from, to)
	case step >= 1440:
		return s.daysOfAll(ctx, environment, from/1440, (to+1439)/1440)
	}
	return s.usesOfAll(ctx, environment, from, to, step)
}

// daysOfAll reads sums by day, of which there are many: each row is scanned by itself.
func (s *Store) daysOfAll(ctx context.Context, environment, from, to int64) ([]app.UseRow, error) {
	rows, err := s.pages.QueryContext(ctx, "SELECT day * 1440, flag, variant, count FROM use_days "+
		"WHERE environment_id = ? AND day >= ? AND day < ?", environment, from, to)
	if err != nil {
		return nil, fault(err)
	}
	defer rows.Close()
	out := []app.UseRow{}
	for rows.Next() {
		var r app.UseRow
		if err := rows.Scan(&r.Minute, &r.Flag, &r.Variant, &r.Count); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, fault(rows.Err())
}

// usesOfAll sums the counts of all flags. They are summed by kind in the order in which they lie,
// and what a kind is of is looked up here: a join would go through each kind's rows apart.
func (s *Store) usesOfAll(ctx context.Context, environment, from, to, step int64) ([]app.UseRow, error) {
	rows, err := list[struct {
		Minute int64  `db:"minute"`
		Kind   string `db:"kind"`
		Count  uint64 `db:"count"`
	}](ctx, s.pages, "SELECT minute DIV ? * ? minute, kind, CAST(SUM(count) AS UNSIGNED) count "+
		"FROM uses FORCE INDEX (PRIMARY) "+
		"WHERE environment_id = ? AND span IN ("+spans+") AND minute >= ? AND minute < ? GROUP BY 1, kind", step, step,
		environment, from, to)
	if err != nil {
		return nil, err
	}
	kinds, err := list[struct {
		Kind    string `db:"kind"`
		Flag    string `db:"flag"`
		Variant string `db:"variant"`
	}](ctx, s.pages, "SELECT kind, flag, variant FROM use_kinds WHERE environment_id = ? AND last >= ?", environment,
		from-longestSpan-keptToADay)
	of := make(map[string]wire.CountLine, len(kinds))
	for _, k := range kinds {
		of[k.Kind] = wire.CountLine{Flag: k.Flag, Variant: k.Variant}
	}
	sums := map[app.UseRow]uint64{}
	for _, r := range rows {
		if line, known := of[r.Kind]; known {
			sums[app.UseRow{Minute: r.Minute, CountLine: line}] += r.Count
		}
	}
	out := make([]app.UseRow, 0, len(sums))
	for r, n := range sums {
		r.Count = n
		out = append(out, r)
	}
	slices.SortFunc(out, func(x, y app.UseRow) int {
		return cmp.Or(cmp.Compare(x.Minute, y.Minute), cmp.Compare(x.Flag, y.Flag), cmp.Compare(x.Variant, y.Variant))
	})
	return out, err
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

func (b *batch) count(l wire.CountLine) {
	if b.counts == nil {
		b.counts = map[wire.CountLine]uint64{}
	}
	n := l.Count
	l.Count = 0
	b.counts[l] += n
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

// ThinUses gathers old counts into longer spans, an hour or a day at a time. No count is lost
// or counted twice, however often it is interrupted.
func (s *Store) ThinUses(ctx context.Context, now int64) error {
	minute := now / 60_000
	ids, err := list[int64](ctx, s.work, "SELECT id FROM environments ORDER BY id")
	for _, env := range ids {
		for _, g := range gatherings {
			before := (minute - g.after) / g.into * g.into
			err = errors.Join(err, rounds(ctx, func(ctx context.Context) (int64, error) {
				first, err := list[int64](ctx, s.work, "SELECT minute FROM uses WHERE environment_id = ? "+
					"AND span = ? AND minute < ? ORDER BY minute LIMIT 1", env, g.span, before)
				if err != nil || len(first) == 0 {
					return 0, err
				}
				from := first[0] / g.into * g.into
				return 1, s.gather(ctx, env, g.span, g.into, from)
			}))
		}
	}
	return err
}

// gather sums what was counted from a minute on over a longer span.
func (s *Store) gather(ctx context.Context, env, span, into, from int64) error {
	return s.background(ctx, func(t *Tx) error {
		if err := t.exec("INSERT INTO uses (environment_id, span, minute, kind, count) SELECT environment_id, ?, ?, "+
			"kind, SUM(count) FROM uses WHERE environment_id = ? AND span = ? AND minute >= ? AND minute < ? GROUP "+
			"BY environment_id, kind "+
			"ON DUPLICATE KEY UPDATE count = uses.count + VALUES(count)", into, from, env, span, from,
			from+into); err != nil {
			return err
		}
		return t.exec("DELETE FROM uses WHERE environment_id = ? AND span = ? AND minute >= ? AND minute < ?", env,
			span, from, from+into)
	})
}
