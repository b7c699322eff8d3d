package condition

import (
	"math"
	"strconv"
	"unicode/utf8"
	"unique"
)

// MaxInteger is the largest magnitude of an integer in an evaluation context: 2^53 - 1.
// Every language reads integers up to it alike; larger ones belong in a string.
const MaxInteger = 1<<53 - 1

// KeyAttribute is the name under which conditions and shares reach the targeting key.
const KeyAttribute = "targetingKey"

// Kind is the type of a [Value].
type Kind uint8

// The kinds. An absent value and one of a kind that a comparison does not take make it unknown.
const (
	Absent Kind = iota
	Text
	Number
	Boolean
	List  // a list of strings
	Other // present, but of no kind that a comparison takes: an object, a mixed list
)

// String names the kind as explanations do.
func (k Kind) String() string {
	return [...]string{"absent", "a string", "a number", "a boolean", "a list of strings", "an object or a mixed list"}[k]
}

// Value is one attribute's value. The zero Value is absent.
type Value struct {
	text string
	num  float64
	list *[]string // behind a pointer, for few values are lists and all are copied about
	kind Kind
}

// TextValue is a string.
func TextValue(s string) Value { return Value{kind: Text, text: s} }

// NumberValue is a number. A number with an integral value beyond [MaxInteger], NaN and
// the infinities give an absent value.
func NumberValue(f float64) Value {
	if math.IsNaN(f) || math.Abs(f) > MaxInteger {
		return Value{}
	}
	return Value{kind: Number, num: f + 0} // -0 + 0 is 0
}

// BooleanValue is a boolean.
func BooleanValue(b bool) Value {
	v := Value{kind: Boolean}
	if b {
		v.num = 1
	}
	return v
}

// ListValue is a list of strings; the list is not copied.
func ListValue(list []string) Value { return Value{kind: List, list: &list} }

// OtherValue is present and of no comparable kind.
func OtherValue() Value { return Value{kind: Other} }

// Kind is the value's type.
func (v Value) Kind() Kind { return v.kind }

// String prints the value as explanations show it.
func (v Value) String() string {
	switch v.kind {
	case Text:
		return strconv.Quote(v.text)
	case Number:
		return FormatNumber(v.num)
	case Boolean:
		return strconv.FormatBool(v.num == 1)
	case List:
		return joinQuoted(*v.list, ", ")
	}
	return v.kind.String()
}

// FormatNumber prints a number without an exponent and with no more digits than it needs.
func FormatNumber(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// Name is an interned attribute name: two names are equal exactly if they are the same pointer.
type Name = unique.Handle[string]

// Intern gives the Name of s.
func Intern(s string) Name { return unique.Make(s) }

var keyName = Intern(KeyAttribute)

// Attribute is a named value.
type Attribute struct {
	Name  Name
	Value Value
}

// Context is what the application knows about the unit that it asks for: a targeting key
// and attributes. It does not change after it is made. A nil Context is an empty one, as
// is the zero Context.
type Context struct {
	key    string
	names  []Name
	values []Value
}

// NewContext makes a context. An empty key is an absent one; of two attributes with one
// name the first counts; absent values are left out.
func NewContext(key string, attributes ...Attribute) *Context {
	c := &Context{key: key, names: make([]Name, 0, len(attributes)), values: make([]Value, 0, len(attributes))}
	for _, a := range attributes {
		if a.Value.kind != Absent && a.Name != keyName && c.find(a.Name) < 0 {
			c.names = append(c.names, a.Name)
			c.values = append(c.values, a.Value)
		}
	}
	return c
}

func (c *Context) find(n Name) int {
	for i, have := range c.names {
		if have == n {
			return i
		}
	}
	return -1
}

// Key is the targeting key, empty if absent.
func (c *Context) Key() string {
	if c == nil {
		return ""
	}
	return c.key
}

// Attributes calls yield for each attribute in the order given.
func (c *Context) Attributes(yield func(name string, v Value) bool) {
	if c == nil {
		return
	}
	for i, n := range c.names {
		if !yield(n.Value(), c.values[i]) {
			return
		}
	}
}

var absent Value

// Lookup gives the value of an attribute; an absent one is a Value of kind [Absent].
func (c *Context) Lookup(n Name) Value {
	if v := c.lookup(n); v != nil {
		return *v
	}
	if n == keyName && c.Key() != "" {
		return TextValue(c.key)
	}
	return absent
}

// lookup finds attributes other than the targeting key without copying them.
func (c *Context) lookup(n Name) *Value {
	if c == nil {
		return nil
	}
	for i, have := range c.names {
		if have == n {
			return &c.values[i]
		}
	}
	return nil
}

// ShareKey gives the text that shares by the attribute are drawn from: a string that is
// valid UTF-8 and not empty as it is, an integer in plain decimal. Anything else is absent.
func (c *Context) ShareKey(n Name) (string, bool) {
	if c == nil {
		return "", false
	}
	if n == keyName {
		return c.key, c.key != "" && validText(c.key)
	}
	v := c.lookup(n)
	if v == nil {
		return "", false
	}
	switch v.kind {
	case Text:
		return v.text, v.text != "" && validText(v.text)
	case Number:
		if v.num == math.Trunc(v.num) {
			return strconv.FormatInt(int64(v.num), 10), true
		}
	}
	return "", false
}

// validText is utf8.ValidString with a short way for ASCII, which most keys are.
func validText(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return utf8.ValidString(s[i:])
		}
	}
	return true
}
