package condition

import (
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode/utf8"
)

func compilePattern(n *Node) (*regexp.Regexp, error) {
	if n.IgnoreCase {
		return regexp.Compile("(?i:" + n.Text[0] + ")")
	}
	return regexp.Compile(n.Text[0])
}

// literal finds the comparison of strings that a pattern stands for, such as "begins with"
// for ^site-; ok is false where it takes a regular expression. fold tells whether case is
// ignored.
func literal(pattern string, ignoreCase bool) (o op, text string, fold, ok bool) {
	flags := syntax.Perl
	if ignoreCase {
		flags |= syntax.FoldCase
	}
	tree, err := syntax.Parse(pattern, flags)
	if err != nil {
		return 0, "", false, false
	}
	parts := []*syntax.Regexp{tree.Simplify()}
	if parts[0].Op == syntax.OpConcat {
		parts = parts[0].Sub
	}
	begin, end, found := false, false, false
	for i, p := range parts {
		switch {
		case p.Op == syntax.OpBeginText && i == 0:
			begin = true
		case p.Op == syntax.OpEndText && i == len(parts)-1:
			end = true
		case p.Op == syntax.OpLiteral && !found:
			found, text, fold = true, string(p.Rune), p.Flags&syntax.FoldCase != 0
		default:
			return 0, "", false, false
		}
	}
	if !found || strings.ContainsRune(text, utf8.RuneError) {
		return 0, "", false, false
	}
	switch {
	case begin && end:
		return opEquals, text, fold, true
	case begin:
		return opBegins, text, fold, true
	case end:
		return opEnds, text, fold, true
	}
	return opContains, text, fold, true
}

// Unanchored tells whether the leaf is a pattern that may match in the middle of a text
// although it reads like one that should not: it has no anchor at one or both ends.
func (n *Node) Unanchored() bool {
	if n.Test != "string.matches" || len(n.Text) != 1 {
		return false
	}
	tree, err := syntax.Parse(n.Text[0], syntax.Perl)
	if err != nil {
		return false
	}
	begin, end := anchors(tree)
	return !begin || !end
}

func anchors(r *syntax.Regexp) (begin, end bool) {
	switch r.Op {
	case syntax.OpBeginText:
		return true, false
	case syntax.OpEndText:
		return false, true
	case syntax.OpCapture:
		return anchors(r.Sub[0])
	case syntax.OpConcat:
		begin, _ = anchors(r.Sub[0])
		_, end = anchors(r.Sub[len(r.Sub)-1])
		return begin, end
	case syntax.OpAlternate:
		begin, end = true, true
		for _, s := range r.Sub {
			b, e := anchors(s)
			begin, end = begin && b, end && e
		}
		return begin, end
	case syntax.OpStar:
		all := r.Sub[0].Op == syntax.OpAnyChar || r.Sub[0].Op == syntax.OpAnyCharNotNL
		return all, all // said on purpose
	}
	return false, false
}

// Plainly is the comparison of strings that a pattern stands for, such as "ends with" for
// @pinecrest\.example$; a node that is none is given as it is.
func (n *Node) Plainly() *Node {
	if n.Test != "string.matches" || len(n.Text) != 1 {
		return n
	}
	o, text, fold, ok := literal(n.Text[0], n.IgnoreCase)
	if !ok {
		return n
	}
	plain := *n
	plain.Test = map[op]string{opEquals: "string.equals", opBegins: "string.begins", opEnds: "string.ends",
		opContains: "string.contains"}[o]
	plain.Text, plain.IgnoreCase = []string{text}, fold
	return &plain
}
