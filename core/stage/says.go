package stage

import (
	"strconv"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/words"
)

// Says is what a release does now and what it waits for, in a sentence or two. facts may be nil where
// nobody has looked yet.
func Says(s *State, f *Facts, names words.Names, now int64) words.Said {
	at := Serves(&s.Plan, s.At, names)
	lasts := Span(now - s.Since).Words()
	switch s.Is {
	case Waiting:
		if s.Plan.Begin > now {
			return words.Say("Begins at %s.", instant(s.Plan.Begin))
		}
		if b := first(f); b != nil {
			return words.Say("Begins once this is out of the way: %s.", words.Plain(b.Says))
		}
		if f != nil && f.Frozen != "" {
			return words.Say("Begins once the environment is frozen no more, at %s (%s).", instant(f.Thaws),
				words.Name(f.Frozen))
		}
		if f != nil && f.Behind != "" {
			return words.Say("Begins once %s is as far.", words.Key(f.Behind))
		}
		if f != nil && f.Closed {
			return words.Say("Begins with its next hours: %s.", words.Plain(hours(&s.Plan)))
		}
		return words.Say("Begins at once.")
	case Arriving:
		said := words.Say("%s is on its way to the processes.", at)
		if f != nil && f.Of > 0 {
			said = words.Say("%s has arrived at %s of %s processes; its time begins %s.", at, f.Arrived, f.Of,
				share(s.Plan.Delivery.percent()))
		}
		return said
	case Underway:
		said := words.Say("%s for %s. %s", at, Span(now-s.Began).Words(), waits(s, f, names, now))
		if found := f; found != nil && found.Found != nil && found.Found.Run == s.Run {
			said = words.Say("%s %s", said, words.Plain(found.Found.Short))
		}
		return said
	case Asking:
		who := "somebody who may release"
		if st := s.Stage(); len(st.SignOff) > 0 {
			who = signers(st)
		}
		if s.Late {
			return words.Say("%s for %s, which is its longest time. Waits for %s to say whether it goes on.", at,
				Span(now-s.Began).Words(), who)
		}
		return words.Say("%s for %s. Waits for %s to sign, for %s so far.", at, Span(now-s.Began).Words(), who, lasts)
	case Held:
		said := words.Say("Held for %s", lasts)
		if len(at) > 0 {
			said = words.Say("%s, with %s", said, at)
		}
		if s.Says != "" {
			said = words.Say("%s: %s", said, s.because())
		}
		return words.Say("%s. Nobody loses what they have.", said)
	case Through:
		return words.Say("%s. The last stage is done: finish it, and the flag keeps this by itself.", at)
	case RolledBack:
		said := words.Say("Rolled back at %s", instant(s.Since))
		if s.Says != "" {
			said = words.Say("%s, since %s", said, s.because())
		}
		return words.Say("%s. What it gave was taken back; all else of the flag stayed.", said)
	case Finished:
		return words.Say("Finished at %s. What it gave is the flag's own now.", instant(s.Since))
	}
	return words.Say("Withdrawn before it began, at %s.", instant(s.Since))
}

// because says why it stands so. What a person wrote stands in quotes, whatever it holds.
func (s *State) because() words.Said {
	if s.Why == ByPerson || s.Why == ByDecline {
		return words.Said{words.Name(s.Says)}
	}
	return words.Plain(strings.TrimSuffix(s.Says, "."))
}

// signers says who signs: "a releaser or keeper".
func signers(s *Stage) string {
	if strings.ContainsRune("aeiou", rune(s.SignOff[0][0])) {
		return "an " + strings.Join(s.SignOff, " or ")
	}
	return "a " + strings.Join(s.SignOff, " or ")
}

func first(f *Facts) *Block {
	if f == nil || len(f.Blocks) == 0 {
		return nil
	}
	return &f.Blocks[0]
}

func share(percent int) string {
	if percent == 100 {
		return "once all have it"
	}
	return "once " + strconv.Itoa(percent) + " % have it"
}

func instant(ms int64) words.Token { return words.Time(condition.PrintTime(ms)) }

func hours(p *Plan) string {
	h := p.Hours
	return strings.Join(h.Days, ", ") + " " + h.From + " to " + h.To + ", " + h.Zone
}

// Serves says what a plan gives at a stage: "At 8 % of sites", "With staff and pilots"; nothing before
// the first.
func Serves(p *Plan, at int, names words.Names) words.Said {
	if reached := p.Reaches(at); reached > 0 {
		return words.Say("%s of %s", words.Number(bucket.Percent(reached)), names.Of(p.By))
	}
	var audiences []words.Said
	for i := 0; i <= at && i < len(p.Stages); i++ {
		audiences = append(audiences, words.Said{words.Name(p.Stages[i].Name)})
	}
	return words.Join(audiences, " and ")
}

// Gives says what a plan gives that is new: "`learned`", "`traffic-aware` or `learned`".
func (p *Plan) Gives() words.Said {
	var all []words.Said
	for _, v := range p.News() {
		all = append(all, words.Said{words.Variant(v)})
	}
	return words.Join(all, " or ")
}

// waits says what a stage that is under way waits for.
func waits(s *State, f *Facts, names words.Names, now int64) words.Said {
	st, left := s.Stage(), s.Stage().Least-s.Passed(now)
	var all []words.Said
	if f != nil && f.Units < st.Units {
		if len(s.Plan.Watches) > 0 {
			all = append(all, words.Say("the outcome of %s more %s of each side is known",
				words.Count(st.Units-f.Units),
				names.Of(s.Plan.By)))
		} else {
			all = append(all, words.Say("%s more %s were seen", words.Count(st.Units-f.Units), names.Of(s.Plan.By)))
		}
	}
	switch found := f != nil && f.Found != nil && f.Found.Run == s.Run && f.Found.Stage == s.At; {
	case len(s.Plan.Watches) == 0:
	case !found:
		all = append(all, words.Plain("its watches have looked"))
	case f.Found.Blind != "":
		all = append(all, words.Plain("its watches hear of events"))
	case st.Until == UntilClear && !f.Found.Clear:
		all = append(all, words.Plain("every watch is clear"))
	}
	if len(st.SignOff) > 0 {
		all = append(all, words.Say("%s has signed", signers(st)))
	}
	if f != nil && f.Frozen != "" && !s.Last() {
		all = append(all, words.Say("the environment is frozen no more, at %s (%s)", instant(f.Thaws),
			words.Name(f.Frozen)))
	} else if f != nil && f.Behind != "" && !s.Last() {
		all = append(all, words.Say("%s is as far", words.Key(f.Behind)))
	} else if f != nil && f.Closed && !s.Last() {
		all = append(all, words.Say("its hours have come (%s)", words.Plain(hours(&s.Plan))))
	}
	said := words.Say("Goes on")
	if s.Last() {
		said = words.Say("Is done")
	}
	switch {
	case left > 0 && len(all) > 0:
		said = words.Say("%s in %s at the earliest, once %s", said, left.Words(), words.Join(all, " and "))
	case left > 0:
		said = words.Say("%s in %s", said, left.Words())
	case len(all) > 0:
		said = words.Say("%s once %s", said, words.Join(all, " and "))
	default:
		said = words.Say("%s now", said)
	}
	if st.Longest > 0 && len(all) > 0 {
		then := map[Then]string{ThenHold: "holds", ThenAsk: "asks", ThenBack: "rolls back"}[st.then()]
		said = words.Say("%s; %s if that is not so in %s", said, then, max(0, st.Longest-s.Passed(now)).Words())
	}
	return words.Say("%s.", said)
}
