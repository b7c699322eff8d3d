package sentence

import (
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// gistParts is how many of a flag's rules its gist says; the rest it counts.
const gistParts = 3

// Gist says the same as [Of], short enough to stand in a cell: who gets what, without the
// conditions' details. "3 named `on`, 8 % `on`, else `off`".
func Gist(d *flag.Document, stopped bool) words.Said {
	if stopped || d.Lever != flag.On {
		return words.Say("all %s", words.Variant(d.Resting))
	}
	rules := slices.DeleteFunc(slices.Clone(d.Rules), func(r flag.Rule) bool { return r.Parked })
	var parts []words.Said
	for i := range rules {
		if len(parts) == gistParts {
			parts = append(parts, words.Say("%s more", words.Count(int64(len(rules)-i))))
			break
		}
		parts = append(parts, gistOfRule(&rules[i]))
	}
	who := words.Say("all ")
	if len(parts) > 0 {
		who = words.Say("else ")
	}
	parts = append(parts, gistOfGives(d.End, who))
	said := words.Join(parts, ", ")
	if len(d.Needs) > 0 {
		said = words.Say("%s, if %s", said, words.Key(d.Needs[0].Flag))
	}
	return said
}

func gistOfRule(r *flag.Rule) words.Said {
	n := r.When
	switch {
	case n == nil:
		return gistOfGives(r.Gives, words.Say("all "))
	case n.Attribute == condition.KeyAttribute && (n.Test == "string.one-of" || n.Test == "string.equals"):
		return gistOfGives(r.Gives, words.Say("%s named ", words.Count(int64(len(n.Text)))))
	case n.Test == condition.SegmentTest:
		return gistOfGives(r.Gives, words.Say("%s ", words.Key(n.Segment)))
	}
	return gistOfGives(r.Gives, words.Say("%s ", words.Name(r.Name)))
}

// gistOfGives says what those get who are told: one variant, or parts of them.
func gistOfGives(g flag.Gives, who words.Said) words.Said {
	if g.Shares == nil {
		return words.Say("%s%s", who, words.Variant(g.Variant))
	}
	var parts []words.Said
	for _, p := range g.Shares.Parts {
		if !p.GoesOn && p.Share > 0 {
			parts = append(parts, words.Say("%s %s", words.Number(bucket.Percent(p.Share)), words.Variant(p.Variant)))
		}
	}
	if len(parts) == 0 {
		parts = append(parts, words.Say("%s", words.Number("0 %")))
	}
	said := words.Join(parts, " ")
	if len(who) > 0 && who.String() != "all " && who.String() != "else " {
		return words.Say("%s%s", who, said)
	}
	return said
}
