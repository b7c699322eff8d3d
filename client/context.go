package greenlever

import (
	"log/slog"
	"math"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// Context is what the application knows about the unit that it asks for. It does not
// change after it is made and may be shared; the zero Context knows nothing.
type Context struct{ unit condition.Context }

// Unit makes the context of a unit: its targeting key, empty where there is none, and its
// attributes. A key that is not valid UTF-8 is absent, which is logged once. Of two attributes with
// one name the first counts.
func Unit(key string, attributes ...Attribute) Context {
	if !utf8.ValidString(key) {
		tellOdd("the key of a unit", "is not valid UTF-8 and counts as absent")
		key = ""
	}
	list := make([]condition.Attribute, len(attributes))
	for i, a := range attributes {
		list[i] = a.inner
	}
	return Context{*condition.NewContext(key, list...)}
}

// ReadContext reads a context from JSON, as remote evaluation takes it: an object with the
// unit's key as targetingKey, and attributes that may be nested. The error names the place.
func ReadContext(raw []byte) (Context, error) {
	c, err := condition.ParseContext(raw)
	if err != nil {
		return Context{}, err
	}
	return Context{*c}, nil
}

// Key is the unit's targeting key, empty where there is none.
func (c Context) Key() string { return c.unit.Key() }

// SeeAs gives the unit's context with the override "see it as" that a token carries, such
// as one from the request header Greenlever-See-As or the cookie greenlever_see_as. It
// holds for flags of the token's own session only and touches no rule. Where the token is
// empty, expired, or not signed for this environment, the context comes back as it is.
func (c *Client) SeeAs(unit Context, token string) Context {
	if token == "" {
		return unit
	}
	s, err := flag.ReadSeeAs(token, c.state.Load().rules.Source.SeeAs, time.Now().UnixMilli()+c.skew.Load())
	if err != nil {
		c.log.Info("greenlever: an override is not taken", "error", err)
		return unit
	}
	return Context{*unit.unit.Seeing(s.Variants)}
}

// Attribute is a named value of a context.
type Attribute struct{ inner condition.Attribute }

// Name is an attribute's name, looked up once. Keep it in a package variable where
// contexts are made often.
type Name struct {
	inner condition.Name
	text  string
}

// Named makes a Name, such as "site.id".
func Named(name string) Name { return Name{condition.Intern(name), name} }

// String is a string attribute. One that is not valid UTF-8 is absent, which is logged once for each
// attribute.
func (n Name) String(v string) Attribute {
	if !utf8.ValidString(v) {
		tellOdd(n.text, "is not valid UTF-8 and counts as absent")
		return n.of(condition.Value{})
	}
	return n.of(condition.TextValue(v))
}

// Bool is a boolean attribute.
func (n Name) Bool(v bool) Attribute { return n.of(condition.BooleanValue(v)) }

// List is an attribute that is a list of strings; see [Name.String] for each.
func (n Name) List(v ...string) Attribute {
	if slices.ContainsFunc(v, func(s string) bool { return !utf8.ValidString(s) }) {
		tellOdd(n.text, "is not valid UTF-8 and counts as absent")
		return n.of(condition.Value{})
	}
	return n.of(condition.ListValue(v))
}

// Number is a number attribute. NaN, the infinities, and numbers beyond ±(2^53-1) are
// absent, which is logged once for each attribute: send such a number as a string.
func (n Name) Number(v float64) Attribute {
	if math.IsNaN(v) || math.Abs(v) > condition.MaxInteger {
		tellOdd(n.text, "is outside -(2^53-1) to 2^53-1 and counts as absent: send it as a string")
	}
	return n.of(condition.NumberValue(v))
}

// Int is a number attribute; the limits of [Name.Number] hold.
func (n Name) Int(v int64) Attribute {
	if v > condition.MaxInteger || v < -condition.MaxInteger {
		return n.Number(math.Inf(1))
	}
	return n.Number(float64(v))
}

func (n Name) of(v condition.Value) Attribute {
	return Attribute{condition.Attribute{Name: n.inner, Value: v}}
}

// tellOdd logs once for each attribute what it cannot be.
func tellOdd(attribute, why string) {
	if _, told := odd.LoadOrStore(attribute, true); !told {
		slog.Warn("greenlever: an attribute "+why, "attribute", attribute)
	}
}

var odd sync.Map

// String is a string attribute.
func String(name, v string) Attribute { return Named(name).String(v) }

// Bool is a boolean attribute.
func Bool(name string, v bool) Attribute { return Named(name).Bool(v) }

// Number is a number attribute; see [Name.Number].
func Number(name string, v float64) Attribute { return Named(name).Number(v) }

// Int is a number attribute; see [Name.Int].
func Int(name string, v int64) Attribute { return Named(name).Int(v) }

// List is an attribute that is a list of strings.
func List(name string, v ...string) Attribute { return Named(name).List(v...) }
