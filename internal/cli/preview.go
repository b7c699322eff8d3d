package cli

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app/preview"
)

// tried says what an edit that is only tried would change and move, in the words in which the
// edit itself does: what would change to who sits there, and what would move as data.
func (s *session) tried(all any, difference []words.Said, p *preview.Preview, d *flag.Document) error {
	s.notePreview(difference, nil, nil)
	return s.show(all, func() {
		for _, line := range s.previewLines(p, d) {
			s.say("%s", line)
		}
	})
}

// notePreview says it to who sits there, before the question.
func (s *session) notePreview(difference []words.Said, p *preview.Preview, d *flag.Document) {
	for _, line := range difference {
		s.note("  %s", said(line))
	}
	for _, line := range s.previewLines(p, d) {
		s.note("%s", line)
	}
}

func (s *session) previewLines(p *preview.Preview, d *flag.Document) (lines []string) {
	if p == nil {
		return nil
	}
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	for _, sh := range p.Shifts {
		add("%s: %s", sh.Flag, said(sh.Says))
		if d != nil && sh.Certain && d.Key == sh.Flag && d.Lever == flag.On && len(d.Rules) == 0 &&
			d.End.Variant == d.Resting {
			add("it is on, and nobody gets anything new: add a rule, or have all get something else:\n%s",
				s.next("flag", "turn", d.Key, "on", "--end", otherThan(d)))
		}
		if sh.Moved.Counted == 0 {
			continue
		}
		for _, m := range sh.Moves {
			to := orFallback(m.To)
			if m.Value {
				to += " with its new value"
			}
			add("  %s from %s to %s, such as %s", about(m.Moved), orFallback(m.From), to,
				strings.Join(m.Examples, ", "))
		}
		for _, v := range slices.Sorted(maps.Keys(sh.After)) {
			add("  then %s of all units get %s", partOf(sh.After[v]), orFallback(v))
		}
	}
	for _, place := range slices.Sorted(maps.Keys(p.Drawn)) {
		for _, drawn := range p.Drawn[place] {
			for _, part := range slices.Sorted(maps.Keys(drawn.Parts)) {
				if part == ">" { // what is left follows from the others
					continue
				}
				add("%s: %s of %s different %s get %s", placeName(d, place), about(drawn.Parts[part]),
					about(drawn.Units), drawn.By, part)
			}
		}
	}
	for _, t := range p.Tests {
		add("test unit %s gets %s of %s, now %s", t.Unit, orFallback(t.To), t.Flag, orFallback(t.From))
	}
	for _, key := range p.Evidence {
		add("careful: the evidence of the release of %s begins anew with this", key)
	}
	for _, u := range p.Types {
		add("careful: %s", said(u.Says))
	}
	standing := 0
	for _, f := range p.Lint {
		switch {
		case f.Muted != "":
		case f.Stands:
			standing++
		default:
			add("careful: %s %s; %s", placeOf(f.Place), said(f.Says), f.Mend)
		}
	}
	if standing > 0 {
		add("not by this edit: %s already; greenlever check lists them", counted(standing, "warning stands",
			"warnings stand"))
	}
	return lines
}

func counted(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}

func placeName(d *flag.Document, id string) string {
	if d != nil {
		for i := range d.Rules {
			if d.Rules[i].ID == id {
				return fmt.Sprintf("rule %q", d.Rules[i].Name)
			}
		}
	}
	return id
}

func placeOf(place string) string {
	if place == "" {
		return "the flag"
	}
	return fmt.Sprintf("rule %q", place)
}

func orFallback(variant string) string {
	if variant == "" {
		return "the fallback"
	}
	return variant
}

// about prints an estimate with its bounds; an exact one as the number alone.
func about(e shift.Estimate) string {
	if e.Low == e.High {
		return strconv.FormatInt(e.Units, 10)
	}
	return fmt.Sprintf("about %d (%d to %d)", e.Units, e.Low, e.High)
}

// partOf prints an estimate's share of all units, with its bounds.
func partOf(e shift.Estimate) string {
	percent := func(f float64) string { return strconv.FormatFloat(f*100, 'f', 1, 64) }
	if e.ShareLow == e.ShareHigh {
		return percent(e.Share) + " %"
	}
	return fmt.Sprintf("%s %% (%s to %s %%)", percent(e.Share), percent(e.ShareLow), percent(e.ShareHigh))
}

// confirmSweep asks for the number of units before everybody gets something else in one
// step; nil where that is not so.
func (s *session) confirmSweep(p *preview.Preview) (any, error) {
	if p == nil || len(p.Shifts) == 0 || !p.Shifts[0].Sweep || p.Shifts[0].Units.Units == 0 {
		return nil, nil
	}
	units := p.Shifts[0].Units.Units
	answer := strconv.FormatInt(s.units, 10)
	if s.units < 0 && p.Shifts[0].Perhaps.Counted > 0 {
		var err error
		if answer, err = s.ask("Nobody can count how many units this takes from the resting variant. How many at " +
			"most, as you know it? "); err != nil {
			return nil, coded(exitUsage, "it cannot be counted how many units this takes from the resting variant: "+
				"say with --units how many it moves at most")
		}
	} else if s.units < 0 {
		var err error
		if answer, err = s.ask(fmt.Sprintf("This takes all of about %d units from the resting variant in one step. "+
			"Type that number to go on: ", units)); err != nil {
			return nil, coded(exitUsage, "this takes all of about %d units from the resting variant in one step: "+
				"widen it by shares, or add --units %d", units, units)
		}
	}
	n, err := strconv.ParseInt(answer, 10, 64)
	if err != nil {
		return nil, coded(exitFailed, "nothing was changed: %q is no number", answer)
	}
	return n, nil
}

// otherThan is a variant of a flag that is not the resting one: the first by name.
func otherThan(d *flag.Document) string {
	for _, name := range slices.Sorted(maps.Keys(d.Variants)) {
		if name != d.Resting {
			return name
		}
	}
	return d.Resting
}
