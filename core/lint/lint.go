// Package lint finds what is probably wrong with a flag although it can be saved.
//
// Its nouns are a [Check], which is a value with a name, a reason, a bad example and a
// mend, a [Subject], which is a flag with what is known around it, and a [Finding].
//
//	for _, f := range lint.Run(subject) {
//		fmt.Println(f.Rule, f.Says, f.Mend)
//	}
//
// Findings are data. A check that is muted for a flag, with a reason, still runs, and its
// findings say so.
package lint

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// Check looks for one thing.
type Check struct {
	Name   string `json:"name"`   // such as "shadowed"
	Reason string `json:"reason"` // why it matters
	Bad    string `json:"bad"`    // an example of what it finds
	Mend   string `json:"mend"`   // what to do, in general
	run    func(p *pass)
	time   bool // what it finds is due to time that has gone by
}

// Finding is one thing that a check found.
type Finding struct {
	Check string     `json:"check"`
	Flag  string     `json:"flag"`
	Rule  string     `json:"rule,omitempty"`  // id; empty: of the flag or its end
	Place string     `json:"place,omitempty"` // name of the rule, or "end"
	Says  words.Said `json:"says"`
	Mend  string     `json:"mend"`
	Muted string     `json:"muted,omitempty"` // the reason, where it is muted
	// Stands tells, in a preview, that it was found before the edit too.
	Stands bool `json:"stands,omitempty"`
	// Order is a better order of the rules, by id, where that is the mend.
	Order []string `json:"order,omitempty"`
}

// Attribute is what is declared and seen of an attribute.
type Attribute struct {
	Declared Type              // empty: not in the catalogue
	Loose    bool              // of versions: 4.2 and v4.2.0 are sent too
	Kinds    map[string]uint64 // how often it was seen, by kind: see package sample
	Mostly   string            // the kind in which nearly all values came, if so
}

// Type is what an attribute is declared to be.
type Type string

// The types. Versions, times and addresses are strings of a form.
const (
	String  Type = "string"
	Number  Type = "number"
	Boolean Type = "boolean"
	Version Type = "version"
	Time    Type = "time"
	Address Type = "address"
	List    Type = "list"
)

// Types lists the types.
func Types() []Type { return []Type{String, Number, Boolean, Version, Time, Address, List} }

// Kind is the kind of values that the type is sent as.
func (t Type) Kind() string {
	switch t {
	case Version, Time, Address:
		return "string"
	}
	return string(t)
}

// Subject is a flag with what is known around it.
type Subject struct {
	Rules      *decide.Ruleset // that stands, or would after the edit
	Flag       string
	Now        int64 // Unix milliseconds
	Attributes map[string]Attribute
	Catalogue  bool              // the project declares attributes at all
	Contexts   uint64            // that were looked at for what is seen; 0: nothing is known
	Units      *Units            // that were seen
	GoneBy     string            // the date by which the flag should be gone, or "stays"; empty: not known
	OneSince   int64             // since when the flag gave one variant to all, Unix milliseconds; 0: it does not
	Muted      map[string]string // reasons by check
}

// Units are units that were seen, with what is found out about them once, however many flags are
// looked at. It must not be used by several goroutines at a time.
type Units struct {
	all    []*condition.Context
	hidden func(attribute string) bool // whether the units may have it although the sample does not
	values map[string]map[string]bool  // what an attribute was, by attribute
	lack   map[string]int              // how many have none of some attributes
	of     *decide.Ruleset             // by which it was found out who is taken
	taken  map[string]bool             // whether any is, by condition
}

// NewUnits takes units that were seen; hidden tells of attributes that they may have although
// the sample does not hold them as they are, such as personal ones.
func NewUnits(all []*condition.Context, hidden func(attribute string) bool) *Units {
	return &Units{all: all, hidden: hidden, values: map[string]map[string]bool{}, lack: map[string]int{}}
}

// Len is how many units there are; a nil Units has none.
func (u *Units) Len() int {
	if u == nil {
		return 0
	}
	return len(u.all)
}

func (u *Units) hides(attribute string) bool { return u.hidden != nil && u.hidden(attribute) }

// never tells of a condition that none of the units can meet, from the values that were seen; it
// is false where that does not tell.
func (u *Units) never(n *condition.Node) bool {
	switch {
	case len(n.All) > 0:
		return slices.ContainsFunc(n.All, func(part condition.Node) bool { return u.never(&part) })
	case len(n.Any) > 0:
		return !slices.ContainsFunc(n.Any, func(part condition.Node) bool { return !u.never(&part) })
	case n.Test != "string.equals" && n.Test != "string.one-of" || n.IgnoreCase ||
		n.Attribute == condition.KeyAttribute:
		return false
	}
	seen := u.values[n.Attribute]
	if seen == nil {
		seen = map[string]bool{}
		name := condition.Intern(n.Attribute)
		for _, c := range u.all {
			if v := c.Lookup(name); v.Kind() == condition.Text {
				seen[v.Text()] = true
			}
		}
		u.values[n.Attribute] = seen
	}
	return !slices.ContainsFunc(n.Text, func(text string) bool { return seen[text] })
}

// anyTaken tells whether a rule's condition takes any of the units.
func (u *Units) anyTaken(rs *decide.Ruleset, r *flag.Rule, resting string, now int64) bool {
	unknown := r.AppliesOnUnknown(resting)
	if !unknown && u.never(r.When) {
		return false
	}
	if u.of != rs {
		u.of, u.taken = rs, map[string]bool{}
	}
	raw, err := json.Marshal(r.When)
	if err != nil {
		panic(err) // plain values of ours
	}
	key := fmt.Sprint(unknown, string(raw))
	any, known := u.taken[key]
	if known {
		return any
	}
	takes, err := rs.Taking(r.When, unknown)
	// what does not compile is told elsewhere
	any = err != nil || slices.ContainsFunc(u.all, func(c *condition.Context) bool { return takes(c, now) })
	u.taken[key] = any
	return any
}

// lacking counts the units that have none of some attributes.
func (u *Units) lacking(by []string) int {
	key := strings.Join(by, "\x00")
	n, ok := u.lack[key]
	if ok {
		return n
	}
	names := make([]condition.Name, len(by))
	for i, name := range by {
		names[i] = condition.Intern(name)
	}
	for _, c := range u.all {
		if !slices.ContainsFunc(names, func(name condition.Name) bool { _, ok := c.ShareKey(name); return ok }) {
			n++
		}
	}
	u.lack[key] = n
	return n
}

// Overdue looks only for what time has gone by: it asks for neither units nor attributes.
func Overdue(s *Subject) []Finding {
	return run(s, func(c *Check) bool { return c.time })
}

// Checks lists all checks.
func Checks() []Check { return checks }

// Run looks at a flag with every check. Muted findings come last.
func Run(s *Subject) []Finding { return run(s, func(*Check) bool { return true }) }

func run(s *Subject, takes func(*Check) bool) []Finding {
	f := s.Rules.Flag(s.Flag)
	if f == nil || len(f.Variants()) == 0 {
		return nil
	}
	p := &pass{Subject: s, flag: f, doc: f.Document()}
	for i := range checks {
		if p.check = &checks[i]; takes(p.check) {
			checks[i].run(p)
		}
	}
	slices.SortStableFunc(p.found, func(a, b Finding) int {
		switch {
		case a.Muted == "" && b.Muted != "":
			return -1
		case a.Muted != "" && b.Muted == "":
			return 1
		}
		return 0
	})
	return p.found
}

// pass is one run over one flag.
type pass struct {
	*Subject
	flag  *decide.Flag
	doc   *flag.Document
	check *Check
	found []Finding
}

func (p *pass) add(rule *flag.Rule, says words.Said, mend string) *Finding {
	f := Finding{Check: p.check.Name, Flag: p.Flag, Says: says, Mend: mend, Muted: p.Muted[p.check.Name]}
	if rule != nil {
		f.Rule, f.Place = rule.ID, rule.Name
	}
	p.found = append(p.found, f)
	return &p.found[len(p.found)-1]
}

// live calls visit for every rule that is not parked.
func (p *pass) live(visit func(i int, r *flag.Rule)) {
	for i := range p.doc.Rules {
		if !p.doc.Rules[i].Parked {
			visit(i, &p.doc.Rules[i])
		}
	}
}
