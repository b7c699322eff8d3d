package expr

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// SyntaxError says where a text is no condition, and what to write instead.
type SyntaxError struct {
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // in characters, from 1
	Mend   string `json:"mend"`
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Mend)
}

type tokenKind uint8

const (
	end tokenKind = iota
	name
	text
	number
	sign
)

// token is a piece of the text with its place in bytes.
type token struct {
	kind tokenKind
	at   int
	raw  string // as written
	text string // of a string, unquoted
	num  float64
}

func (t token) String() string {
	if t.kind == end {
		return "the end"
	}
	return t.raw
}

type lexer struct {
	source string
	at     int
}

func (l *lexer) fail(at int, format string, args ...any) *SyntaxError {
	before := l.source[:min(at, len(l.source))]
	line := strings.Count(before, "\n")
	return &SyntaxError{Line: line + 1,
		Column: utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]) + 1, Mend: fmt.Sprintf(format,
			args...)}
}

var signs = []string{"&&", "||", "==", "!=", "<=", ">=", "<", ">", "!", "(", ")", "[", "]", ",", ".", "-"}

// instead says what to write for signs of other languages.
var instead = map[string]string{"=": "write == to compare", "&": "write && for and", "|": "write || for or",
	"≥": "write >=", "≤": "write <=", "≠": "write !=",
	"?": "there is no ?: in conditions: write (a && b) || (!a && c)"}

func (l *lexer) next() (token, error) {
	for l.at < len(l.source) && strings.IndexByte(" \t\r\n", l.source[l.at]) >= 0 {
		l.at++
	}
	if strings.HasPrefix(l.source[l.at:], "//") { // a comment of CEL
		line := strings.IndexByte(l.source[l.at:], '\n')
		if line < 0 {
			l.at = len(l.source)
		} else {
			l.at += line
			return l.next()
		}
	}
	start := l.at
	if start == len(l.source) {
		return token{kind: end, at: start}, nil
	}
	rest := l.source[start:]
	switch c := rest[0]; {
	case c == '"' || c == '\'' || (c == 'r' || c == 'R') && len(rest) > 1 && (rest[1] == '"' || rest[1] == '\''):
		return l.string()
	case c >= '0' && c <= '9':
		return l.number()
	case letter(c):
		for l.at < len(l.source) && (letter(l.source[l.at]) || l.source[l.at] >= '0' && l.source[l.at] <= '9') {
			l.at++
		}
		return token{kind: name, at: start, raw: l.source[start:l.at]}, nil
	}
	for _, s := range signs {
		if strings.HasPrefix(rest, s) {
			l.at += len(s)
			return token{kind: sign, at: start, raw: s}, nil
		}
	}
	r, _ := utf8.DecodeRuneInString(rest)
	if mend, ok := instead[string(r)]; ok {
		return token{}, l.fail(start, "%s", mend)
	}
	return token{}, l.fail(start, "%q has no meaning here: write names in letters, digits and _, others as "+
		"attr[\"x-plan\"]", r)
}

func letter(c byte) bool { return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// decimal is a number as CEL writes it, without hexadecimal and unsigned ones.
var decimal = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

func (l *lexer) number() (token, error) {
	start := l.at
	for l.at < len(l.source) {
		c := l.source[l.at]
		exponent := l.at > start && (c == '-' || c == '+') && (l.source[l.at-1]|0x20) == 'e'
		if c != '.' && !letter(c) && (c < '0' || c > '9') && !exponent {
			break
		}
		l.at++
	}
	raw := l.source[start:l.at]
	f, err := strconv.ParseFloat(raw, 64)
	if err != nil || !decimal.MatchString(raw) {
		return token{}, l.fail(start, "%q is no number: write it in decimal, such as 5 or 2.5; versions and times "+
			"are strings in quotes", raw)
	}
	return token{kind: number, at: start, raw: raw, num: f}, nil
}

// string reads a string as CEL writes it: in single or double quotes, raw behind an r.
func (l *lexer) string() (token, error) {
	start := l.at
	raw := l.source[l.at]|0x20 == 'r'
	if raw {
		l.at++
	}
	quote := l.source[l.at]
	l.at++
	var b strings.Builder
	for {
		if l.at >= len(l.source) || l.source[l.at] == '\n' || l.source[l.at] == '\r' {
			return token{}, l.fail(start, "the string has no end: close it with %c", quote)
		}
		c := l.source[l.at]
		switch {
		case c == quote:
			l.at++
			return token{kind: text, at: start, raw: l.source[start:l.at], text: b.String()}, nil
		case c == '\\' && !raw:
			if err := l.escape(&b); err != nil {
				return token{}, err
			}
			continue
		}
		r, size := utf8.DecodeRuneInString(l.source[l.at:])
		if r == utf8.RuneError && size == 1 {
			return token{}, l.fail(l.at, "the text is not valid UTF-8 here")
		}
		b.WriteString(l.source[l.at : l.at+size])
		l.at += size
	}
}

var escapes = map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', '\\': '\\', '"': '"', '\'': '\'', '`': '`', '?': '?',
	'a': 7, 'b': 8, 'f': 12, 'v': 11}

func (l *lexer) escape(b *strings.Builder) error {
	at := l.at
	bad := l.fail(at,
		`this is no escape: use \n, \t, \\, \", \u00e9 or \U0001f4e6, or write the string raw, as r"..."`)
	l.at++
	if l.at >= len(l.source) {
		return bad
	}
	c := l.source[l.at]
	l.at++
	if v, ok := escapes[c]; ok {
		b.WriteByte(v)
		return nil
	}
	width := map[byte]int{'u': 4, 'U': 8, 'x': 2, 'X': 2}[c]
	if width == 0 || l.at+width > len(l.source) {
		return bad
	}
	v, err := strconv.ParseUint(l.source[l.at:l.at+width], 16, 32)
	if err != nil || !utf8.ValidRune(rune(v)) {
		return bad
	}
	l.at += width
	b.WriteRune(rune(v))
	return nil
}

// quote writes a string as CEL does.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f || r >= 0x80 && !strconv.IsPrint(r):
			if r > 0xffff {
				fmt.Fprintf(&b, `\U%08x`, r)
			} else {
				fmt.Fprintf(&b, `\u%04x`, r)
			}
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
