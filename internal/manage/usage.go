package manage

import (
	"cmp"
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed(
	op[none, Usage]("GET", atEnvironment+"/usage", "What was decided, of all flags or of one, against the window "+
		"before",
		(*call).usage).takes("flag", "span").needs(app.Read),
)

// span is how far back usage can be asked for, with its steps, in minutes.
type span struct {
	name          string
	minutes, step int64
}

var spans = []span{{"15m", 15, 1}, {"1h", 60, 1}, {"6h", 360, 5}, {"1d", 1440, 15}, {"7d", 7 * 1440, 120},
	{"30d", 30 * 1440, 1440}, {"90d", 90 * 1440, 1440}}

// Usage is what was decided in a span of time, and in the one before.
type Usage struct {
	From int64       `json:"from"` // Unix milliseconds
	To   int64       `json:"to"`
	Step int64       `json:"step"` // milliseconds
	Now  []UsageLine `json:"now"`
	Past []UsageLine `json:"past"` // the window before, of the same length
	// for one flag: sums by rule, reason, version of the flag, application and its version
	Ways []Way `json:"ways"`
	// Variants are the names of the variants of each flag that is spoken of.
	Variants map[string][]string `json:"variants"`
}

// Way is how often a flag was decided in one way.
type Way struct {
	wire.CountLine
	Name string `json:"name,omitempty"` // of the rule
}

// UsageLine is how often a flag gave a variant, step by step.
type UsageLine struct {
	Flag    string   `json:"flag"`
	Variant string   `json:"variant,omitempty"` // empty: the caller's fallback
	Counts  []uint64 `json:"counts"`
	Total   uint64   `json:"total"`
}

func (c *call) usage(*none) (any, error) {
	e := c.e
	at := slices.IndexFunc(spans, func(s span) bool { return s.name == cmp.Or(c.QueryParam("span"), "1h") })
	if at < 0 {
		return nil, app.InvalidField("span", "must be 15m, 1h, 6h, 1d, 7d, 30d or 90d")
	}
	s := spans[at]
	to := (c.api.Now().UnixMilli()/60_000/s.step + 1) * s.step // the step that has begun counts as it is
	from := to - s.minutes
	key := c.QueryParam("flag")
	rows, err := c.api.Records.Uses(c.ctx, e.ID, key, from, to, s.step)
	if err != nil {
		return nil, err
	}
	past, err := c.api.Records.Uses(c.ctx, e.ID, key, from-s.minutes, from, s.step)
	if err != nil {
		return nil, err
	}
	u := &Usage{From: from * 60_000, To: to * 60_000, Step: s.step * 60_000, Now: s.lines(rows, key, from),
		Past: s.lines(past, key, from-s.minutes), Ways: []Way{}}
	if key != "" {
		place, err := c.api.Hub.Place(c.ctx, e.ID)
		if err != nil {
			return nil, err
		}
		var doc *flag.Document
		if f := place.Rules().Flag(key); f != nil {
			doc = f.Document()
		}
		u.Ways = ways(rows, key, doc)
	}
	spoken := map[string]bool{key: true}
	for _, l := range append(slices.Clone(u.Now), u.Past...) {
		spoken[l.Flag] = true
	}
	u.Variants, err = c.variants(func(flag string) bool { return spoken[flag] })
	return u, err
}

// lines gathers rows by flag and variant.
func (s span) lines(rows []app.UseRow, flag string, from int64) []UsageLine {
	type key struct{ flag, variant string }
	all := map[key]*UsageLine{}
	for _, r := range rows {
		k := key{cmp.Or(flag, r.Flag), r.Variant}
		line := all[k]
		if line == nil {
			line = &UsageLine{Flag: k.flag, Variant: k.variant, Counts: make([]uint64, s.minutes/s.step)}
			all[k] = line
		}
		if i := (r.Minute - from) / s.step; r.Minute >= from && int(i) < len(line.Counts) {
			line.Counts[i] += r.Count
		} else {
			line.Counts[0] += r.Count // of a longer span that began before
		}
		line.Total += r.Count
	}
	out := make([]UsageLine, 0, len(all))
	for _, l := range all {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b UsageLine) int {
		return cmp.Or(cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant))
	})
	return out
}

// ways sums one flag's rows over time, the largest first.
func ways(rows []app.UseRow, key string, doc *flag.Document) []Way {
	sums := map[wire.CountLine]uint64{}
	for _, r := range rows {
		l := r.CountLine
		l.Flag, l.Count = key, 0
		sums[l] += r.Count
	}
	out := make([]Way, 0, len(sums))
	for l, n := range sums {
		l.Count = n
		way := Way{l, ""}
		if l.Rule != "" {
			way.Name = "a rule that is gone"
			if r := doc.Rule(l.Rule); r != nil {
				way.Name = r.Name
			}
		}
		out = append(out, way)
	}
	slices.SortFunc(out, func(a, b Way) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Variant, b.Variant), cmp.Compare(a.Rule, b.Rule),
			cmp.Compare(a.Application, b.Application),
			cmp.Compare(a.Version, b.Version), cmp.Compare(a.FlagVersion, b.FlagVersion),
			cmp.Compare(a.Reason, b.Reason))
	})
	return out
}
