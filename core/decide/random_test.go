package decide

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// The random corpus.

var (
	corpusAttributes = []string{"role", "site.id", "firmware", "crew_size", "badge", condition.KeyAttribute}
	corpusTexts      = []string{"courier", "Courier", "site-1", "site-2", "4.2.0", "4.10.1", "v4.2", "10.20.3.4",
		"fd00::7", "2026-11-23T10:00:00+01:00", "recipient-7", "r", "1"}
	corpusTimes    = []string{"2026-11-23T09:00:00Z", "2026-11-24T06:00:00+01:00", "2027-03-28T01:00:00Z"}
	corpusNumbers  = []float64{-1, 0, 1, 2.5, 7}
	corpusVariants = []string{"a", "b", "c"}
)

func pick[T any](rng *rand.Rand, from []T) T { return from[rng.IntN(len(from))] }

func randomNode(rng *rand.Rand, depth int) *condition.Node {
	if depth > 0 && rng.IntN(2) == 0 {
		var nodes []condition.Node
		for range 1 + rng.IntN(3) {
			nodes = append(nodes, *randomNode(rng, depth-1))
		}
		switch rng.IntN(3) {
		case 0:
			return &condition.Node{All: nodes}
		case 1:
			return &condition.Node{Any: nodes}
		}
		return &condition.Node{Not: &nodes[0]}
	}
	n := &condition.Node{Attribute: pick(rng, corpusAttributes)}
	switch rng.IntN(16) {
	case 9:
		n.Test, n.Text, n.Loose = "version."+pick(rng, []string{"equals", "less", "at-most", "more", "at-least"}),
			[]string{pick(rng, []string{"4.2.0", "4.9.9"})}, rng.IntN(2) == 0
	case 10:
		n.Test, n.Text = pick(rng, []string{"time.before", "time.at-or-after"}), []string{pick(rng, corpusTimes)}
		if rng.IntN(3) == 0 {
			n.Test, n.Text = "time.between", corpusTimes[:2]
		}
	case 11:
		n.Test, n.Text = "address.in", []string{"10.20.0.0/16", "fd00::/8", "10.20.3.0/24"}
	case 12:
		n.Test, n.Text = pick(rng, []string{"list.any", "list.all", "list.none"}),
			[]string{"de", pick(rng, []string{"en", "fr"})}
	case 13:
		n.Attribute = ""
		switch rng.IntN(3) {
		case 0:
			n.Test, n.Weekly = "clock.weekly",
				&condition.Weekly{Days: []string{pick(rng, []string{"sun", "mon", "tue"}), "fri"},
					From: pick(rng, []string{"22:00", "08:30", "00:00"}),
					To:   pick(rng, []string{"06:00", "24:00", "12:15"}),
					Zone: pick(rng, []string{"Europe/Oslo", "UTC", "America/Lima"})}
		case 1:
			n.Test, n.Text = pick(rng, []string{"clock.before", "clock.at-or-after"}), []string{pick(rng, corpusTimes)}
		case 2:
			n.Test, n.Text = "clock.between", corpusTimes[1:]
		}
	case 14:
		n.Attribute, n.Test, n.Part = "", "part", &condition.Within{By: []string{pick(rng, corpusAttributes),
			pick(rng, corpusAttributes)}, Share: rng.Uint32N(bucket.Buckets + 1), Salt: "part", Hash: 1}
	case 15:
		n.Attribute, n.Test, n.Flag, n.Text = "", "flag.gives", pick(rng, []string{"base", "base", "none"}),
			[]string{pick(rng, corpusVariants), "c"}
	case 0:
		n.Test = pick(rng, []string{"present", "absent", "boolean.true", "boolean.false"})
	case 1:
		n.Test, n.Text, n.IgnoreCase = "string.equals", []string{pick(rng, corpusTexts)}, rng.IntN(3) == 0
	case 2, 3:
		n.Test, n.IgnoreCase = pick(rng, []string{"string.one-of", "string.begins", "string.ends", "string.contains"}),
			rng.IntN(3) == 0
		for range 1 + rng.IntN(9) {
			n.Text = append(n.Text, pick(rng, corpusTexts))
		}
	case 4:
		n.Test, n.Text, n.IgnoreCase = "string.matches", []string{pick(rng, []string{"^site", "[0-9]$", "c.*r"})},
			rng.IntN(2) == 0
	case 5, 6:
		n.Test = pick(rng, []string{"number.equals", "number.differs", "number.less", "number.at-most", "number.more",
			"number.at-least"})
		n.Numbers = []float64{pick(rng, corpusNumbers)}
	case 7:
		n.Test, n.Numbers = "number.between", []float64{0, 3}
		if rng.IntN(2) == 0 {
			n.Test, n.Numbers = "number.one-of", []float64{1, 7, -1}
		}
	case 8:
		n.Attribute = ""
		n.Test, n.Segment = "segment", pick(rng, []string{"s0", "s1", "s2", "none"})
		if rng.IntN(8) == 0 {
			*n = condition.Node{Test: "moon.phase", Attribute: "role"} // of a newer build
		}
	}
	return n
}

func randomGives(rng *rand.Rand, end bool) flag.Gives {
	if rng.IntN(2) == 0 {
		return flag.Gives{Variant: pick(rng, corpusVariants)}
	}
	s := &flag.Shares{By: []string{pick(rng, corpusAttributes)}, Salt: fmt.Sprint(rng.IntN(5)), Hash: 1}
	if rng.IntN(3) == 0 {
		s.By = append(s.By, condition.KeyAttribute)
	}
	first := rng.Uint32N(bucket.Buckets + 1)
	s.Parts = []flag.Part{{Variant: "a", Share: first}, {Variant: "b", Share: bucket.Buckets - first}}
	if !end && rng.IntN(2) == 0 {
		s.Parts[1] = flag.Part{GoesOn: true, Share: bucket.Buckets - first}
	}
	if err := s.Arrange(nil, "c"); err != nil {
		panic(err)
	}
	return flag.Gives{Shares: s}
}

func randomRuleset(rng *rand.Rand) *flag.Ruleset {
	s := &flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1}
	add := func(to *[]json.RawMessage, v any) {
		raw, err := json.Marshal(v)
		if err != nil {
			panic(err)
		}
		*to = append(*to, raw)
	}
	for i := range 3 {
		g := flag.Segment{Key: fmt.Sprintf("s%d", i), When: randomNode(rng, 2)}
		if rng.IntN(3) == 0 {
			g.Lists, g.In = pick(rng, []string{"", "site.id", "crew_size"}),
				&flag.List{Units: []string{"site-1", "courier1", "7"}}
			if rng.IntN(2) == 0 {
				g.Out = &flag.List{Units: []string{"courier1", "x0", "1"}}
			}
		}
		add(&s.Segments, g)
	}
	base := flag.Document{Key: "base", Type: flag.String, Lever: flag.On, Resting: "c", End: randomGives(rng, true),
		Variants: map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`),
			"c": json.RawMessage(`"C"`)}}
	add(&s.Flags, base)
	for i := range 4 {
		d := flag.Document{Key: fmt.Sprintf("f%d", i), Type: flag.String, Lever: flag.On,
			Resting: pick(rng, corpusVariants),
			Variants: map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`),
				"c": json.RawMessage(`"C"`)}}
		if rng.IntN(8) == 0 {
			d.Lever = flag.Off
		}
		for range rng.IntN(5) {
			r := flag.Rule{ID: fmt.Sprint(len(d.Rules)), Name: fmt.Sprint("rule ", len(d.Rules)),
				Parked: rng.IntN(6) == 0, Gives: randomGives(rng, false)}
			if rng.IntN(8) > 0 {
				r.When = randomNode(rng, 3)
			}
			r.OnUnknown = pick(rng, []flag.OnUnknown{"", "", flag.Apply, flag.Skip})
			d.Rules = append(d.Rules, r)
		}
		d.End = randomGives(rng, true)
		if i > 0 && rng.IntN(3) == 0 { // only downwards, so there are no circles
			d.Needs = []flag.Need{{Flag: fmt.Sprintf("f%d", rng.IntN(i)), Variant: pick(rng, corpusVariants)}}
		}
		if rng.IntN(12) == 0 {
			s.Stops = append(s.Stops, flag.Stop{ID: fmt.Sprint("stop", i), Flags: []string{d.Key}})
		}
		add(&s.Flags, d)
	}
	rs, err := flag.NewRuleset(s)
	if err != nil {
		panic(err)
	}
	return rs
}

// randomUnit is what is known of a unit, as JSON, and when it asks.
func randomUnit(rng *rand.Rand) (raw []byte, now int64, c *condition.Context) {
	unit := map[string]any{}
	start, _ := time.Parse(time.RFC3339, corpusTimes[0])
	now = start.UnixMilli() + rng.Int64N(130*86_400_000)
	switch rng.IntN(10) {
	case 0: // it has no key
	case 1:
		unit[condition.KeyAttribute] = pick(rng, []any{nil, "", 7, 1})
	default:
		unit[condition.KeyAttribute] = pick(rng, []string{"recipient-7", "site-1", "courier", "x"}) +
			fmt.Sprint(rng.IntN(3))
	}
	for _, name := range corpusAttributes[:5] {
		var v any
		switch rng.IntN(12) {
		case 0, 1, 2, 3:
			v = pick(rng, corpusTexts)
		case 4, 5, 6:
			v = pick(rng, corpusNumbers)
		case 7, 8:
			v = rng.IntN(2) == 0
		case 9:
			v = []string{"de", "en", "fr"}[rng.IntN(3):]
		case 10:
			v = pick(rng, []any{nil, []any{"de", 1}, []any{}, map[string]any{"id": "site-1"}, []any{[]any{"de"}}})
		case 11:
			continue
		}
		if flat, within, nested := strings.Cut(name, "."); nested && rng.IntN(2) == 0 {
			unit[flat] = map[string]any{within: v}
			if rng.IntN(4) == 0 {
				unit[name] = pick(rng, corpusTexts) // flat wins
			}
			continue
		}
		unit[name] = v
	}
	raw, err := json.Marshal(unit)
	if err == nil {
		c, err = condition.ParseContext(raw)
	}
	if err != nil {
		panic(err)
	}
	return raw, now, c
}
