package greenlever

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

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

// Problem says why the caller's fallback is to be used; empty where it is not.
func (a Answer) Problem() string {
	switch {
	case a.Reason != "ERROR":
		return ""
	case a.Code == "FLAG_NOT_FOUND":
		return "there is no flag " + a.Flag
	case a.Code == "PROVIDER_NOT_READY":
		return "there is no ruleset yet"
	case a.Code == "TYPE_MISMATCH":
		return "flag " + a.Flag + " has another type than was asked for"
	case a.Code == "PARSE_ERROR":
		return "the document of flag " + a.Flag + " cannot be read"
	}
	return "flag " + a.Flag + " could not be decided"
}

// Value is the value of an answer as a T; false where it is of another type, or no whole number where
// one is asked for. An object is read with [Answer.JSON].
func Value[T bool | string | float64 | int64](a Answer) (v T, ok bool) {
	if a.value == nil {
		return v, false
	}
	switch to := any(&v).(type) {
	case *bool:
		*to, ok = a.value.Boolean, a.kind == flag.Boolean
	case *string:
		*to, ok = a.value.Text, a.kind == flag.String
	case *float64:
		*to, ok = a.value.Number, a.kind == flag.Number
	case *int64:
		*to, ok = whole(a.value.Number)
		ok = ok && a.kind == flag.Number
	}
	return v, ok
}

// whole is a number as an integer, if it is one.
func whole(n float64) (int64, bool) { return int64(n), n == math.Trunc(n) }

// JSON is a copy of the answer's value as JSON, of whatever type; nil where there is none.
func (a Answer) JSON() []byte {
	if a.value == nil {
		return nil
	}
	return bytes.Clone(a.value.Raw)
}

// ask is what is asked for on the way of a decision. The caller's context is handed on
// beside it, so that units can stay on their callers' stacks.
type ask struct {
	key  string
	unit *Context
	kind decide.Kind
	at   time.Time // zero: now
}

// Bool decides a boolean flag. It gives the fallback where the flag is unknown, of another
// type, or where there is no ruleset yet. The context is handed to [Options.Decided]; nothing
// waits on it.
func (c *Client) Bool(ctx context.Context, key string, unit Context, fallback bool) bool {
	s := c.state.Load()
	return c.truth(ctx, s, s.rules.Flag(key), key, &unit, fallback)
}

// truth is what most calls need and no more.
func (c *Client) truth(ctx context.Context, s *state, f *decide.Flag, key string, unit *Context, fallback bool) bool {
	if f == nil || f.Kind != decide.Boolean || c.decided != nil {
		return c.boolean(ctx, s, f, ask{key: key, unit: unit, kind: decide.Boolean}, fallback)
	}
	o := f.Decide(s.rules, &unit.unit, c.now(f))
	c.people.observe(f, &unit.unit, s.count(f.Slot+int32(o.Cell)))
	if f.Watched {
		c.expose(f, o, &unit.unit)
	}
	return f.Truth(o.Variant)
}

// String decides a string flag; see [Client.Bool] for the fallback.
func (c *Client) String(ctx context.Context, key string, unit Context, fallback string) string {
	s := c.state.Load()
	return c.text(ctx, s, s.rules.Flag(key), ask{key: key, unit: &unit, kind: decide.String}, fallback)
}

// Number decides a number flag; see [Client.Bool] for the fallback.
func (c *Client) Number(ctx context.Context, key string, unit Context, fallback float64) float64 {
	s := c.state.Load()
	return c.number(ctx, s, s.rules.Flag(key), ask{key: key, unit: &unit, kind: decide.Number}, fallback)
}

// Int decides a number flag whose value is a whole number; one that is not is of another type. See
// [Client.Bool] for the fallback.
func (c *Client) Int(ctx context.Context, key string, unit Context, fallback int64) int64 {
	s := c.state.Load()
	return c.integer(ctx, s, s.rules.Flag(key), ask{key: key, unit: &unit, kind: decide.Number}, fallback)
}

// Object decides an object flag and decodes it into a T of the caller's own; where it does
// not fit, and as for [Client.Bool], the fallback is given.
func Object[T any](ctx context.Context, c *Client, key string, unit Context, fallback T) T {
	s := c.state.Load()
	return object(ctx, c, s, s.rules.Flag(key), ask{key: key, unit: &unit, kind: decide.Object}, fallback)
}

func (c *Client) boolean(ctx context.Context, s *state, f *decide.Flag, a ask, fallback bool) bool {
	v := c.value(ctx, s, f, &a)
	if v == nil {
		c.inVain(ctx, s, f, &a, fallback)
		return fallback
	}
	return v.Boolean
}

func (c *Client) text(ctx context.Context, s *state, f *decide.Flag, a ask, fallback string) string {
	v := c.value(ctx, s, f, &a)
	if v == nil {
		c.inVain(ctx, s, f, &a, fallback)
		return fallback
	}
	return v.Text
}

func (c *Client) number(ctx context.Context, s *state, f *decide.Flag, a ask, fallback float64) float64 {
	v := c.value(ctx, s, f, &a)
	if v == nil {
		c.inVain(ctx, s, f, &a, fallback)
		return fallback
	}
	return v.Number
}

func (c *Client) integer(ctx context.Context, s *state, f *decide.Flag, a ask, fallback int64) int64 {
	v := c.value(ctx, s, f, &a)
	if v == nil {
		c.inVain(ctx, s, f, &a, fallback)
		return fallback
	}
	n, ok := whole(v.Number)
	if !ok {
		c.counts.inVain(f.Key, a.kind, fallback, true, true)
		return fallback
	}
	return n
}

// value is the way of typed calls: the decision and one count. It is nil where the
// caller's fallback is to be used, see inVain.
func (c *Client) value(ctx context.Context, s *state, f *decide.Flag, a *ask) *decide.Variant {
	if f == nil || f.Kind != a.kind {
		return nil
	}
	o := f.Decide(s.rules, &a.unit.unit, c.nowFor(f, a.at))
	c.people.observe(f, &a.unit.unit, s.count(f.Slot+int32(o.Cell)))
	if f.Watched {
		c.expose(f, o, &a.unit.unit)
	}
	if c.decided != nil {
		c.tellDecided(ctx, *a.unit, s.answer(f, o))
	}
	return f.Variant(o.Variant)
}

// inVain notes that the caller's fallback was used: the flag is not defined, of another
// type, or cannot be read.
func (c *Client) inVain(ctx context.Context, s *state, f *decide.Flag, a *ask, fallback any) Answer {
	if f == nil {
		key := strings.Clone(a.key)
		c.counts.inVain(key, a.kind, fallback, false, s.ready())
		answer := s.missing(key)
		c.tellDecided(ctx, *a.unit, answer)
		return answer
	}
	s.count(f.Slot + int32(f.ErrorCell()))
	answer := Answer{Flag: f.Key, Reason: "ERROR", Code: "PARSE_ERROR", Epoch: s.rules.Source.Epoch,
		Revision: s.rules.Source.Revision}
	if f.Kind != decide.NoKind {
		answer.Code = "TYPE_MISMATCH"
		c.counts.inVain(f.Key, a.kind, fallback, true, true)
	}
	c.tellDecided(ctx, *a.unit, answer)
	return answer
}

func (c *Client) tellDecided(ctx context.Context, unit Context, answer Answer) {
	if c.decided == nil {
		return
	}
	c.decided(ctx, unit, answer)
}

// now is the service's time in Unix milliseconds, for flags that look at the clock.
func (c *Client) now(f *decide.Flag) int64 {
	if !f.Clock {
		return 0
	}
	return time.Now().UnixMilli() + c.skew.Load()
}

func (c *Client) nowFor(f *decide.Flag, at time.Time) int64 {
	if at.IsZero() {
		return c.now(f)
	}
	return at.UnixMilli() + c.skew.Load()
}

// Answer decides a flag of any type and says how.
func (c *Client) Answer(ctx context.Context, key string, unit Context) Answer {
	return c.answer(ctx, c.state.Load(), ask{key: key, unit: &unit})
}

// Ask decides a flag as one of the fallback's type and says how: boolean for a bool, string
// for a string, number for a float64, and object for anything else. A flag of another type
// is answered with the code TYPE_MISMATCH. Where the context carries a [Scope] the scope's
// ruleset and time count. It is for those who stand between an application and the client.
func (c *Client) Ask(ctx context.Context, key string, unit Context, fallback any) Answer {
	s, a := c.state.Load(), ask{key: key, unit: &unit, kind: decide.Object}
	if scope := ScopeOf(ctx); scope != nil && scope.client == c {
		s, a.at = scope.now()
		scope.note(s, s.rules.Flag(key))
	}
	switch fallback.(type) {
	case bool:
		a.kind = decide.Boolean
	case string:
		a.kind = decide.String
	case float64:
		a.kind = decide.Number
	}
	if f := s.rules.Flag(key); f == nil || f.Kind != a.kind {
		return c.inVain(ctx, s, f, &a, fallback)
	}
	return c.answer(ctx, s, a)
}

func (c *Client) answer(ctx context.Context, s *state, a ask) Answer {
	f := s.rules.Flag(a.key)
	if f == nil {
		key := strings.Clone(a.key)
		c.counts.inVain(key, decide.NoKind, nil, false, s.ready())
		answer := s.missing(key)
		c.tellDecided(ctx, *a.unit, answer)
		return answer
	}
	o := f.Decide(s.rules, &a.unit.unit, c.nowFor(f, a.at))
	answer := s.answer(f, o)
	c.people.observe(f, &a.unit.unit, s.count(f.Slot+int32(o.Cell)))
	if f.Watched {
		c.expose(f, o, &a.unit.unit)
	}
	c.tellDecided(ctx, *a.unit, answer)
	return answer
}

func (s *state) missing(key string) Answer {
	a := Answer{Flag: key, Reason: "ERROR", Code: "FLAG_NOT_FOUND", Epoch: s.rules.Source.Epoch,
		Revision: s.rules.Source.Revision}
	if !s.ready() {
		a.Code = "PROVIDER_NOT_READY"
	}
	return a
}

func (s *state) answer(f *decide.Flag, o decide.Outcome) Answer {
	a := Answer{Flag: f.Key, Reason: o.Reason.String(), Epoch: s.rules.Source.Epoch, Revision: s.rules.Source.Revision,
		kind: f.Type}
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
		all = append(all, s.answer(f, f.Decide(s.rules, &unit.unit, c.now(f))))
	}
	slices.SortFunc(all, func(a, b Answer) int { return cmp.Compare(a.Flag, b.Flag) })
	return all
}

// pageAnswer is an answer as pages get it.
type pageAnswer struct {
	Key     string          `json:"key"`
	Value   json.RawMessage `json:"value"`
	Variant string          `json:"variant"`
	Reason  string          `json:"reason"`
}

// ForPage gives what a page needs to start without a request: the answers of the flags that
// browsers may see, as JSON for a script element of type application/json. It is safe there,
// whatever the values hold.
func (c *Client) ForPage(unit Context) []byte {
	s := c.state.Load()
	page := struct {
		Flags []pageAnswer `json:"flags"`
	}{[]pageAnswer{}}
	for f := range s.rules.Flags {
		o := f.Decide(s.rules, &unit.unit, c.now(f))
		if v := f.Variant(o.Variant); v != nil && f.Visible {
			page.Flags = append(page.Flags, pageAnswer{f.Key, v.Raw, v.Name, o.Reason.String()})
		}
	}
	slices.SortFunc(page.Flags, func(a, b pageAnswer) int { return cmp.Compare(a.Key, b.Key) })
	raw, err := json.Marshal(page) // which writes < as an escape
	if err != nil {
		return []byte(`{"flags":[]}`) // values are JSON already
	}
	return raw
}
