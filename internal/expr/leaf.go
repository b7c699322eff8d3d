package expr

import (
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// operand is the left side of a comparison.
type operand struct {
	at        int
	attribute string
	form      string // "", "folded", "version", "looseVersion", "timestamp", "now"
	method    string // a method of strings that follows
}

// operand reads an attribute, alone or in a form such as version(firmware), or the clock.
func (p *parser) operand() (o operand, err error) {
	o.at = p.now.at
	if p.is("now") {
		o.form = "now"
		return o, p.advance()
	}
	if p.calls() {
		if !slices.Contains(forms, p.now.raw) {
			return o, p.lex.fail(p.now.at, "%s is no function here: use one of %s", p.now.raw,
				strings.Join(functionNames(), ", "))
		}
		o.form = p.now.raw
		if err := p.advance(); err != nil {
			return o, err
		}
		if err := p.must("(", "before the attribute"); err != nil {
			return o, err
		}
		if p.now.kind == text {
			return o, p.lex.fail(p.now.at, "begin with an attribute: %s(firmware); constants stand on the right",
				o.form)
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
		return "", "", p.lex.fail(p.now.at, "%s is a word of the language: write the attribute as attr[%s]", p.now.raw,
			quote(p.now.raw))
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
			return "", "", p.lex.fail(part.at, "%s is a word of the language: write the whole name in quotes, as in "+
				"attr[%s]", part.raw, quote(attribute+"."+part.raw))
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
			return "", "", p.lex.fail(part.at, "nothing follows %s: write the whole name in quotes, as in "+
				"attr[\"site.x-plan\"]", first.raw)
		}
		attribute += "." + part.raw
	}
	return attribute, "", nil
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
				return c, p.lex.fail(c.at, "write a string in quotes, such as %s(%s)", form,
					map[string]string{"version": `"4.2.0"`, "timestamp": `"2027-03-01T06:00:00Z"`}[form])
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
		test, ok := map[string]string{"==": "equals", "!=": "equals", "<": "less", "<=": "at-most", ">": "more",
			">=": "at-least"}[op]
		if !ok {
			return nil, p.lex.fail(at, `write == < <= > or >= here; for a range, inRange(%s, "4.2.x")`,
				nameText(o.attribute))
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
		return "", "strings have no order: compare numbers without quotes, versions as version(firmware) >= " +
			"version(\"4.2.0\"), times as timestamp(joined) >= timestamp(\"2027-03-01T06:00:00Z\")"
	}
	return map[string]string{"==": "number.equals", "!=": "number.differs", "<": "number.less", "<=": "number.at-most",
		">": "number.more", ">=": "number.at-least"}[op], ""
}

func (p *parser) stringMethod(o operand) (*condition.Node, error) {
	test, ok := stringMethods[o.method]
	if !ok || o.form != "" && o.form != "folded" {
		return nil, p.lex.fail(p.now.at, "%s is no method here: strings have startsWith, endsWith, contains and "+
			"matches, and startsWithAny, endsWithAny, containsAny for lists", o.method)
	}
	if err := p.must("(", "behind the method"); err != nil {
		return nil, err
	}
	c, err := p.constant()
	if err != nil {
		return nil, err
	}
	if any := strings.HasSuffix(o.method, "Any"); c.kind != text || c.list != any || c.form != "" {
		return nil, p.lex.fail(c.at, "%s takes %s", o.method,
			map[bool]string{true: `a list of strings, such as ["a", "b"]`,
				false: "one string in quotes; for several, " + o.method + "Any"}[any])
	}
	n, err := p.leaf(c.at, c.places, &condition.Node{Test: test, Attribute: o.attribute, Text: c.texts,
		IgnoreCase: o.form == "folded"})
	if err != nil {
		return nil, err
	}
	return n, p.must(")", "behind the string")
}

// newPart is a part of the population as text states it.
func newPart(share uint32, by []string, salt string) *condition.Within {
	return &condition.Within{By: by, Share: share, Salt: salt, Hash: bucket.Scheme}
}
