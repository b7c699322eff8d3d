package decide

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// The plain twin: what the rules of decision say, written down as directly as they read
// and sharing no code with the compiled way but the hash.

type plainUnit struct {
	key   string
	attrs map[string]any
	now   int64
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
		return plainSegment(rs, s, u, open+"|"+n.Segment+"|")
	}
	if t, is := plainAround(rs, n, u); is {
		return t
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
	case []string:
		if kind == "list" {
			return yes(plainList(how, v, n.Text))
		}
	case string:
		switch kind {
		case "string":
			return yes(plainText(how, v, n))
		case "version", "time", "address":
			return plainForm(kind, how, v, n)
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

func plainSegment(rs *flag.Ruleset, s *flag.Segment, u plainUnit, open string) condition.Truth {
	if s.In != nil || s.Out != nil {
		id := plainKey(u.value(s.Attribute()))
		if id == "" {
			return condition.Unknown
		}
		if s.Out != nil && slices.Contains(s.Out.Units, id) {
			return condition.False
		}
		if s.In != nil && slices.Contains(s.In.Units, id) {
			return condition.True
		}
	}
	if s.When == nil {
		return condition.False
	}
	return plainMatch(rs, s.When, u, open)
}

// plainAround judges the leaves that compare no attribute.
func plainAround(rs *flag.Ruleset, n *condition.Node, u plainUnit) (condition.Truth, bool) {
	yes := map[bool]condition.Truth{true: condition.True, false: condition.False}
	at := func(i int) time.Time { t, _ := time.Parse(time.RFC3339, n.Text[i]); return t }
	now := time.UnixMilli(u.now)
	switch n.Test {
	case "clock.before":
		return yes[now.Before(at(0))], true
	case "clock.at-or-after":
		return yes[!now.Before(at(0))], true
	case "clock.between":
		return yes[!now.Before(at(0)) && now.Before(at(1))], true
	case "clock.weekly":
		testZones(n.Weekly.Zone)
		zone := loadedZones[n.Weekly.Zone]
		local := now.In(zone)
		clock, day := local.Format("15:04"), local
		if n.Weekly.To <= n.Weekly.From && clock < n.Weekly.To {
			day = time.Date(day.Year(), day.Month(), day.Day()-1, 12, 0, 0, 0, zone)
		} else if clock < n.Weekly.From || n.Weekly.From < n.Weekly.To && clock >= n.Weekly.To {
			return condition.False, true
		}
		return yes[slices.Contains(n.Weekly.Days, strings.ToLower(day.Format("Mon")))], true
	case "part":
		for _, by := range n.Part.By {
			if key := plainKey(u.value(by)); key != "" {
				return yes[bucket.Of(key, bucket.Seed(n.Part.Salt)) < n.Part.Share], true
			}
		}
		return condition.Unknown, true
	case "flag.gives":
		v, _ := plainDecide(rs, n.Flag, u, 1)
		if v == "" {
			return condition.Unknown, true
		}
		return yes[slices.Contains(n.Text, v)], true
	}
	return condition.Unknown, false
}

func plainKey(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		if v == float64(int64(v)) {
			return fmt.Sprintf("%d", int64(v))
		}
	}
	return ""
}

func plainList(how string, have, want []string) bool {
	common := 0
	for _, w := range want {
		if slices.Contains(have, w) {
			common++
		}
	}
	switch how {
	case "any":
		return common > 0
	case "all":
		return common == len(want)
	}
	return common == 0
}

// plainForm compares versions, times and addresses; those of the corpus are simple.
func plainForm(kind, how, v string, n *condition.Node) condition.Truth {
	yes := map[bool]condition.Truth{true: condition.True, false: condition.False}
	c := 0
	switch kind {
	case "address":
		a, err := netip.ParseAddr(v)
		if err != nil {
			return condition.Unknown
		}
		return yes[slices.ContainsFunc(n.Text, func(p string) bool { return netip.MustParsePrefix(p).Contains(a) })]
	case "version":
		if n.Loose {
			v = strings.TrimPrefix(v, "v")
			for strings.Count(v, ".") < 2 {
				v += ".0"
			}
		}
		var have, want [3]int
		if _, err := fmt.Sscanf(v+"!", "%d.%d.%d!", &have[0], &have[1], &have[2]); err != nil {
			return condition.Unknown
		}
		_, _ = fmt.Sscanf(n.Text[0], "%d.%d.%d", &want[0], &want[1], &want[2])
		c = slices.Compare(have[:], want[:])
	case "time":
		t, err := time.Parse(time.RFC3339, v)
		if err != nil {
			return condition.Unknown
		}
		at := func(i int) time.Time { t, _ := time.Parse(time.RFC3339, n.Text[i]); return t }
		if how == "between" {
			return yes[!t.Before(at(0)) && t.Before(at(1))]
		}
		return yes[t.Before(at(0)) == (how == "before")]
	}
	return yes[map[string]bool{"equals": c == 0, "less": c < 0, "at-most": c <= 0, "more": c > 0, "at-least": c >= 0}[how]]
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
		text := plainKey(u.value(by))
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
	corpusTexts      = []string{"courier", "Courier", "site-1", "site-2", "4.2.0", "4.10.1", "v4.2", "10.20.3.4", "fd00::7", "2026-11-23T10:00:00+01:00", "recipient-7", "r", "1"}
	corpusTimes      = []string{"2026-11-23T09:00:00Z", "2026-11-24T06:00:00+01:00", "2027-03-28T01:00:00Z"}
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
	switch rng.IntN(16) {
	case 9:
		n.Test, n.Text, n.Loose = "version."+pick(rng, []string{"equals", "less", "at-most", "more", "at-least"}), []string{pick(rng, []string{"4.2.0", "4.9.9"})}, rng.IntN(2) == 0
	case 10:
		n.Test, n.Text = pick(rng, []string{"time.before", "time.at-or-after"}), []string{pick(rng, corpusTimes)}
		if rng.IntN(3) == 0 {
			n.Test, n.Text = "time.between", corpusTimes[:2]
		}
	case 11:
		n.Test, n.Text = "address.in", []string{"10.20.0.0/16", "fd00::/8", "10.20.3.0/24"}
	case 12:
		n.Test, n.Text = pick(rng, []string{"list.any", "list.all", "list.none"}), []string{"de", pick(rng, []string{"en", "fr"})}
	case 13:
		n.Attribute = ""
		switch rng.IntN(3) {
		case 0:
			n.Test, n.Weekly = "clock.weekly", &condition.Weekly{Days: []string{pick(rng, []string{"sun", "mon", "tue"}), "fri"}, From: pick(rng, []string{"22:00", "08:30", "00:00"}),
				To: pick(rng, []string{"06:00", "24:00", "12:15"}), Zone: pick(rng, []string{"Europe/Oslo", "UTC", "America/Lima"})}
		case 1:
			n.Test, n.Text = pick(rng, []string{"clock.before", "clock.at-or-after"}), []string{pick(rng, corpusTimes)}
		case 2:
			n.Test, n.Text = "clock.between", corpusTimes[1:]
		}
	case 14:
		n.Attribute, n.Test, n.Part = "", "part", &condition.Within{By: []string{pick(rng, corpusAttributes), pick(rng, corpusAttributes)}, Share: rng.Uint32N(bucket.Buckets + 1), Salt: "part", Hash: 1}
	case 15:
		n.Attribute, n.Test, n.Flag, n.Text = "", "flag.gives", pick(rng, []string{"base", "base", "none"}), []string{pick(rng, corpusVariants), "c"}
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
		g := flag.Segment{Key: fmt.Sprintf("s%d", i), When: randomNode(rng, 2)}
		if rng.IntN(3) == 0 {
			g.Lists, g.In = pick(rng, []string{"", "site.id", "crew_size"}), &flag.List{Units: []string{"site-1", "courier1", "7"}}
			if rng.IntN(2) == 0 {
				g.Out = &flag.List{Units: []string{"courier1", "x0", "1"}}
			}
		}
		add(&s.Segments, g)
	}
	base := flag.Document{Key: "base", Type: flag.String, Lever: flag.On, Resting: "c", End: randomGives(rng, true),
		Variants: map[string]json.RawMessage{"a": json.RawMessage(`"A"`), "b": json.RawMessage(`"B"`), "c": json.RawMessage(`"C"`)}}
	add(&s.Flags, base)
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
	start, _ := time.Parse(time.RFC3339, corpusTimes[0])
	u.now = start.UnixMilli() + rng.Int64N(130*86_400_000)
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
				list := []string{"de", "en", "fr"}[rng.IntN(3):]
				u.attrs[name], v = list, condition.ListValue(list)
			}
		}
		attrs = append(attrs, condition.Attribute{Name: condition.Intern(name), Value: v})
	}
	return u, condition.NewContext(u.key, attrs...)
}
