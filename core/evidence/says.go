package evidence

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"greenlever.example/core/words"
)

// Says is what a watch has found, in a sentence or two. units names what shares are drawn by, in the plural.
func (f *Finding) Says(units words.Said) words.Said {
	who := words.Said{words.Name(f.Title)}
	if f.Variant != "" {
		who = words.Say("%s with %s", who, words.Variant(f.Variant))
	}
	switch {
	case f.Verdict == Harm && f.OverLimit && !f.beyond():
		return words.Say("%s is over its limit of %s on the new side. This is harm. %s.", who,
			words.Number(f.level(f.Limit)), f.sides(units))
	case f.New.Units == 0 || f.Old.Units == 0:
		if f.Alone.Units > 0 {
			return words.Say("%s: %s. Nothing is kept to compare it with%s.", who, f.side(f.Alone, units), f.held())
		}
		return words.Say("%s: the outcome of no %s is known yet.", who, units)
	}
	said := words.Say("%s: %s (%s is tolerated)", who, f.between(), words.Number(f.tolerates()))
	switch {
	case f.Verdict == Harm:
		said = words.Say("%s. This is harm", said)
	case f.Verdict == Clear:
		said = words.Say("%s. This is clear", said)
	case f.Few:
		said = words.Say("%s. This looks like harm, but it happened too seldom so far to be sure", said)
	default:
		said = words.Say("%s. No harm so far, and not yet clear", said)
	}
	said = words.Say("%s. %s", said, f.sides(units))
	if gain := f.Gain(); gain != "" {
		said = words.Say("%s. The new side is better: %s", said, words.Plain(gain))
	}
	return words.Say("%s.", said)
}

// beyond tells whether the comparison alone shows harm.
func (f *Finding) beyond() bool {
	return f.Lower && f.Low != nil && *f.Low > f.Tolerated || !f.Lower && f.High != nil && *f.High < f.Tolerated
}

// between says where the ratio lies.
func (f *Finding) between() words.Said {
	as := words.Plain("the old side's level")
	if f.Kind == Rate {
		as = words.Plain("as often on the new side as on the old one")
	}
	switch {
	case f.Low != nil && f.High != nil:
		return words.Say("%s to %s times %s", words.Number(Times(*f.Low)), words.Number(Times(*f.High)), as)
	case f.Low != nil:
		return words.Say("at least %s times %s", words.Number(Times(*f.Low)), as)
	case f.High != nil:
		return words.Say("at most %s times %s", words.Number(Times(*f.High)), as)
	case f.Ratio != nil:
		return words.Say("about %s times %s", words.Number(Times(*f.Ratio)), as)
	}
	return words.Plain("too few to compare")
}

func (f *Finding) tolerates() string {
	if f.Lower {
		return "up to " + Times(f.Tolerated) + " times"
	}
	return "down to " + Times(f.Tolerated) + " times"
}

// held says the limit that the new side is held to.
func (f *Finding) held() words.Said {
	if f.Limit == 0 {
		return nil
	}
	if f.Lower {
		return words.Say("; it is held to at most %s", words.Number(f.level(f.Limit)))
	}
	return words.Say("; it is held to at least %s", words.Number(f.level(f.Limit)))
}

// sides says both sides: "It happened to 9.6 % of 412 recipients with the new variant, and to 3 % of 1640 with the old
// one".
func (f *Finding) sides(units words.Said) words.Said {
	if f.Old.Units == 0 {
		return f.side(f.Alone, units)
	}
	to, with := words.Plain("It is "), words.Plain("")
	if f.Kind == Rate {
		to, with = words.Plain("It happened to "), words.Plain("to ")
	}
	new := words.Plain("the new variant")
	if f.Variant != "" {
		new = words.Said{words.Variant(f.Variant)}
	}
	return words.Say("%s%s with %s, and %s%s with the old one", to, f.side(f.New, units), new, with,
		f.side(f.Old, nil))
}

// side says one side: "9.6 % of 412 recipients".
func (f *Finding) side(s Side, units words.Said) words.Said {
	of := words.Say("%s", words.Count(s.Units))
	if f.Kind != Rate {
		of = words.Say("%s", words.Count(s.Events))
	}
	if len(units) > 0 {
		of = words.Say("%s %s", of, units)
	}
	if s.Level == nil {
		return words.Say("nothing of %s", of)
	}
	if f.Kind != Rate {
		return words.Say("%s for %s", words.Number(f.level(*s.Level)), of)
	}
	return words.Say("%s of %s", words.Number(f.level(*s.Level)), of)
}

// SaysPart says what the sides of a part came to.
func (f *Finding) SaysPart(p *Part) words.Said {
	return words.Say("new %s, old %s", f.side(p.New, nil), f.side(p.Old, nil))
}

// level prints a level in the metric's own measure.
func (f *Finding) level(v float64) string {
	if f.Kind == Rate {
		return digits(100*v) + " %"
	}
	if f.Measure == "" {
		return digits(v)
	}
	return digits(v) + " " + f.Measure
}

// Summary says what all watches have found together, in a few words.
func (f *Findings) Summary() string {
	clear := 0
	var harmed, better []string
	for i := range f.Watches {
		switch w := &f.Watches[i]; {
		case w.Verdict == Harm:
			harmed = append(harmed, w.Name())
		case w.Gain() != "":
			better = append(better, w.Name())
		}
		if f.Watches[i].Verdict == Clear {
			clear++
		}
	}
	n, out := len(f.Watches), ""
	switch {
	case len(harmed) > 0:
		out = "Harm found: " + strings.Join(harmed, ", ") + "."
	case f.Broken:
		return "Its watches cannot be trusted."
	case clear == n && n == 1:
		out = "Its watch is clear."
	case clear == n:
		out = "All watches are clear."
	case clear > 0:
		out = fmt.Sprintf("No harm so far; %d of %d watches are clear.", clear, n)
	default:
		out = "No harm so far, and not yet clear."
	}
	if len(better) > 0 {
		out += " The new side is better: " + strings.Join(better, ", ") + "."
	}
	return out
}

// Name is what a finding is of, in a few words.
func (f *Finding) Name() string {
	if f.Variant == "" {
		return f.Title
	}
	return f.Title + " with " + f.Variant
}

// Gain says how much better the new side is, by the bounds; empty where that is not known.
func (f *Finding) Gain() string {
	switch {
	case f.Lower && f.High != nil && *f.High < 1:
		return "at least " + digits(100*(1-*f.High)) + " % less"
	case !f.Lower && f.Low != nil && *f.Low > 1:
		return "at least " + digits(100*(*f.Low-1)) + " % more"
	}
	return ""
}

// Times prints a ratio.
func Times(r float64) string { return digits(r) }

// digits prints a number with two digits that count, and whole ones whole.
func digits(v float64) string {
	if v == 0 {
		return "0"
	}
	if math.Abs(v) >= 100 {
		return strconv.FormatFloat(math.Round(v), 'f', 0, 64)
	}
	places := max(0, 1-int(math.Floor(math.Log10(math.Abs(v)))))
	s := strconv.FormatFloat(v, 'f', places, 64)
	if places > 0 {
		for s[len(s)-1] == '0' {
			s = s[:len(s)-1]
		}
		if s[len(s)-1] == '.' {
			s = s[:len(s)-1]
		}
	}
	return s
}

// SaysBroken says that the arms got units otherwise than the shares say, and what may be the cause.
func (f *Findings) SaysBroken(units words.Said) words.Said {
	return words.Say("The sides got %s and %s %s, of which the new one should have %s: so many cannot differ by "+
		"chance, and no verdict here can be trusted. Likely causes: one side crashes, or is asked, before it is "+
		"counted; it redirects or caches; clients of one version do not report; or something above the release "+
		"sorts units by how they do.", words.Count(f.Seen.New), words.Count(f.Seen.Old), units,
		words.Number(digits(100*f.Share)+" %"))
}
