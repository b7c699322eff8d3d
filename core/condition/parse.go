package condition

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
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
	tree, err := Sent(raw)
	if err != nil {
		return nil, &ContextError{"context", err.Error()}
	}
	return ContextOf(tree)
}

// ErrMore is the error of a JSON text with something behind its value.
var ErrMore = errors.New("holds more than one JSON value")

// Sent is [Tree] of what somebody sends now: half a character is no text (RFC 7493, 2.1), though
// there may be one in what was taken before.
func Sent(raw []byte) (any, error) {
	if half := loneSurrogate(raw); half != "" {
		return nil, fmt.Errorf("holds half a character, %s, which is no text", half)
	}
	return Tree(raw)
}

// Tree reads a text that is one JSON value and nothing else; numbers are json.Number. An error is
// [ErrMore], or tells why it is no JSON.
func Tree(raw []byte) (any, error) {
	if !utf8.Valid(raw) {
		return nil, errors.New("is not valid UTF-8")
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var tree any
	var syntax *json.SyntaxError
	switch err := dec.Decode(&tree); {
	case err == io.EOF:
		return nil, errors.New("is no JSON: it is empty")
	case errors.As(err, &syntax):
		return nil, fmt.Errorf("is no JSON: %w at byte %d", syntax, syntax.Offset)
	case err != nil:
		return nil, fmt.Errorf("is no JSON: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, ErrMore
	}
	return tree, nil
}

// loneSurrogate finds an escape that is half of a pair without the other half, which readers take for
// this or that.
func loneSurrogate(raw []byte) string {
	for i := bytes.IndexByte(raw, '\\'); i >= 0 && i+1 < len(raw); {
		step := 2
		if raw[i+1] == 'u' && i+6 <= len(raw) {
			one, _ := strconv.ParseUint(string(raw[i+2:i+6]), 16, 16)
			step = 6
			if utf16.IsSurrogate(rune(one)) {
				other := uint64(0)
				if i+12 <= len(raw) && raw[i+6] == '\\' && raw[i+7] == 'u' {
					other, _ = strconv.ParseUint(string(raw[i+8:i+12]), 16, 16)
				}
				if utf16.DecodeRune(rune(one), rune(other)) == utf8.RuneError {
					return string(raw[i : i+6])
				}
				step = 12
			}
		}
		next := bytes.IndexByte(raw[min(i+step, len(raw)):], '\\')
		if next < 0 {
			return ""
		}
		i += step + next
	}
	return ""
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
	f := flattener{context: &Context{key: key, attributes: make([]Attribute, 0, min(len(object), MaxMembers))}}
	if err := f.add([]level{{"", object}}, 1); err != nil {
		return nil, err
	}
	return f.context, nil
}

// Limits of an evaluation context, the same everywhere.
const (
	MaxNesting    = 16       // objects within objects
	MaxMembers    = 1_000    // attributes, nested ones among them
	MaxName       = 200      // bytes of an attribute's whole name
	MaxValue      = 64 << 10 // bytes of a text
	MaxContext    = 1 << 20  // bytes of names and texts in all
	elementBytes  = 8        // that an element of a list counts for beside its text
	shownOfAPlace = 60       // bytes of a name that is too long
)

func parseKey(v any) (string, error) {
	place := "context." + KeyAttribute
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		if len(v) > MaxValue {
			return "", &ContextError{place, fmt.Sprintf("is a text of %d bytes: at most %d are taken", len(v),
				MaxValue)}
		}
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
// the same name nested. It holds the limits of a context.
type flattener struct {
	context *Context
	members int
	bytes   int
	found   map[Name]bool // from indexAfter attributes on
}

// indexAfter is from how many attributes on they are looked up by an index.
const indexAfter = 16

func (f *flattener) has(n Name) bool {
	if f.found != nil {
		return f.found[n]
	}
	return f.context.find(n) >= 0
}

func (f *flattener) put(n Name, v Value) {
	f.context.attributes = append(f.context.attributes, Attribute{n, v})
	if f.found != nil {
		f.found[n] = true
	} else if len(f.context.attributes) == indexAfter {
		f.found = make(map[Name]bool, 2*indexAfter)
		for _, a := range f.context.attributes {
			f.found[a.Name] = true
		}
	}
}

func (f *flattener) add(levels []level, depth int) error {
	var deeper []level
	for _, l := range levels {
		first := len(deeper)
		for name, v := range l.object {
			full := name
			if l.prefix != "" {
				full = l.prefix + name
			}
			if err := f.fits(full, v, depth); err != nil {
				return err
			}
			if nested, ok := v.(map[string]any); ok {
				deeper = append(deeper, level{full + ".", nested})
			}
			value, wrong := parseValue(v)
			if wrong != nil {
				wrong.Place = "context." + full + wrong.Place
				return wrong
			}
			if n := Intern(full); value.kind != Absent && !f.has(n) {
				f.put(n, value)
			}
		}
		// Of two ways to nest, the longer flat prefix comes first.
		slices.SortFunc(deeper[first:], func(a, b level) int { return strings.Compare(b.prefix, a.prefix) })
	}
	if len(deeper) == 0 {
		return nil
	}
	return f.add(deeper, depth+1)
}

// fits counts a member and tells which limit it breaks.
func (f *flattener) fits(name string, v any, depth int) error {
	shown := "context." + name[:min(len(name), shownOfAPlace)]
	text, longest := len(name), 0
	f.members++
	switch v := v.(type) {
	case string:
		text, longest = text+len(v), len(v)
	case []any:
		text += elementBytes * len(v)
		for _, e := range v {
			if s, ok := e.(string); ok {
				text, longest = text+len(s), max(longest, len(s))
			}
		}
	case map[string]any:
		if depth >= MaxNesting {
			return &ContextError{shown, fmt.Sprintf("is nested deeper than %d objects: send it flat, as names "+
				"with dots", MaxNesting)}
		}
	}
	f.bytes += text
	switch {
	case len(name) > MaxName:
		return &ContextError{shown + "...", fmt.Sprintf("has a name of %d bytes: at most %d are taken", len(name),
			MaxName)}
	case name == "":
		return &ContextError{"context", "has an attribute without a name"}
	case longest > MaxValue:
		return &ContextError{shown, fmt.Sprintf("is a text of %d bytes: at most %d are taken", longest, MaxValue)}
	case f.members > MaxMembers:
		return &ContextError{shown, fmt.Sprintf("is one attribute too many: a context takes %d", MaxMembers)}
	case f.bytes > MaxContext:
		return &ContextError{shown, fmt.Sprintf("makes the context larger than %d bytes", MaxContext)}
	}
	return nil
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
