package flag

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
)

// Limits of a flag document.
const (
	MaxVariants = 100
	MaxRules    = 500
	MaxNeeds    = 20
	MaxBy       = 5
	MaxName     = 200
	MaxValue    = 64 << 10 // bytes of one variant's value
)

// Problem is one thing that keeps a document from being saved: where, and the mend.
type Problem struct {
	Place string `json:"place"`
	Mend  string `json:"mend"`
}

func (p Problem) String() string { return p.Place + ": " + p.Mend }

var keyPattern = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,98}[a-z0-9])?$`)

// CheckKey says what is wrong with the key of a flag, segment, project or environment;
// nothing if it can be used.
func CheckKey(key string) string {
	if !keyPattern.MatchString(key) {
		return "must be 1 to 100 lower-case letters, digits, '-', '_' and '.', beginning and ending with a letter " +
			"or digit, such as one-touch-open"
	}
	return ""
}

var variantPattern = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9._-]{0,62}[A-Za-z0-9])?$`)

// CheckVariant says what is wrong with a variant's name; nothing if it can be used.
func CheckVariant(name string) string {
	if !variantPattern.MatchString(name) {
		return "must be 1 to 64 letters, digits, '-', '_' and '.', such as on or traffic-aware"
	}
	return ""
}

// CheckValue says what is wrong with a variant's value; nothing if it is of the type.
// Numbers are finite, and integral ones within -(2^53-1) to 2^53-1.
func CheckValue(t Type, raw json.RawMessage) string {
	if s := string(raw); t == Boolean && (s == "true" || s == "false") {
		return ""
	}
	var v any
	if len(raw) > MaxValue {
		return fmt.Sprintf("takes at most %d bytes", MaxValue)
	}
	if !utf8.Valid(raw) || json.Unmarshal(raw, &v) != nil {
		return "is no JSON"
	}
	switch v := v.(type) {
	case bool:
		if t == Boolean {
			return ""
		}
	case string:
		if t == String {
			return ""
		}
	case float64:
		if t == Number && math.Abs(v) <= condition.MaxInteger {
			return ""
		}
		if t == Number {
			return "is outside -(2^53-1) to 2^53-1"
		}
	case map[string]any, []any:
		if t == Object {
			return ""
		}
	}
	if kind, ok := map[Type]string{Boolean: "true or false", String: "a string", Number: "a number",
		Object: "a JSON object or array"}[t]; ok {
		return "must be " + kind
	}
	return fmt.Sprintf("fits no type: %q is none of boolean, string, number and object", t)
}

// CheckNewValue is [CheckValue] for a value that is being saved: inside an object, too, no name may
// stand twice, of which readers take one or the other, and no integer may lie outside -(2^53-1) to
// 2^53-1, which comes out as another number in browsers (RFC 7493, 2.2 and 2.3).
func CheckNewValue(t Type, raw json.RawMessage) string {
	if mend := CheckValue(t, raw); mend != "" || t != Object {
		return mend
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	return checkInside(dec, "")
}

// checkInside reads one value, which is valid JSON, and says what in it cannot be taken. place is
// where it stands, such as .delays[2].
func checkInside(dec *json.Decoder, place string) string {
	token, err := dec.Token()
	if err != nil {
		return "is no JSON"
	}
	switch token := token.(type) {
	case json.Number:
		if f, err := token.Float64(); err != nil || math.Abs(f) > condition.MaxInteger &&
			!strings.ContainsAny(token.String(), ".eE") {
			return fmt.Sprintf("holds %s at %s, which is outside -(2^53-1) to 2^53-1: make it a string", token, place)
		}
	case json.Delim:
		seen := map[string]bool{}
		for i := 0; dec.More(); i++ {
			at := fmt.Sprintf("%s[%d]", place, i)
			if token == '{' {
				name, err := dec.Token()
				if err != nil {
					return "is no JSON"
				}
				key := name.(string)
				at = place + "." + key
				if seen[key] {
					return fmt.Sprintf("has the member %s twice: leave one out", at)
				}
				seen[key] = true
			}
			if mend := checkInside(dec, at); mend != "" {
				return mend
			}
		}
		if _, err := dec.Token(); err != nil {
			return "is no JSON"
		}
	}
	return ""
}

// Check lists everything that keeps the document from being saved and that it shows by
// itself. References to other flags and segments, and circles, are checked by [Ruleset.Check].
func (d *Document) Check() []Problem {
	c := &checker{doc: d}
	c.document()
	return c.found
}

type checker struct {
	doc   *Document
	found []Problem
}

func (c *checker) add(place, mend string) { c.found = append(c.found, Problem{place, mend}) }

func (c *checker) document() {
	d := c.doc
	if mend := CheckKey(d.Key); mend != "" {
		c.add("key", mend)
	}
	if !slices.Contains(Types(), d.Type) {
		c.add("type", "must be boolean, string, number or object")
		return
	}
	if n := len(d.Variants); n < 2 || n > MaxVariants {
		c.add("variants", fmt.Sprintf("has %d variants, takes 2 to %d", n, MaxVariants))
	}
	for _, name := range d.VariantNames() {
		if mend := CheckVariant(name); mend != "" {
			c.add("variants", strconv.Quote(name)+" "+mend)
		}
		if mend := CheckNewValue(d.Type, d.Variants[name]); mend != "" {
			c.add("variants."+name, mend)
		}
	}
	if d.Lever != On && d.Lever != Off {
		c.add("lever", "must be on or off")
	}
	c.variant("resting", d.Resting)
	c.needs()
	if d.RestAfter < 0 || d.RestAfter > MaxRestAfter {
		c.add("restAfter", fmt.Sprintf("must be 0 to %d minutes; 0: a process without contact goes on deciding",
			MaxRestAfter))
	}
	if !slices.Equal(d.Requires, d.Needed()) {
		c.add("requires", "is set by the service: leave it out")
	}
	if len(d.Rules) > MaxRules {
		c.add("rules", fmt.Sprintf("has %d rules, at most %d are taken: gather units in segments", len(d.Rules),
			MaxRules))
		return
	}
	ids := map[string]int{}
	for i := range d.Rules {
		place := fmt.Sprintf("rules[%d]", i)
		c.rule(place, &d.Rules[i])
		if first, twice := ids[d.Rules[i].ID]; twice {
			c.add(place+".id", fmt.Sprintf("is that of rules[%d] too: leave it out for a new rule", first))
		}
		ids[d.Rules[i].ID] = i
	}
	c.gives("end", d.End, true)
}

func (c *checker) needs() {
	if len(c.doc.Needs) > MaxNeeds {
		c.add("needs", fmt.Sprintf("takes at most %d", MaxNeeds))
	}
	for i, n := range c.doc.Needs {
		place := fmt.Sprintf("needs[%d]", i)
		if n.Flag == c.doc.Key {
			c.add(place+".flag", "a flag cannot need itself")
		}
		if n.Flag == "" || n.Variant == "" {
			c.add(place, `takes a "flag" and the "variant" that it must give`)
		}
	}
}

func (c *checker) rule(place string, r *Rule) {
	if r.ID == "" || len(r.ID) > 64 {
		c.add(place+".id", "must be 1 to 64 bytes")
	}
	if strings.TrimSpace(r.Name) == "" || len(r.Name) > MaxName || !utf8.ValidString(r.Name) {
		c.add(place+".name", fmt.Sprintf("must be 1 to %d bytes of text", MaxName))
	}
	if r.When != nil {
		r.When.Check(place+".when", c.add)
	}
	if r.OnUnknown != "" && r.OnUnknown != Apply && r.OnUnknown != Skip {
		c.add(place+".onUnknown", "must be apply or skip, or be left out")
	}
	if r.Evidence != nil && r.Release == "" {
		c.add(place+".evidence", "is set by releases: leave it out")
	}
	if len(r.Requires) > 0 {
		c.add(place+".requires", "is set by the service: leave it out")
	}
	c.gives(place+".gives", r.Gives, false)
	r.When.Leaves(func(l *condition.Node) {
		if l.Part != nil && r.Gives.Shares != nil && l.Part.Salt == r.Gives.Shares.Salt {
			c.add(place+".when", "a part of the population is drawn with the salt of the rule's own shares, which "+
				"would always give its units the same part: leave the salt out for a new one")
		}
	})
}

func (c *checker) gives(place string, g Gives, end bool) {
	if (g.Variant == "") == (g.Shares == nil) {
		c.add(place, `needs either "variant" or "shares"`)
		return
	}
	if g.Shares == nil {
		c.variant(place+".variant", g.Variant)
		return
	}
	s, place := g.Shares, place+".shares"
	if len(s.By) == 0 || len(s.By) > MaxBy {
		c.add(place+".by", fmt.Sprintf("names 1 to %d attributes, such as %s", MaxBy, condition.KeyAttribute))
	}
	for i, by := range s.By {
		if mend := condition.CheckAttribute(by); mend != "" {
			c.add(fmt.Sprintf("%s.by[%d]", place, i), mend)
		}
	}
	if s.Salt == "" || len(s.Salt) > 64 || !utf8.ValidString(s.Salt) {
		c.add(place+".salt", "must be 1 to 64 bytes of text")
	}
	if s.Hash != bucket.Scheme {
		c.add(place+".hash", fmt.Sprintf("must be %d, the only scheme there is", bucket.Scheme))
	}
	if s.DrawAnew {
		c.add(place+".drawAnew", "is an order to the service and never kept")
	}
	sum, seen := uint64(0), map[string]bool{}
	for i, p := range s.Parts {
		at := fmt.Sprintf("%s.parts[%d]", place, i)
		switch {
		case p.GoesOn && p.Variant != "":
			c.add(at, `either gives a "variant" or "goesOn"`)
		case p.GoesOn && end:
			c.add(at+".goesOn", "nothing comes after the end: give a variant")
		case !p.GoesOn:
			c.variant(at+".variant", p.Variant)
		}
		if seen[p.name()] {
			c.add(at, "stands twice: add the shares up")
		}
		seen[p.name()] = true
		sum += uint64(p.Share)
		if p.Share > bucket.Buckets {
			c.add(at+".share", "is over 100 % (1000000)")
		}
	}
	if sum != bucket.Buckets {
		c.add(place+".parts", fmt.Sprintf("add up to %s: they must add up to exactly 100 %% (1000000)",
			bucket.Percent(sum)))
		return
	}
	if err := bucket.Check(s.Layout()); err != nil && !errors.Is(err, bucket.ErrSum) {
		c.add(place+".parts", err.Error())
	}
}

func (c *checker) variant(place, name string) {
	if _, ok := c.doc.Variants[name]; !ok {
		c.add(place, fmt.Sprintf("%q is no variant of this flag: use one of %s", name,
			strings.Join(c.doc.VariantNames(), ", ")))
	}
}
