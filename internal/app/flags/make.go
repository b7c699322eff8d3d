package flags

import (
	"cmp"
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
	"greenlever.example/greenlever/internal/app/conditions"
)

// Make makes a flag: its definition, and its document in every environment with the lever off. What it
// leaves open is filled in from its recipe, or from a flag that it is a copy of, with its documents.
type Make struct {
	app.Definition
	CopyOf string `json:"copyOf,omitempty"` // key of a flag
}

func (s *Service) make(_ context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	tx := commit.Narrow[Tx](m)
	d := in.Definition
	d.ProjectID, d.Version, d.Created, d.Retired = m.Project.ID, 1, m.At, nil
	asks, err := begin(tx, &d, in.CopyOf)
	if err != nil {
		return nil, err
	}
	fill(&d)
	if err := app.InvalidFields(append(checkDefinition(&d), asks...)); err != nil {
		return nil, err
	}
	made := commit.Entry{Action: "flag.made", Subject: d.Key, Version: 1, Lines: describe(&d)}
	out := &commit.Effects{Result: &d, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{&d},
		Entries: []commit.Entry{made}}}}
	for i := range envs {
		doc := FirstDocument(&d)
		if in.CopyOf != "" {
			of, err := tx.Flag(envs[i].ID, in.CopyOf)
			if err != nil {
				return nil, err
			}
			doc = copied(of.Document, &d)
		}
		e, err := commit.FlagPut(&envs[i], nil, &app.FlagRecord{Key: d.Key, Version: 1, Document: doc}, "flag.made",
			diff.Flags(nil, doc))
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	return out, nil
}

// begin fills in what a new definition leaves open from a flag that it is a copy of, or from its recipe;
// asks is what the recipe wants and the definition does not say.
func begin(tx Tx, d *app.Definition, copyOf string) (asks []flag.Problem, err error) {
	if copyOf != "" {
		return nil, beginAsCopy(tx, d, copyOf)
	}
	if d.Recipe == "" {
		return nil, nil
	}
	all, err := tx.Recipes(d.ProjectID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(r app.Recipe) bool { return r.Key == d.Recipe })
	if at < 0 {
		keys := make([]string, len(all))
		for i, r := range all {
			keys[i] = r.Key
		}
		return nil, app.InvalidField("recipe", "there is no recipe %s in this project: it has %s", d.Recipe,
			strings.Join(keys, ", "))
	}
	r := &all[at]
	d.Type = cmp.Or(d.Type, r.Type)
	if len(d.Variants) == 0 && d.Type == r.Type {
		d.Variants = r.Variants
	}
	has := func(name string) bool {
		return slices.ContainsFunc(d.Variants, func(v app.Variant) bool { return v.Name == name })
	}
	if d.Resting == "" && has(r.Resting) {
		d.Resting = r.Resting
	}
	if d.End == "" && has(r.End) {
		d.End = r.End
	}
	if d.GoneBy == "" {
		d.GoneBy = "stays"
		if r.Months > 0 {
			d.GoneBy = time.UnixMilli(d.Created).AddDate(0, r.Months, 0).Format(time.DateOnly)
		}
	}
	if r.NeedsOwner && len(d.Owners) == 0 {
		asks = append(asks, flag.Problem{Place: "owners", Mend: "this recipe wants somebody who answers for the flag"})
	}
	if r.NeedsLoses && strings.TrimSpace(d.Loses) == "" {
		asks = append(asks, flag.Problem{Place: "loses", Mend: "say what users lose while the flag rests: who " +
			"stops it at night reads that"})
	}
	return asks, nil
}

func beginAsCopy(tx Tx, d *app.Definition, of string) error {
	from, err := tx.LockDefinition(d.ProjectID, of)
	if err != nil || from.Retired != nil {
		return app.InvalidField("copyOf", "there is no flag %s in this project", of)
	}
	if d.Type != "" && d.Type != from.Type || len(d.Variants) > 0 {
		return app.InvalidField("variants",
			"a copy has the type and the variants of %s: leave them out, and add some "+
				"later", of)
	}
	d.Type, d.Variants, d.Visible = from.Type, from.Variants, from.Visible
	d.Resting, d.End = from.Resting, from.End
	d.Recipe, d.Loses = cmp.Or(d.Recipe, from.Recipe), cmp.Or(d.Loses, from.Loses)
	d.GoneBy, d.Description = cmp.Or(d.GoneBy, from.GoneBy), cmp.Or(d.Description, from.Description)
	if d.Owners == nil {
		d.Owners = from.Owners
	}
	if d.Tags == nil {
		d.Tags = from.Tags
	}
	return nil
}

// copied is a document as the first of another flag: off, with rules of its own, whose shares are drawn
// anew, but for those that move together with another flag's.
func copied(of *flag.Document, d *app.Definition) *flag.Document {
	doc := *of
	doc.Key, doc.Lever, doc.Visible, doc.Rules = d.Key, flag.Off, d.Visible, slices.Clone(of.Rules)
	drawn := func(g flag.Gives) flag.Gives {
		if g.Shares != nil && g.Shares.Like == nil {
			anew := *g.Shares
			anew.Salt = conditions.NewSalt()
			g.Shares = &anew
		}
		return g
	}
	for i := range doc.Rules {
		doc.Rules[i].ID, doc.Rules[i].Release = "r"+conditions.NewSalt(), ""
		doc.Rules[i].Gives = drawn(doc.Rules[i].Gives)
	}
	doc.End = drawn(doc.End)
	return &doc
}

// fill sets what a new definition leaves open by its type.
func fill(d *app.Definition) {
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
	d.End = cmp.Or(d.End, d.Resting)
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

// FirstDocument is a new flag's document: the lever off, no rules, the end as the definition has it.
func FirstDocument(d *app.Definition) *flag.Document {
	doc := &flag.Document{Key: d.Key, Type: d.Type, Visible: d.Visible, Lever: flag.Off, Resting: d.Resting,
		End: flag.Gives{Variant: cmp.Or(d.End, d.Resting)}, Variants: map[string]json.RawMessage{}}
	for _, v := range d.Variants {
		doc.Variants[v.Name] = v.Value
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
	text("loses", d.Loses, 500)
	text("recipe", d.Recipe, 100)
	if d.GoneBy == "" {
		add("goneBy", "say by which date the flag should be gone, such as %s, or that it stays",
			time.UnixMilli(d.Created).AddDate(0, 3, 0).Format(time.DateOnly))
	} else if _, err := time.Parse(time.DateOnly, d.GoneBy); err != nil && d.GoneBy != "stays" {
		add("goneBy", `must be a date such as 2027-03-31, or "stays"`)
	}
	found = append(found, checkVariants(d.Type, d.Variants, d.Resting, d.End)...)
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

// CheckRecipe says what of a recipe cannot stand.
func CheckRecipe(r *app.Recipe) []flag.Problem {
	found := checkVariants(r.Type, r.Variants, r.Resting, r.End)
	add := func(place, mend string) { found = append(found, flag.Problem{Place: place, Mend: mend}) }
	if mend := flag.CheckKey(r.Key); mend != "" {
		add("key", mend)
	}
	if strings.TrimSpace(r.Title) == "" || len(r.Title) > 200 || !utf8.ValidString(r.Title) {
		add("title", "must be valid UTF-8 of 1 to 200 bytes")
	}
	if len(r.Says) > 500 || !utf8.ValidString(r.Says) {
		add("says", "must be valid UTF-8 of at most 500 bytes")
	}
	if r.Months < 0 || r.Months > 120 {
		add("months", "must be 0, for a flag that stays, to 120")
	}
	for i := range found {
		found[i].Place = "recipe." + found[i].Place
	}
	return found
}

// checkVariants says what of variants cannot stand, and of those that rest and end.
func checkVariants(of flag.Type, variants []app.Variant, resting, end string) (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: place, Mend: fmt.Sprintf(format, args...)})
	}
	typed := slices.Contains(flag.Types(), of)
	if !typed {
		add("type", "must be boolean, string, number or object")
	}
	names := map[string]bool{}
	for i, v := range variants {
		place := fmt.Sprintf("variants[%d]", i)
		if mend := flag.CheckVariant(v.Name); mend != "" {
			add(place+".name", "%s", mend)
		}
		if names[v.Name] {
			add(place+".name", "stands twice")
		}
		names[v.Name] = true
		if mend := flag.CheckNewValue(of, v.Value); typed && mend != "" {
			add(place+".value", "%s", mend)
		}
	}
	if n := len(variants); n < 2 || n > flag.MaxVariants {
		add("variants", "takes 2 to %d variants, has %d", flag.MaxVariants, n)
		return found
	}
	if !names[resting] {
		add("resting", "%q is no variant of this flag", resting)
	}
	if !names[end] {
		add("end", "%q is no variant of this flag", end)
	}
	return found
}

func describe(d *app.Definition) []diff.Line {
	var names []string
	for _, v := range d.Variants {
		names = append(names, "`"+v.Name+"`")
	}
	line := func(format string, args ...any) diff.Line { return diff.Text(fmt.Sprintf(format, args...)) }
	return []diff.Line{line("flag %q made: %s, variants %s, resting `%s`", d.Title, d.Type,
		strings.Join(names, ", "), d.Resting),
		line("gone by %s", d.GoneBy), line("visible to browsers %t", d.Visible)}
}
