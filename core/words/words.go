// Package words holds what the product says as lists of tokens, so that the console, the
// command line and the API print one and the same sentence, each in its own way.
//
//	s := words.Say("%s of %s get %s", words.Percent("8 %"), "sites", words.Variant("on"))
//	s.String() // "8 % of sites get `on`"
//
// Printed plainly, names of variants stand between backticks, and whatever people have
// written, such as the name of a rule or a constant, in double quotes as Go writes strings.
// So a plain text can be read again, whatever marks the names hold; see [Read].
package words

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Kind says what a token is.
type Kind string

// The kinds of tokens. Plain words have none.
const (
	AVariant    Kind = "variant"
	AnAttribute Kind = "attribute" // Of is its name, Text how it is said
	AValue      Kind = "value"     // a constant; Of is the attribute that it is compared with
	AUnit       Kind = "unit"      // a targeting key, or what a list lists
	AName       Kind = "name"      // of a rule, or a title: written by people
	AKey        Kind = "key"       // of a flag, a segment, an environment
	ANumber     Kind = "number"    // Low and High are its bounds, where it has some
	ATime       Kind = "time"      // Text is RFC 3339
)

// Token is a piece of what is said.
type Token struct {
	Kind Kind   `json:"kind,omitempty"`
	Text string `json:"text"`
	Of   string `json:"of,omitempty"`
	Low  *int64 `json:"low,omitempty"`
	High *int64 `json:"high,omitempty"`
}

// Said is one thing that is said, in order.
type Said []Token

// Variant is the name of a variant.
func Variant(name string) Token { return Token{Kind: AVariant, Text: name} }

// Rule is the name of a rule.
func Rule(name string) Said { return Said{{Text: "rule "}, Name(name)} }

// Name is a name that people gave.
func Name(name string) Token { return Token{Kind: AName, Text: name} }

// Key is the key of a flag, a segment or an environment.
func Key(key string) Token { return Token{Kind: AKey, Text: key} }

// Value is a constant, and the attribute that it is compared with.
func Value(constant, attribute string) Token {
	return Token{Kind: AValue, Text: constant, Of: attribute}
}

// Unit is a unit, by its targeting key or by another attribute.
func Unit(key, attribute string) Token { return Token{Kind: AUnit, Text: key, Of: attribute} }

// Number is a number as it is printed.
func Number(text string) Token { return Token{Kind: ANumber, Text: text} }

// Count is a whole number.
func Count(n int64) Token { return Number(strconv.FormatInt(n, 10)) }

// About is an estimate: where its bounds differ they are said with it.
func About(n, low, high int64) Token {
	t := Count(n)
	if low != high {
		t.Low, t.High = &low, &high
	}
	return t
}

// Time is an instant, written as RFC 3339.
func Time(text string) Token { return Token{Kind: ATime, Text: text} }

// Plain is a text that is said as it is.
func Plain(text string) Said { return Said{{Text: text}} }

// Say builds what is said: each %s in the format takes the next argument, a [Token], a
// [Said], a string or an int, of which strings and ints are plain words.
func Say(format string, args ...any) (s Said) {
	pieces := strings.Split(format, "%s")
	if len(pieces) != len(args)+1 {
		panic(fmt.Sprintf("words: %q takes %d arguments, and has %d", format, len(pieces)-1, len(args)))
	}
	for i, piece := range pieces {
		s = s.text(piece)
		if i == len(args) {
			break
		}
		switch a := args[i].(type) {
		case string:
			s = s.text(a)
		case int:
			s = append(s, Count(int64(a)))
		case Token:
			s = append(s, a)
		case Said:
			s = append(s, a...)
		default:
			panic(fmt.Sprintf("words: %T cannot be said", a))
		}
	}
	return s.joined()
}

func (s Said) text(t string) Said {
	if t == "" {
		return s
	}
	return append(s, Token{Text: t})
}

// joined puts plain words that follow each other into one token.
func (s Said) joined() Said {
	out := s[:0:0]
	for _, t := range s {
		if n := len(out); t.Kind == "" && n > 0 && out[n-1].Kind == "" {
			out[n-1].Text += t.Text
			continue
		}
		out = append(out, t)
	}
	return out
}

// Join says several things with a separator between them.
func Join(all []Said, sep string) (s Said) {
	for i, one := range all {
		if i > 0 {
			s = s.text(sep)
		}
		s = append(s, one...)
	}
	return s.joined()
}

// List says several tokens with commas between them.
func List(all []Token) Said {
	said := make([]Said, len(all))
	for i, t := range all {
		said[i] = Said{t}
	}
	return Join(said, ", ")
}

// Counted is a number with its noun: one of it, or several.
func Counted(n int, one, several string) Said {
	if n == 1 {
		return Say("%s %s", n, one)
	}
	return Say("%s %s", n, several)
}

// String prints plainly.
func (s Said) String() string { return s.Print(Token.String) }

// Print prints with the caller's way to print tokens.
func (s Said) Print(one func(Token) string) string {
	var b strings.Builder
	for _, t := range s {
		b.WriteString(one(t))
	}
	return b.String()
}

// String prints a token plainly.
func (t Token) String() string {
	switch t.Kind {
	case AVariant:
		return "`" + t.Text + "`"
	case AValue, AUnit, AName:
		return Quote(t.Text)
	case ANumber:
		if t.Low != nil && t.High != nil {
			return fmt.Sprintf("about %s (%d to %d)", t.Text, *t.Low, *t.High)
		}
	}
	return t.Text
}

// Quote writes a text in double quotes, as Go does, so that neither quotes nor the marks of
// places in audit entries (⟨0⟩) stand in it.
func Quote(text string) string { return strings.ReplaceAll(strconv.Quote(text), "⟨", `\u27e8`) }

// Texts prints several things plainly.
func Texts(all []Said) []string {
	out := make([]string, len(all))
	for i, s := range all {
		out[i] = s.String()
	}
	return out
}

var (
	span = regexp.MustCompile(
		"`[A-Za-z0-9._-]+`|\"(?:[^\"\\\\]|\\\\.)*\"|[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]+(?:Z|[+-][0-9:]{5})")
	starred = regexp.MustCompile(`(\brule |\brenamed |\border |, )\*([^*]+)\*`) // how names of rules were written once
)

// Read reads a plain text, such as an audit entry's, into tokens: variants, instants, and what
// stands in quotes, which is a name behind the word *rule* and a value elsewhere.
func Read(text string) (s Said) {
	at := 0
	text = starred.ReplaceAllStringFunc(text, func(m string) string {
		parts := starred.FindStringSubmatch(m)
		return parts[1] + Quote(parts[2])
	})
	for _, m := range span.FindAllStringIndex(text, -1) {
		before, found := text[at:m[0]], text[m[0]:m[1]]
		s = s.text(before)
		switch {
		case found[0] == '`':
			s = append(s, Variant(strings.Trim(found, "`")))
		case found[0] != '"':
			s = append(s, Time(found))
		default:
			name, err := strconv.Unquote(found)
			switch {
			case err != nil:
				s = s.text(found)
			case strings.HasSuffix(before, "rule "):
				s = append(s, Name(name))
			default:
				s = append(s, Value(name, ""))
			}
		}
		at = m[1]
	}
	return s.text(text[at:]).joined()
}

// Attribute is how an attribute is said in sentences: its names in the project's catalogue.
type Attribute struct {
	One  string `json:"one,omitempty"`  // such as "site"
	Many string `json:"many,omitempty"` // such as "sites"
}

// Names tells how attributes are said, by their names; a nil one knows none.
type Names map[string]Attribute

// plainName holds the names that read as one word of a sentence.
var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*[A-Za-z0-9_]$|^[A-Za-z_]$`)

// reserved begin pieces of sentences, so an attribute of such a name is quoted.
var reserved = map[string]bool{"the": true, "it": true, "in": true, "not": true, "flag": true, "among": true,
	"all":   true,
	"where": true, "attribute": true, "key": true, "unit": true, "units": true, "named": true, "those": true,
	"of": true, "only": true}

// KeyAttribute is the attribute that holds the targeting key.
const KeyAttribute = "targetingKey"

// Attribute is an attribute as sentences say it.
func (n Names) Attribute(name string) Token {
	t := Token{Kind: AnAttribute, Text: name, Of: name}
	switch one := n[name].One; {
	case one != "":
		t.Text = one
	case name == KeyAttribute:
		t.Text = "the key"
	case !plainName.MatchString(name) || reserved[name]:
		t.Text = "attribute " + Quote(name)
	}
	return t
}

// Of says of what shares are drawn: "sites", where the catalogue has a word for many of
// them, "units" by key, and "units by site.id" otherwise; the first attribute that is there
// counts.
func (n Names) Of(by []string) (s Said) {
	for i, name := range by {
		t := Token{Kind: AnAttribute, Of: name, Text: n[name].Many}
		switch {
		case i > 0:
			s = append(s.text(map[bool]string{true: " (else by ", false: ", else by "}[i == 1]),
				n.Either([]string{name})...)
			continue
		case t.Text != "":
		case name == KeyAttribute:
			t.Text = "units"
		default:
			s = s.text("units by ")
			t = n.Attribute(name)
		}
		s = append(s, t)
	}
	if len(by) > 1 {
		s = s.text(")")
	}
	return s.joined()
}

// Either says one or several attributes: "site.id or key".
func (n Names) Either(by []string) Said {
	all := make([]Said, len(by))
	for i, name := range by {
		t := n.Attribute(name)
		if name == KeyAttribute && n[name].One == "" {
			t.Text = "key"
		}
		all[i] = Said{t}
	}
	return Join(all, " or ")
}

// Without says what somebody may lack: "a site or a key".
func (n Names) Without(by []string) Said {
	all := make([]Said, len(by))
	for i, name := range by {
		said := n.Either([]string{name})
		switch one := n[name].One; {
		case one == "" && name != KeyAttribute:
		case one != "" && strings.ContainsRune("aeiouAEIOU", rune(one[0])):
			said = Say("an %s", said)
		default:
			said = Say("a %s", said)
		}
		all[i] = said
	}
	return Join(all, " or ")
}

var catalogued = regexp.MustCompile(`^[\p{L}][\p{L}\p{N}'-]*( [\p{L}\p{N}'-]+){0,3}$`)

// Usable says why a word of the catalogue cannot stand in sentences; empty where it can.
func Usable(word string) string {
	if word == "" {
		return ""
	}
	if len(word) > 60 || !catalogued.MatchString(word) {
		return "takes one to four words of letters, digits, ' and -, at most 60 bytes"
	}
	for _, w := range strings.Fields(strings.ToLower(word)) {
		switch {
		case reserved[w] || joints[w]:
			return fmt.Sprintf("holds %q, which sentences use themselves: take another word", w)
		}
	}
	return ""
}

// joints are words by which sentences go on behind an attribute.
var joints = map[string]bool{"is": true, "has": true, "and": true, "or": true, "else": true, "by": true, "get": true,
	"gets": true, "begins": true,
	"ends": true, "contains": true, "matches": true, "who": true, "without": true, "with": true, "from": true,
	"to": true, "others": true}

// saidJSON is how what is said is written: for whoever prints tokens in a way of its own, and
// for whoever wants the text.
type saidJSON struct {
	Text   string  `json:"text"`
	Tokens []Token `json:"tokens"`
}

// MarshalJSON writes the plain text and the tokens.
func (s Said) MarshalJSON() ([]byte, error) {
	tokens := []Token(s)
	if tokens == nil {
		tokens = []Token{}
	}
	return json.Marshal(saidJSON{s.String(), tokens})
}

// UnmarshalJSON reads what MarshalJSON wrote, and a plain text, as releases before this one
// answered and as their answers are kept for repeated requests.
func (s *Said) UnmarshalJSON(raw []byte) error {
	if len(raw) > 0 && raw[0] == '"' {
		var text string
		err := json.Unmarshal(raw, &text)
		*s = Read(text)
		return err
	}
	var j saidJSON
	err := json.Unmarshal(raw, &j)
	*s = j.Tokens
	return err
}
