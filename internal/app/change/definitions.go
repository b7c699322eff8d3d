package change

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
)

// AddFlag makes a flag: its definition, and its document in every environment with the
// lever off.
func (s *Service) AddFlag(ctx context.Context, r Request, project *app.Project, d *app.Definition) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		envs, err := c.enterAll(app.Define, project)
		if err != nil {
			return nil, err
		}
		d := *d
		d.ProjectID, d.Version, d.Created = project.ID, 1, c.at
		fill(&d)
		if err := app.InvalidFields(checkDefinition(&d)); err != nil {
			return nil, err
		}
		for i := range envs {
			if err := c.open(&envs[i]); err != nil {
				return nil, err
			}
		}
		if err := tx.AddDefinition(&d); err != nil {
			return nil, err
		}
		e := c.entry("flag.made", project.ID)
		e.Subject, e.Version = d.Key, 1
		if err := c.project(e, describe(&d)...); err != nil {
			return nil, err
		}
		for i := range envs {
			doc := firstDocument(&d)
			if err := c.putFlag(&envs[i], &app.FlagRecord{EnvironmentID: envs[i].ID, Key: d.Key, Version: 1, Document: doc}, "flag.made", diff.Flags(nil, doc)); err != nil {
				return nil, err
			}
		}
		return &d, nil
	})
}

// fill sets what a new definition leaves open by its type and purpose.
func fill(d *app.Definition) {
	if d.Purpose == "" {
		d.Purpose = "introduce"
	}
	if d.Type == "" {
		d.Type = flag.Boolean
	}
	if len(d.Variants) == 0 && d.Type == flag.Boolean {
		d.Variants = []app.Variant{{Name: "on", Value: json.RawMessage("true")}, {Name: "off", Value: json.RawMessage("false")}}
		if d.Resting == "" {
			d.Resting = "off"
		}
	}
	if d.Resting == "" && len(d.Variants) > 0 {
		d.Resting = d.Variants[len(d.Variants)-1].Name
	}
	if strings.TrimSpace(d.Title) == "" {
		d.Title = d.Key
	}
	if d.Owners == nil {
		d.Owners = []string{}
	}
	if d.Tags == nil {
		d.Tags = []string{}
	}
}

// firstDocument is a new flag's document: the lever off, no rules, the end as resting, but
// for a kill switch, whose end is the other variant.
func firstDocument(d *app.Definition) *flag.Document {
	doc := &flag.Document{Key: d.Key, Type: d.Type, Visible: d.Visible, Lever: flag.Off, Resting: d.Resting,
		End: flag.Gives{Variant: d.Resting}, Variants: map[string]json.RawMessage{}}
	for _, v := range d.Variants {
		doc.Variants[v.Name] = v.Value
		if d.Purpose == "kill-switch" && v.Name != d.Resting && doc.End.Variant == d.Resting {
			doc.End.Variant = v.Name
		}
	}
	return doc
}

func checkDefinition(d *app.Definition) []flag.Problem {
	var found []flag.Problem
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := flag.CheckKey(d.Key); mend != "" {
		add("key", "%s", mend)
	}
	text := func(place, s string, most int) {
		if len(s) > most || !utf8.ValidString(s) {
			add(place, "must be valid UTF-8 of at most %d bytes", most)
		}
	}
	text("title", d.Title, 200)
	text("description", d.Description, 10_000)
	typed := slices.Contains(flag.Types(), d.Type)
	if !typed {
		add("type", "must be boolean, string, number or object")
	}
	if !slices.Contains(app.Purposes(), d.Purpose) {
		add("purpose", "must be introduce, compare, kill-switch, tune or grant")
	}
	if d.GoneBy == "" {
		add("goneBy", "say by which date the flag should be gone, such as %s, or that it stays", time.UnixMilli(d.Created).AddDate(0, 3, 0).Format(time.DateOnly))
	} else if _, err := time.Parse(time.DateOnly, d.GoneBy); err != nil && d.GoneBy != "stays" {
		add("goneBy", `must be a date such as 2027-03-31, or "stays"`)
	}
	names := map[string]bool{}
	for i, v := range d.Variants {
		place := fmt.Sprintf("variants[%d]", i)
		if mend := flag.CheckVariant(v.Name); mend != "" {
			add(place+".name", "%s", mend)
		}
		if names[v.Name] {
			add(place+".name", "stands twice")
		}
		names[v.Name] = true
		if mend := flag.CheckNewValue(d.Type, v.Value); typed && mend != "" {
			add(place+".value", "%s", mend)
		}
	}
	if n := len(d.Variants); n < 2 || n > flag.MaxVariants {
		add("variants", "takes 2 to %d variants, has %d", flag.MaxVariants, n)
	} else if !names[d.Resting] {
		add("resting", "%q is no variant of this flag", d.Resting)
	}
	for i, m := range d.Muted {
		place := fmt.Sprintf("muted[%d]", i)
		if !slices.ContainsFunc(lint.Checks(), func(c lint.Check) bool { return c.Name == m.Check }) {
			add(place+".check", "%q is no check", m.Check)
		}
		if text(place+".reason", m.Reason, 500); strings.TrimSpace(m.Reason) == "" {
			add(place+".reason", "say why the check is muted for this flag")
		}
	}
	for place, list := range map[string][]string{"owners": d.Owners, "tags": d.Tags} {
		if len(list) > 50 {
			add(place, "takes at most 50")
		}
		for i, s := range list {
			text(fmt.Sprintf("%s[%d]", place, i), s, 100)
		}
	}
	return found
}

func describe(d *app.Definition) []diff.Line {
	var names []string
	for _, v := range d.Variants {
		names = append(names, "`"+v.Name+"`")
	}
	line := func(format string, args ...any) diff.Line { return diff.Text(fmt.Sprintf(format, args...)) }
	return []diff.Line{line("flag %q made: %s, purpose %s, variants %s, resting `%s`", d.Title, d.Type, d.Purpose, strings.Join(names, ", "), d.Resting),
		line("gone by %s", d.GoneBy), line("visible to browsers %t", d.Visible)}
}

// DefinitionEdit says what to change of a definition; nil fields stay.
type DefinitionEdit struct {
	Title          *string       `json:"title,omitempty"`
	Description    *string       `json:"description,omitempty"`
	Purpose        *app.Purpose  `json:"purpose,omitempty"`
	GoneBy         *string       `json:"goneBy,omitempty"`
	Owners         *[]string     `json:"owners,omitempty"`
	Tags           *[]string     `json:"tags,omitempty"`
	Visible        *bool         `json:"visible,omitempty"`
	AddVariants    []app.Variant `json:"addVariants,omitempty"`
	RemoveVariants []string      `json:"removeVariants,omitempty"`
	Muted          *[]app.Mute   `json:"muted,omitempty"` // checks, with reasons
}

// EditFlag changes a definition. Visibility and variants change in all environments at
// once: one change, with a revision and an entry in each; the rest makes no revision.
func (s *Service) EditFlag(ctx context.Context, r Request, project *app.Project, key string, edit *DefinitionEdit) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		envs, err := c.enterAll(app.Define, project)
		if err != nil {
			return nil, err
		}
		d, err := tx.LockDefinition(project.ID, key)
		if err != nil {
			return nil, err
		}
		if err := c.seen(d.Version, d); err != nil {
			return nil, err
		}
		lines, documents, err := edit.apply(d)
		if err != nil || len(lines) == 0 {
			return d, err
		}
		if err := app.InvalidFields(checkDefinition(d)); err != nil {
			return nil, err
		}
		if documents {
			for i := range envs {
				if err := c.editDocument(&envs[i], d, edit); err != nil {
					return nil, err
				}
			}
		}
		if err := c.checkReason(); err != nil {
			return nil, err
		}
		d.Version++
		if err := tx.UpdateDefinition(d); err != nil {
			return nil, err
		}
		e := c.entry("definition.changed", project.ID)
		e.Subject, e.Version = d.Key, d.Version
		return d, c.project(e, lines...)
	})
}

// apply changes the definition; documents tells whether the environments' documents change too.
func (edit *DefinitionEdit) apply(d *app.Definition) (lines []diff.Line, documents bool, err error) {
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
	set("purpose", (*string)(&d.Purpose), (*string)(edit.Purpose))
	for what, list := range map[string]struct{ field, to *[]string }{"owners": {&d.Owners, edit.Owners}, "tags": {&d.Tags, edit.Tags}} {
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
			return nil, false, app.InvalidField(fmt.Sprintf("removeVariants[%d]", i), "%q is no variant of this flag", name)
		}
		d.Variants, documents = slices.Delete(d.Variants, at, at+1), true
		say("variant `%s` removed", name)
	}
	return lines, documents, nil
}

// editDocument carries visibility and variants into one environment.
func (c *commit) editDocument(env *app.Environment, d *app.Definition, edit *DefinitionEdit) error {
	if err := app.Allow(&c.request.Actor, app.Document, env.ProjectID, env.ID); err != nil {
		return err
	}
	if err := c.open(env); err != nil {
		return err
	}
	rec, err := c.tx.Flag(env.ID, d.Key)
	if err != nil {
		return err
	}
	now := *rec.Document
	now.Visible = d.Visible
	now.Variants = map[string]json.RawMessage{}
	for name, v := range rec.Document.Variants {
		now.Variants[name] = v
	}
	for _, v := range edit.AddVariants {
		now.Variants[v.Name] = v.Value
	}
	for _, name := range edit.RemoveVariants {
		if place, used := now.Uses(name); used {
			return app.Faultf(app.Conflict, "variant %s is in use in %s, by %s: take it out there first", name, env.Key, place)
		}
		if by, err := c.neededBy(env.ID, d.Key, name); err != nil || by != "" {
			if err == nil {
				err = app.Faultf(app.Conflict, "variant %s is in use in %s, needed by flag %s: take it out there first", name, env.Key, by)
			}
			return err
		}
		delete(now.Variants, name)
	}
	return c.putFlag(env, &app.FlagRecord{EnvironmentID: env.ID, Key: d.Key, Version: rec.Version + 1, Document: &now}, "flag.changed", diff.Flags(rec.Document, &now))
}

// neededBy names a flag that needs another to give a variant; none is empty.
func (c *commit) neededBy(env int64, key, variant string) (string, error) {
	all, err := c.tx.Flags(env)
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
