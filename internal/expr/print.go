package expr

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// reserved are words that no attribute's name can begin with as it stands: those of CEL,
// and ours.
var reserved = []string{"true", "false", "null", "in", "as", "break", "const", "continue", "else", "for", "function",
	"if", "import", "let", "loop", "package",
	"namespace", "return", "var", "void", "while", "now", "key", "attr", "not"}

var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*$`)

// nameText writes an attribute's name.
func nameText(name string) string {
	if name == condition.KeyAttribute {
		return "key"
	}
	if !plainName.MatchString(name) {
		return "attr[" + quote(name) + "]"
	}
	for part := range strings.SplitSeq(name, ".") {
		if slices.Contains(reserved, part) {
			return "attr[" + quote(name) + "]"
		}
	}
	return name
}

// Print writes a condition as canonical text; no condition is an empty text. It returns an
// error for a test that has no text, such as one of a newer build.
func Print(n *condition.Node) (string, error) {
	if n == nil {
		return "", nil
	}
	w := &printer{}
	s := w.node(n.Canonical(), 0)
	return s, w.err
}

type printer struct{ err error }

// Levels of binding: parts of ||, of &&, of !.
const (
	inOr = iota
	inAnd
	inNot
)

func (w *printer) node(n *condition.Node, level int) string {
	switch {
	case n.Not != nil:
		switch n.Not.Test {
		case "string.equals", "version.equals":
			return bracket(level == inNot, w.operator(n.Not, "!="))
		}
		return "!" + w.node(n.Not, inNot)
	case len(n.All) > 0:
		return bracket(level >= inNot, w.group(n.All, " && ", inAnd))
	case len(n.Any) > 0:
		return bracket(level >= inAnd, w.group(n.Any, " || ", inOr))
	}
	return w.leaf(n, level)
}

func bracket(is bool, s string) string {
	if is {
		return "(" + s + ")"
	}
	return s
}

func (w *printer) group(parts []condition.Node, join string, level int) string {
	out := make([]string, len(parts))
	for i := range parts {
		out[i] = w.node(&parts[i], level)
	}
	return strings.Join(out, join)
}

var operators = map[string]string{
	"string.equals": "==", "number.equals": "==", "number.differs": "!=", "number.less": "<", "number.at-most": "<=",
	"number.more": ">", "number.at-least": ">=",
	"version.equals": "==", "version.less": "<", "version.at-most": "<=", "version.more": ">",
	"version.at-least": ">=",
	"time.before":      "<", "time.at-or-after": ">=", "clock.before": "<", "clock.at-or-after": ">=",
}

func list(texts []string) string {
	out := make([]string, len(texts))
	for i, s := range texts {
		out[i] = quote(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// operator writes a leaf that compares with a sign.
func (w *printer) operator(n *condition.Node, sign string) string {
	name := nameText(n.Attribute)
	kind, _, _ := strings.Cut(n.Test, ".")
	switch {
	case kind == "number":
		return fmt.Sprintf("%s %s %s", name, sign, condition.FormatNumber(n.Numbers[0]))
	case kind == "version":
		form := "version"
		if n.Loose {
			form = "looseVersion"
		}
		return fmt.Sprintf("%s(%s) %s version(%s)", form, name, sign, quote(n.Text[0]))
	case kind == "time":
		return fmt.Sprintf("timestamp(%s) %s timestamp(%s)", name, sign, quote(n.Text[0]))
	case kind == "clock":
		return fmt.Sprintf("now %s timestamp(%s)", sign, quote(n.Text[0]))
	}
	return fmt.Sprintf("%s %s %s", folded(n, name), sign, quote(n.Text[0]))
}

func folded(n *condition.Node, name string) string {
	if n.IgnoreCase {
		return "folded(" + name + ")"
	}
	return name
}

func (w *printer) leaf(n *condition.Node, level int) string {
	broken := false
	n.Check("", func(string, string) { broken = true })
	if broken && !(n.Part != nil && n.Part.Salt == "") {
		if w.err == nil {
			w.err = fmt.Errorf("the test %q has no text form, or lacks its constants", n.Test)
		}
		return ""
	}
	if sign, ok := operators[n.Test]; ok {
		return bracket(level == inNot, w.operator(n, sign))
	}
	name := nameText(n.Attribute)
	method := func(one string) string {
		if len(n.Text) == 1 {
			return fmt.Sprintf("%s.%s(%s)", folded(n, name), one, quote(n.Text[0]))
		}
		return fmt.Sprintf("%s.%sAny(%s)", folded(n, name), one, list(n.Text))
	}
	switch n.Test {
	case "string.one-of":
		return bracket(level == inNot, fmt.Sprintf("%s in %s", folded(n, name), list(n.Text)))
	case "number.one-of":
		numbers := make([]string, len(n.Numbers))
		for i, f := range n.Numbers {
			numbers[i] = condition.FormatNumber(f)
		}
		return bracket(level == inNot, fmt.Sprintf("%s in [%s]", name, strings.Join(numbers, ", ")))
	case "boolean.true":
		return bracket(level == inNot, name+" == true")
	case "boolean.false":
		return bracket(level == inNot, name+" == false")
	case "string.begins":
		return method("startsWith")
	case "string.ends":
		return method("endsWith")
	case "string.contains":
		return method("contains")
	case "string.matches":
		return method("matches")
	case "number.between":
		return fmt.Sprintf("between(%s, %s, %s)", name, condition.FormatNumber(n.Numbers[0]),
			condition.FormatNumber(n.Numbers[1]))
	case "time.between":
		return fmt.Sprintf("window(timestamp(%s), timestamp(%s), timestamp(%s))", name, quote(n.Text[0]),
			quote(n.Text[1]))
	case "clock.between":
		return fmt.Sprintf("window(now, timestamp(%s), timestamp(%s))", quote(n.Text[0]), quote(n.Text[1]))
	case condition.WeeklyTest:
		return fmt.Sprintf("weekly(%s, %s, %s, %s)", list(n.Weekly.Days), quote(n.Weekly.From), quote(n.Weekly.To),
			quote(n.Weekly.Zone))
	case condition.RangeTest:
		return fmt.Sprintf("inRange(%s, %s)", name, quote(n.Text[0]))
	case "address.in":
		return fmt.Sprintf("inBlocks(%s, %s)", name, list(n.Text))
	case "list.any":
		return fmt.Sprintf("hasAny(%s, %s)", name, list(n.Text))
	case "list.all":
		return fmt.Sprintf("hasAll(%s, %s)", name, list(n.Text))
	case "list.none":
		return fmt.Sprintf("hasNone(%s, %s)", name, list(n.Text))
	case "present":
		return fmt.Sprintf("present(%s)", name)
	case "absent":
		return fmt.Sprintf("absent(%s)", name)
	case condition.SegmentTest:
		return fmt.Sprintf("inSegment(%s)", quote(n.Segment))
	case condition.FlagTest:
		return fmt.Sprintf("gives(%s, %s)", quote(n.Flag), list(n.Text))
	case condition.PartTest:
		return w.part(n.Part)
	}
	w.err = fmt.Errorf("the test %q has no text form", n.Test)
	return ""
}

func (w *printer) part(p *condition.Within) string {
	by := make([]string, len(p.By))
	for i, b := range p.By {
		by[i] = nameText(b)
	}
	salt := ""
	if p.Salt != "" {
		salt = ", " + quote(p.Salt)
	}
	return fmt.Sprintf("part(%s, [%s]%s)", quote(bucket.Percent(p.Share)), strings.Join(by, ", "), salt)
}
