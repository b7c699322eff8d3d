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
	"strings"

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
	return p.chain("||", depth, p.and, func(parts []condition.Node) *condition.Node {
		return &condition.Node{Any: parts}
	})
}

func (p *parser) and(depth int) (*condition.Node, error) {
	return p.chain("&&", depth, p.unary, func(parts []condition.Node) *condition.Node {
		return &condition.Node{All: parts}
	})
}

func (p *parser) chain(join string, depth int, part func(int) (*condition.Node, error),
	group func([]condition.Node) *condition.Node) (*condition.Node, error) {
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
			err = p.lex.fail(start, "put brackets around what ! is of: !(%s)",
				strings.TrimSpace(p.lex.source[start:p.now.at]))
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
		return nil, p.lex.fail(at, "compare %s with something, such as %s == true, or ask has(%s)",
			nameText(o.attribute), nameText(o.attribute), nameText(o.attribute))
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

var stringMethods = map[string]string{
	"startsWith": "string.begins", "startsWithAny": "string.begins", "endsWith": "string.ends",
	"endsWithAny": "string.ends",
	"contains":    "string.contains", "containsAny": "string.contains", "matches": "string.matches",
}
