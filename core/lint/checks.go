package lint

import (
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

const day = 86_400_000 // milliseconds

var checks = []Check{
	{"contradiction", "A rule whose condition cannot hold does nothing, and looks as if it did.",
		`crew_size < 2 && crew_size > 5`, "Join the comparisons with ||, or take one out.", contradiction, false},
	{"shadowed", "A rule below one that takes all of its units is never reached.",
		"rule 1: everybody: on; rule 2: staff: off", "Move the rule up, or remove it.", shadowed, false},
	{"order", "A rule for few below shares that already divide its units gives them what chance says, not what it " +
		"says.",
		"rule 1: 8 % by site.id; rule 2: 3 named units", "Put the rule for few above.", order, false},
	{"attribute", "An attribute that nobody declared or sends makes a comparison unknown for everybody.",
		`frimware is version ≥ 4.2.0`, "Mend the name, declare the attribute, or send it.", attribute, false},
	{"type", "A comparison with values of another type is unknown, so its rule silently never applies.",
		`crew_size ≥ 2, while crew_size arrives as a string`, "Compare what is sent, or send what is compared.",
		otherType, false},
	{"empty", "A segment that takes nobody makes its rule do nothing.",
		"segment pilot-sites without a unit or a condition", "Fill the segment, or take the rule out.", empty, false},
	{"anchors", "A pattern without anchors matches in the middle too.",
		`site.id matches "site-1"`, "Write ^ and $ where the whole value is meant, or use contains.", anchors, false},
	{"doubt", "A rule that says itself what happens in doubt is an exception that its readers should know.",
		"on unknown: apply, in a rule that gives on", "Leave it out where doubt should exclude.", doubt, false},
	{"window-ends",
		"A window that ends takes a live thing away from its units, at a time when nobody may be watching.",
		"it is between … and tomorrow: on", "Write a window without an end, or note the end in the calendar.",
		windowEnds, false},
	{"window-over", "A window that is over makes its rule do nothing for ever.",
		"it is before last year: on", "Take the rule out.", windowOver, true},
	{"window-begun", "A comparison with a time long gone always holds: it only makes the rule harder to read.",
		"it is at or after last year: on", "Take the comparison out.", windowBegun, true},
	{"gone-by", "A flag past the date by which it should be gone is a branch in the code that nobody looks after.",
		"gone by last month, and still asked for", "Take the flag out of the code, or give it another date and " +
			"say why.", goneBy, true},
	{"need-off", "A flag that is off or stopped meets a need if its resting variant is the one that is named.",
		"needs weather-holds to give off, and weather-holds is off", "Ask for a variant that it gives when it is on.",
		needOff, false},
	{"one-variant", "A flag that gives everybody one variant for weeks is a decision that was taken: its code can go.",
		"on for everybody since spring", "Take the flag out of the code, or say why it stays.", oneVariant, false},
	{"nobody", "A rule that takes none of the units that were seen may not say what its writer meant.",
		`site.region is "Nord"`, "Compare its constants with the values that are seen.", nobody, false},
	{"split-by-some", "Shares drawn by an attribute that some units lack leave those out.",
		"8 % by site.id, and a third of all units have no site.id", "Draw by a list that ends with one that " +
			"everybody has, such as the key.", splitBySome, false},
}

func contradiction(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		if r.When != nil && impossible(p, r.When) {
			p.add(r, words.Say("can never take a unit: %s", r.When.Said(nil)),
				"join the comparisons with ||, or take one out")
		}
	})
}

func shadowed(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		for j := range i {
			above := &p.doc.Rules[j]
			if above.Parked || leavesOver(above.Gives) || !(above.When == nil || sameCondition(above.When, r.When) ||
				r.When != nil && implies(r.When, above.When)) {
				continue
			}
			if s := above.Gives.Shares; s != nil {
				p.add(r, words.Say("is reached only by units without %s: the shares of %s above leave nothing over "+
					"of the others", words.Names(nil).Without(s.By), words.Rule(above.Name)),
					"move it above, or remove it")
			} else {
				p.add(r, words.Say("is never reached: %s above takes all of its units", words.Rule(above.Name)),
					"move it above, or remove it")
			}
			return
		}
	})
}

// leavesOver tells of shares of which a part gets what follows.
func leavesOver(g flag.Gives) bool {
	return g.Shares != nil && slices.ContainsFunc(g.Shares.Parts, func(p flag.Part) bool {
		return p.GoesOn && p.Share > 0
	})
}

func sameCondition(a, b *condition.Node) bool {
	return a != nil && b != nil && a.Canonical().Equal(b.Canonical())
}

// implies tells, where it is plain to see, that whoever meets a meets b: b is one of the
// parts that a joins with and, or lists what a lists.
func implies(a, b *condition.Node) bool {
	if sameCondition(a, b) {
		return true
	}
	for i := range a.All {
		if implies(&a.All[i], b) {
			return true
		}
	}
	for i := range b.Any {
		if implies(a, &b.Any[i]) {
			return true
		}
	}
	listed := func(n *condition.Node) bool { return n.Test == "string.equals" || n.Test == "string.one-of" }
	if listed(a) && listed(b) && a.Attribute == b.Attribute && !a.IgnoreCase {
		return !slices.ContainsFunc(a.Text, func(s string) bool { return !slices.Contains(b.Text, s) })
	}
	return false
}

func namesUnits(n *condition.Node) bool {
	return n != nil && (n.Test == "string.equals" || n.Test == "string.one-of") &&
		n.Attribute == condition.KeyAttribute
}

func order(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		if !namesUnits(r.When) {
			return
		}
		for j := range i {
			above := &p.doc.Rules[j]
			if above.Parked || namesUnits(above.When) || above.Gives.Shares == nil {
				continue
			}
			ids := make([]string, 0, len(p.doc.Rules))
			for k := range p.doc.Rules {
				if k == j {
					ids = append(ids, r.ID)
				}
				if k != i {
					ids = append(ids, p.doc.Rules[k].ID)
				}
			}
			p.add(r, words.Say("names units below %s, which divides by shares: some of them get what the shares say",
				words.Rule(above.Name)), "put it above").Order = ids
			return
		}
	})
}

// leaves calls visit for the leaves of a rule and of the segments that it asks for.
func (p *pass) leaves(r *flag.Rule, visit func(l *condition.Node, segment string)) {
	var open []string
	var walk func(n *condition.Node, segment string)
	walk = func(n *condition.Node, segment string) {
		n.Leaves(func(l *condition.Node) {
			visit(l, segment)
			if l.Test == condition.SegmentTest && !slices.Contains(open, l.Segment) {
				open = append(open, l.Segment)
				if s := p.Rules.Source.Segment(l.Segment); s != nil {
					walk(s.When, l.Segment)
				}
			}
		})
	}
	walk(r.When, "")
}

func inSegment(segment string) string {
	if segment == "" {
		return ""
	}
	return " in segment " + segment
}

func attribute(p *pass) {
	said := map[string]bool{}
	tell := func(r *flag.Rule, name, segment string) {
		if name == "" || name == condition.KeyAttribute || said[name] {
			return
		}
		a, known := p.Attributes[name]
		switch {
		case p.Contexts >= 100 && len(a.Kinds) == 0:
			said[name] = true
			p.add(r, words.Say("asks for %s%s, which was in none of %s contexts that were looked at",
				attributeToken(name), inSegment(segment), int(p.Contexts)), "mend the name"+nearest(name,
				p.Attributes)+", or send the attribute")
		case p.Catalogue && (!known || a.Declared == ""):
			said[name] = true
			p.add(r, words.Say("asks for %s%s, which is not in the catalogue of attributes", attributeToken(name),
				inSegment(segment)), "mend the name"+nearest(name, p.Attributes)+", or declare the attribute")
		}
	}
	p.live(func(i int, r *flag.Rule) {
		p.leaves(r, func(l *condition.Node, segment string) {
			tell(r, l.Attribute, segment)
			if l.Part != nil {
				for _, by := range l.Part.By {
					tell(r, by, segment)
				}
			}
		})
		if r.Gives.Shares != nil {
			for _, by := range r.Gives.Shares.By {
				tell(r, by, "")
			}
		}
	})
}

// nearest suggests a known name that differs little.
func nearest(name string, known map[string]Attribute) string {
	best := Nearest(name, maps.Keys(known))
	if best == "" || best == name {
		return ""
	}
	return " (" + best + "?)"
}

// Nearest is the known name that is most like another one, if one is much like it: at most a
// third of it is written otherwise. Of two that are as like it is the first by the alphabet.
func Nearest(name string, known iter.Seq[string]) string {
	best, least := "", max(len(name)/3, 1)+1
	for k := range known {
		if d := distance(name, k); d < least || d == least && best != "" && k < best {
			best, least = k, d
		}
	}
	return best
}

// distance counts how many bytes are put in, taken out or changed between two names
// (Wagner and Fischer, "The String-to-String Correction Problem", 1974).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}

func otherType(p *pass) {
	said := map[string]bool{}
	p.live(func(i int, r *flag.Rule) {
		p.leaves(r, func(l *condition.Node, segment string) {
			if mend := Fits(l, p.Attributes[l.Attribute], l.Attribute); mend != "" && !said[l.Test+l.Attribute] {
				said[l.Test+l.Attribute] = true
				p.add(r, words.Say("compares what does not fit%s: %s", inSegment(segment), words.Plain(mend)),
					"compare what is sent, or send what is compared")
			}
		})
	})
}

func empty(p *pass) {
	said := map[string]bool{}
	p.live(func(i int, r *flag.Rule) {
		p.leaves(r, func(l *condition.Node, _ string) {
			if l.Test != condition.SegmentTest || said[l.Segment] {
				return
			}
			if s := p.Rules.Source.Segment(l.Segment); s != nil && s.When == nil && s.In.Len() == 0 {
				said[l.Segment] = true
				p.add(r, words.Say("asks for segment %s, which takes nobody: it lists no units and has no condition",
					words.Key(l.Segment)), "fill the segment, or take the rule out")
			}
		})
	})
}

func anchors(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		p.leaves(r, func(l *condition.Node, segment string) {
			if l.Unanchored() {
				p.add(r, words.Say("matches %s in the middle of %s too%s", words.Value(l.Text[0], l.Attribute),
					attributeToken(l.Attribute), inSegment(segment)), "write ^ and $ where the whole value is "+
					"meant, or use contains")
			}
		})
	})
}

func doubt(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		excludes := r.Gives.OnlyGives(p.doc.Resting)
		switch {
		case r.OnUnknown == flag.Apply && !excludes:
			p.add(r, words.Say("takes units for which its condition is unknown: missing data lets them in"),
				"leave it out, so that doubt excludes")
		case r.OnUnknown == flag.Skip && excludes:
			p.add(r,
				words.Say("does not take units for which its condition is unknown, so that they are not kept out"),
				"leave it out, so that doubt excludes")
		}
	})
}

func givesWords(g flag.Gives) words.Said {
	if g.Shares == nil {
		return words.Said{words.Variant(g.Variant)}
	}
	return words.Say("its shares")
}

func attributeToken(name string) words.Token { return words.Names(nil).Attribute(name) }

func needOff(p *pass) {
	for _, n := range p.doc.Needs {
		other := p.Rules.Flag(n.Flag)
		if other == nil || len(other.Variants()) == 0 {
			continue
		}
		d := other.Document()
		if d.Resting == n.Variant && (d.Lever != flag.On || len(other.Stops()) > 0) {
			p.add(nil, words.Say("needs %s to give %s, which it gives while it is off or stopped", words.Key(n.Flag),
				words.Variant(n.Variant)), "ask for a variant that it gives when it is on")
		}
	}
}

func oneVariant(p *pass) {
	if p.OneSince == 0 || p.Now-p.OneSince < 21*day {
		return
	}
	p.add(nil, words.Say("gave everybody one variant for %s days", int((p.Now-p.OneSince)/day)),
		"take the flag out of the code, or say why it stays")
}

func nobody(p *pass) {
	if p.Units.Len() < 100 || p.doc.Lever != flag.On {
		return
	}
	p.live(func(i int, r *flag.Rule) {
		if r.When == nil || namesUnits(r.When) || impossible(p, r.When) {
			return
		}
		untold := false // by the units as they were seen
		p.leaves(r, func(l *condition.Node, _ string) {
			untold = untold || strings.HasPrefix(l.Test, "clock.") || p.Units.hides(l.Attribute)
			if l.Test == condition.SegmentTest {
				s := p.Rules.Source.Segment(l.Segment)
				untold = untold || s != nil && p.Units.hides(s.Attribute())
			}
			if l.Part != nil {
				untold = untold || slices.ContainsFunc(l.Part.By, p.Units.hides)
			}
		})
		if untold {
			return
		}
		if p.Units.anyTaken(p.Rules, r, p.doc.Resting, p.Now) {
			return
		}
		p.add(r, words.Say("takes none of %s units that were seen", p.Units.Len()),
			"compare its constants with the values that are seen")
	})
}

func splitBySome(p *pass) {
	if p.Units.Len() < 100 {
		return
	}
	look := func(r *flag.Rule, s *flag.Shares) {
		if s == nil || slices.ContainsFunc(s.By, p.Units.hides) {
			return
		}
		lack := p.Units.lacking(s.By)
		if lack*20 > p.Units.Len() {
			f := p.add(r,
				words.Say("gives shares by %s, which %s of the units that were seen lack: no share is theirs",
					words.Names(nil).Either(s.By), words.Number(bucket.Percent(lack*100/p.Units.Len()*10_000))),
				"draw by a list that ends with one that everybody has, such as the key")
			if r == nil {
				f.Place = "end"
			}
		}
	}
	if len(p.doc.Rules) == 0 {
		look(nil, p.doc.End.Shares)
	}
	p.live(func(i int, r *flag.Rule) {
		if r.When == nil {
			look(r, r.Gives.Shares)
		}
	})
}

// Fits says why a comparison does not fit what is declared or seen of its attribute;
// nothing where it does. A declaration counts for more than what was seen.
func Fits(l *condition.Node, a Attribute, name string) string {
	kind, _, ordered := strings.Cut(l.Test, ".")
	if name == "" || !ordered || !slices.Contains(Types(), Type(kind)) {
		return ""
	}
	if name == condition.KeyAttribute {
		if kind == "number" || kind == "boolean" || kind == "list" {
			return fmt.Sprintf("the key is a string, and is compared as a %s: compare strings", kind)
		}
		return ""
	}
	if a.Declared != "" {
		if Type(kind) == a.Declared || kind == "string" && a.Declared.Kind() == "string" {
			return ""
		}
		return fmt.Sprintf("%s is declared as %s, and is compared as %s: %s", name, article(string(a.Declared)),
			article(kind), instead(a.Declared))
	}
	if a.Mostly == "" || a.Mostly == Type(kind).Kind() {
		return ""
	}
	all := uint64(0)
	for _, n := range a.Kinds {
		all += n
	}
	return fmt.Sprintf("%s arrived as %s in %d of %d evaluations that were looked at, and is compared as %s: "+
		"compare %s, or send %s", name, article(a.Mostly), a.Kinds[a.Mostly], all, article(kind), plural(a.Mostly),
		article(Type(kind).Kind()))
}

func article(kind string) string {
	if kind == "address" || kind == "other" {
		return "an " + kind
	}
	return "a " + kind
}

func plural(kind string) string {
	if kind == "address" {
		return "addresses"
	}
	return kind + "s"
}

func instead(t Type) string {
	return map[Type]string{String: "compare strings, or declare it otherwise",
		Number: "compare numbers with =, <, ≤, >, ≥ or between", Boolean: "ask whether it is true or false",
		Version: "compare versions, which order 4.10.0 behind 4.9.0", Time: "compare times",
		Address: "ask whether it is in a block", List: "ask what the list has"}[t]
}
