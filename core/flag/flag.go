// Package flag holds what an environment owns of a flag, and a whole environment's ruleset,
// as they are stored, sent and read back: documents, events and snapshots.
//
// Its nouns are a [Document] (one flag in one environment), a [Segment], a [Stop] and a
// [Ruleset] that a [Snapshot] starts and an [Event] carries on. The smallest use:
//
//	rs, err := flag.ReadSnapshot(raw)
//	err = rs.Apply(event) // the next revision
package flag

import (
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// Format is the number of the wire format that this package writes, and the highest that it reads.
const Format = 1

// Type is the type of a flag's values. It never changes.
type Type string

// The four types.
const (
	Boolean Type = "boolean"
	String  Type = "string"
	Number  Type = "number"
	Object  Type = "object"
)

// Types lists the types.
func Types() []Type { return []Type{Boolean, String, Number, Object} }

// Lever is a flag's position in an environment.
type Lever string

// The positions. While a stop stands a flag is decided as with the lever off.
const (
	On  Lever = "on"
	Off Lever = "off"
)

// Document is what an environment owns of a flag: exactly what followers get.
type Document struct {
	Key      string                     `json:"key"`
	Type     Type                       `json:"type"`
	Variants map[string]json.RawMessage `json:"variants"`
	Visible  bool                       `json:"visible"` // to browsers
	Lever    Lever                      `json:"lever"`
	Resting  string                     `json:"resting"`
	Needs    []Need                     `json:"needs,omitempty"`
	Rules    []Rule                     `json:"rules,omitempty"`
	End      Gives                      `json:"end"`
	// RestAfter is after how many minutes without contact to the service a process gives the
	// resting variant; 0: it goes on deciding for as long as it has to.
	RestAfter int      `json:"restAfter,omitempty"`
	Requires  []string `json:"requires,omitempty"` // what a client must know to decide this flag
}

// RequiresRest is what a document with RestAfter requires.
const RequiresRest = "restAfter"

// MaxRestAfter is a week, in minutes.
const MaxRestAfter = 7 * 24 * 60

// Needed lists what a client must know to decide the flag.
func (d *Document) Needed() []string {
	if d.RestAfter != 0 {
		return []string{RequiresRest}
	}
	return nil
}

// TooOld tells whether the document requires what this build does not know.
func (d *Document) TooOld() bool {
	return slices.ContainsFunc(d.Requires, func(name string) bool { return name != RequiresRest })
}

// Need says that the flag may leave its resting variant only where another gives a variant.
type Need struct {
	Flag    string `json:"flag"`
	Variant string `json:"variant"`
}

// OnUnknown says what a rule does where its condition is unknown.
type OnUnknown string

// What a rule does with doubt. Empty: a rule that gives only the resting variant applies,
// any other is skipped.
const (
	Apply OnUnknown = "apply"
	Skip  OnUnknown = "skip"
)

// Rule gives something when a condition holds; without a condition, to everybody.
type Rule struct {
	ID        string          `json:"id"`
	Name      string          `json:"name"`
	When      *condition.Node `json:"when,omitempty"`
	Gives     Gives           `json:"gives"`
	Parked    bool            `json:"parked,omitempty"`
	OnUnknown OnUnknown       `json:"onUnknown,omitempty"`
	Requires  []string        `json:"requires,omitempty"`
	// Release is the id of the release that owns the rule. It bears on no decision.
	Release string `json:"release,omitempty"`
	// Evidence marks a rule of a release whose units are watched. It bears on no decision.
	Evidence *Evidence `json:"evidence,omitempty"`
}

// Evidence asks clients to tell of each unit when the rule answered it first.
type Evidence struct {
	Run   int      `json:"run"`   // number of the release's evidence run; a new one asks anew
	Stage int      `json:"stage"` // that is under way
	By    []string `json:"by"`    // what the release's shares are drawn by; the first attribute present is the unit
	// With are attributes that are told with a unit, so that what was found can be broken down by them.
	With []string `json:"with,omitempty"`
}

// Gives is a rule's result: one variant, or shares.
type Gives struct {
	Variant string  `json:"variant,omitempty"`
	Shares  *Shares `json:"shares,omitempty"`
}

// Shares divide the units among variants by the bucket of an attribute.
type Shares struct {
	By    []string `json:"by"`   // the first attribute present counts
	Salt  string   `json:"salt"` // random, its own
	Hash  int      `json:"hash"` // scheme of package bucket
	Parts []Part   `json:"parts"`
	// Like are the shares that these move together with: their salt and attributes are
	// those of the others. It bears on no decision.
	Like *SharesAt `json:"like,omitempty"`
	// DrawAnew asks for a new salt when the document is saved; it is never kept.
	DrawAnew bool `json:"drawAnew,omitempty"`
}

// SharesAt is the place of shares: a flag's rule by id, or its end where the rule is empty.
type SharesAt struct {
	Flag string `json:"flag"`
	Rule string `json:"rule,omitempty"`
}

// SharesAt finds shares by their place in the document; nil where there are none.
func (d *Document) SharesAt(rule string) *Shares {
	if rule == "" {
		return d.End.Shares
	}
	for i := range d.Rules {
		if d.Rules[i].ID == rule {
			return d.Rules[i].Gives.Shares
		}
	}
	return nil
}

// Part is a share of one variant, or the part that goes on to the next rule.
type Part struct {
	Variant string   `json:"variant,omitempty"`
	GoesOn  bool     `json:"goesOn,omitempty"`
	Share   uint32   `json:"share"`  // parts per million
	Ranges  []Ranges `json:"ranges"` // the buckets that it owns
}

// Rule finds a rule by its id; nil where there is none.
func (d *Document) Rule(id string) *Rule {
	if d == nil {
		return nil
	}
	i := slices.IndexFunc(d.Rules, func(r Rule) bool { return r.ID == id })
	if i < 0 {
		return nil
	}
	return &d.Rules[i]
}

// Has tells whether the part owns a bucket.
func (p Part) Has(bucket uint32) bool {
	return slices.ContainsFunc(p.Ranges, func(r Ranges) bool { return r[0] <= bucket && bucket < r[1] })
}

// Buckets counts the buckets that the part owns.
func (p Part) Buckets() (n uint32) {
	for _, r := range p.Ranges {
		if r[1] > r[0] {
			n += r[1] - r[0]
		}
	}
	return n
}

// Ranges is a run of buckets, from the first to the one behind the last.
type Ranges [2]uint32

// goesOn names the part that goes on in layouts; no variant can have this name.
const goesOn = ">"

func (p Part) name() string {
	if p.GoesOn {
		return goesOn
	}
	return p.Variant
}

// OnlyGives tells whether the rule's result can be nothing but the variant.
func (g Gives) OnlyGives(variant string) bool {
	if g.Shares == nil {
		return g.Variant == variant
	}
	for _, p := range g.Shares.Parts {
		if p.Share > 0 && (p.GoesOn || p.Variant != variant) {
			return false
		}
	}
	return true
}

// AppliesOnUnknown tells whether the rule applies where its condition is unknown.
func (r *Rule) AppliesOnUnknown(resting string) bool {
	switch r.OnUnknown {
	case Apply:
		return true
	case Skip:
		return false
	}
	return r.Gives.OnlyGives(resting)
}

// Uses tells whether the variant stands anywhere in the document, and where.
func (d *Document) Uses(variant string) (place string, used bool) {
	if d.Resting == variant {
		return "resting", true
	}
	if d.End.uses(variant) {
		return "end", true
	}
	for i := range d.Rules {
		if d.Rules[i].Gives.uses(variant) {
			return fmt.Sprintf("rule %q", d.Rules[i].Name), true
		}
	}
	return "", false
}

func (g Gives) uses(variant string) bool {
	return g.Shares == nil && g.Variant == variant ||
		g.Shares != nil && slices.ContainsFunc(g.Shares.Parts, func(p Part) bool { return p.Variant == variant })
}

// VariantNames lists the variants in order of their names.
func (d *Document) VariantNames() []string {
	names := make([]string, 0, len(d.Variants))
	for n := range d.Variants {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Segments lists the keys of the segments that the rules name, each once.
func (d *Document) Segments() []string {
	var keys []string
	for i := range d.Rules {
		keys = append(keys, segmentsOf(d.Rules[i].When)...)
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

func segmentsOf(n *condition.Node) (keys []string) {
	n.Leaves(func(l *condition.Node) {
		if l.Test == condition.SegmentTest {
			keys = append(keys, l.Segment)
		}
	})
	return keys
}

// asked lists the flag leaves of a condition.
func asked(n *condition.Node) (leaves []*condition.Node) {
	n.Leaves(func(l *condition.Node) {
		if l.Test == condition.FlagTest {
			leaves = append(leaves, l)
		}
	})
	return leaves
}

// Draws lists the attributes that units are drawn by anywhere in the document, each once.
func (d *Document) Draws() []string {
	var by []string
	add := func(g Gives) {
		if g.Shares != nil {
			by = append(by, g.Shares.By...)
		}
	}
	for i := range d.Rules {
		add(d.Rules[i].Gives)
		by = append(by, drawsOf(d.Rules[i].When)...)
	}
	add(d.End)
	slices.Sort(by)
	return slices.Compact(by)
}

func drawsOf(n *condition.Node) (by []string) {
	n.Leaves(func(l *condition.Node) {
		if l.Part != nil {
			by = append(by, l.Part.By...)
		}
	})
	return by
}

// Attributes lists the attributes that the document compares or draws by, segments not
// written out, each once.
func (d *Document) Attributes() []string {
	names := d.Draws()
	for i := range d.Rules {
		d.Rules[i].When.Leaves(func(l *condition.Node) {
			if l.Attribute != "" {
				names = append(names, l.Attribute)
			}
		})
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Stop forces flags to their resting variants. It is no part of any document.
type Stop struct {
	ID    string   `json:"id"`
	Flags []string `json:"flags"`
	At    int64    `json:"at"` // Unix milliseconds
	// Proof tells the service that it gave this stop, should its records have lost it: see [Stop.Prove].
	Proof string `json:"proof,omitempty"`
}

// Layout gives the parts as package bucket lays them out.
func (s *Shares) Layout() []bucket.Part {
	if s == nil {
		return nil
	}
	var out []bucket.Part
	for _, p := range s.Parts {
		part := bucket.Part{Name: p.name()}
		for _, r := range p.Ranges {
			part.Ranges = append(part.Ranges, bucket.Range{From: r[0], To: r[1]})
		}
		out = append(out, part)
	}
	return out
}

// Arrange puts the parts in their stored order and gives each its buckets, moving as few
// as possible from where old has them; old may be nil. The part that goes on stands last,
// else the resting variant.
func (s *Shares) Arrange(old *Shares, resting string) error {
	parts := slices.Clone(s.Parts)
	slices.SortStableFunc(parts, func(a, b Part) int { return rank(a, resting) - rank(b, resting) })
	wants := make([]bucket.Want, 0, len(parts))
	byName := map[string]Part{}
	for _, p := range parts {
		wants = append(wants, bucket.Want{Name: p.name(), Size: p.Share})
		byName[p.name()] = p
	}
	laid, err := bucket.Allocate(old.Layout(), wants)
	if err != nil {
		return err
	}
	s.Parts = s.Parts[:0:0]
	for _, l := range laid {
		p := byName[l.Name]
		p.Ranges = []Ranges{}
		for _, r := range l.Ranges {
			p.Ranges = append(p.Ranges, Ranges{r.From, r.To})
		}
		s.Parts = append(s.Parts, p)
	}
	return nil
}

func rank(p Part, resting string) int {
	switch {
	case p.GoesOn:
		return 2
	case p.Variant == resting:
		return 1
	}
	return 0
}

// Plain gives rules as rules of their own, which no release owns.
func Plain(rules []Rule) []Rule {
	out := slices.Clone(rules)
	for i := range out {
		out[i].Release, out[i].Evidence = "", nil
	}
	return out
}
