package condition

import (
	"cmp"
	"math"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
	"unsafe"

	"greenlever.example/core/bucket"
)

type op uint8

const (
	opUnknown op = iota // a test that this build does not know, or an unusable one
	opEquals
	opEqualsFold
	opOneOf
	opOneOfSet
	opOneOfFold
	opBegins
	opEnds
	opContains
	opMatches
	opNumEquals
	opNumDiffers
	opNumLess
	opNumAtMost
	opNumMore
	opNumAtLeast
	opNumBetween
	opNumOneOf
	opTrue
	opFalse
	opPresent
	opAbsent
	opVersion
	opTime
	opTimeBetween
	opAddress
	opListAny
	opListAll
	opListNone
	opListed

	// From here on no attribute is asked for.
	opClock
	opClockBetween
	opWeekly
	opPart
	opAlways
	opFlag // what another flag gives: [Code.Run] hands it to its caller
)

// instr is one compiled leaf: what it tests, and where to go on each outcome. A target of
// zero or more is an instruction, a negative one leaves the code with that number.
type instr struct {
	op             op
	isKey          bool
	fold           bool
	want           order
	yes, no, maybe int32
	name           Name
	text           string
	bits           uint64 // a number, or a packed version
	more           *constants
}

// constants holds what only some tests need, to keep instructions small.
type constants struct {
	set  textSet // first, with v4 behind it: what is looked up most lies in one line of the cache
	v4   blocks4
	list []string
	*rare
}

// rare are the constants of few comparisons, which would make all others large.
type rare struct {
	numbers []float64
	pattern *regexp.Regexp
	version version
	loose   bool
	times   [2]int64
	blocks  blocks
	weekly  *weekly
	by      []Name
	seed    uint32
	share   uint32
	listed  Listed
	flag    string
}

// linear is how many strings are compared one by one before a set is quicker.
const linear = 6

// leaf compiles the comparison of a leaf node; segments are not its matter.
func leaf(n *Node, zones Zones) instr {
	k, known := tests[n.Test]
	in := instr{op: k.op, want: k.want, name: Intern(n.Attribute), isKey: n.Attribute == KeyAttribute,
		fold: n.IgnoreCase}
	if !known || k.takes.check(n) != "" || !in.constants(n, k, zones) {
		in.op = opUnknown
	}
	return in
}

// constants prepares what the leaf compares with; false where it is of no use.
func (in *instr) constants(n *Node, k kind, zones Zones) (ok bool) {
	switch k.takes {
	case oneText:
		in.text = n.Text[0]
		if in.fold {
			in.op = opEqualsFold
		}
	case someText:
		in.texts(n)
	case onePattern:
		return in.match(n)
	case oneNumber:
		in.bits = math.Float64bits(n.Numbers[0])
	case twoNumbers, someNumbers:
		in.more = &constants{rare: &rare{numbers: n.Numbers}}
	case oneVersion:
		in.more = &constants{rare: &rare{loose: n.Loose}}
		in.more.version, ok = parseVersion(n.Text[0], n.Loose)
		in.bits = in.more.version.pack()
		return ok
	case oneTime, twoTimes:
		in.more = &constants{rare: &rare{}}
		for i, s := range n.Text {
			if in.more.times[i], ok = ParseTime(s); !ok {
				return false
			}
		}
	case someBlocks:
		in.more = &constants{rare: &rare{}}
		in.more.blocks, ok = parseBlocks(n.Text)
		in.more.v4 = in.more.blocks.v4()
		return ok
	case oneWeekly:
		in.more = &constants{rare: &rare{weekly: n.Weekly.compile(zones)}}
		return in.more.weekly != nil
	case onePart:
		return in.part(n.Part)
	case someVariants:
		in.more = &constants{list: n.Text, rare: &rare{flag: n.Flag}}
	}
	if in.op == opListed {
		in.more = &constants{rare: &rare{listed: n.listed}}
		return n.listed != nil
	}
	return true
}

func (in *instr) texts(n *Node) {
	if len(n.Text) == 1 && (in.op == opBegins || in.op == opEnds || in.op == opContains) {
		in.text = n.Text[0]
		if in.fold {
			in.text = foldText(in.text)
		}
		return
	}
	if in.op == opOneOf && !in.fold && len(n.Text) <= linear {
		in.text = ListValue(n.Text).text // few, which most are: side by side, and nothing else
		return
	}
	in.more = &constants{list: n.Text}
	if in.fold {
		in.more.list = make([]string, len(n.Text))
		for i, s := range n.Text {
			in.more.list[i] = foldText(s)
		}
	}
	if in.op == opOneOf {
		in.op = opOneOfSet
		if in.fold {
			in.op = opOneOfFold
		}
	}
	if in.op == opOneOfSet || in.op == opOneOfFold || in.op == opListAny || in.op == opListNone {
		in.more.set = newTextSet(in.more.list)
	}
}

func (in *instr) match(n *Node) bool {
	if o, text, fold, ok := literal(n.Text[0], n.IgnoreCase); ok {
		in.op, in.fold, in.text = o, fold, text
		switch {
		case o == opEquals && fold:
			in.op = opEqualsFold
		case fold:
			in.text = foldText(text)
		}
		return true
	}
	pattern, err := compilePattern(n)
	in.more = &constants{rare: &rare{pattern: pattern}}
	return err == nil
}

func (in *instr) part(p *Within) bool {
	if p.Hash != bucket.Scheme {
		return false
	}
	in.more = &constants{rare: &rare{seed: bucket.Seed(p.Salt), share: p.Share}}
	for _, by := range p.By {
		in.more.by = append(in.more.by, Intern(by))
	}
	return true
}

// test evaluates one leaf. It is the only place that compares: decisions, explanations
// and the plain evaluation all come through it.
func (in *instr) test(c *Context, now int64) Truth {
	if in.op >= opClock {
		return in.alone(c, now)
	}
	var v *Value
	if in.isKey {
		if key := c.Key(); key != "" {
			if in.op == opEquals { // the way of most named units, without building a value
				return truth(key == in.text)
			}
			kv := TextValue(key)
			return in.compare(&kv)
		}
	} else {
		v = c.lookup(in.name)
	}
	if v == nil {
		return in.without()
	}
	if in.op == opEquals && v.kind == Text {
		return truth(v.text == in.text)
	}
	return in.compare(v)
}

// without tests a leaf whose attribute is absent.
func (in *instr) without() Truth {
	switch in.op {
	case opPresent:
		return False
	case opAbsent:
		return True
	}
	return Unknown
}

// alone tests a leaf that asks for no attribute, whatever the context holds.
func (in *instr) alone(c *Context, now int64) Truth {
	switch in.op {
	case opAlways:
		return True
	case opClock:
		return truth(orderOf(cmp.Compare(now, in.more.times[0]))&in.want != 0)
	case opClockBetween:
		return truth(in.more.times[0] <= now && now < in.more.times[1])
	case opWeekly:
		return truth(in.more.weekly.holds(now))
	case opPart:
		for _, by := range in.more.by {
			if key, ok := c.ShareKey(by); ok {
				return truth(bucket.Of(key, in.more.seed) < in.more.share)
			}
		}
	}
	return Unknown
}

func (in *instr) compare(v *Value) Truth {
	switch {
	case in.op == opPresent:
		return True
	case in.op == opAbsent:
		return False
	case in.op >= opEquals && in.op <= opMatches:
		if v.kind != Text {
			return Unknown
		}
		return truth(in.compareText(v.text))
	case in.op >= opNumEquals && in.op <= opNumOneOf:
		if v.kind != Number || math.IsNaN(v.num) {
			return Unknown
		}
		return truth(in.compareNumber(v.num))
	case in.op == opTrue || in.op == opFalse:
		if v.kind != Boolean {
			return Unknown
		}
		return truth((v.num == 1) == (in.op == opTrue))
	case in.op >= opListAny && in.op <= opListNone:
		if v.kind != List {
			return Unknown
		}
		return truth(in.compareList(v))
	case in.op == opListed:
		key, ok := v.shareKey()
		if !ok {
			return Unknown
		}
		return truth(in.more.listed.Has(key))
	case v.kind == Text:
		return in.compareForm(v.text)
	}
	return Unknown
}

// compareForm compares texts that have a form of their own; one that has not is unknown.
func (in *instr) compareForm(s string) Truth {
	switch in.op {
	case opVersion:
		if p := packVersion(s); p != 0 && in.bits != 0 {
			return truth(orderOf(cmp.Compare(p, in.bits))&in.want != 0)
		}
		if v, ok := parseVersion(s, in.more.loose); ok {
			return truth(orderOf(compareVersions(&v, &in.more.version))&in.want != 0)
		}
	case opTime:
		if t, ok := ParseTime(s); ok {
			return truth(orderOf(cmp.Compare(t, in.more.times[0]))&in.want != 0)
		}
	case opTimeBetween:
		if t, ok := ParseTime(s); ok {
			return truth(in.more.times[0] <= t && t < in.more.times[1])
		}
	case opAddress:
		if a, ok := parseIPv4(s); ok {
			return truth(in.more.v4.has(a))
		}
		if !likeIPv6(s) {
			return Unknown // whose error would be made in vain
		}
		if a, err := netip.ParseAddr(s); err == nil {
			return truth(in.more.blocks.has(a.Unmap().WithZone("")))
		}
	}
	return Unknown
}

func (in *instr) compareList(v *Value) bool {
	if in.op == opListAll {
		return !slices.ContainsFunc(in.more.list, func(want string) bool {
			return !v.hasElement(want)
		})
	}
	for s := range v.elements {
		if in.more.set.has(s) {
			return in.op == opListAny
		}
	}
	return in.op == opListNone
}

func (in *instr) compareText(s string) bool {
	switch in.op {
	case opEquals:
		return s == in.text
	case opEqualsFold:
		return strings.EqualFold(s, in.text)
	case opOneOf:
		v := Value{text: in.text}
		return v.hasElement(s)
	case opOneOfSet:
		return in.more.set.has(s)
	case opOneOfFold:
		return folded(s, in.more.set.has)
	case opMatches:
		return in.more.pattern.MatchString(s)
	}
	if in.fold {
		return folded(s, in.holdsAny)
	}
	return in.holdsAny(s)
}

func (in *instr) holdsAny(s string) bool {
	if in.more == nil {
		return in.holds(s, in.text)
	}
	for _, want := range in.more.list {
		if in.holds(s, want) {
			return true
		}
	}
	return false
}

// holds tells whether a text begins with another, ends with it or contains it.
func (in *instr) holds(s, want string) bool {
	switch in.op {
	case opBegins:
		return strings.HasPrefix(s, want)
	case opEnds:
		return strings.HasSuffix(s, want)
	}
	return strings.Contains(s, want)
}

func (in *instr) compareNumber(f float64) bool {
	want := math.Float64frombits(in.bits)
	switch in.op {
	case opNumEquals:
		return f == want
	case opNumDiffers:
		return f != want
	case opNumLess:
		return f < want
	case opNumAtMost:
		return f <= want
	case opNumMore:
		return f > want
	case opNumAtLeast:
		return f >= want
	case opNumBetween:
		return in.more.numbers[0] <= f && f <= in.more.numbers[1]
	}
	return slices.Contains(in.more.numbers, f)
}

func truth(b bool) Truth {
	if b {
		return True
	}
	return False
}

// foldText maps every rune to the least of those that simple Unicode folding holds equal,
// so that equal folded texts are those that strings.EqualFold holds equal.
func foldText(s string) string { return string(appendFolded(nil, s)) }

func appendFolded(b []byte, s string) []byte {
	for _, r := range s {
		if r < utf8.RuneSelf {
			if 'a' <= r && r <= 'z' {
				r -= 'a' - 'A'
			}
			b = append(b, byte(r))
			continue
		}
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		b = utf8.AppendRune(b, least)
	}
	return b
}

// folds are where texts are folded, so that decisions allocate nothing.
var folds = sync.Pool{New: func() any { return &[]byte{} }}

// folded hands the folded text on; it is of no use afterwards.
func folded(s string, to func(string) bool) bool {
	b := folds.Get().(*[]byte)
	*b = appendFolded((*b)[:0], s)
	is := to(unsafe.String(unsafe.SliceData(*b), len(*b)))
	folds.Put(b)
	return is
}
