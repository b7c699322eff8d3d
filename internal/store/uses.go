package store

import (
	"cmp"
	"context"
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
