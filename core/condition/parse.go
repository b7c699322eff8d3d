package condition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// ContextError says which place of an evaluation context cannot be taken, and the mend.
type ContextError struct {
	Place string // such as "context.site.plan"; empty for the whole
	Mend  string
}

func (e *ContextError) Error() string {
	if e.Place == "" {
		return e.Mend
	}
	return e.Place + ": " + e.Mend
}

// ParseContext reads an evaluation context from a JSON object, as OpenFeature's remote
// evaluation protocol sends it. An attribute "a.b" wins over a nested a -> b. No bytes, or
// null, is an empty context. It returns a *[ContextError] for what is no context.
func ParseContext(raw []byte) (*Context, error) {
	if raw = bytes.TrimSpace(raw); len(raw) == 0 || string(raw) == "null" {
		return NewContext(""), nil
	}
	if !utf8.Valid(raw) {
		return nil, &ContextError{"context", "is not valid UTF-8"}
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var tree any
	if err := dec.Decode(&tree); err != nil {
		return nil, &ContextError{"context", "is no JSON: " + err.Error()}
	}
	return ContextOf(tree)
}

// ContextOf makes a context of a decoded JSON value, whose numbers must be json.Number. It
// takes the value over and returns a *[ContextError] for what is no context.
func ContextOf(tree any) (*Context, error) {
	if tree == nil {
		return NewContext(""), nil
	}
	object, ok := tree.(map[string]any)
	if !ok {
		return nil, &ContextError{"context", "must be an object"}
	}
	key, err := parseKey(object[KeyAttribute])
	if err != nil {
		return nil, err
	}
	delete(object, KeyAttribute)
	f := flattener{context: &Context{key: key, attributes: make([]Attribute, 0, len(object))}}
	if err := f.add([]level{{"", object}}); err != nil {
		return nil, err
	}
	return f.context, nil
}

func parseKey(v any) (string, error) {
	place := "context." + KeyAttribute
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		return v, nil
	case json.Number:
		n, err := parseNumber(place, v)
		if err != nil {
			return "", err
		}
		if n != math.Trunc(n) {
			return "", &ContextError{place, "must be a string or an integer, not " + v.String()}
		}
		return strconv.FormatInt(int64(n), 10), nil
	}
	return "", &ContextError{place, "must be a string or an integer"}
}

func parseNumber(place string, n json.Number) (float64, *ContextError) {
	f, err := n.Float64()
	if err != nil || math.Abs(f) > MaxInteger {
		return 0, &ContextError{place, fmt.Sprintf("%s is outside -(2^53-1) to 2^53-1: send it as a string", n)}
	}
	return f, nil
}

type level struct {
	prefix string
	object map[string]any
}

// flattener walks nested objects level by level, so that a name written flat comes before
// the same name nested.
type flattener struct{ context *Context }

func (f *flattener) add(levels []level) error {
	var deeper []level
	for _, l := range levels {
		first := len(deeper)
		for name, v := range l.object {
			full := name
			if l.prefix != "" {
				full = l.prefix + name
			}
			if nested, ok := v.(map[string]any); ok {
				deeper = append(deeper, level{full + ".", nested})
			}
			value, wrong := parseValue(v)
			if wrong != nil {
				wrong.Place = "context." + full + wrong.Place
				return wrong
			}
			if n := Intern(full); value.kind != Absent && f.context.find(n) < 0 {
				f.context.attributes = append(f.context.attributes, Attribute{n, value})
			}
		}
		// Of two ways to nest, the longer flat prefix comes first.
		slices.SortFunc(deeper[first:], func(a, b level) int { return strings.Compare(b.prefix, a.prefix) })
	}
	if len(deeper) == 0 {
		return nil
	}
	return f.add(deeper)
}

// parseValue reads a value; what is wrong with it has its place below the value's own.
func parseValue(v any) (Value, *ContextError) {
	switch v := v.(type) {
	case string:
		return TextValue(v), nil
	case bool:
		return BooleanValue(v), nil
	case json.Number:
		f, err := parseNumber("", v)
		return NumberValue(f), err
	case []any:
		list := make([]string, 0, len(v))
		for i, e := range v {
			if n, ok := e.(json.Number); ok {
				if _, err := parseNumber(fmt.Sprintf("[%d]", i), n); err != nil {
					return Value{}, err
				}
			}
			if s, ok := e.(string); ok {
				list = append(list, s)
			}
		}
		if len(list) < len(v) {
			return OtherValue(), nil
		}
		return ListValue(list), nil
	case map[string]any:
		return OtherValue(), nil
	}
	return Value{}, nil
}

func joinQuoted(list []string, sep string) string {
	var b strings.Builder
	for i, s := range list {
		if i > 0 {
			b.WriteString(sep)
		}
		b.WriteString(strconv.Quote(s))
	}
	return b.String()
}
