package audit

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"greenlever.example/core/condition"
)

// Canonical gives the canonical form of a JSON text as RFC 8785 defines it: members sorted
// by their UTF-16 code units, no white space, numbers as ECMAScript prints them. It
// returns an error for what is no JSON or no valid UTF-8.
func Canonical(raw []byte) ([]byte, error) {
	v, err := condition.Tree(raw)
	if err != nil {
		return nil, fmt.Errorf("canonical JSON: the text %w", err)
	}
	var b bytes.Buffer
	err = write(&b, v)
	return b.Bytes(), err
}

// CanonicalOf is Canonical of a value as encoding/json writes it.
func CanonicalOf(v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return Canonical(raw)
}

func write(b *bytes.Buffer, v any) error {
	switch v := v.(type) {
	case nil:
		b.WriteString("null")
	case bool:
		b.WriteString(strconv.FormatBool(v))
	case string:
		writeString(b, v)
	case json.Number:
		return writeNumber(b, v)
	case []any:
		b.WriteByte('[')
		for i, e := range v {
			if i > 0 {
				b.WriteByte(',')
			}
			if err := write(b, e); err != nil {
				return err
			}
		}
		b.WriteByte(']')
	case map[string]any:
		names := make([]string, 0, len(v))
		for n := range v {
			names = append(names, n)
		}
		slices.SortFunc(names, func(a, b string) int {
			return slices.Compare(utf16.Encode([]rune(a)), utf16.Encode([]rune(b)))
		})
		b.WriteByte('{')
		for i, n := range names {
			if i > 0 {
				b.WriteByte(',')
			}
			writeString(b, n)
			b.WriteByte(':')
			if err := write(b, v[n]); err != nil {
				return err
			}
		}
		b.WriteByte('}')
	}
	return nil
}

func writeString(b *bytes.Buffer, s string) {
	b.WriteByte('"')
	for _, r := range s {
		switch r {
		case '"', '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case '\b':
			b.WriteString(`\b`)
		case '\f':
			b.WriteString(`\f`)
		case '\n':
			b.WriteString(`\n`)
		case '\r':
			b.WriteString(`\r`)
		case '\t':
			b.WriteString(`\t`)
		default:
			if r < 0x20 {
				fmt.Fprintf(b, `\u%04x`, r)
			} else {
				b.WriteRune(r)
			}
		}
	}
	b.WriteByte('"')
}

// writeNumber prints a number as ECMAScript's Number::toString does.
func writeNumber(b *bytes.Buffer, n json.Number) error {
	f, err := n.Float64()
	if err != nil || math.IsInf(f, 0) {
		return fmt.Errorf("canonical JSON: the number %s is out of range", n)
	}
	switch abs := math.Abs(f); {
	case f == 0:
		b.WriteByte('0')
	case abs >= 1e-6 && abs < 1e21:
		b.WriteString(strconv.FormatFloat(f, 'f', -1, 64))
	default:
		s := strconv.FormatFloat(f, 'e', -1, 64) // 1e+21 and 1e-07: no leading zero in the exponent
		mantissa, exponent, _ := strings.Cut(s, "e")
		b.WriteString(mantissa + "e" + exponent[:1] + strings.TrimLeft(exponent[1:], "0"))
	}
	return nil
}
