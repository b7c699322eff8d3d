package flags

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Make makes a flag: its definition, and its document in every environment with the lever off.
type Make struct{ app.Definition }

func (s *Service) make(_ context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	d := in.Definition
	d.ProjectID, d.Version, d.Created = m.Project.ID, 1, m.At
	fill(&d)
	if err := app.InvalidFields(checkDefinition(&d)); err != nil {
		return nil, err
	}
	made := commit.Entry{Action: "flag.made", Subject: d.Key, Version: 1, Lines: describe(&d)}
	out := &commit.Effects{Result: &d, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{&d},
		Entries: []commit.Entry{made}}}}
	for i := range envs {
		doc := FirstDocument(&d)
		e, err := commit.FlagPut(&envs[i], &app.FlagRecord{Key: d.Key, Version: 1, Document: doc}, "flag.made",
			diff.Flags(nil, doc))
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	return out, nil
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
		d.Variants = []app.Variant{{Name: "on", Value: json.RawMessage("true")},
			{Name: "off", Value: json.RawMessage("false")}}
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

// FirstDocument is a new flag's document: the lever off, no rules, the end as resting, but
// for a kill switch, whose end is the other variant.
func FirstDocument(d *app.Definition) *flag.Document {
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
		add("goneBy", "say by which date the flag should be gone, such as %s, or that it stays",
			time.UnixMilli(d.Created).AddDate(0, 3, 0).Format(time.DateOnly))
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
	return []diff.Line{line("flag %q made: %s, purpose %s, variants %s, resting `%s`", d.Title, d.Type, d.Purpose,
		strings.Join(names, ", "), d.Resting),
		line("gone by %s", d.GoneBy), line("visible to browsers %t", d.Visible)}
}
