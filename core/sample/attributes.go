package sample

import (
	"cmp"
	"slices"
	"strings"

	"greenlever.example/core/condition"
)

// Limits of an account of attributes.
const (
	MaxAttributes = 300
	MaxValues     = 24  // frequent values of one attribute
	MaxValueText  = 100 // bytes; longer values are not kept
)

// Seen is what is known of an attribute from the contexts that were looked at.
type Seen struct {
	Name    string            `json:"name"`
	Kinds   map[string]uint64 `json:"kinds"`  // by kind: string, number, boolean, list, other
	Values  []ValueCount      `json:"values"` // frequent ones; never of personal attributes
	Last    int64             `json:"last"`   // Unix milliseconds
	Context uint64            `json:"contexts,omitempty"`
	// Resolved tells that processes find the attribute out for themselves once a rule asks.
	Resolved bool `json:"resolved,omitempty"`
}

// Present is in how many contexts the attribute was.
func (s *Seen) Present() (n uint64) {
	for _, c := range s.Kinds {
		n += c
	}
	return n
}

// Mostly is the kind in which nearly all values came, if so: 19 of 20, and 20 at least.
func (s *Seen) Mostly() (kind string, ok bool) {
	all := s.Present()
	for k, n := range s.Kinds {
		if all >= 20 && n*20 >= all*19 {
			return k, true
		}
	}
	return "", false
}

// ValueCount is a value and about how often it came.
type ValueCount struct {
	Value string `json:"value"`
	Count uint64 `json:"count"`
}

// KindName is the kind of a value as accounts write it.
func KindName(v condition.Value) string {
	return [...]string{"absent", "string", "number", "boolean", "list", "other"}[v.Kind()]
}

// Attributes accounts for the attributes of contexts, within fixed memory.
type Attributes struct {
	Contexts uint64
	byName   map[string]*account
}

type account struct {
	kinds    map[string]uint64
	values   map[string]uint64
	last     int64
	resolved bool
}

// account is an attribute's; nil where there is no room for one more.
func (a *Attributes) account(name string) *account {
	if acc := a.byName[name]; acc != nil {
		return acc
	}
	if len(a.byName) >= MaxAttributes {
		return nil
	}
	if a.byName == nil {
		a.byName = map[string]*account{}
	}
	acc := &account{kinds: map[string]uint64{}, values: map[string]uint64{}}
	a.byName[name] = acc
	return acc
}

// Note looks at a context. Values of attributes for which keep is false are not kept.
func (a *Attributes) Note(c *condition.Context, now int64, keep func(name string) bool) {
	a.Contexts++
	for name, v := range c.Attributes {
		acc := a.account(name)
		if acc == nil {
			continue
		}
		kind := KindName(v)
		acc.kinds[kind]++
		acc.last = now
		if (kind == "string" || kind == "number" || kind == "boolean") && keep(name) {
			if text := v.Text(); len(text) <= MaxValueText {
				CountValue(acc.values, text, 1)
			}
		}
	}
}

// CountValue counts a frequent value: where there is no room, the rarest one makes it and
// its count is inherited, so that counts are never too low.
func CountValue(values map[string]uint64, value string, n uint64) {
	if _, ok := values[value]; ok {
		values[value] += n
		return
	}
	value = strings.Clone(value) // which may be a part of a request
	if len(values) < MaxValues {
		values[value] = n
		return
	}
	rarest, least := "", uint64(0)
	for v, c := range values {
		if rarest == "" || c < least || c == least && v < rarest {
			rarest, least = v, c
		}
	}
	delete(values, rarest)
	values[value] = least + n
}

// Add adds another account to this one.
func (a *Attributes) Add(contexts uint64, seen []Seen) {
	a.Contexts += contexts
	for _, s := range seen {
		acc := a.account(s.Name)
		if acc == nil {
			continue
		}
		for kind, n := range s.Kinds {
			acc.kinds[kind] += n
		}
		for _, v := range s.Values {
			CountValue(acc.values, v.Value, v.Count)
		}
		acc.last = max(acc.last, s.Last)
		acc.resolved = acc.resolved || s.Resolved
	}
}

// Resolved notes an attribute that the process finds out for itself.
func (a *Attributes) Resolved(name string) {
	if acc := a.account(name); acc != nil {
		acc.resolved = true
	}
}

// Take gives the account, sorted by name, and starts anew.
func (a *Attributes) Take() (contexts uint64, seen []Seen) {
	for name, acc := range a.byName {
		s := Seen{Name: name, Kinds: acc.kinds, Values: []ValueCount{}, Last: acc.last, Resolved: acc.resolved}
		for v, n := range acc.values {
			s.Values = append(s.Values, ValueCount{v, n})
		}
		slices.SortFunc(s.Values, func(a, b ValueCount) int {
			return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
		})
		seen = append(seen, s)
	}
	slices.SortFunc(seen, func(a, b Seen) int { return cmp.Compare(a.Name, b.Name) })
	contexts = a.Contexts
	*a = Attributes{}
	return contexts, seen
}

// Derivation says what may leave a process of a personal attribute.
type Derivation string

// The derivations. Without one, nothing of the attribute leaves.
const (
	Nothing  Derivation = ""
	Presence Derivation = "presence" // that it is there
	Domain   Derivation = "domain"   // of an e-mail address, from the @ on
)

// Clean gives the attributes of a context as they may leave the process, ready to be
// written as JSON; removed names those that were taken out.
func Clean(c *condition.Context, personal map[string]Derivation) (attributes map[string]any, removed []string) {
	attributes = map[string]any{}
	for name, v := range c.Attributes {
		derive, is := personal[name]
		switch {
		case !is:
			attributes[name] = v.Plain()
		case derive == Presence:
			attributes[name] = map[string]any{} // present, and of no kind that compares
		case derive == Domain:
			switch d := v.Text(); {
			case v.Kind() == condition.Other: // derived already
				attributes[name] = map[string]any{}
			case v.Kind() != condition.Text || !strings.Contains(d, "@"):
				removed = append(removed, name)
			case strings.Count(d, "@") == 1:
				attributes[name] = d[strings.Index(d, "@"):]
			default: // where the name ends is not plain: that it is there
				attributes[name] = map[string]any{}
			}
		default:
			removed = append(removed, name)
		}
	}
	return attributes, removed
}
