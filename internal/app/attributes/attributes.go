// Package attributes holds the changes of a project's catalogue: what it declares of the
// attributes that applications send.
package attributes

import (
	"context"
	"fmt"
	"slices"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Tx is what these changes read.
type Tx interface {
	Attributes(project int64) ([]app.Attribute, error)
}

// Kinds are the changes of the catalogue.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "attribute.declare", Says: "Declares an attribute, or changes what is declared",
			Action: app.Define, Span: commit.Project, Queued: true}, declare),
		commit.Of(commit.Kind{Name: "attribute.remove", Says: "Takes an attribute out of the catalogue",
			Action: app.Define, Span: commit.Project, Queued: true}, remove),
	}
}

// Declare declares the attribute that the change is of. A new one takes no version, a known one
// the version that the caller has seen.
type Declare struct{ app.Attribute }

// Remove takes the attribute that the change is of out of the catalogue. Rules go on comparing it.
type Remove struct{}

func declare(_ context.Context, m *commit.Moment, in *Declare) (*commit.Effects, error) {
	old, all, err := known(m)
	if err != nil {
		return nil, err
	}
	now := in.Attribute
	now.Name, now.Version = m.Of, 1
	if old != nil {
		if err := m.Seen(old.Version, old); err != nil {
			return nil, err
		}
		now.Version = old.Version + 1
	} else if !m.Anew() {
		return nil, app.Faultf(app.Stale, "there is no attribute %s any more: send no version to declare it anew",
			now.Name)
	}
	if err := app.InvalidFields(append(check(&now), alike(&now, all)...)); err != nil {
		return nil, err
	}
	declared := commit.Entry{Action: "attribute.declared", Subject: now.Name, Version: now.Version,
		Lines: describe(old, &now)}
	back := m.Back(&Remove{})
	if old != nil {
		back = m.Back(&Declare{*old}, now.Version)
	}
	return &commit.Effects{Result: &now, Back: back, Stale: commit.Stale{Units: true},
		In: []commit.Effect{{Project: m.Project,
			Records: []commit.Record{&app.AttributeRecord{ProjectID: m.Project.ID, Attribute: &now}},
			Entries: []commit.Entry{declared}}}}, nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	old, _, err := known(m)
	if err != nil {
		return nil, err
	}
	if old == nil {
		return nil, app.Faultf(app.NotFound, "attribute %s is not in the catalogue", m.Of)
	}
	line := diff.Text(fmt.Sprintf("attribute %s, %s, taken out of the catalogue", m.Of, old.Type))
	return &commit.Effects{Result: old, Back: m.Back(&Declare{*old}), Stale: commit.Stale{Units: true},
		In: []commit.Effect{{Project: m.Project,
			Records: []commit.Record{&app.AttributeRecord{ProjectID: m.Project.ID, Attribute: old, Gone: true}},
			Entries: []commit.Entry{commit.Said("attribute.removed", m.Of, line)}}}}, nil
}

// known finds the attribute that the change is of, nil where there is none, and all of them.
func known(m *commit.Moment) (*app.Attribute, []app.Attribute, error) {
	all, err := commit.Narrow[Tx](m).Attributes(m.Project.ID)
	if err != nil {
		return nil, nil, err
	}
	if i := slices.IndexFunc(all, func(a app.Attribute) bool { return a.Name == m.Of }); i >= 0 {
		old := all[i]
		return &old, all, nil
	}
	if len(all) >= sample.MaxAttributes {
		return nil, nil, app.InvalidField("name", "the catalogue holds %d attributes already, as many as it takes",
			len(all))
	}
	return nil, all, nil
}

func check(a *app.Attribute) (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := condition.CheckAttribute(a.Name); mend != "" {
		add("name", "%s", mend)
	}
	if a.Name == condition.KeyAttribute {
		add("name", "the targeting key is known already, and always a string")
	}
	if !slices.Contains(lint.Types(), a.Type) {
		add("type", "must be string, number, boolean, version, time, address or list")
	}
	for place, text := range map[string]string{"description": a.Description, "example": a.Example} {
		if len(text) > 1_000 || !utf8.ValidString(text) {
			add(place, "must be valid UTF-8 of at most 1000 bytes")
		}
	}
	if !slices.Contains([]sample.Derivation{sample.Nothing, sample.Presence, sample.Domain}, a.Derive) {
		add("derive", `must be "presence" or "domain", or be left out`)
	} else if a.Derive != sample.Nothing && !a.Personal {
		add("derive", "only personal attributes are taken out, so only of these something is derived: leave it out")
	} else if a.Derive == sample.Domain && a.Type != lint.String {
		add("derive", "a domain is derived from a string")
	}
	if a.Loose && a.Type != lint.Version {
		add("loose", "only versions can be loose: leave it out")
	}
	for place, word := range map[string]string{"one": a.One, "many": a.Many} {
		if mend := words.Usable(word); mend != "" {
			add(place, "%s", mend)
		}
	}
	if a.Many != "" && a.One == "" || a.One != "" && a.One == a.Many {
		add("one", "say both, such as %q and %q, or leave both out: one of it, and many", "site", "sites")
	}
	return found
}

// alike finds another attribute that sentences would say in the same words.
func alike(a *app.Attribute, all []app.Attribute) (found []flag.Problem) {
	for place, word := range map[string]string{"one": a.One, "many": a.Many} {
		for _, o := range all {
			if word != "" && o.Name != a.Name && slices.Contains([]string{o.Name, o.One, o.Many}, word) {
				found = append(found, flag.Problem{Place: place,
					Mend: fmt.Sprintf("is how attribute %s is said already: take another word", o.Name)})
			}
		}
		if word != "" && slices.Contains([]string{"unit", "units", "key", "keys"}, word) {
			found = append(found, flag.Problem{Place: place, Mend: "is how the targeting key is said: take " +
				"another word"})
		}
	}
	return found
}

func describe(old, now *app.Attribute) (lines []diff.Line) {
	say := func(format string, args ...any) {
		lines = append(lines, diff.Text(fmt.Sprintf(format, args...)))
	}
	if old == nil {
		say("attribute %s declared: %s", now.Name, now.Type)
		old = &app.Attribute{Type: now.Type}
	}
	for _, c := range []struct{ what, old, now string }{
		{"type", string(old.Type), string(now.Type)}, {"one is called", old.One, now.One},
		{"many are called", old.Many, now.Many}, {"description", old.Description, now.Description},
		{"example", old.Example, now.Example},
		{"personal", fmt.Sprint(old.Personal), fmt.Sprint(now.Personal)}, {"what is derived", string(old.Derive),
			string(now.Derive)},
		{"server-only", fmt.Sprint(old.ServerOnly), fmt.Sprint(now.ServerOnly)},
		{"takes 4.2 and v4.2.0", fmt.Sprint(old.Loose), fmt.Sprint(now.Loose)},
	} {
		if c.old != c.now {
			say("%s %q → %q", c.what, c.old, c.now)
		}
	}
	return lines
}
