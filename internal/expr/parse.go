// Package expr is the text form of conditions: a profile of CEL, the Common Expression
// Language (an open specification), with a short list of functions of ours.
//
//	n, err := expr.Parse(`role == "courier" && version(firmware) >= version("4.2.0")`)
//	s, err := expr.Print(n) // the same text
//
// Text is for people. The tree is what is stored, sent and compiled, so no client needs a
// parser. For canonical trees Parse(Print(t)) is t, and Print(Parse(s)) is canonical text.
package expr

import (
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// maxText is how long a text may be, in bytes.
const maxText = 4 << 20

// Parse reads a condition. The error is a *[SyntaxError]. A part of the population without
// a salt gets none, for the service to choose one.
func Parse(source string) (*condition.Node, error) {
	p := &parser{lex: lexer{source: source}}
	if len(source) > maxText {
		return nil, p.lex.fail(0, "the text is longer than %d bytes: move its list into a segment", maxText)
	}
	if err := p.advance(); err != nil {
		return nil, err
	}
	n, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if p.now.kind != end {
		return nil, p.unexpected()
	}
	return n.Canonical(), nil
}

type parser struct {
	lex    lexer
	now    token
	signed bool // the last comparison was one with a sign, such as ==
}

func (p *parser) advance() (err error) {
	p.now, err = p.lex.next()
	return err
}

func (p *parser) is(raw string) bool {
	return p.now.raw == raw && (p.now.kind == sign || p.now.kind == name)
}

// take goes on if the next token is the one given.
func (p *parser) take(raw string) (bool, error) {
	if !p.is(raw) || p.now.kind == text {
		return false, nil
	}
	return true, p.advance()
}

func (p *parser) must(raw, why string) error {
	ok, err := p.take(raw)
	if err == nil && !ok {
		return p.lex.fail(p.now.at, "write %s here %s, instead of %s", raw, why, p.now)
	}
	return err
}

func (p *parser) unexpected() error {
	if p.now.kind == name {
		switch strings.ToLower(p.now.raw) {
		case "and":
			return p.lex.fail(p.now.at, "write && for and")
		case "or":
			return p.lex.fail(p.now.at, "write || for or")
		}
	}
	if strings.HasPrefix(p.lex.source[p.now.at:], "?") {
		return p.lex.fail(p.now.at, "there is no ?: in conditions: write (a && b) || (!a && c)")
	}
	if p.is(")") {
		return p.lex.fail(p.now.at, "this bracket closes nothing: remove it")
	}
	return p.lex.fail(p.now.at, "join comparisons with && or ||, instead of %s", p.now)
}

// maxDepth keeps brackets from exhausting the stack.
const maxDepth = 4 * condition.MaxDepth

func (p *parser) or(depth int) (*condition.Node, error) {
	return p.chain("||", depth, p.and, func(parts []condition.Node) *condition.Node { return &condition.Node{Any: parts} })
}

func (p *parser) and(depth int) (*condition.Node, error) {
	return p.chain("&&", depth, p.unary, func(parts []condition.Node) *condition.Node { return &condition.Node{All: parts} })
}

func (p *parser) chain(join string, depth int, part func(int) (*condition.Node, error), group func([]condition.Node) *condition.Node) (*condition.Node, error) {
	var parts []condition.Node
	for {
		n, err := part(depth)
		if err != nil {
			return nil, err
		}
		parts = append(parts, *n)
		more, err := p.take(join)
		if err != nil {
			return nil, err
		}
		if more {
			continue
		}
		if len(parts) == 1 {
			return n, nil
		}
		return group(parts), nil
	}
}

func (p *parser) unary(depth int) (*condition.Node, error) {
	if depth > maxDepth {
		return nil, p.lex.fail(p.now.at, "brackets are nested too deep: flatten them, or move a part into a segment")
	}
	if p.now.kind == name && p.now.raw == "not" {
		return nil, p.lex.fail(p.now.at, "write ! for not")
	}
	negated, err := p.take("!")
	if err != nil {
		return nil, err
	}
	if negated {
		start, bare := p.now.at, !p.is("(") && !p.is("!")
		n, err := p.unary(depth + 1)
		if err == nil && bare && p.signed { // in CEL ! binds to the attribute alone
			err = p.lex.fail(start, "put brackets around what ! is of: !(%s)", strings.TrimSpace(p.lex.source[start:p.now.at]))
		}
		return &condition.Node{Not: n}, err
	}
	open, err := p.take("(")
	if err != nil {
		return nil, err
	}
	if open {
		start := p.now
		n, err := p.or(depth + 1)
		if err != nil {
			if name, is := p.alone(start); is {
				return nil, p.lex.fail(start.at-1, "take the brackets away, and write %s", name)
			}
			return nil, err
		}
		return n, p.must(")", "to close the bracket")
	}
	return p.comparison()
}

// alone finds a name by itself in brackets, as in (n) >= 2.
func (p *parser) alone(first token) (name string, is bool) {
	rest := p.lex.source[first.at:]
	end := strings.IndexByte(rest, ')')
	if end > 0 && plainName.MatchString(strings.TrimSpace(rest[:end])) {
		return strings.TrimSpace(rest[:end]), true
	}
	return "", false
}

// operand is the left side of a comparison.
type operand struct {
	at        int
	attribute string
	form      string // "", "folded", "version", "looseVersion", "timestamp", "now"
	method    string // a method of strings that follows
}

// constant is a right side.
type constant struct {
	at      int
	kind    tokenKind // text, number, or name for true and false
	texts   []string
	numbers []float64
	places  []int
	list    bool
	form    string // "version" or "timestamp"
	truth   bool
}

func (p *parser) comparison() (*condition.Node, error) {
	p.signed = false
	if p.now.kind == text || p.now.kind == number || p.is("-") || p.is("[") || p.is("true") || p.is("false") {
		return nil, p.beginning()
	}
	if p.now.kind != name {
		return nil, p.lex.fail(p.now.at, "write a comparison here, such as role == \"courier\", instead of %s", p.now)
	}
	if p.calls() {
		if fn := functions[p.now.raw]; fn != nil {
			return p.function(fn)
		}
	}
	o, err := p.operand()
	if err != nil {
		return nil, err
	}
	if o.method != "" {
		return p.stringMethod(o)
	}
	at := p.now.at
	for _, op := range []string{"==", "!=", "<=", ">=", "<", ">", "in"} {
		ok, err := p.take(op)
		if err != nil {
			return nil, err
		}
		if ok {
			c, err := p.constant()
			if err != nil {
				return nil, err
			}
			p.signed = true
			return p.compare(o, op, at, c)
		}
	}
	if o.form == "" {
		return nil, p.lex.fail(at, "compare %s with something, such as %s == true, or ask has(%s)", nameText(o.attribute), nameText(o.attribute), nameText(o.attribute))
	}
	return nil, p.lex.fail(at, "write a comparison such as == or >= here, instead of %s", p.now)
}

// beginning says what to write where a comparison begins with a constant.
func (p *parser) beginning() error {
	at := p.now.at
	if c, err := p.constant(); err == nil && !c.list && c.kind == text && p.is("in") {
		if p.advance() == nil {
			if name, _, err := p.attribute(false); err == nil {
				return p.lex.fail(at, "write hasAny(%s, [%s])", nameText(name), quote(c.texts[0]))
			}
		}
	}
	return p.lex.fail(at, "begin with an attribute, such as role == \"courier\"; constants stand on the right")
}

// calls tells whether an opening bracket follows the name.
func (p *parser) calls() bool {
	rest := strings.TrimLeft(p.lex.source[p.lex.at:], " \t\r\n")
	return p.now.kind == name && strings.HasPrefix(rest, "(")
}

var forms = []string{"folded", "version", "looseVersion", "timestamp"}

// operand reads an attribute, alone or in a form such as version(firmware), or the clock.
func (p *parser) operand() (o operand, err error) {
	o.at = p.now.at
	if p.is("now") {
		o.form = "now"
		return o, p.advance()
	}
	if p.calls() {
		if !slices.Contains(forms, p.now.raw) {
			return o, p.lex.fail(p.now.at, "%s is no function here: use one of %s", p.now.raw, strings.Join(functionNames(), ", "))
		}
		o.form = p.now.raw
		if err := p.advance(); err != nil {
			return o, err
		}
		if err := p.must("(", "before the attribute"); err != nil {
			return o, err
		}
		if p.now.kind == text {
			return o, p.lex.fail(p.now.at, "begin with an attribute: %s(firmware); constants stand on the right", o.form)
		}
		if o.attribute, _, err = p.attribute(false); err != nil {
			return o, err
		}
		if err := p.must(")", "behind the attribute"); err != nil {
			return o, err
		}
		if p.is(".") {
			if err := p.advance(); err != nil {
				return o, err
			}
			o.method = p.now.raw
			return o, p.advance()
		}
		return o, nil
	}
	o.attribute, o.method, err = p.attribute(true)
	return o, err
}

// attribute reads a name such as site.id, attr["x-plan"] or key; and, where it may, the
// method that is called on it.
func (p *parser) attribute(methods bool) (attribute, method string, err error) {
	if p.now.kind != name {
		return "", "", p.lex.fail(p.now.at, "name an attribute here, such as site.region, instead of %s", p.now)
	}
	if slices.Contains(reserved, p.now.raw) && p.now.raw != "key" && p.now.raw != "attr" {
		return "", "", p.lex.fail(p.now.at, "%s is a word of the language: write the attribute as attr[%s]", p.now.raw, quote(p.now.raw))
	}
	first := p.now
	if err := p.advance(); err != nil {
		return "", "", err
	}
	attribute = first.raw
	switch first.raw {
	case "key":
		attribute = condition.KeyAttribute
	case "attr":
		if err := p.must("[", `as in attr["x-plan"]`); err != nil {
			return "", "", err
		}
		if p.now.kind != text || p.now.text == "" {
			return "", "", p.lex.fail(p.now.at, `write the attribute's name in quotes, as in attr["x-plan"]`)
		}
		attribute = p.now.text
		if err := p.advance(); err != nil {
			return "", "", err
		}
		if err := p.must("]", "behind the attribute's name"); err != nil {
			return "", "", err
		}
	}
	for p.is(".") {
		if err := p.advance(); err != nil {
			return "", "", err
		}
		if p.now.kind != name {
			return "", "", p.lex.fail(p.now.at, "write a name behind the point, instead of %s", p.now)
		}
		part := p.now
		if slices.Contains([]string{"in", "true", "false", "null"}, part.raw) { // CEL takes them nowhere
			return "", "", p.lex.fail(part.at, "%s is a word of the language: write the whole name in quotes, as in attr[%s]", part.raw, quote(attribute+"."+part.raw))
		}
		called := p.calls()
		if err := p.advance(); err != nil {
			return "", "", err
		}
		if called {
			if !methods {
				return "", "", p.lex.fail(part.at, "call %s on the attribute alone", part.raw)
			}
			return attribute, part.raw, nil
		}
		if first.raw == "key" || first.raw == "attr" {
			return "", "", p.lex.fail(part.at, "nothing follows %s: write the whole name in quotes, as in attr[\"site.x-plan\"]", first.raw)
		}
		attribute += "." + part.raw
	}
	return attribute, "", nil
}

// constant reads a string, a number, true, false, a list of them, or a version or time.
func (p *parser) constant() (c constant, err error) {
	c.at = p.now.at
	for _, form := range []string{"version", "timestamp"} {
		if p.is(form) && p.calls() {
			if err := p.advance(); err != nil {
				return c, err
			}
			if err := p.must("(", "before the string"); err != nil {
				return c, err
			}
			if c, err = p.constant(); err != nil {
				return c, err
			}
			if c.kind != text || c.list {
				return c, p.lex.fail(c.at, "write a string in quotes, such as %s(%s)", form, map[string]string{"version": `"4.2.0"`, "timestamp": `"2027-03-01T06:00:00Z"`}[form])
			}
			c.form = form
			return c, p.must(")", "behind the string")
		}
	}
	if p.is("true") || p.is("false") {
		c.kind, c.truth = name, p.now.raw == "true"
		return c, p.advance()
	}
	open, err := p.take("[")
	if err != nil {
		return c, err
	}
	if !open {
		return c, p.element(&c)
	}
	c.list = true
	for {
		if p.is("]") {
			if len(c.places) == 0 {
				return c, p.lex.fail(p.now.at, "the list is empty: name at least one value")
			}
			return c, p.advance()
		}
		kind := c.kind
		if err := p.element(&c); err != nil {
			return c, err
		}
		if kind != end && kind != c.kind {
			return c, p.lex.fail(c.places[len(c.places)-1], "a list holds strings only or numbers only")
		}
		if more, err := p.take(","); err != nil {
			return c, err
		} else if !more && !p.is("]") {
			return c, p.lex.fail(p.now.at, "write , or ] here, instead of %s", p.now)
		}
	}
}

func (p *parser) element(c *constant) error {
	c.places = append(c.places, p.now.at)
	negative, err := p.take("-")
	if err != nil {
		return err
	}
	switch {
	case p.now.kind == number:
		f := p.now.num
		if negative {
			f = -f
		}
		c.kind, c.numbers = number, append(c.numbers, f+0)
	case p.now.kind == text && !negative:
		c.kind, c.texts = text, append(c.texts, p.now.text)
	case p.now.kind == name:
		return p.lex.fail(p.now.at, "write a constant here: a string stands in quotes, as in %s", quote(p.now.raw))
	default:
		return p.lex.fail(p.now.at, "write a constant here, such as \"courier\" or 5, instead of %s", p.now)
	}
	return p.advance()
}

// leaf checks a leaf and puts what is wrong at the place of the constant at fault.
func (p *parser) leaf(at int, places []int, n *condition.Node) (*condition.Node, error) {
	var wrong error
	probe := n
	if n.Part != nil && n.Part.Salt == "" { // the service chooses one
		probe = n.Clone()
		probe.Part.Salt = "new"
	}
	probe.Check("", func(place, mend string) {
		if wrong != nil {
			return
		}
		for i, where := range places {
			if strings.HasSuffix(place, "["+itoa(i)+"]") {
				at = where
			}
		}
		wrong = p.lex.fail(at, "%s", mend)
	})
	return n, wrong
}

func (p *parser) compare(o operand, op string, at int, c constant) (*condition.Node, error) {
	n := &condition.Node{Attribute: o.attribute}
	not := op == "!="
	switch o.form {
	case "version", "looseVersion":
		if c.kind != text || c.list || c.form == "timestamp" {
			return nil, p.lex.fail(c.at, `compare a version with one, such as version("4.2.0")`)
		}
		test, ok := map[string]string{"==": "equals", "!=": "equals", "<": "less", "<=": "at-most", ">": "more", ">=": "at-least"}[op]
		if !ok {
			return nil, p.lex.fail(at, `write == < <= > or >= here; for a range, inRange(%s, "4.2.x")`, nameText(o.attribute))
		}
		n.Test, n.Text, n.Loose = "version."+test, c.texts, o.form == "looseVersion"
	case "timestamp", "now":
		if c.kind != text || c.list || c.form == "version" {
			return nil, p.lex.fail(c.at, `compare a time with one, such as timestamp("2027-03-01T06:00:00Z")`)
		}
		test, ok := map[string]string{"<": "before", ">=": "at-or-after"}[op]
		if !ok {
			return nil, p.lex.fail(at, "write < or >= here: an instant belongs to what begins with it")
		}
		n.Test, n.Text = "time."+test, c.texts
		if o.form == "now" {
			n.Test = "clock." + test
		}
	default:
		if c.form != "" {
			return nil, p.lex.fail(o.at, "write %s(%s) on the left too", c.form, nameText(o.attribute))
		}
		n.IgnoreCase = o.form == "folded"
		test, mend := plainTest(op, c)
		if mend != "" {
			return nil, p.lex.fail(at, "%s", mend)
		}
		n.Test, n.Text, n.Numbers = test, c.texts, c.numbers
		not = op == "!=" && c.kind != number
	}
	n, err := p.leaf(c.at, c.places, n)
	if not {
		n = &condition.Node{Not: n}
	}
	return n, err
}

// plainTest is the test of an attribute without a form.
func plainTest(op string, c constant) (test, mend string) {
	switch {
	case c.list && op != "in":
		return "", "write in before a list"
	case op == "in" && !c.list:
		return "", "write a list behind in, such as [\"north\", \"east\"]"
	case op == "in" && c.kind == text:
		return "string.one-of", ""
	case op == "in":
		return "number.one-of", ""
	case c.kind == name && (op == "==" || op == "!="):
		if c.truth {
			return "boolean.true", ""
		}
		return "boolean.false", ""
	case c.kind == name:
		return "", "write == or != before true and false"
	case c.kind == text && (op == "==" || op == "!="):
		return "string.equals", ""
	case c.kind == text:
		return "", "strings have no order: compare numbers without quotes, versions as version(firmware) >= version(\"4.2.0\"), times as timestamp(joined) >= timestamp(\"2027-03-01T06:00:00Z\")"
	}
	return map[string]string{"==": "number.equals", "!=": "number.differs", "<": "number.less", "<=": "number.at-most", ">": "number.more", ">=": "number.at-least"}[op], ""
}

var stringMethods = map[string]string{
	"startsWith": "string.begins", "startsWithAny": "string.begins", "endsWith": "string.ends", "endsWithAny": "string.ends",
	"contains": "string.contains", "containsAny": "string.contains", "matches": "string.matches",
}

func (p *parser) stringMethod(o operand) (*condition.Node, error) {
	test, ok := stringMethods[o.method]
	if !ok || o.form != "" && o.form != "folded" {
		return nil, p.lex.fail(p.now.at, "%s is no method here: strings have startsWith, endsWith, contains and matches, and startsWithAny, endsWithAny, containsAny for lists", o.method)
	}
	if err := p.must("(", "behind the method"); err != nil {
		return nil, err
	}
	c, err := p.constant()
	if err != nil {
		return nil, err
	}
	if any := strings.HasSuffix(o.method, "Any"); c.kind != text || c.list != any || c.form != "" {
		return nil, p.lex.fail(c.at, "%s takes %s", o.method, map[bool]string{true: `a list of strings, such as ["a", "b"]`, false: "one string in quotes; for several, " + o.method + "Any"}[any])
	}
	n, err := p.leaf(c.at, c.places, &condition.Node{Test: test, Attribute: o.attribute, Text: c.texts, IgnoreCase: o.form == "folded"})
	if err != nil {
		return nil, err
	}
	return n, p.must(")", "behind the string")
}

// newPart is a part of the population as text states it.
func newPart(share uint32, by []string, salt string) *condition.Within {
	return &condition.Within{By: by, Share: share, Salt: salt, Hash: bucket.Scheme}
}
