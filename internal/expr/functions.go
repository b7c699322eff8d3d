package expr

import (
	"slices"
	"strconv"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// function is one of the profile's functions that stand for a whole comparison.
type function struct {
	usage string
	read  func(p *parser, at int) (*condition.Node, error)
}

var functions map[string]*function

func init() { // the table refers to parsers that refer to it
	functions = map[string]*function{
		"present":   {"present(badge)", presence("present")},
		"has":       {"has(site.id)", selected},
		"absent":    {"absent(badge)", presence("absent")},
		"between":   {"between(crew_size, 2, 5)", between},
		"window":    {`window(now, timestamp("2027-03-01T06:00:00Z"), timestamp("2027-03-08T06:00:00Z"))`, window},
		"weekly":    {`weekly(["mon", "tue"], "22:00", "06:00", "Europe/Oslo")`, weekly},
		"inRange":   {`inRange(firmware, ">=4.2.0 <5.0.0")`, inRange},
		"inBlocks":  {`inBlocks(network, ["10.20.0.0/16"])`, ofList("address.in")},
		"hasAny":    {`hasAny(languages, ["de", "en"])`, ofList("list.any")},
		"hasAll":    {`hasAll(languages, ["de", "en"])`, ofList("list.all")},
		"hasNone":   {`hasNone(languages, ["de", "en"])`, ofList("list.none")},
		"inSegment": {`inSegment("staff")`, inSegment},
		"gives":     {`gives("one-touch-open", ["on"])`, gives},
		"part":      {`part("8 %", [site.id])`, part},
	}
}

func functionNames() []string {
	names := slices.Clone(forms)
	for n := range functions {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Usage lists the functions of the profile, each as an example of its use.
func Usage() []string {
	var out []string
	for _, f := range functions {
		out = append(out, f.usage)
	}
	slices.Sort(out)
	return out
}

func itoa(i int) string { return strconv.Itoa(i) }

func (p *parser) function(f *function) (*condition.Node, error) {
	at := p.now.at
	if err := p.advance(); err != nil {
		return nil, err
	}
	if err := p.must("(", "as in "+f.usage); err != nil {
		return nil, err
	}
	n, err := f.read(p, at)
	if err != nil {
		return nil, err
	}
	return n, p.must(")", "as in "+f.usage)
}

func presence(test string) func(*parser, int) (*condition.Node, error) {
	return func(p *parser, at int) (*condition.Node, error) {
		name, _, err := p.attribute(false)
		if err != nil {
			return nil, err
		}
		return p.leaf(at, nil, &condition.Node{Test: test, Attribute: name})
	}
}

// selected reads CEL's own has(), which takes a path with a point in it alone.
func selected(p *parser, at int) (*condition.Node, error) {
	start := p.now.at
	name, _, err := p.attribute(false)
	if err != nil {
		return nil, err
	}
	if name == condition.KeyAttribute || !strings.Contains(name, ".") || nameText(name) != name {
		return nil, p.lex.fail(start, "has() takes a path such as site.id: write present(%s)", nameText(name))
	}
	return p.leaf(at, nil, &condition.Node{Test: "present", Attribute: name})
}

// constants reads n constants behind commas.
func (p *parser) constants(usage string, n int, kinds ...tokenKind) ([]constant, error) {
	var out []constant
	for i := range n {
		if err := p.must(",", "as in "+usage); err != nil {
			return nil, err
		}
		c, err := p.constant()
		if err != nil {
			return nil, err
		}
		if c.kind != kinds[i] || c.list {
			return nil, p.lex.fail(c.at, "write it as in %s", usage)
		}
		out = append(out, c)
	}
	return out, nil
}

func between(p *parser, at int) (*condition.Node, error) {
	o, err := p.operand()
	if err != nil {
		return nil, err
	}
	if o.form != "" || o.method != "" {
		return nil, p.lex.fail(o.at, "between takes a number; for times write %s", functions["window"].usage)
	}
	cs, err := p.constants(functions["between"].usage, 2, number, number)
	if err != nil {
		return nil, err
	}
	return p.leaf(cs[0].at, []int{cs[0].at, cs[1].at}, &condition.Node{Test: "number.between", Attribute: o.attribute,
		Numbers: []float64{cs[0].numbers[0], cs[1].numbers[0]}})
}

func window(p *parser, at int) (*condition.Node, error) {
	o, err := p.operand()
	if err != nil {
		return nil, err
	}
	n := &condition.Node{Test: "time.between", Attribute: o.attribute}
	switch o.form {
	case "now":
		n.Test = "clock.between"
	case "timestamp":
	default:
		return nil, p.lex.fail(o.at, "window takes now or timestamp(joined); for numbers write %s",
			functions["between"].usage)
	}
	cs, err := p.constants(functions["window"].usage, 2, text, text)
	if err != nil {
		return nil, err
	}
	n.Text = []string{cs[0].texts[0], cs[1].texts[0]}
	return p.leaf(cs[0].at, []int{cs[0].at, cs[1].at}, n)
}

func weekly(p *parser, at int) (*condition.Node, error) {
	days, err := p.constant()
	if err != nil {
		return nil, err
	}
	usage := functions["weekly"].usage
	if !days.list || days.kind != text {
		return nil, p.lex.fail(days.at, "write it as in %s", usage)
	}
	cs, err := p.constants(usage, 3, text, text, text)
	if err != nil {
		return nil, err
	}
	w := &condition.Weekly{Days: days.texts, From: cs[0].texts[0], To: cs[1].texts[0], Zone: cs[2].texts[0]}
	return p.leaf(at, days.places, &condition.Node{Test: condition.WeeklyTest, Weekly: w})
}

func inRange(p *parser, at int) (*condition.Node, error) {
	o, err := p.operand()
	if err != nil {
		return nil, err
	}
	if o.method != "" || o.form != "" && o.form != "version" && o.form != "looseVersion" {
		return nil, p.lex.fail(o.at, "write it as in %s", functions["inRange"].usage)
	}
	cs, err := p.constants(functions["inRange"].usage, 1, text)
	if err != nil {
		return nil, err
	}
	n := &condition.Node{Test: condition.RangeTest, Attribute: o.attribute, Text: cs[0].texts,
		Loose: o.form == "looseVersion"}
	if n, err = p.leaf(cs[0].at, cs[0].places, n); err != nil {
		return nil, err
	}
	if err := n.Expand(); err != nil {
		return nil, p.lex.fail(cs[0].at, "%s", err.Error())
	}
	return n, nil
}

func ofList(test string) func(*parser, int) (*condition.Node, error) {
	return func(p *parser, at int) (*condition.Node, error) {
		name, _, err := p.attribute(false)
		if err != nil {
			return nil, err
		}
		if err := p.must(",", "before the list"); err != nil {
			return nil, err
		}
		c, err := p.constant()
		if err != nil {
			return nil, err
		}
		if !c.list || c.kind != text {
			return nil, p.lex.fail(c.at, `write a list of strings, such as ["a", "b"]`)
		}
		return p.leaf(c.at, c.places, &condition.Node{Test: test, Attribute: name, Text: c.texts})
	}
}

func inSegment(p *parser, at int) (*condition.Node, error) {
	c, err := p.constant()
	if err != nil {
		return nil, err
	}
	if c.kind != text || c.list {
		return nil, p.lex.fail(c.at, `write the segment's key in quotes, as in inSegment("staff")`)
	}
	return p.leaf(c.at, c.places, &condition.Node{Test: condition.SegmentTest, Segment: c.texts[0]})
}

func gives(p *parser, at int) (*condition.Node, error) {
	flag, err := p.constant()
	if err != nil {
		return nil, err
	}
	if err := p.must(",", "before the list of variants"); err != nil {
		return nil, err
	}
	variants, err := p.constant()
	if err != nil {
		return nil, err
	}
	if flag.kind != text || flag.list || variants.kind != text || !variants.list {
		return nil, p.lex.fail(flag.at, "write it as in %s", functions["gives"].usage)
	}
	return p.leaf(at, variants.places, &condition.Node{Test: condition.FlagTest, Flag: flag.texts[0],
		Text: variants.texts})
}

func part(p *parser, at int) (*condition.Node, error) {
	usage := functions["part"].usage
	c, err := p.constant()
	if err != nil {
		return nil, err
	}
	if c.kind != text || c.list {
		return nil, p.lex.fail(c.at, "write the share as a string, as in %s", usage)
	}
	share, err := bucket.ParsePercent(c.texts[0])
	if err != nil {
		return nil, p.lex.fail(c.at, "%s", err.Error())
	}
	if err := p.must(",", "as in "+usage); err != nil {
		return nil, err
	}
	if err := p.must("[", "before the attributes to draw by"); err != nil {
		return nil, err
	}
	var by []string
	for more := true; more; {
		name, _, err := p.attribute(false)
		if err != nil {
			return nil, err
		}
		by = append(by, name)
		if more, err = p.take(","); err != nil {
			return nil, err
		}
	}
	if err := p.must("]", "behind the attributes to draw by"); err != nil {
		return nil, err
	}
	salt := ""
	if more, err := p.take(","); err != nil {
		return nil, err
	} else if more {
		s, err := p.constant()
		if err != nil {
			return nil, err
		}
		if s.kind != text || s.list {
			return nil, p.lex.fail(s.at, "write the salt as a string, or leave it out for a new one")
		}
		salt = s.texts[0]
	}
	return p.leaf(at, nil, &condition.Node{Test: condition.PartTest, Part: newPart(share, by, salt)})
}
