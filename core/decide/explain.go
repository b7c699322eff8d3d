package decide

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

// trace records what a decision does; it changes nothing of it.
type trace struct {
	needs []NeedStep
	draws []Draw
	taken []int             // rules that took the unit, in order
	other map[string]answer // what other flags gave, as conditions asked for them
}

// answer is what another flag gave within a decision.
type answer struct {
	variant string
	usedUp  bool // it was not decided any more
}

func (t *trace) took(rule int) { t.taken = append(t.taken, rule) }

func (t *trace) answered(flag string, v *Variant, usedUp bool) {
	if t.other == nil {
		t.other = map[string]answer{}
	}
	a := answer{usedUp: usedUp}
	if v != nil {
		a.variant = v.Name
	}
	t.other[flag] = a
}

// Draw is the place of a unit among the buckets of one share.
type Draw struct {
	By     string `json:"by"`
	Key    string `json:"key"`
	Bucket uint32 `json:"bucket"`
}

// NeedStep is what became of one need.
type NeedStep struct {
	Flag  string `json:"flag"`
	Wants string `json:"wants"`
	Gave  string `json:"gave,omitempty"` // empty where the flag gave none
	Met   bool   `json:"met"`
}

func (t *trace) drew(by, key string, b uint32) { t.draws = append(t.draws, Draw{by, key, b}) }

func (t *trace) needed(n *need, other *Flag, o Outcome, met bool) {
	step := NeedStep{Flag: n.flag, Wants: n.variant, Met: met}
	if other != nil {
		if v := other.Variant(o.Variant); v != nil {
			step.Gave = v.Name
		}
	}
	t.needs = append(t.needs, step)
}

// RuleStep is what became of one rule.
type RuleStep struct {
	ID        string              `json:"id"`
	Name      string              `json:"name"`
	Says      string              `json:"says"` // the last word on the rule, such as "takes the unit"
	Condition condition.Explained `json:"condition"`
	Shares    *SharesStep         `json:"shares,omitempty"`
}

// SharesStep is what became of shares: where the unit lies and who owns which buckets.
type SharesStep struct {
	Draw  *Draw       `json:"draw,omitempty"` // nil where no attribute to draw by is present
	Salt  string      `json:"salt"`
	Parts []flag.Part `json:"parts"`
}

// Explanation is one decision step by step, in the order in which it was made.
type Explanation struct {
	Flag     string      `json:"flag"`
	Epoch    int64       `json:"epoch"`
	Revision int64       `json:"revision"`
	At       int64       `json:"at"` // Unix milliseconds of the decision
	Variant  string      `json:"variant,omitempty"`
	Reason   string      `json:"reason"`
	Rule     string      `json:"rule,omitempty"`
	Because  words.Said  `json:"because"` // one sentence
	Lever    flag.Lever  `json:"lever"`
	Stops    []string    `json:"stops"`
	Needs    []NeedStep  `json:"needs"`
	Rules    []RuleStep  `json:"rules"`
	End      *SharesStep `json:"end,omitempty"`
	Outcome  Outcome     `json:"-"`
}

// Explain decides as [Flag.Decide] does and says why. The outcome is that of the same walk.
func (f *Flag) Explain(rs *Ruleset, c *condition.Context, now int64) Explanation {
	t := &trace{}
	o, _ := f.walk(rs, c, now, flag.MaxNeedCost, t)
	x := Explanation{Flag: f.Key, Epoch: rs.Source.Epoch, Revision: rs.Source.Revision, At: now, Outcome: o,
		Reason: o.Reason.String(),
		Lever:  f.lever, Stops: append([]string{}, f.stops...), Needs: append([]NeedStep{}, t.needs...),
		Rules: []RuleStep{}}
	if v := f.Variant(o.Variant); v != nil {
		x.Variant = v.Name
	}
	x.Rule = f.RuleID(o)
	if !(f.isSame && o.Reason != Static) && o.Note != NeedUnmet && o.Note != UsedUp && o.Note != SeenAs {
		x.Rules = f.ruleSteps(rs, c, now, o, t)
		if o.Rule < 0 && f.Document().End.Shares != nil {
			draw := len(t.draws) - 1
			if o.Note == Missing {
				draw = -1
			}
			x.End = sharesStep(f.Document().End.Shares, t, draw)
		}
	}
	x.Because = f.because(o, t)
	if o.Rule >= 0 && int(o.Rule) < len(x.Rules) && x.Rules[o.Rule].Condition.Said == condition.Unknown.String() {
		x.Because = words.Say("%s in doubt, since its condition is unknown", x.Because)
	}
	return x
}

func (f *Flag) ruleSteps(rs *Ruleset, c *condition.Context, now int64, o Outcome, t *trace) []RuleStep {
	around := t.around(rs, c, now)
	steps := make([]RuleStep, 0, len(f.Document().Rules))
	draws := 0
	for i := range f.Document().Rules {
		r := &f.Document().Rules[i]
		s := RuleStep{ID: r.ID, Name: r.Name}
		reached := o.Rule < 0 || i <= int(o.Rule)
		if r.Parked || !reached || o.Note == TooOld && len(r.Requires) > 0 || f.code.Len() == 0 {
			s.Says = map[bool]string{true: "is parked", false: "was not reached"}[r.Parked]
			s.Condition = condition.Explained{Words: r.When.Said(nil), Said: "not looked at"}
			if reached && len(r.Requires) > 0 && !r.Parked {
				s.Says = "asks for what this build does not know"
			}
			steps = append(steps, s)
			continue
		}
		s.Condition = r.When.Explain(c, around)
		applied := slices.Contains(t.taken, i)
		switch {
		case applied && s.Condition.Truth == condition.True:
			s.Says = "takes the unit"
		case applied:
			s.Says = "takes the unit in doubt, because doubt excludes"
			if r.OnUnknown == flag.Apply {
				s.Says = "takes the unit in doubt, as it says itself"
			}
		case s.Condition.Truth == condition.Unknown:
			s.Says = "does not take it, because its condition is unknown"
		default:
			s.Says = "does not take it"
		}
		if applied && r.Gives.Shares != nil {
			s.Shares = sharesStep(r.Gives.Shares, t, -1)
			if f.gives[i].shares != nil && hasKey(r.Gives.Shares, c) {
				s.Shares = sharesStep(r.Gives.Shares, t, draws)
				draws++
			}
			switch {
			case int(o.Rule) == i:
			case s.Shares.Draw == nil:
				s.Says = fmt.Sprintf("does not take it: %s", absent(r.Gives.Shares.By))
			default:
				s.Says = "takes the unit, which is in none of its shares"
			}
		}
		steps = append(steps, s)
	}
	return steps
}

// around is what the conditions of a decision looked at: other flags as they answered then.
func (t *trace) around(rs *Ruleset, c *condition.Context, now int64) condition.Around {
	around := rs.Around(c, now)
	fresh := around.Gives
	around.Gives = func(key string) (string, bool) {
		if a, asked := t.other[key]; asked {
			return a.variant, a.variant != ""
		}
		return fresh(key) // of a part of a condition that the decision did not come to
	}
	around.UsedUp = func(key string) bool { return t.other[key].usedUp }
	return around
}

// Around is what conditions may look at beside the unit.
func (rs *Ruleset) Around(c *condition.Context, now int64) condition.Around {
	return condition.Around{Segments: flag.SegmentConditions(rs.Source.Segment, rs.Source.List), Zones: rs.zones,
		Now: now,
		Gives: func(key string) (string, bool) {
			other := rs.flags[key]
			if other == nil {
				return "", false
			}
			o, _ := other.walk(rs, c, now, flag.MaxNeedCost, nil)
			v := other.Variant(o.Variant)
			if v == nil {
				return "", false
			}
			return v.Name, true
		}}
}

func absent(by []string) string {
	if len(by) > 1 {
		return "it has neither " + strings.ReplaceAll(words.Names(nil).Either(by).String(), " or ", " nor ")
	}
	return words.Names(nil).Attribute(by[0]).Text + " is absent"
}

func hasKey(s *flag.Shares, c *condition.Context) bool {
	for _, by := range s.By {
		if _, ok := c.ShareKey(condition.Intern(by)); ok {
			return true
		}
	}
	return false
}

func sharesStep(s *flag.Shares, t *trace, draw int) *SharesStep {
	step := &SharesStep{Salt: s.Salt, Parts: s.Parts}
	if draw >= 0 && draw < len(t.draws) {
		step.Draw = &t.draws[draw]
	}
	return step
}

// because says in one sentence what decided.
func (f *Flag) because(o Outcome, t *trace) words.Said {
	rests := words.Say("so all get its resting variant")
	switch o.Note {
	case Stopped:
		return words.Say("the flag is stopped, %s", rests)
	case NeedUnmet:
		n := t.needs[len(t.needs)-1]
		gave := words.Say("nothing")
		if n.Gave != "" {
			gave = words.Said{words.Variant(n.Gave)}
		}
		return words.Say("it needs %s to give %s, which gives this unit %s", words.Key(n.Flag), words.Variant(n.Wants),
			gave)
	case SeenAs:
		return words.Say("this session is to see it so: an override that touches no rule")
	case Missing:
		return words.Say("no rule gave the unit anything, and it has no %s, by which the shares of all others are "+
			"drawn: it gets the resting variant", words.Names(nil).Either(f.Document().End.Shares.By))
	case TooLarge:
		return words.Say("its rules are too large to run, with the segments that they ask for, so the unit gets the " +
			"resting variant")
	case UsedUp:
		n := t.needs[len(t.needs)-1]
		return words.Say("it needs %s to give %s, which was not judged: the decision had used up its %s decisions "+
			"on other flags", words.Key(n.Flag), words.Variant(n.Wants), flag.MaxNeedCost)
	case TooOld:
		return words.Say("the flag asks for what this version of the program does not know, so the unit gets the " +
			"resting variant")
	case Silent:
		return words.Say("this process has heard nothing from the service for %s, %s", words.Counted(int(f.rests),
			"minute", "minutes"), rests)
	case Broken:
		return words.Say("the flag's document cannot be read")
	}
	switch {
	case o.Reason == Disabled:
		return words.Say("the flag is off, %s", rests)
	case o.Rule >= 0 && o.Reason == Split:
		return words.Say("%s takes the unit, and %s", words.Rule(f.Document().Rules[o.Rule].Name),
			f.fallsInto(f.Document().Rules[o.Rule].Gives.Shares, t))
	case o.Rule >= 0:
		return words.Say("%s takes the unit", words.Rule(f.Document().Rules[o.Rule].Name))
	case o.Reason == Split:
		return words.Say("no rule gave the unit anything, and %s", f.fallsInto(f.Document().End.Shares, t))
	}
	return words.Say("no rule gave the unit anything, so it gets what all others get")
}

// fallsInto says which part of shares the last draw fell into.
func (f *Flag) fallsInto(s *flag.Shares, t *trace) words.Said {
	d := t.draws[len(t.draws)-1]
	who := words.Say("%s %s", words.Names(nil).Either([]string{d.By}), words.Unit(d.Key, d.By))
	for _, p := range s.Parts {
		if p.Has(d.Bucket) {
			return words.Say("%s is among the %s that get %s", who, words.Number(bucket.Percent(p.Share)),
				words.Variant(p.Variant))
		}
	}
	return words.Say("%s is among none of its shares", who)
}
