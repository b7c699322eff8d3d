// Package strictjson decodes JSON into Go values and names the place of everything that
// does not fit, unknown members included.
//
//	problems := strictjson.Decode(raw, &edit) // "rules[0].gives.varaint: unknown; did you mean variant?"
package strictjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

var rawType = reflect.TypeFor[json.RawMessage]()

// Decode decodes the one JSON value in raw and gives what is wrong with it; nil if nothing.
func Decode(raw []byte, into any) []flag.Problem { return decode(raw, into, nil) }

// DecodeShown is Decode for what people and their programs send: it says also what is wrong with texts
// that others are shown. A field with the tag `shown:"no"` is none: a password, a unit's key.
func DecodeShown(raw []byte, into any, wrong func(text string) string) []flag.Problem {
	return decode(raw, into, wrong)
}

func decode(raw []byte, into any, wrongIn func(text string) string) []flag.Problem {
	if len(bytes.TrimSpace(raw)) == 0 {
		raw = []byte("{}")
	}
	tree, err := condition.Sent(raw)
	if err != nil {
		return []flag.Problem{{Place: "body", Mend: err.Error()}}
	}
	var found []flag.Problem
	w := walk{wrongIn, &found}
	w.value("", tree, reflect.TypeOf(into).Elem())
	if len(found) > 0 {
		return found
	}
	err = json.Unmarshal(raw, into)
	var wrong *json.UnmarshalTypeError
	switch {
	case errors.As(err, &wrong):
		place := wrong.Field
		if place == "" {
			place = "body"
		}
		return []flag.Problem{{Place: place, Mend: fmt.Sprintf("must be %s, not %s", kind(wrong.Type), wrong.Value)}}
	case err != nil:
		return []flag.Problem{{Place: "body", Mend: err.Error()}}
	}
	return nil
}

func kind(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "a string"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Struct, reflect.Map:
		return "an object"
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return "a whole number from 0"
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return "a whole number"
	case reflect.Float32, reflect.Float64:
		return "a number"
	}
	return t.String()
}

// walk goes through a value beside its type.
type walk struct {
	wrong func(text string) string // with a text that is shown; nil: nothing is
	found *[]flag.Problem
}

// value collects members that the type does not have, with their places, which encoding/json would not
// say, and texts that are wrong.
func (w walk) value(place string, v any, t reflect.Type) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == rawType {
		return
	}
	switch v := v.(type) {
	case string:
		if w.wrong == nil || t.Kind() != reflect.String {
			return
		}
		if mend := w.wrong(v); mend != "" {
			*w.found = append(*w.found, flag.Problem{Place: place, Mend: mend})
		}
	case map[string]any:
		switch t.Kind() {
		case reflect.Struct:
			fields := fieldsOf(t)
			for name, value := range v {
				f, ok := fields[name]
				if !ok {
					*w.found = append(*w.found, flag.Problem{Place: join(place, name),
						Mend: "is unknown here" + nearest(name, fields)})
					continue
				}
				in := w
				if f.Tag.Get("shown") == "no" {
					in.wrong = nil
				}
				in.value(join(place, name), value, f.Type)
			}
		case reflect.Map:
			for name, value := range v {
				w.value(join(place, name), value, t.Elem())
			}
		}
	case []any:
		if t.Kind() == reflect.Slice {
			for i, value := range v {
				w.value(fmt.Sprintf("%s[%d]", place, i), value, t.Elem())
			}
		}
	}
}

func join(place, name string) string {
	if place == "" {
		return name
	}
	return place + "." + name
}

func fieldsOf(t reflect.Type) map[string]reflect.StructField {
	out := map[string]reflect.StructField{}
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || !f.IsExported() || name == "-" {
			continue
		}
		if name == "" {
			name = f.Name
		}
		out[name] = f
	}
	return out
}

// nearest proposes a known name within two edits.
func nearest(name string, fields map[string]reflect.StructField) string {
	best, least := "", 3
	for f := range fields {
		if d := distance(strings.ToLower(name), strings.ToLower(f)); d < least || d == least && f < best {
			best, least = f, d
		}
	}
	if best == "" {
		return ": remove it"
	}
	return ": did you mean " + best + "?"
}

// distance is the Levenshtein distance.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := before
			if a[i-1] != b[j-1] {
				cost = 1 + min(before, row[j], row[j-1])
			}
			before, row[j] = row[j], cost
		}
	}
	return row[len(b)]
}
