package lint

import (
	"slices"
	"strings"

	"greenlever.example/core/condition"
)

// impossible finds comparisons of one attribute that no value meets together, in the groups
// that must all hold.
func impossible(p *pass, n *condition.Node) bool {
	if len(n.Any) > 0 {
		return !slices.ContainsFunc(n.Any, func(part condition.Node) bool { return !impossible(p, &part) })
	}
	if len(n.All) == 0 {
		return false
	}
	byName := map[string][]*condition.Node{}
	for i := range n.All {
		if impossible(p, &n.All[i]) {
			return true
		}
		if l := &n.All[i]; l.Test != "" {
			name := l.Attribute
			if strings.HasPrefix(l.Test, "clock.") {
				name = "\x00clock"
			}
			byName[name] = append(byName[name], l)
		}
	}
	for name, leaves := range byName {
		if len(leaves) > 1 && name != "" && !meetable(name, leaves) {
			return true
		}
	}
	return false
}

// meetable tries the values at and between all constants: a value that meets ordered
// comparisons together lies there if anywhere.
func meetable(name string, leaves []*condition.Node) bool {
	var tries []condition.Value
	var instants []int64
	absent := false
	for _, l := range leaves {
		kind, _, _ := strings.Cut(l.Test, ".")
		switch kind {
		case "number":
			for _, f := range l.Numbers {
				for _, d := range []float64{-1e9, -1, -.001, 0, .001, 1, 1e9} {
					tries = append(tries, condition.NumberValue(f+d))
				}
			}
		case "boolean":
			tries = append(tries, condition.BooleanValue(true), condition.BooleanValue(false))
		case "clock":
			for _, s := range l.Text {
				if ms, ok := condition.ParseTime(s); ok {
					instants = append(instants, ms-1, ms, ms+1)
				}
			}
			if l.Weekly != nil {
				return true
			}
		case "string":
			if l.Test != "string.equals" && l.Test != "string.one-of" {
				return true // patterns are not tried out
			}
			for _, s := range l.Text {
				tries = append(tries, condition.TextValue(s))
			}
		case "present":
			tries = append(tries, condition.TextValue("x"), condition.NumberValue(0), condition.BooleanValue(true),
				condition.ListValue(nil))
		case "absent":
			absent = true
		default:
			return true // other forms are not tried out
		}
	}
	tries = append(tries, between(leaves)...)
	all := condition.Node{}
	for _, l := range leaves {
		all.All = append(all.All, *l)
	}
	for _, ms := range instants {
		if all.Match(nil, condition.Around{Now: ms}) == condition.True {
			return true
		}
	}
	if name == "\x00clock" {
		return false
	}
	for _, v := range tries {
		c := condition.NewContext("", condition.Attribute{Name: condition.Intern(name), Value: v})
		if name == condition.KeyAttribute {
			c = condition.NewContext(v.Text())
		}
		if all.Match(c, condition.Around{}) == condition.True {
			return true
		}
	}
	return absent && all.Match(nil, condition.Around{}) == condition.True
}

// between gives the values in the middle of numbers that follow each other among the constants,
// however close they lie.
func between(leaves []*condition.Node) (tries []condition.Value) {
	var numbers []float64
	for _, l := range leaves {
		numbers = append(numbers, l.Numbers...)
	}
	slices.Sort(numbers)
	for i := 1; i < len(numbers); i++ {
		tries = append(tries, condition.NumberValue(numbers[i-1]+(numbers[i]-numbers[i-1])/2))
	}
	return tries
}
