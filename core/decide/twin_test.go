package decide

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// The plain twin: what the rules of decision say, written down as directly as they read
// and sharing no code with the compiled way but the hash.

type plainUnit struct {
	key   string
	attrs map[string]any
}

func (u plainUnit) value(name string) any {
	if name == condition.KeyAttribute {
		if u.key == "" {
			return nil
		}
		return u.key
	}
	return u.attrs[name]
}

func plainMatch(rs *flag.Ruleset, n *condition.Node, u plainUnit, open string) condition.Truth {
	switch {
	case n == nil:
		return condition.True
	case n.Not != nil:
		return 2 - plainMatch(rs, n.Not, u, open)
	case len(n.All) > 0:
		t := condition.True
		for i := range n.All {
			t = min(t, plainMatch(rs, &n.All[i], u, open))
		}
		return t
	case len(n.Any) > 0:
		t := condition.False
		for i := range n.Any {
			t = max(t, plainMatch(rs, &n.Any[i], u, open))
		}
		return t
	case n.Test == "segment":
		s := rs.Segment(n.Segment)
		if s == nil || strings.Contains(open, "|"+n.Segment+"|") {
			return condition.Unknown
		}
		if s.When == nil {
			return condition.False
		}
		return plainMatch(rs, s.When, u, open+"|"+n.Segment+"|")
	}
	v := u.value(n.Attribute)
	yes := func(b bool) condition.Truth {
		if b {
			return condition.True
		}
		return condition.False
	}
	if n.Test == "present" || n.Test == "absent" {
		return yes((v != nil) == (n.Test == "present"))
	}
	kind, how, _ := strings.Cut(n.Test, ".")
	switch v := v.(type) {
	case string:
		if kind == "string" {
			return yes(plainText(how, v, n))
		}
	case float64:
		if kind == "number" {
			return yes(plainNumber(how, v, n.Numbers))
		}
	case bool:
		if kind == "boolean" {
			return yes(v == (how == "true"))
		}
	}
	return condition.Unknown
}

func plainText(how, v string, n *condition.Node) bool {
	if how == "matches" {
		p := n.Text[0]
		if n.IgnoreCase {
			p = "(?i)" + p
		}
		return regexp.MustCompile(p).MatchString(v)
	}
	return slices.ContainsFunc(n.Text, func(want string) bool {
		v := v
		if n.IgnoreCase { // the corpus is ASCII, where folding is lower case
			v, want = strings.ToLower(v), strings.ToLower(want)
		}
		switch how {
		case "begins":
			return strings.HasPrefix(v, want)
		case "ends":
			return strings.HasSuffix(v, want)
		case "contains":
			return strings.Contains(v, want)
		}
		return v == want
	})
}

func plainNumber(how string, v float64, w []float64) bool {
	switch how {
	case "differs":
		return v != w[0]
	case "less":
		return v < w[0]
	case "at-most":
		return v <= w[0]
	case "more":
		return v > w[0]
	case "at-least":
		return v >= w[0]
	case "between":
		return v >= w[0] && v <= w[1]
	}
	return slices.Contains(w, v)
}

// plainDecide gives variant and reason.
func plainDecide(rs *flag.Ruleset, key string, u plainUnit, depth int) (string, string) {
	d := rs.Flag(key)
	if d == nil {
		return "", "ERROR"
	}
	for _, s := range rs.Stops {
		if slices.Contains(s.Flags, key) {
			return d.Resting, "DISABLED"
		}
	}
	if d.Lever == flag.Off {
		return d.Resting, "DISABLED"
	}
	for _, n := range d.Needs {
		if v, _ := plainDecide(rs, n.Flag, u, depth+1); v != n.Variant {
			return d.Resting, "DISABLED"
		}
	}
	unparked := false
	for i := range d.Rules {
		r := &d.Rules[i]
		if r.Parked {
			continue
		}
		unparked = true
		t := plainMatch(rs, r.When, u, "")
		doubt := r.OnUnknown == flag.Apply || r.OnUnknown == "" && r.Gives.OnlyGives(d.Resting)
		if t == condition.True || t == condition.Unknown && doubt {
			if r.Gives.Shares == nil {
				return r.Gives.Variant, "TARGETING_MATCH"
			}
			if p := plainDraw(r.Gives.Shares, u); p != nil && !p.GoesOn {
				return p.Variant, "SPLIT"
			}
		}
	}
	if d.End.Shares != nil {
		if p := plainDraw(d.End.Shares, u); p != nil {
			return p.Variant, "SPLIT"
		}
		return d.Resting, "DEFAULT"
	}
	if unparked || len(d.Needs) > 0 {
		return d.End.Variant, "DEFAULT"
	}
	return d.End.Variant, "STATIC"
}

func plainDraw(s *flag.Shares, u plainUnit) *flag.Part {
	for _, by := range s.By {
		text := ""
		switch v := u.value(by).(type) {
		case string:
			text = v
		case float64:
			if v == float64(int64(v)) {
				text = fmt.Sprintf("%d", int64(v))
			}
		}
		if text == "" {
			continue
		}
		b := bucket.Of(text, bucket.Seed(s.Salt))
		for i, p := range s.Parts {
			for _, r := range p.Ranges {
				if r[0] <= b && b < r[1] {
					return &s.Parts[i]
				}
			}
		}
	}
	return nil
}

// The random corpus.

var (
	corpusAttributes = []string{"role", "site.id", "firmware", "crew_size", "badge", condition.KeyAttribute}
	corpusTexts      = []string{"courier", "Courier", "site-1", "site-2", "4.2.0", "recipient-7", "r", "1"}
	corpusNumbers    = []float64{-1, 0, 1, 2.5, 7}
	corpusVariants   = []string{"a", "b", "c"}
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
	switch rng.IntN(9) {
	case 0:
		n.Test = pick(rng, []string{"present", "absent", "boolean.true", "boolean.false"})
	case 1:
		n.Test, n.Text, n.IgnoreCase = "string.equals", []string{pick(rng, corpusTexts)}, rng.IntN(3) == 0
	case 2, 3:
		n.Test, n.IgnoreCase = pick(rng, []string{"string.one-of", "string.begins", "string.ends", "string.contains"}), rng.IntN(3) == 0
		for range 1 + rng.IntN(9) {
			n.Text = append(n.Text, pick(rng, corpusTexts))
		}
	case 4:
		n.Test, n.Text, n.IgnoreCase = "string.matches", []string{pick(rng, []string{"^site", "[0-9]$", "c.*r"})}, rng.IntN(2) == 0
	case 5, 6:
		n.Test = pick(rng, []string{"number.equals", "number.differs", "number.less", "number.at-most", "number.more", "number.at-least"})
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
		add(&s.Segments, flag.Segment{Key: fmt.Sprintf("s%d", i), When: randomNode(rng, 2)})
	}
	for i := range 4 {
		d := flag.Document{Key: fmt.Sprintf("f%d", i), Type: flag.String, Lever: flag.On, Resting: pick(rng, corpusVariants),
			Variants: map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`), "c": json.RawMessage(`"C"`)}}
		if rng.IntN(8) == 0 {
			d.Lever = flag.Off
		}
		for range rng.IntN(5) {
			r := flag.Rule{ID: fmt.Sprint(len(d.Rules)), Name: fmt.Sprint("rule ", len(d.Rules)), Parked: rng.IntN(6) == 0, Gives: randomGives(rng, false)}
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

func randomUnit(rng *rand.Rand) (plainUnit, *condition.Context) {
	u := plainUnit{attrs: map[string]any{}}
	if rng.IntN(10) > 0 {
		u.key = pick(rng, []string{"recipient-7", "site-1", "courier", "x"}) + fmt.Sprint(rng.IntN(3))
	}
	var attrs []condition.Attribute
	for _, name := range corpusAttributes[:5] {
		var v condition.Value
		switch rng.IntN(6) {
		case 0, 1:
			s := pick(rng, corpusTexts)
			u.attrs[name], v = s, condition.TextValue(s)
		case 2, 3:
			f := pick(rng, corpusNumbers)
			u.attrs[name], v = f, condition.NumberValue(f)
		case 4:
			b := rng.IntN(2) == 0
			u.attrs[name], v = b, condition.BooleanValue(b)
		case 5:
			if rng.IntN(2) == 0 {
				u.attrs[name], v = []string{"x"}, condition.ListValue([]string{"x"})
			}
		}
		attrs = append(attrs, condition.Attribute{Name: condition.Intern(name), Value: v})
	}
	return u, condition.NewContext(u.key, attrs...)
}
