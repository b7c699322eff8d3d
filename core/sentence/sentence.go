// Package sentence says what a flag does in an environment, in one sentence and complete: two
// documents that decide differently read differently, but for the salts of their shares.
//
//	sentence.Of(doc, false, nil)
//	// "where site.region is "north": 8 % of units by site.id get `on`; all others get `off`."
//
// It is read from the left: each piece takes whom none before it took.
package sentence

import (
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// Of says what the flag does; stopped tells whether a stop stands. The names are those that
// the project's catalogue has for attributes.
func Of(d *flag.Document, stopped bool, names words.Names) words.Said {
	switch {
	case stopped:
		return words.Say("Stopped: all get %s.", words.Variant(d.Resting))
	case d.Lever != flag.On:
		return words.Say("Off: all get %s.", words.Variant(d.Resting))
	}
	var parts []words.Said
	for i := range d.Rules {
		if r := &d.Rules[i]; !r.Parked {
			parts = append(parts, Rule(r, d.Resting, names))
		}
	}
	parts = append(parts, End(d.End, len(parts) > 0, d.Resting, names))
	said := words.Say("%s.", words.Join(parts, "; "))
	if len(d.Needs) > 0 {
		needs := make([]words.Said, len(d.Needs))
		for i, n := range d.Needs {
			needs[i] = words.Say("%s gives %s", words.Key(n.Flag), words.Variant(n.Variant))
		}
		said = words.Say("only where %s (elsewhere %s): %s", words.Join(needs, " and "), words.Variant(d.Resting),
			said)
	}
	if d.RestAfter > 0 {
		said = words.Say("%s A process that hears nothing from the service for %s gives %s.", said,
			words.Counted(d.RestAfter, "minute", "minutes"), words.Variant(d.Resting))
	}
	if t := said[0]; t.Kind == "" { // never a name
		said[0].Text = strings.ToUpper(t.Text[:1]) + t.Text[1:]
	}
	return said
}

// Parts says each rule by itself, parked or not, and the end last.
func Parts(d *flag.Document, names words.Names) []words.Said {
	parts := make([]words.Said, 0, len(d.Rules)+1)
	for i := range d.Rules {
		parts = append(parts, Rule(&d.Rules[i], d.Resting, names))
	}
	return append(parts, End(d.End, len(d.Rules) > 0, d.Resting, names))
}

// Rule says whom a rule takes and what they get; parked or not is not said.
func Rule(r *flag.Rule, resting string, names words.Names) words.Said {
	doubt := ""
	switch {
	case r.OnUnknown == flag.Apply:
		doubt = " (also if that is unknown)"
	case r.OnUnknown == flag.Skip && r.Gives.OnlyGives(resting):
		doubt = " (not if that is unknown)"
	}
	n := r.When
	if n == nil { // never unknown
		return Gives(r.Gives, words.Say("all"), names)
	}
	if r.Gives.Shares == nil && doubt == "" && n.Attribute == condition.KeyAttribute && !n.IgnoreCase &&
		(n.Test == "string.one-of" || n.Test == "string.equals") {
		units := make([]words.Token, len(n.Text))
		for i, key := range n.Text {
			units[i] = words.Unit(key, n.Attribute)
		}
		if len(units) == 1 {
			return words.Say("unit %s gets %s", units[0], words.Variant(r.Gives.Variant))
		}
		return words.Say("units %s get %s", words.List(units), words.Variant(r.Gives.Variant))
	}
	if n.Test == condition.SegmentTest && r.Gives.Shares == nil && doubt == "" {
		return words.Say("all %s get %s", n.Said(names), words.Variant(r.Gives.Variant))
	}
	return words.Say("where %s%s: %s", n.Said(names), doubt, Gives(r.Gives, words.Say("all"), names))
}

// Segment says whom a segment takes; listed units are counted, not named.
func Segment(s *flag.Segment, names words.Names) words.Said {
	listed := func(n int) words.Said {
		switch name := names[s.Attribute()]; {
		case name.One != "":
			return words.Counted(n, "listed "+name.One, "listed "+name.Many)
		case s.Attribute() != condition.KeyAttribute:
			return words.Say("%s by %s", words.Counted(n, "listed unit", "listed units"),
				names.Attribute(s.Attribute()))
		}
		return words.Counted(n, "listed unit", "listed units")
	}
	var parts []words.Said
	if n := s.In.Len(); n > 0 {
		parts = append(parts, listed(n))
	}
	if s.When != nil {
		parts = append(parts, words.Say("all where %s", s.When.Said(names)))
	}
	said := words.Join(parts, ", and ")
	if len(said) == 0 {
		said = words.Say("nobody")
	}
	if n := s.Out.Len(); n > 0 {
		said = words.Say("%s; never %s", said, listed(n))
	}
	return said
}

// Gives says what those get who are told: one variant, or shares. Of parts of nothing only
// the first is said, where there is no other; what the parts leave over gets what follows.
func Gives(g flag.Gives, who words.Said, names words.Names) words.Said {
	if g.Shares == nil {
		return words.Say("%s get %s", who, words.Variant(g.Variant))
	}
	var parts []words.Said
	for _, p := range g.Shares.Parts {
		if p.GoesOn || p.Share == 0 {
			continue
		}
		parts = append(parts, part(p, len(parts) == 0, g.Shares.By, names))
	}
	if len(parts) == 0 && len(g.Shares.Parts) > 0 {
		parts = append(parts, part(g.Shares.Parts[0], true, g.Shares.By, names))
	}
	return words.Join(parts, ", ")
}

func part(p flag.Part, first bool, by []string, names words.Names) words.Said {
	share := words.Number(bucket.Percent(p.Share))
	if !first {
		return words.Say("%s get %s", share, words.Variant(p.Variant))
	}
	return words.Say("%s of %s get %s", share, names.Of(by), words.Variant(p.Variant))
}

// End says what those get whom no rule takes; others tells whether there are rules.
func End(g flag.Gives, others bool, resting string, names words.Names) words.Said {
	if g.Shares == nil {
		who := words.Say("all")
		if others {
			who = words.Say("all others")
		}
		return Gives(g, who, names)
	}
	said := Gives(g, nil, names)
	if others {
		said = words.Say("of all others, %s", said)
	}
	return words.Say("%s; those without %s get %s", said, names.Without(g.Shares.By), words.Variant(resting))
}

// By says what shares are drawn by, with the attributes' own names: "site.id, else key".
func By(by []string) words.Said {
	all := make([]words.Said, len(by))
	for i, name := range by {
		all[i] = words.Names(nil).Either([]string{name})
	}
	return words.Join(all, ", else ")
}
