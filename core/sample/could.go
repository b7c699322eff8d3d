package sample

import (
	"slices"
	"strings"

	"greenlever.example/core/condition"
)

// Resolved is of attributes that processes find out for themselves once a rule asks: where
// a sampled unit lacks one, it may still be there.
const Resolved Derivation = "resolved"

// Truths is a set of truths: what a comparison could be, as far as a sample knows.
type Truths uint8

// Could be this one, or any.
const (
	CouldBeFalse   Truths = 1 << condition.False
	CouldBeUnknown Truths = 1 << condition.Unknown
	CouldBeTrue    Truths = 1 << condition.True
	CouldBeAny            = CouldBeFalse | CouldBeUnknown | CouldBeTrue
)

// Has tells whether a truth is in the set.
func (t Truths) Has(one condition.Truth) bool { return t&(1<<one) != 0 }

// Could is what a comparison of an attribute could be for a unit of which the sample holds v
// in its place: what was derived of it, or nothing.
func Could(l *condition.Node, v condition.Value, derive Derivation) Truths {
	present := v.Kind() != condition.Absent
	asks := l.Test == "present" || l.Test == "absent"
	switch derive {
	case Presence:
		switch {
		case !present:
			return exactly(l, v)
		case asks:
			return exactly(l, v)
		}
		return CouldBeAny
	case Domain:
		switch {
		case present && asks:
			return exactly(l, v)
		case v.Kind() == condition.Text:
			return couldOfDomain(l.Plainly(), v.Text())
		case present:
			return CouldBeAny
		}
		return couldOfNone(l.Plainly()) // it is absent, or no address
	case Resolved:
		if present {
			return exactly(l, v)
		}
	}
	return CouldBeAny
}

// exactly is what the comparison is of the value itself.
func exactly(l *condition.Node, v condition.Value) Truths {
	c := condition.NewContext("", condition.Attribute{Name: condition.Intern(l.Attribute), Value: v})
	return 1 << l.Match(c, condition.Around{})
}

// couldOfDomain is what a comparison could be of an address of which the part from the @ on
// is known.
func couldOfDomain(l *condition.Node, domain string) Truths {
	fold := func(s string) string {
		if l.IgnoreCase {
			return strings.ToLower(s)
		}
		return s
	}
	domain = fold(domain)
	could := func(constant string) Truths {
		constant = fold(constant)
		at := strings.Index(constant, "@")
		switch l.Test {
		case "string.equals", "string.one-of":
			if at > 0 && constant[at:] == domain {
				return CouldBeTrue | CouldBeFalse
			}
			return CouldBeFalse
		case "string.ends":
			switch {
			case at <= 0: // decided by the domain alone
				return oneOf(strings.HasSuffix(domain, constant))
			case constant[at:] == domain:
				return CouldBeTrue | CouldBeFalse
			}
			return CouldBeFalse
		case "string.contains":
			switch {
			case at < 0 && strings.Contains(domain, constant):
				return CouldBeTrue
			case at == 0:
				return oneOf(strings.HasPrefix(domain, constant))
			case at > 0 && !strings.HasPrefix(domain, constant[at:]):
				return CouldBeFalse
			}
			return CouldBeTrue | CouldBeFalse
		case "string.begins":
			if at >= 0 && !strings.HasPrefix(domain, constant[at:]) {
				return CouldBeFalse
			}
			return CouldBeTrue | CouldBeFalse
		}
		return CouldBeAny
	}
	switch l.Test {
	case "string.equals", "string.one-of", "string.ends", "string.contains", "string.begins":
	case "string.matches":
		return CouldBeTrue | CouldBeFalse
	default:
		return CouldBeAny
	}
	all := CouldBeFalse // of several constants one is enough
	for _, constant := range l.Text {
		switch one := could(constant); {
		case one == CouldBeTrue:
			return CouldBeTrue
		case one.Has(condition.True):
			all = CouldBeTrue | CouldBeFalse
		}
	}
	return all
}

// couldOfNone is what a comparison could be where no address is.
func couldOfNone(l *condition.Node) Truths {
	switch l.Test {
	case "string.equals", "string.one-of", "string.ends", "string.contains", "string.begins":
		if !slices.ContainsFunc(l.Text, func(s string) bool { return !strings.Contains(s, "@") }) {
			return CouldBeFalse | CouldBeUnknown
		}
	}
	return CouldBeAny
}

func oneOf(is bool) Truths {
	if is {
		return CouldBeTrue
	}
	return CouldBeFalse
}
