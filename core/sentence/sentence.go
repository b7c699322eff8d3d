// Package sentence says what a flag does in an environment, in one sentence and complete:
// two documents that decide differently read differently.
//
//	sentence.Of(doc, false) // "`site.region` is "north": 8 % by site.id get `on`, the others go on; everybody else gets `off`."
package sentence

import (
	"fmt"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Of says what the flag does; stopped tells whether a stop stands.
func Of(d *flag.Document, stopped bool) string {
	switch {
	case stopped:
		return fmt.Sprintf("Stopped: everybody gets %s.", Variant(d.Resting))
	case d.Lever != flag.On:
		return fmt.Sprintf("Off: everybody gets %s.", Variant(d.Resting))
	}
	var parts []string
	for i := range d.Rules {
		if r := &d.Rules[i]; !r.Parked {
			parts = append(parts, Rule(r, d.Resting, condition.PlainQuote))
		}
	}
	end := "everybody"
	if len(parts) > 0 {
		end = "everybody else"
	}
	parts = append(parts, End(d.End, end, d.Resting))
	said := strings.Join(parts, "; ") + "."
	if len(d.Needs) > 0 {
		var needs []string
		for _, n := range d.Needs {
			needs = append(needs, fmt.Sprintf("%s gives %s", n.Flag, Variant(n.Variant)))
		}
		said = fmt.Sprintf("Where %s: %s Anyone else gets %s.", strings.Join(needs, " and "), said, Variant(d.Resting))
	}
	if d.RestAfter > 0 {
		said += fmt.Sprintf(" A process without contact for %d min gives %s.", d.RestAfter, Variant(d.Resting))
	}
	for _, ours := range []string{"everybody", "in segment", "not ", "it is ", "within ", "flag "} {
		if strings.HasPrefix(said, ours) { // never the name of an attribute
			return strings.ToUpper(said[:1]) + said[1:]
		}
	}
	return said
}

// Parts says each rule by itself, parked or not, and the end last.
func Parts(d *flag.Document) []string {
	parts := make([]string, 0, len(d.Rules)+1)
	for i := range d.Rules {
		parts = append(parts, Rule(&d.Rules[i], d.Resting, condition.PlainQuote))
	}
	who := "everybody"
	if len(d.Rules) > 0 {
		who = "everybody else"
	}
	return append(parts, End(d.End, who, d.Resting))
}

// Rule says whom a rule takes and what it gives; parked or not is not said.
func Rule(r *flag.Rule, resting string, quote condition.Quote) string {
	said := audience(r.When, quote)
	switch r.OnUnknown {
	case flag.Apply:
		said += " or in doubt"
	case flag.Skip:
		if r.Gives.OnlyGives(resting) {
			said += ", in doubt not"
		}
	}
	if r.Gives.Shares == nil {
		return said + ": " + Variant(r.Gives.Variant)
	}
	return said + ": " + Gives(r.Gives)
}

func audience(n *condition.Node, quote condition.Quote) string {
	if n == nil {
		return "everybody"
	}
	if n.Attribute == condition.KeyAttribute && !n.IgnoreCase && (n.Test == "string.one-of" || n.Test == "string.equals") {
		names := make([]string, len(n.Text))
		for i, s := range n.Text {
			names[i] = quote(n.Attribute, s)
		}
		units := "named units"
		if len(names) == 1 {
			units = "named unit"
		}
		return fmt.Sprintf("%d %s (%s)", len(names), units, strings.Join(names, ", "))
	}
	return n.WordsWith(quote)
}

// Segment says whom a segment takes; listed units are counted, not named.
func Segment(s *flag.Segment) string {
	of := ""
	if s.Attribute() != condition.KeyAttribute {
		of = " of " + By([]string{s.Attribute()})
	}
	var parts []string
	if n := s.In.Len(); n > 0 {
		parts = append(parts, listedUnits(n)+of)
	}
	if s.When != nil {
		parts = append(parts, s.When.Words())
	}
	said := strings.Join(parts, ", or ")
	if said == "" {
		said = "nobody"
	}
	if n := s.Out.Len(); n > 0 {
		said += "; never " + listedUnits(n) + of
	}
	return said
}

func listedUnits(n int) string {
	if n == 1 {
		return "1 listed unit"
	}
	return fmt.Sprintf("%d listed units", n)
}

// Gives says a result: one variant, or shares with what they are drawn by.
func Gives(g flag.Gives) string {
	if g.Shares == nil {
		return Variant(g.Variant)
	}
	var parts []string
	for _, p := range g.Shares.Parts {
		if p.GoesOn {
			parts = append(parts, fmt.Sprintf("%s go on", bucket.Percent(p.Share)))
			continue
		}
		parts = append(parts, fmt.Sprintf("%s get %s", bucket.Percent(p.Share), Variant(p.Variant)))
	}
	return fmt.Sprintf("by %s %s", By(g.Shares.By), strings.Join(parts, ", "))
}

// End says what those get whom no rule takes.
func End(g flag.Gives, who, resting string) string {
	if g.Shares == nil {
		return who + " gets " + Variant(g.Variant)
	}
	return fmt.Sprintf("%s: %s; without %s: %s", who, Gives(g), By(g.Shares.By), Variant(resting))
}

// By says what shares are drawn by.
func By(by []string) string { return condition.ByWords(by) }

// Variant prints a variant's name as sentences do.
func Variant(name string) string { return "`" + name + "`" }
