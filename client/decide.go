package greenlever

import (
	"bytes"
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
)

// Answer is the full result of a decision.
type Answer struct {
	Flag     string
	Variant  string // empty where the caller's fallback is to be used
	Reason   string // OpenFeature's
	Code     string // OpenFeature's error code, where Reason is ERROR
	Rule     string // the id of the rule that applied, if one did
	Missing  string // the attribute whose absence decided, if so
	Epoch    int64
	Revision int64

	value *decide.Variant
	kind  flag.Type
}

// Bool is the answer's value if it is a boolean.
func (a Answer) Bool() (v, ok bool) {
	if a.value == nil || a.kind != flag.Boolean {
		return false, false
	}
	return a.value.Boolean, true
}

// Text is the answer's value if it is a string.
func (a Answer) Text() (string, bool) {
	if a.value == nil || a.kind != flag.String {
		return "", false
	}
	return a.value.Text, true
}

// Number is the answer's value if it is a number.
func (a Answer) Number() (float64, bool) {
	if a.value == nil || a.kind != flag.Number {
		return 0, false
	}
	return a.value.Number, true
}

// JSON is a copy of the answer's value as JSON, of whatever type; nil where there is none.
func (a Answer) JSON() []byte {
	if a.value == nil {
		return nil
	}
	return bytes.Clone(a.value.Raw)
}

// Bool decides a boolean flag. It gives the fallback where the flag is unknown, of another
// type, or where there is no ruleset yet.
func (c *Client) Bool(key string, unit Context, fallback bool) bool {
	if f, variant := c.decide(key, &unit, decide.Boolean); f != nil {
		return f.Truth(variant)
	}
	return fallback
}

// String decides a string flag; see [Client.Bool] for the fallback.
func (c *Client) String(key string, unit Context, fallback string) string {
	if v := c.value(key, &unit, decide.String); v != nil {
		return v.Text
	}
	return fallback
}

// Number decides a number flag; see [Client.Bool] for the fallback.
func (c *Client) Number(key string, unit Context, fallback float64) float64 {
	if v := c.value(key, &unit, decide.Number); v != nil {
		return v.Number
	}
	return fallback
}

// Object decides an object flag and decodes it into a T of the caller's own; where it does
// not fit, and as for [Client.Bool], the fallback is given.
func Object[T any](c *Client, key string, unit Context, fallback T) T {
	v := c.value(key, &unit, decide.Object)
	if v == nil {
		return fallback
	}
	var into T
	if err := json.Unmarshal(v.Raw, &into); err != nil {
		c.log.Warn("greenlever: the flag's value does not fit the type asked for, so the fallback is used", "flag", key, "variant", v.Name, "error", err)
		return fallback
	}
	return into
}

// decide is the way of all typed calls: one look-up, the decision, one count. The flag is
// nil where the caller's fallback is to be used.
func (c *Client) decide(key string, unit *Context, kind decide.Kind) (*decide.Flag, int16) {
	s := c.state.Load()
	f := s.rules.Flag(key)
	if f == nil {
		c.counts.unknown(key, s.ready())
		return nil, 0
	}
	o := f.Decide(s.rules, &unit.unit)
	if o.Variant < 0 || f.Kind != kind {
		s.count(f.Slot + int32(len(f.Variants())))
		return nil, 0
	}
	s.count(f.Slot + int32(o.Variant))
	return f, o.Variant
}

// value gives the variant of a typed call; nil where the fallback is to be used.
func (c *Client) value(key string, unit *Context, kind decide.Kind) *decide.Variant {
	f, variant := c.decide(key, unit, kind)
	if f == nil {
		return nil
	}
	return f.Variant(variant)
}

// Answer decides a flag of any type and says how.
func (c *Client) Answer(key string, unit Context) Answer {
	s := c.state.Load()
	f := s.rules.Flag(key)
	if f == nil {
		c.counts.unknown(key, s.ready())
		code := "FLAG_NOT_FOUND"
		if !s.ready() {
			code = "PROVIDER_NOT_READY"
		}
		return Answer{Flag: key, Reason: "ERROR", Code: code, Epoch: s.rules.Source.Epoch, Revision: s.rules.Source.Revision}
	}
	o := f.Decide(s.rules, &unit.unit)
	a := s.answer(f, o)
	if a.value == nil {
		s.count(f.Slot + int32(len(f.Variants())))
	} else {
		s.count(f.Slot + int32(o.Variant))
	}
	return a
}

func (s *state) answer(f *decide.Flag, o decide.Outcome) Answer {
	a := Answer{Flag: f.Key, Reason: o.Reason.String(), Epoch: s.rules.Source.Epoch, Revision: s.rules.Source.Revision, kind: f.Type}
	if a.value = f.Variant(o.Variant); a.value == nil {
		a.Code = "PARSE_ERROR"
		return a
	}
	a.Variant = a.value.Name
	if o.Rule >= 0 {
		a.Rule = f.RuleID(o)
	}
	if o.Note == decide.Missing {
		a.Missing = f.MissingBy()
	}
	return a
}

// AnswerAll decides every flag for a unit, sorted by key. It is for looking, such as on a
// page that lists flags, and is not counted as use.
func (c *Client) AnswerAll(unit Context) []Answer {
	s := c.state.Load()
	var all []Answer
	for f := range s.rules.Flags {
		all = append(all, s.answer(f, f.Decide(s.rules, &unit.unit)))
	}
	slices.SortFunc(all, func(a, b Answer) int { return cmp.Compare(a.Flag, b.Flag) })
	return all
}
