// Package span is lengths of time as plans, metrics and files write them: 30m, 4h, 2d12h.
package span

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Span is a length of time in milliseconds, written as days, hours, minutes and seconds: 2d12h, 90s.
type Span int64

var units = []struct {
	name string
	of   Span
}{{"d", 86_400_000}, {"h", 3_600_000}, {"m", 60_000}, {"s", 1_000}, {"ms", 1}}

// String is the span as it is written.
func (s Span) String() string {
	if s <= 0 {
		return "0s"
	}
	var out strings.Builder
	for _, u := range units {
		if n := s / u.of; n > 0 {
			fmt.Fprintf(&out, "%d%s", n, u.name)
			s -= n * u.of
		}
	}
	return out.String()
}

// MarshalText writes a span.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// MaxSpan is a year.
const MaxSpan = Span(366 * 86_400_000)

// UnmarshalText reads a span.
func (s *Span) UnmarshalText(raw []byte) error {
	text, sum := strings.ReplaceAll(string(raw), " ", ""), Span(0)
	rest := text
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := strconv.ParseInt(rest[:digits], 10, 32)
		name := rest[digits:]
		if end := strings.IndexAny(name, "0123456789"); end >= 0 {
			name = name[:end]
		}
		i := slices.IndexFunc(units, func(u struct {
			name string
			of   Span
		}) bool {
			return u.name == name
		})
		if err != nil || i < 0 {
			return fmt.Errorf("%q is no length of time: write it as 30m, 4h, 2d12h", text)
		}
		if sum += Span(n) * units[i].of; sum > MaxSpan {
			return fmt.Errorf("%q is longer than a year", text)
		}
		rest = rest[digits+len(name):]
	}
	if text == "" {
		return errors.New("is empty: write a length of time as 30m, 4h, 2d12h")
	}
	*s = sum
	return nil
}

// Words says a span to people, in its two largest units.
func (s Span) Words() string {
	if s < 1_000 {
		return "a moment"
	}
	var out []string
	for i, name := range []string{"day", "hour", "min", "s"} {
		n := s / units[i].of
		s -= n * units[i].of
		switch {
		case n == 0 && len(out) > 0:
			return out[0]
		case n == 0:
			continue
		case i < 2 && n > 1:
			name += "s"
		}
		out = append(out, fmt.Sprintf("%d %s", n, name))
		if len(out) == 2 {
			break
		}
	}
	return strings.Join(out, " ")
}
