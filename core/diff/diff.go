// Package diff says in words what changed between two documents.
//
//	diff.Flags(old, new)[0].Text // "rule "Night crews": share of `on` 8 % → 30 %"
//
// A [Line] can be printed with or without the personal values in it: the audit chain keeps
// only places for them, so that they can be erased without breaking it.
package diff

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
)

// Line is one change in words. Where personal values stand, Text has ⟨0⟩, ⟨1⟩ and so on.
type Line struct {
	Said     words.Said
	Text     string
	Personal []string
}

// Text is a line without personal values, from a plain text.
func Text(text string) Line {
	said := words.Read(text)
	return Line{Said: said, Text: said.String()}
}

// Named is a line that names units, which are personal.
func Named(said string, units []string) Line {
	tokens := make([]words.Token, len(units))
	for i, u := range units {
		tokens[i] = words.Unit(u, condition.KeyAttribute)
	}
	return line(words.Say("%s%s", said, words.List(tokens)), func(t words.Token) bool { return t.Kind == words.AUnit })
}

func line(said words.Said, personal func(words.Token) bool) Line {
	l := Line{Said: said}
	l.Text = said.Print(func(t words.Token) string {
		if !personal(t) {
			return t.String()
		}
		l.Personal = append(l.Personal, t.Text)
		return fmt.Sprintf("⟨%d⟩", len(l.Personal)-1)
	})
	return l
}

// String is the line with its personal values.
func (l Line) String() string { return l.Said.String() }

// Said is what lines say, with the personal values.
func Said(lines []Line) []words.Said {
	out := make([]words.Said, len(lines))
	for i, l := range lines {
		out[i] = l.Said
	}
	return out
}

// Personal tells whether an attribute was declared personal; its constants may name people.
type Personal func(attribute string) bool

// writer collects lines.
type writer struct {
	lines    []Line
	declared []Personal
}

// personal tells whether a token may name a person: a unit, a constant of an attribute that was
// declared so, and what looks like an address.
func (w *writer) personal(t words.Token) bool {
	switch t.Kind {
	case words.AUnit:
		return true
	case words.AValue:
		return strings.Contains(t.Text, "@") || slices.ContainsFunc(w.declared, func(p Personal) bool {
			return p != nil && p(t.Of)
		})
	}
	return false
}

// add adds a line; personal values in it are kept apart.
func (w *writer) add(format string, args ...any) {
	w.lines = append(w.lines, line(words.Say(format, args...), w.personal))
}

// Flags lists the changes from one document to another; old may be nil for a new flag. What
// is compared with attributes that are declared personal stands apart from the texts.
func Flags(old, now *flag.Document, declared ...Personal) []Line {
	w := &writer{declared: declared}
	if old == nil {
		w.add("flag made: lever %s, resting %s, end: %s", string(now.Lever), words.Variant(now.Resting),
			sentence.Gives(now.End, words.Say("all"), nil))
		old = &flag.Document{Lever: now.Lever, Resting: now.Resting, End: now.End, Variants: now.Variants,
			Visible: now.Visible}
	}
	w.change(words.Say("lever"), words.Plain(string(old.Lever)), words.Plain(string(now.Lever)))
	w.change(words.Say("visible to browsers"), yes(old.Visible), yes(now.Visible))
	w.variants(old, now)
	w.change(words.Say("resting"), variant(old.Resting), variant(now.Resting))
	w.needs(old.Needs, now.Needs)
	w.change(words.Say("without contact"), contact(old.RestAfter), contact(now.RestAfter))
	w.rules(old, now)
	w.gives(words.Say("end"), old.End, now.End)
	return w.lines
}

// change says that a thing became another, where it did.
func (w *writer) change(what words.Said, old, now words.Said) {
	if old.String() != now.String() {
		w.add("%s %s → %s", what, old, now)
	}
}

func variant(name string) words.Said { return words.Said{words.Variant(name)} }

func yes(is bool) words.Said {
	if is {
		return words.Say("yes")
	}
	return words.Say("no")
}

func contact(minutes int) words.Said {
	if minutes == 0 {
		return words.Say("it keeps deciding")
	}
	return words.Say("it rests after %s", words.Counted(minutes, "minute", "minutes"))
}

func (w *writer) variants(old, now *flag.Document) {
	for _, name := range now.VariantNames() {
		before, had := old.Variants[name]
		if !had {
			w.add("variant %s added: %s", words.Variant(name), value(now.Variants[name]))
		} else if !bytes.Equal(before, now.Variants[name]) {
			w.change(words.Say("value of %s", words.Variant(name)), words.Plain(value(before)),
				words.Plain(value(now.Variants[name])))
		}
	}
	for _, name := range old.VariantNames() {
		if _, has := now.Variants[name]; !has {
			w.add("variant %s removed", words.Variant(name))
		}
	}
}

// value prints a variant's value on one line, cut where it is long.
func value(raw json.RawMessage) string {
	var b bytes.Buffer
	if json.Compact(&b, raw) != nil {
		return string(raw)
	}
	if b.Len() > 200 {
		return strings.ToValidUTF8(b.String()[:200], "") + " …"
	}
	return b.String()
}

func (w *writer) needs(old, now []flag.Need) {
	for _, n := range now {
		if !slices.Contains(old, n) {
			w.add("needs %s to give %s", words.Key(n.Flag), words.Variant(n.Variant))
		}
	}
	for _, n := range old {
		if !slices.Contains(now, n) {
			w.add("no longer needs %s to give %s", words.Key(n.Flag), words.Variant(n.Variant))
		}
	}
}

func (w *writer) rules(old, now *flag.Document) {
	byID := map[string]*flag.Rule{}
	var before, after []string // ids of the rules that stay, in both orders
	for i := range old.Rules {
		byID[old.Rules[i].ID] = &old.Rules[i]
	}
	has := map[string]bool{}
	for i := range now.Rules {
		r := &now.Rules[i]
		has[r.ID] = true
		if o := byID[r.ID]; o != nil {
			after = append(after, r.ID)
			w.rule(o, r, old.Resting, now.Resting)
			continue
		}
		parked := ""
		if r.Parked {
			parked = ", parked"
		}
		w.add("%s added at place %s%s: %s", words.Rule(r.Name), i+1, parked, sentence.Rule(r, now.Resting, nil))
	}
	for i := range old.Rules {
		r := &old.Rules[i]
		if has[r.ID] {
			before = append(before, r.ID)
			continue
		}
		w.add("%s removed: %s", words.Rule(r.Name), sentence.Rule(r, old.Resting, nil))
	}
	if !slices.Equal(before, after) {
		var names []words.Token
		for i := range now.Rules {
			names = append(names, words.Name(now.Rules[i].Name))
		}
		w.add("rules now in the order %s", words.List(names))
	}
}

func ofRelease(r *flag.Rule) string {
	if r.Release == "" {
		return "no release"
	}
	return "release " + r.Release
}

func (w *writer) rule(old, now *flag.Rule, rested, resting string) {
	name := words.Rule(now.Name)
	if old.Release != now.Release {
		w.add("%s: of %s → of %s", name, ofRelease(old), ofRelease(now))
	}
	if old.Name != now.Name {
		w.add("%s renamed %s", words.Rule(old.Name), words.Name(now.Name))
	}
	if old.Parked != now.Parked {
		w.add("%s %s", name, map[bool]string{true: "parked", false: "no longer parked"}[now.Parked])
	}
	if old.When.Words() != now.When.Words() {
		w.condition(words.Say("%s: ", name), old.When, now.When)
	} else if !old.When.Equal(now.When) {
		w.add("%s: draws its part anew", name)
	}
	if old.OnUnknown != now.OnUnknown {
		w.change(words.Say("%s: if its condition is unknown, it", name), doubt(old, rested), doubt(now, resting))
	}
	w.gives(name, old.Gives, now.Gives)
}

func doubt(r *flag.Rule, resting string) words.Said {
	said := "does not take the unit"
	if r.AppliesOnUnknown(resting) {
		said = "takes the unit"
	}
	if r.OnUnknown == "" {
		said += " (unless it says otherwise)"
	}
	return words.Plain(said)
}

// condition says a changed condition; where only a list of constants changed, what came and went.
func (w *writer) condition(name words.Said, old, now *condition.Node) {
	if old != nil && now != nil && sameButText(old, now) {
		if parts := cameAndWent(old.Text, now.Text, now.Attribute, now.Attribute == condition.KeyAttribute); len(
			parts) > 0 {
			w.add("%s%s %s", name, words.Names(nil).Attribute(now.Attribute), parts)
			return
		}
	}
	w.add("%scondition %s → %s", name, whom(old), whom(now))
}

// whom says a condition; without one a rule takes all.
func whom(n *condition.Node) words.Said {
	if n == nil {
		return words.Say("none")
	}
	return n.Said(nil)
}

// cameAndWent says what came to a list with +, and what went with −.
func cameAndWent(old, now []string, attribute string, units bool) words.Said {
	token := func(s string) words.Token {
		if units {
			return words.Unit(s, attribute)
		}
		return words.Value(s, attribute)
	}
	var parts []words.Said
	for _, s := range without(now, old) {
		parts = append(parts, words.Say("+ %s", token(s)))
	}
	for _, s := range without(old, now) {
		parts = append(parts, words.Say("− %s", token(s)))
	}
	return words.Join(parts, ", ")
}

func sameButText(a, b *condition.Node) bool {
	list := func(t string) bool { return t == "string.equals" || t == "string.one-of" }
	return list(a.Test) && list(b.Test) && a.Attribute == b.Attribute && a.IgnoreCase == b.IgnoreCase
}

func without(list, minus []string) (out []string) {
	for _, s := range list {
		if !slices.Contains(minus, s) {
			out = append(out, s)
		}
	}
	return out
}

func (w *writer) gives(name words.Said, old, now flag.Gives) {
	switch {
	case old.Shares == nil && now.Shares == nil:
		w.change(words.Say("%s gives", name), variant(old.Variant), variant(now.Variant))
		return
	case old.Shares == nil || now.Shares == nil:
		all := words.Say("all")
		w.add("%s: %s → %s", name, sentence.Gives(old, all, nil), sentence.Gives(now, all, nil))
		return
	}
	w.change(words.Say("%s: shares by", name), sentence.By(old.Shares.By), sentence.By(now.Shares.By))
	if old.Shares.Salt != now.Shares.Salt {
		w.add("%s: shares drawn anew", name)
	}
	w.change(words.Say("%s: moves together with", name), like(old.Shares.Like), like(now.Shares.Like))
	share := func(s *flag.Shares, p flag.Part) words.Said {
		i := slices.IndexFunc(s.Parts, func(o flag.Part) bool {
			return o.Variant == p.Variant && o.GoesOn == p.GoesOn
		})
		if i < 0 {
			return words.Said{words.Number(bucket.Percent(0))}
		}
		return words.Said{words.Number(bucket.Percent(s.Parts[i].Share))}
	}
	parts := slices.Clone(now.Shares.Parts)
	for _, p := range old.Shares.Parts {
		if !slices.ContainsFunc(parts, func(o flag.Part) bool {
			return o.Variant == p.Variant && o.GoesOn == p.GoesOn
		}) {
			parts = append(parts, p)
		}
	}
	for _, p := range parts {
		if !p.GoesOn { // what is left follows from the others
			w.change(words.Say("%s: share of %s", name, words.Variant(p.Variant)), share(old.Shares, p),
				share(now.Shares, p))
		}
	}
}

func like(at *flag.SharesAt) words.Said {
	switch {
	case at == nil:
		return words.Say("nothing")
	case at.Rule == "":
		return words.Say("the end of %s", words.Key(at.Flag))
	}
	return words.Say("rule %s of %s", at.Rule, words.Key(at.Flag))
}

// Segments lists the changes from one segment to another; old may be nil for a new one.
func Segments(old, now *flag.Segment, declared ...Personal) []Line {
	w := &writer{declared: declared}
	said := func(s *flag.Segment) words.Said {
		if s == nil || s.When == nil {
			return words.Say("nobody")
		}
		return s.When.Said(nil)
	}
	if old == nil {
		w.add("segment made: %s", said(now))
		old = &flag.Segment{When: now.When, Lists: now.Lists}
	}
	switch {
	case said(old).String() == said(now).String():
		if !old.When.Equal(now.When) {
			w.add("draws its part anew")
		}
	case old.When != nil && now.When != nil:
		w.condition(nil, old.When, now.When)
	default:
		w.add("condition %s → %s", said(old), said(now))
	}
	w.change(words.Say("lists name"), sentence.By([]string{old.Attribute()}), sentence.By([]string{now.Attribute()}))
	w.list("listed in", now.Attribute(), old.In, now.In)
	w.list("listed out", now.Attribute(), old.Out, now.Out)
	return w.lines
}

// list says what came to a list and what went; a long one by numbers only. Units are personal
// whatever attribute they are of.
func (w *writer) list(name, attribute string, old, now *flag.List) {
	if old == nil {
		old = &flag.List{}
	}
	if now == nil {
		now = &flag.List{}
	}
	if old.Digest != "" || now.Digest != "" {
		if old.Digest != now.Digest {
			w.add("%s: %s → %s (list %s)", name, words.Counted(old.Len(), "unit", "units"),
				words.Counted(now.Len(), "unit", "units"), now.Digest[:min(len(now.Digest), 12)])
		}
		return
	}
	if parts := cameAndWent(old.Units, now.Units, attribute, true); len(parts) > 0 {
		w.add("%s: %s", name, parts)
	}
}
