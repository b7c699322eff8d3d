package condition

import (
	"encoding/binary"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
	"unique"

	"greenlever.example/core/words"
)

// MaxInteger is the largest magnitude of an integer in an evaluation context: 2^53 - 1.
// Every language reads integers up to it alike; larger ones belong in a string.
const MaxInteger = 1<<53 - 1

// KeyAttribute is the name under which conditions and shares reach the targeting key.
const KeyAttribute = words.KeyAttribute

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
	return [...]string{"absent", "a string", "a number", "a boolean", "a list of strings",
		"an object or a mixed list"}[k]
}

// Value is one attribute's value. The zero Value is absent.
type Value struct {
	text string // of a list: its elements, each behind its length, so that values stay small
	num  float64
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

// ListValue is a list of strings.
func ListValue(list []string) Value {
	var b []byte
	for _, s := range list {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	return Value{kind: List, text: string(b)}
}

// elements are those of a list.
func (v *Value) elements(yield func(string) bool) {
	for rest := v.text; rest != ""; {
		n, width := uint64(0), 0
		for ; rest[width] >= 0x80; width++ {
			n |= uint64(rest[width]&0x7f) << (7 * width)
		}
		n |= uint64(rest[width]) << (7 * width)
		rest = rest[width+1:]
		if !yield(rest[:n]) {
			return
		}
		rest = rest[n:]
	}
}

// hasElement tells whether a list has an element.
func (v *Value) hasElement(s string) bool {
	for e := range v.elements {
		if e == s {
			return true
		}
	}
	return false
}

// list is a list's elements as a slice.
func (v *Value) list() []string {
	list := []string{}
	for s := range v.elements {
		list = append(list, s)
	}
	return list
}

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
		return joinQuoted(v.list(), ", ")
	}
	return v.kind.String()
}

// Text is the value of a string, a number or a boolean as plain text; empty for others.
func (v Value) Text() string {
	switch v.kind {
	case Text:
		return v.text
	case Number:
		return FormatNumber(v.num)
	case Boolean:
		return strconv.FormatBool(v.num == 1)
	}
	return ""
}

// Plain is the value as encoding/json writes it; what cannot be compared is an empty object.
func (v Value) Plain() any {
	switch v.kind {
	case Text:
		return v.text
	case Number:
		return v.num
	case Boolean:
		return v.num == 1
	case List:
		return v.list()
	}
	return map[string]any{}
}

// FormatNumber prints a number without an exponent and with no more digits than it needs.
func FormatNumber(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// Name is an interned attribute name: two names are equal exactly if they are the same pointer.
type Name = unique.Handle[string]

// Intern gives the Name of s.
func Intern(s string) Name { return unique.Make(s) }

// KeyName is the interned name of the targeting key.
var KeyName = Intern(KeyAttribute)

// Attribute is a named value.
type Attribute struct {
	Name  Name
	Value Value
}

// Context is what the application knows about the unit that it asks for: a targeting key
// and attributes. It does not change after it is made. A nil Context is an empty one, as
// is the zero Context.
type Context struct {
	key        string
	attributes []Attribute
	more       *extra // nil in most contexts
}

// extra is what few contexts carry.
type extra struct {
	see     map[string]string // variants by flag: see [Context.Seeing]
	resolve Resolve
}

// Resolve finds out an attribute that a context was not given; nil where there is none. It
// must give the same answer for as long as the context is in use.
type Resolve func(n Name) *Value

// Resolving gives the context with a way to find out attributes that it was not given. It
// is asked only for those that a decision looks at.
func (c *Context) Resolving(resolve Resolve) *Context {
	next, m := c.with()
	m.resolve = resolve
	return next
}

// with copies the context and what few contexts carry.
func (c *Context) with() (*Context, *extra) {
	next, m := Context{}, extra{}
	if c != nil {
		next = *c
		if c.more != nil {
			m = *c.more
		}
	}
	next.more = &m
	return &next, &m
}

// Seeing gives the context with variants by flag that its own session is to see, whatever
// the rules say: the override "see it as". The caller has checked that it is genuine.
func (c *Context) Seeing(variants map[string]string) *Context {
	next, m := c.with()
	m.see = variants
	return next
}

// Sees tells whether the context carries overrides.
func (c *Context) Sees() bool { return c != nil && c.more != nil && c.more.see != nil }

// Seen is the variant that the context's session is to see of a flag, if any.
func (c *Context) Seen(flag string) (variant string, ok bool) {
	if !c.Sees() {
		return "", false
	}
	variant, ok = c.more.see[flag]
	return variant, ok
}

// NewContext makes a context. An empty key is an absent one; of two attributes with one
// name the first counts; absent values are left out.
func NewContext(key string, attributes ...Attribute) *Context {
	c := &Context{key: key, attributes: make([]Attribute, 0, len(attributes))}
	for _, a := range attributes {
		if a.Value.kind != Absent && a.Name != KeyName && c.find(a.Name) < 0 {
			c.attributes = append(c.attributes, a)
		}
	}
	return c
}

func (c *Context) find(n Name) int {
	for i := range c.attributes {
		if c.attributes[i].Name == n {
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

// Keyed gives the context with another targeting key.
func (c *Context) Keyed(key string) *Context {
	keyed := Context{key: key}
	if c != nil {
		keyed.attributes, keyed.more = c.attributes, c.more
	}
	return &keyed
}

// Without gives the context without the attributes that drop names; the context itself
// where it has none of them.
func (c *Context) Without(drop func(name string) bool) *Context {
	some := false
	for name := range c.Attributes {
		some = some || drop(name)
	}
	if !some {
		return c
	}
	left := Context{key: c.key, more: c.more}
	for _, a := range c.attributes {
		if !drop(a.Name.Value()) {
			left.attributes = append(left.attributes, a)
		}
	}
	return &left
}

// Kept is a copy that holds on to nothing of the caller's, such as the request that a text is a part
// of or a way to find out attributes: for whoever keeps contexts. It is false where names and texts
// take more bytes than most.
func (c *Context) Kept(most int) (*Context, bool) {
	bytes := len(c.key)
	for i := range c.attributes {
		bytes += len(c.attributes[i].Name.Value()) + len(c.attributes[i].Value.text)
	}
	if bytes > most {
		return nil, false
	}
	kept := &Context{key: strings.Clone(c.key), attributes: slices.Clone(c.attributes)}
	for i := range kept.attributes {
		v := &kept.attributes[i].Value
		v.text = strings.Clone(v.text)
	}
	return kept, true
}

// Attributes calls yield for each attribute in the order given.
func (c *Context) Attributes(yield func(name string, v Value) bool) {
	if c == nil {
		return
	}
	for _, a := range c.attributes {
		if !yield(a.Name.Value(), a.Value) {
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
	if n == KeyName && c.Key() != "" {
		return TextValue(c.key)
	}
	return absent
}

// lookup finds attributes other than the targeting key without copying them.
func (c *Context) lookup(n Name) *Value {
	if c == nil {
		return nil
	}
	for i := range c.attributes {
		if a := &c.attributes[i]; a.Name == n {
			return &a.Value
		}
	}
	if c.more != nil && c.more.resolve != nil {
		return c.more.resolve(n)
	}
	return nil
}

// ShareKey gives the text that shares by the attribute are drawn from: a string that is
// valid UTF-8 and not empty as it is, an integer in plain decimal. Anything else is absent.
func (c *Context) ShareKey(n Name) (string, bool) {
	if c == nil {
		return "", false
	}
	if n == KeyName {
		return c.key, c.key != "" && validText(c.key)
	}
	v := c.lookup(n)
	if v == nil {
		return "", false
	}
	return v.shareKey()
}

// Share gives each attribute that shares can be drawn by, with the text that they are drawn from.
func (c *Context) Share(each func(name, key string)) {
	if key, is := c.ShareKey(KeyName); is {
		each(KeyAttribute, key)
	}
	if c == nil {
		return
	}
	for i := range c.attributes {
		if key, is := c.attributes[i].Value.shareKey(); is {
			each(c.attributes[i].Name.Value(), key)
		}
	}
}

// shareKey is the text of a value that units are told apart by.
func (v *Value) shareKey() (string, bool) {
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
