// Package diff says in words what changed between two documents.
//
//	diff.Flags(old, new)[0].Text // "rule *Night crews*: share of `on` 8 % → 30 %"
//
// A [Line] can be printed with or without the personal values in it: the audit chain keeps
// only places for them, so that they can be erased without breaking it.
package diff

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
)

// Line is one change in words. Where personal values stood, Text has ⟨0⟩, ⟨1⟩ and so on.
type Line struct {
	Text     string   `json:"text"`
	Personal []string `json:"personal,omitempty"`
}

// String is the line with its personal values.
func (l Line) String() string { return Fill(l.Text, l.Personal) }

// Fill puts values into the places of a text; a place without a value stays as it is.
func Fill(text string, values []string) string {
	for i, v := range values {
		text = strings.Replace(text, fmt.Sprintf("⟨%d⟩", i), strconv.Quote(v), 1)
	}
	return text
}

// Texts are the lines with their personal values.
func Texts(lines []Line) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = l.String()
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

// personal tells whether a constant compared with an attribute may name a person: of the
// targeting key, of an attribute that was declared so, and what looks like an address.
func (w *writer) personal(attribute, constant string) bool {
	return attribute == condition.KeyAttribute || strings.Contains(constant, "@") || slices.ContainsFunc(w.declared, func(p Personal) bool { return p != nil && p(attribute) })
}

// line adds a line; say builds its text with a quote that keeps personal values apart.
func (w *writer) line(say func(q condition.Quote) string) {
	var l Line
	l.Text = say(func(attribute, constant string) string {
		if !w.personal(attribute, constant) {
			return strconv.Quote(constant)
		}
		l.Personal = append(l.Personal, constant)
		return fmt.Sprintf("⟨%d⟩", len(l.Personal)-1)
	})
	w.lines = append(w.lines, l)
}

// add adds a line without personal values.
func (w *writer) add(format string, args ...any) {
	w.lines = append(w.lines, Line{Text: fmt.Sprintf(format, args...)})
}

// Flags lists the changes from one document to another; old may be nil for a new flag. What
// is compared with attributes that are declared personal stands apart from the texts.
func Flags(old, now *flag.Document, declared ...Personal) []Line {
	w := &writer{declared: declared}
	if old == nil {
		w.add("flag made: lever %s, resting %s, end %s", now.Lever, sentence.Variant(now.Resting), sentence.Gives(now.End))
		old = &flag.Document{Lever: now.Lever, Resting: now.Resting, End: now.End, Variants: now.Variants, Visible: now.Visible}
	}
	w.change("lever", string(old.Lever), string(now.Lever))
	w.change("visible to browsers", strconv.FormatBool(old.Visible), strconv.FormatBool(now.Visible))
	w.variants(old, now)
	w.change("resting", sentence.Variant(old.Resting), sentence.Variant(now.Resting))
	w.needs(old.Needs, now.Needs)
	w.change("without contact", contact(old.RestAfter), contact(now.RestAfter))
	w.rules(old, now)
	w.gives("end", old.End, now.End)
	return w.lines
}

func (w *writer) change(what, old, now string) {
	if old != now {
		w.add("%s %s → %s", what, old, now)
	}
}

func contact(minutes int) string {
	if minutes == 0 {
		return "it goes on deciding"
	}
	return fmt.Sprintf("it rests after %d min", minutes)
}

func (w *writer) variants(old, now *flag.Document) {
	for _, name := range now.VariantNames() {
		before, had := old.Variants[name]
		if !had {
			w.add("variant %s added: %s", sentence.Variant(name), value(now.Variants[name]))
		} else if !bytes.Equal(before, now.Variants[name]) {
			w.change("value of "+sentence.Variant(name), value(before), value(now.Variants[name]))
		}
	}
	for _, name := range old.VariantNames() {
		if _, has := now.Variants[name]; !has {
			w.add("variant %s removed", sentence.Variant(name))
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
			w.add("needs %s to give %s", n.Flag, sentence.Variant(n.Variant))
		}
	}
	for _, n := range old {
		if !slices.Contains(now, n) {
			w.add("no longer needs %s to give %s", n.Flag, sentence.Variant(n.Variant))
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
			w.rule(o, r, now.Resting)
			continue
		}
		w.line(func(q condition.Quote) string {
			parked := ""
			if r.Parked {
				parked = ", parked"
			}
			return fmt.Sprintf("%s added at place %d%s: %s", ruleName(r), i+1, parked, sentence.Rule(r, now.Resting, q))
		})
	}
	for i := range old.Rules {
		r := &old.Rules[i]
		if has[r.ID] {
			before = append(before, r.ID)
			continue
		}
		w.line(func(q condition.Quote) string {
			return fmt.Sprintf("%s removed: %s", ruleName(r), sentence.Rule(r, old.Resting, q))
		})
	}
	if !slices.Equal(before, after) {
		var names []string
		for i := range now.Rules {
			names = append(names, "*"+now.Rules[i].Name+"*")
		}
		w.add("rules now in the order %s", strings.Join(names, ", "))
	}
}

func ruleName(r *flag.Rule) string { return "rule *" + r.Name + "*" }

func (w *writer) rule(old, now *flag.Rule, resting string) {
	name := ruleName(now)
	if old.Name != now.Name {
		w.add("%s renamed *%s*", ruleName(old), now.Name)
	}
	if old.Parked != now.Parked {
		w.add("%s %s", name, map[bool]string{true: "parked", false: "no longer parked"}[now.Parked])
	}
	if old.When.Words() != now.When.Words() {
		w.condition(name, old.When, now.When)
	}
	if old.OnUnknown != now.OnUnknown {
		w.change(name+": in doubt", doubt(old, resting), doubt(now, resting))
	}
	w.gives(name, old.Gives, now.Gives)
}

func doubt(r *flag.Rule, resting string) string {
	said := "skips"
	if r.AppliesOnUnknown(resting) {
		said = "applies"
	}
	if r.OnUnknown == "" {
		return said + " (unless said)"
	}
	return said
}

// condition says a changed condition; where only a list of constants changed, what came and went.
func (w *writer) condition(name string, old, now *condition.Node) {
	if old != nil && now != nil && sameButText(old, now) {
		came, went := without(now.Text, old.Text), without(old.Text, now.Text)
		if len(came)+len(went) > 0 {
			w.line(func(q condition.Quote) string {
				var parts []string
				for _, s := range came {
					parts = append(parts, "+ "+q(now.Attribute, s))
				}
				for _, s := range went {
					parts = append(parts, "− "+q(old.Attribute, s))
				}
				return fmt.Sprintf("%s: %s %s", name, now.Attribute, strings.Join(parts, ", "))
			})
			return
		}
	}
	w.line(func(q condition.Quote) string {
		return fmt.Sprintf("%s: condition %s → %s", name, old.WordsWith(q), now.WordsWith(q))
	})
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

func (w *writer) gives(name string, old, now flag.Gives) {
	switch {
	case old.Shares == nil && now.Shares == nil:
		w.change(name+" gives", sentence.Variant(old.Variant), sentence.Variant(now.Variant))
		return
	case old.Shares == nil || now.Shares == nil:
		w.add("%s gives %s → %s", name, sentence.Gives(old), sentence.Gives(now))
		return
	}
	w.change(name+": shares by", sentence.By(old.Shares.By), sentence.By(now.Shares.By))
	if old.Shares.Salt != now.Shares.Salt {
		w.add("%s: shares drawn anew", name)
	}
	w.change(name+": moves together with", like(old.Shares.Like), like(now.Shares.Like))
	share := func(s *flag.Shares, p flag.Part) uint32 {
		i := slices.IndexFunc(s.Parts, func(o flag.Part) bool { return o.Variant == p.Variant && o.GoesOn == p.GoesOn })
		if i < 0 {
			return 0
		}
		return s.Parts[i].Share
	}
	parts := slices.Clone(now.Shares.Parts)
	for _, p := range old.Shares.Parts {
		if !slices.ContainsFunc(parts, func(o flag.Part) bool { return o.Variant == p.Variant && o.GoesOn == p.GoesOn }) {
			parts = append(parts, p)
		}
	}
	for _, p := range parts {
		what := "share of " + sentence.Variant(p.Variant)
		if p.GoesOn {
			what = "share that goes on"
		}
		w.change(name+": "+what, bucket.Percent(share(old.Shares, p)), bucket.Percent(share(now.Shares, p)))
	}
}

func like(at *flag.SharesAt) string {
	switch {
	case at == nil:
		return "nothing"
	case at.Rule == "":
		return "the end of " + at.Flag
	}
	return fmt.Sprintf("rule %s of %s", at.Rule, at.Flag)
}

// Segments lists the changes from one segment to another; old may be nil for a new one.
func Segments(old, now *flag.Segment, declared ...Personal) []Line {
	w := &writer{declared: declared}
	said := func(s *flag.Segment, q condition.Quote) string {
		if s == nil || s.When == nil {
			return "nobody"
		}
		return s.When.WordsWith(q)
	}
	if old == nil {
		w.line(func(q condition.Quote) string { return "segment made: " + said(now, q) })
		old = &flag.Segment{When: now.When, Lists: now.Lists}
	}
	if said(old, condition.PlainQuote) != said(now, condition.PlainQuote) {
		if old.When != nil && now.When != nil {
			w.condition("condition", old.When, now.When)
		} else {
			w.line(func(q condition.Quote) string { return fmt.Sprintf("condition %s → %s", said(old, q), said(now, q)) })
		}
	}
	w.change("lists name", sentence.By([]string{old.Attribute()}), sentence.By([]string{now.Attribute()}))
	w.list("listed in", old.In, now.In)
	w.list("listed out", old.Out, now.Out)
	return w.lines
}

// list says what came to a list and what went; a long one by numbers only.
func (w *writer) list(name string, old, now *flag.List) {
	if old == nil {
		old = &flag.List{}
	}
	if now == nil {
		now = &flag.List{}
	}
	if old.Digest != "" || now.Digest != "" {
		if old.Digest != now.Digest {
			digest := now.Digest
			if len(digest) > 12 {
				digest = digest[:12]
			}
			w.add("%s: %d units → %d units (list %s)", name, old.Len(), now.Len(), digest)
		}
		return
	}
	came, went := without(now.Units, old.Units), without(old.Units, now.Units)
	if len(came)+len(went) == 0 {
		return
	}
	w.line(func(q condition.Quote) string {
		var parts []string
		for _, u := range came { // units are personal whatever attribute they are of
			parts = append(parts, "+ "+q(condition.KeyAttribute, u))
		}
		for _, u := range went {
			parts = append(parts, "− "+q(condition.KeyAttribute, u))
		}
		return name + ": " + strings.Join(parts, ", ")
	})
}
