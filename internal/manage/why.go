package manage

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/sentence"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/web"
	"greenlever.example/greenlever/internal/zones"
)

var _ = listed(
	op[whyBody, Why]("POST", atEnvironment+"/flags/:flag/why",
		"Why does a unit get what it gets, now or at a time in "+
			"the past", (*call).why).needs(app.Read),
)

type whyBody struct {
	unitBody
	whenBody
	Against *whyAgainst `json:"against,omitempty"` // another unit, or another time, to compare with
}

type whenBody struct {
	At       int64 `json:"at,omitempty"`       // Unix milliseconds in the past
	Revision int64 `json:"revision,omitempty"` // of the past
}

type whyAgainst struct {
	unitBody
	whenBody
}

// WhyOne is one decision step by step.
type WhyOne struct {
	decide.Explanation
	Value      json.RawMessage `json:"value,omitempty"`
	Sentence   words.Said      `json:"sentence"`
	Made       int64           `json:"made"`  // when the revision was made
	Asked      int64           `json:"asked"` // the moment that was asked for
	Unit       string          `json:"unit" shown:"no"`
	From       string          `json:"from"` // where the attributes come from: given, seen, test or key
	Seen       int64           `json:"seen,omitempty"`
	Attributes map[string]any  `json:"attributes"`
	Unknown    []words.Said    `json:"unknown"` // what it cannot know, and what would tell
}

// Why is a decision, alone or beside another one.
type Why struct {
	WhyOne
	Against *WhyOne  `json:"against,omitempty"`
	Differs []string `json:"differs,omitempty"` // what is not alike, in words
}

func (c *call) why(in *whyBody) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	one, err := c.whyOne(p, e, rules, &in.unitBody, &in.whenBody)
	if err != nil {
		return nil, err
	}
	w := &Why{WhyOne: *one}
	if in.Against == nil {
		return w, nil
	}
	other := *in.Against
	if other.Unit == "" && len(other.Context) == 0 {
		other.unitBody = in.unitBody // the same unit at another time
	}
	if w.Against, err = c.whyOne(p, e, rules, &other.unitBody, &other.whenBody); err != nil {
		return nil, err
	}
	w.Differs = differs(one, w.Against)
	return w, nil
}

func (c *call) whyOne(p *app.Project, e *app.Environment, rules *decide.Ruleset, who *unitBody,
	when *whenBody) (*WhyOne, error) {
	unit, from, seen, err := c.unitContext(p, e, who)
	if err != nil {
		return nil, err
	}
	asked := c.api.Now().UnixMilli()
	if when.At != 0 || when.Revision != 0 {
		if rules, err = c.rulesThen(e, when); err != nil {
			return nil, err
		}
		if asked = when.At; asked == 0 {
			asked = rules.Source.At
		}
	}
	f := rules.Flag(c.Param("flag"))
	if f == nil {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this environment at revision %d", c.Param("flag"),
			rules.Source.Revision)
	}
	w := &WhyOne{Explanation: f.Explain(rules, unit, asked), Sentence: sentence.Of(f.Document(), len(f.Stops()) > 0,
		c.api.Population.Names(c.ctx, e.ID)), Made: rules.Source.At, Asked: asked,
		Unit: unit.Key(), From: from, Seen: seen, Attributes: plain(unit)}
	if v := f.Variant(w.Outcome.Variant); v != nil {
		w.Value = v.Raw
	}
	return w, c.unknown(w, e, rules, unit)
}

// unknown says what an explanation cannot know: personal values that no sample holds, attributes
// of which nothing was given, and processes that are too old for the flag.
func (c *call) unknown(w *WhyOne, e *app.Environment, rules *decide.Ruleset, unit *condition.Context) error {
	w.Unknown = []words.Said{}
	known, err := c.api.Population.Known(c.ctx, e.ID)
	if err != nil {
		return err
	}
	if w.From != "given" {
		for _, name := range shift.Attributes(rules, w.Flag) {
			derive, personal := known.Personal[name]
			token := words.Names(nil).Attribute(name)
			switch {
			case personal && w.From == "seen" && derive == sample.Domain:
				w.Unknown = append(w.Unknown, words.Say("%s is personal: only what stands from the @ on is known of "+
					"this unit; give it to be sure", token))
			case personal && w.From == "seen":
				w.Unknown = append(w.Unknown, words.Say("%s is personal, and not known of this unit: give it to "+
					"be sure", token))
			case unit.Lookup(condition.Intern(name)).Kind() == condition.Absent:
				w.Unknown = append(w.Unknown, words.Say("%s is not known of this unit: give it if the application "+
					"sends it, or finds it out itself", token))
			}
		}
	}
	if len(w.Stops) > 0 || w.Lever != flag.On {
		w.Unknown = w.Unknown[:0] // nothing of the unit matters
	}
	all, err := c.api.Records.Instances(c.ctx, e.ID, c.api.Now().UnixMilli()-keptInstances.Milliseconds())
	if err != nil {
		return err
	}
	said := map[string]bool{}
	for _, i := range all {
		if name := i.Application + " " + i.Version; !i.Left && slices.Contains(i.TooOld, w.Flag) && !said[name] &&
			len(said) < 10 {
			said[name] = true
			w.Unknown = append(w.Unknown, words.Say("%s is too old for this flag, and gives its resting variant "+
				"whatever is said here", words.Name(strings.TrimSpace(name))))
		}
	}
	return nil
}

// differs says what is not alike between two decisions, from the outcome to its cause.
func differs(a, b *WhyOne) (out []string) {
	say := func(what, x, y string) {
		if x != y {
			out = append(out, fmt.Sprintf("%s: %s, against %s", what, orNothing(x), orNothing(y)))
		}
	}
	say("gets", a.Variant, b.Variant)
	say("because", a.Because.String(), b.Because.String())
	say("sentence", a.Sentence.String(), b.Sentence.String())
	if a.Unit != b.Unit {
		say("unit", a.Unit, b.Unit)
	}
	names := map[string]bool{}
	for n := range a.Attributes {
		names[n] = true
	}
	for n := range b.Attributes {
		names[n] = true
	}
	for _, n := range slices.Sorted(maps.Keys(names)) {
		x, y := "", ""
		if v, ok := a.Attributes[n]; ok {
			x = string(web.MustJSON(v))
		}
		if v, ok := b.Attributes[n]; ok {
			y = string(web.MustJSON(v))
		}
		say(n, x, y)
	}
	return out
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func (c *call) rulesThen(e *app.Environment, in *whenBody) (*decide.Ruleset, error) {
	revision := in.Revision
	if in.At != 0 {
		if in.Revision != 0 {
			return nil, app.InvalidField("at", "give either a time or a revision")
		}
		var err error
		if revision, err = c.api.Records.RevisionAt(c.ctx, e.ID, in.At); err != nil {
			return nil, err
		}
		if revision == 0 {
			return nil, app.InvalidField("at", "is before the environment's first revision")
		}
	}
	src, err := c.api.Records.RulesetAt(c.ctx, e.ID, revision)
	if err != nil {
		return nil, err
	}
	return decide.Compile(src, zones.Find), nil
}

func contextFault(err error) error {
	var bad *condition.ContextError
	if errors.As(err, &bad) {
		return app.InvalidField(bad.Place, "%s", bad.Mend)
	}
	return err
}
