package flags

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Edit says what to change of a definition; nil fields stay.
type Edit struct {
	Title          *string       `json:"title,omitempty"`
	Description    *string       `json:"description,omitempty"`
	Loses          *string       `json:"loses,omitempty"`
	GoneBy         *string       `json:"goneBy,omitempty"`
	Owners         *[]string     `json:"owners,omitempty"`
	Tags           *[]string     `json:"tags,omitempty"`
	Visible        *bool         `json:"visible,omitempty"`
	AddVariants    []app.Variant `json:"addVariants,omitempty"`
	RemoveVariants []string      `json:"removeVariants,omitempty"`
	// Values, Resting and End are those with which an environment begins that is made later.
	Values  map[string]json.RawMessage `json:"values,omitempty"`
	Resting *string                    `json:"resting,omitempty"`
	End     *string                    `json:"end,omitempty"`
	Muted   *[]app.Mute                `json:"muted,omitempty"` // checks, with reasons
}

// edit changes a definition. Visibility and variants change in all environments at once: one
// change, with a revision and an entry in each; the rest makes no revision.
func (s *Service) edit(_ context.Context, m *commit.Moment, in *Edit) (*commit.Effects, error) {
	tx := commit.Narrow[Tx](m)
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	d, err := tx.LockDefinition(m.Project.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if d.Retired != nil {
		return nil, app.Faultf(app.Conflict, "flag %s is retired: restore it first", d.Key)
	}
	if err := m.Seen(d.Version, d); err != nil {
		return nil, err
	}
	was, before := d.Visible, *d
	before.Variants, before.Muted = slices.Clone(d.Variants), slices.Clone(d.Muted)
	lines, documents, err := in.apply(d)
	if err != nil || len(lines) == 0 {
		return commit.Nothing(d), err
	}
	if err := app.InvalidFields(checkDefinition(d)); err != nil {
		return nil, err
	}
	out := &commit.Effects{Result: d, Back: m.Back(in.back(&before), d.Version+1)}
	for i := range envs {
		if !documents {
			break
		}
		e, err := in.document(tx, &envs[i], d)
		if err != nil {
			return nil, err
		}
		e.Judge.Signs = in.Visible != nil && *in.Visible != was // variants that come or go are given to nobody
		out.In = append(out.In, e)
	}
	d.Version++
	changed := commit.Entry{Action: "definition.changed", Subject: d.Key, Version: d.Version, Lines: lines}
	out.In = append(out.In, commit.Effect{Project: m.Project, Records: []commit.Record{d},
		Entries: []commit.Entry{changed}})
	return out, nil
}

// back takes an edit back of a definition as it was.
func (edit *Edit) back(was *app.Definition) *Edit {
	out := &Edit{}
	text := func(into **string, is *string, was string) {
		if is != nil {
			*into = &was
		}
	}
	text(&out.Title, edit.Title, was.Title)
	text(&out.Description, edit.Description, was.Description)
	text(&out.Loses, edit.Loses, was.Loses)
	text(&out.GoneBy, edit.GoneBy, was.GoneBy)
	if edit.Owners != nil {
		out.Owners = &was.Owners
	}
	if edit.Tags != nil {
		out.Tags = &was.Tags
	}
	if edit.Visible != nil {
		out.Visible = &was.Visible
	}
	if edit.Muted != nil {
		muted := append([]app.Mute{}, was.Muted...)
		out.Muted = &muted
	}
	text(&out.Resting, edit.Resting, was.Resting)
	text(&out.End, edit.End, was.End)
	for _, v := range was.Variants {
		if _, is := edit.Values[v.Name]; is {
			if out.Values == nil {
				out.Values = map[string]json.RawMessage{}
			}
			out.Values[v.Name] = v.Value
		}
	}
	for _, v := range edit.AddVariants {
		out.RemoveVariants = append(out.RemoveVariants, v.Name)
	}
	for _, v := range was.Variants {
		if slices.Contains(edit.RemoveVariants, v.Name) {
			out.AddVariants = append(out.AddVariants, v)
		}
	}
	return out
}

// apply changes the definition; documents tells whether the environments' documents change too.
func (edit *Edit) apply(d *app.Definition) (lines []diff.Line, documents bool, err error) {
	say := func(format string, args ...any) {
		lines = append(lines, diff.Text(fmt.Sprintf(format, args...)))
	}
	set := func(what string, field, to *string) {
		if to != nil && *to != *field {
			say("%s %q → %q", what, *field, *to)
			*field = *to
		}
	}
	set("title", &d.Title, edit.Title)
	set("description", &d.Description, edit.Description)
	set("gone by", &d.GoneBy, edit.GoneBy)
	set("what users lose while it rests", &d.Loses, edit.Loses)
	set("resting in new environments", &d.Resting, edit.Resting)
	set("end in new environments", &d.End, edit.End)
	for _, name := range slices.Sorted(maps.Keys(edit.Values)) {
		at := slices.IndexFunc(d.Variants, func(v app.Variant) bool { return v.Name == name })
		if at < 0 {
			return nil, false, app.InvalidField("values."+name, "%q is no variant of this flag", name)
		}
		if was := d.Variants[at].Value; !sameJSON(was, edit.Values[name]) {
			say("value of `%s` in new environments %s → %s", name, was, edit.Values[name])
			d.Variants[at].Value = edit.Values[name]
		}
	}
	for what, list := range map[string]struct{ field, to *[]string }{"owners": {&d.Owners, edit.Owners},
		"tags": {&d.Tags, edit.Tags}} {
		if list.to != nil && !slices.Equal(*list.field, *list.to) {
			say("%s %s → %s", what, strings.Join(*list.field, ", "), strings.Join(*list.to, ", "))
			*list.field = append([]string{}, *list.to...)
		}
	}
	if edit.Muted != nil && !slices.Equal(d.Muted, *edit.Muted) {
		for _, m := range *edit.Muted {
			if !slices.Contains(d.Muted, m) {
				say("check %s muted: %s", m.Check, m.Reason)
			}
		}
		for _, m := range d.Muted {
			if !slices.ContainsFunc(*edit.Muted, func(o app.Mute) bool { return o.Check == m.Check }) {
				say("check %s no longer muted", m.Check)
			}
		}
		d.Muted = append([]app.Mute{}, *edit.Muted...)
	}
	if edit.Visible != nil && *edit.Visible != d.Visible {
		d.Visible, documents = *edit.Visible, true
		say("visible to browsers → %t", d.Visible)
	}
	for _, v := range edit.AddVariants {
		d.Variants, documents = append(d.Variants, v), true
		say("variant `%s` added", v.Name)
	}
	for i, name := range edit.RemoveVariants {
		at := slices.IndexFunc(d.Variants, func(v app.Variant) bool { return v.Name == name })
		if at < 0 {
			return nil, false, app.InvalidField(fmt.Sprintf("removeVariants[%d]", i), "%q is no variant of this flag",
				name)
		}
		d.Variants, documents = slices.Delete(d.Variants, at, at+1), true
		say("variant `%s` removed", name)
	}
	return lines, documents, nil
}

// document carries visibility and variants into one environment.
func (edit *Edit) document(tx documents, env *app.Environment, d *app.Definition) (e commit.Effect, err error) {
	rec, err := tx.Flag(env.ID, d.Key)
	if err != nil {
		return e, err
	}
	now := *rec.Document
	now.Visible = d.Visible
	now.Variants = maps.Clone(rec.Document.Variants)
	for _, v := range edit.AddVariants {
		now.Variants[v.Name] = v.Value
	}
	for _, name := range edit.RemoveVariants {
		if place, used := now.Uses(name); used {
			return e, app.Faultf(app.Conflict, "variant %s is in use in %s, by %s: take it out there first", name,
				env.Key, place)
		}
		by, err := neededBy(tx, env.ID, d.Key, name)
		if err != nil {
			return e, err
		}
		if by != "" {
			return e, app.Faultf(app.Conflict,
				"variant %s is in use in %s, needed by flag %s: take it out there first", name, env.Key, by)
		}
		delete(now.Variants, name)
	}
	e, err = commit.FlagPut(env, rec.Document, &app.FlagRecord{Key: d.Key, Version: rec.Version + 1, Document: &now},
		"flag.changed",
		diff.Flags(rec.Document, &now))
	e.Action = app.Document
	return e, err
}

// neededBy names a flag that needs another to give a variant; none is empty.
func neededBy(tx documents, env int64, key, variant string) (string, error) {
	all, err := tx.Flags(env)
	if err != nil {
		return "", err
	}
	for _, f := range all {
		if slices.Contains(f.Document.Needs, flag.Need{Flag: key, Variant: variant}) {
			return f.Key, nil
		}
		asks := false
		for i := range f.Document.Rules {
			f.Document.Rules[i].When.Leaves(func(l *condition.Node) {
				asks = asks || l.Test == condition.FlagTest && l.Flag == key && slices.Contains(l.Text, variant)
			})
		}
		if asks {
			return f.Key, nil
		}
	}
	return "", nil
}

// Edits says what the change makes of a definition: the fields that it names.
func (edit *Edit) Edits(json.RawMessage) ([]merge.Edit, error) {
	raw, err := json.Marshal(edit)
	if err != nil {
		return nil, err
	}
	return merge.Plain.Edits(json.RawMessage("{}"), raw)
}

// Carry gives the change upon a definition as it stands at present: as it is, unless somebody else edited what it
// edits.
func (edit *Edit) Carry(base, present json.RawMessage) (any, []merge.Conflict, error) {
	edits, err := edit.Edits(nil)
	if err != nil {
		return nil, nil, err
	}
	theirs, err := merge.Plain.Edits(base, present)
	if err != nil {
		return nil, nil, err
	}
	var conflicts []merge.Conflict
	for _, e := range edits {
		field := e.Place
		if strings.HasSuffix(field, "Variants") || field == "values" {
			field = "variants"
		}
		at := slices.IndexFunc(theirs, func(o merge.Edit) bool { return o.Place == field })
		if at >= 0 && string(theirs[at].To) != string(e.To) {
			was, err := merge.Plain.Edits(present, base)
			if err != nil {
				return nil, nil, err
			}
			stood := was[slices.IndexFunc(was, func(o merge.Edit) bool { return o.Place == field })].To
			conflicts = append(conflicts, merge.Conflict{Place: field, Base: stood, Theirs: theirs[at].To, Ours: e.To})
		}
	}
	out := *edit
	return &out, conflicts, nil
}

// Fields are what lines of a difference begin with that say what the edit changes.
func (edit *Edit) Fields() (out []string) {
	for name, is := range map[string]bool{"title": edit.Title != nil, "description": edit.Description != nil,
		"gone by": edit.GoneBy != nil, "what users lose": edit.Loses != nil, "owners": edit.Owners != nil,
		"tags": edit.Tags != nil, "check": edit.Muted != nil, "visible": edit.Visible != nil,
		"resting": edit.Resting != nil, "end in": edit.End != nil, "value of": len(edit.Values) > 0,
		"variant": len(edit.AddVariants)+len(edit.RemoveVariants) > 0} {
		if is {
			out = append(out, name)
		}
	}
	return out
}
