package folder

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"greenlever.example/core/carry"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/files"
)

// How a folder is laid upon a project.
type How struct {
	Units  Units
	Seen   *Versions // what was saved; nil where that is not known
	Remove bool      // takes away what the folder does not have, of what can be taken away
}

// Change is a change as the API takes it.
type Change struct {
	Do          string  `json:"do"`
	Project     string  `json:"project"`
	Environment string  `json:"environment,omitempty"`
	Of          string  `json:"of,omitempty"`
	Versions    []int64 `json:"versions,omitempty"`
	With        any     `json:"with"`
}

// Todo is what takes a project to what a folder says.
type Todo struct {
	Changes []Change
	From    []From   // where each of the changes comes from
	Notes   []string // what stays as it is, and why
	Things  []string // that the changes overwrite, as in [Versions]; each once
	Stayed  []string // that others changed in the service, and nobody in the files
}

// From is where in the folder a change comes from.
type From struct {
	File  string
	Thing string
	Path  []string // of what the change is of, in the file
	place func(path ...string) (line, column int)
}

// Problem is a refusal of the service at a place of a change, in the words of the folder.
func (f *From) Problem(at, mend string) Problem {
	p := Problem{File: f.File, Problem: files.Problem{Mend: mend, Place: at}}
	if f.place != nil {
		p.Line, p.Column = f.place(append(slices.Clone(f.Path), inFile(at)...)...)
	}
	return p
}

// inFile is the path in a file of a place in a change: document.rules[1].when is rules, 1, when.
func inFile(place string) (path []string) {
	place = strings.TrimPrefix(strings.TrimPrefix(place, "with."), "document.")
	for _, part := range strings.FieldsFunc(place, func(r rune) bool { return r == '.' || r == '[' || r == ']' }) {
		if part == "shares" && len(path) > 0 && (path[len(path)-1] == "gives" || path[0] == "end") {
			return path
		}
		path = append(path, part)
	}
	return path
}

// Plan says what of a project a folder would change. The error is Problems where that cannot be.
func Plan(now *Whole, want *Folder, how How) (*Todo, error) {
	if want.Project.Key != now.Project.Key {
		return nil, Problems{{"project.yaml", files.Problem{Line: 1, Column: 1, Place: "project", Mend: fmt.Sprintf(
			"is %s, and the project that is to be changed is %s: name it with --project", want.Project.Key,
			now.Project.Key)}}}
	}
	p := &planner{now: now, want: want, how: how, out: &Todo{}, stands: now.Versions(nil).Things}
	var keys []string
	for i := range now.Environments {
		keys = append(keys, now.Environments[i].Key)
	}
	p.parts = want.parts(keys)
	if want.Project.Title != now.Project.Title {
		p.add("project.edit", "", "", nil, map[string]any{"title": want.Project.Title}, From{File: "project.yaml",
			Thing: "project"})
	}
	p.attributes()
	p.segments()
	p.flags()
	p.documents()
	p.named()
	p.out.Changes, p.out.From = append(p.out.Changes, p.last...), append(p.out.From, p.lastFrom...)
	p.environments()
	if len(p.found) > 0 {
		return nil, p.found
	}
	return p.out, nil
}

type planner struct {
	now      *Whole
	want     *Folder
	how      How
	out      *Todo
	found    Problems
	bumped   map[string]bool // flags whose documents a change of the definition makes anew, before they are put
	made     map[carry.Ref]bool
	parts    map[string]string // digests of what the files say, by thing
	stands   map[string]string // versions of now, by thing
	last     []Change          // after the documents
	lastFrom []From
}

func (p *planner) add(do, environment, of string, versions []int64, with any, from From) {
	if p.untouched(from.Thing) {
		p.leave(from.Thing)
		return
	}
	p.out.Changes = append(p.out.Changes, Change{Do: do, Project: p.now.Project.Key, Environment: environment,
		Of:       of,
		Versions: versions, With: with})
	p.out.From = append(p.out.From, from)
	if from.Thing != "" && !slices.Contains(p.out.Things, from.Thing) {
		p.out.Things = append(p.out.Things, from.Thing)
	}
}

func (p *planner) wrong(file, mend string, place func(path ...string) (int, int), path ...string) {
	one := Problem{File: file, Problem: files.Problem{Place: strings.Join(path, "."), Mend: mend}}
	if place != nil {
		one.Line, one.Column = place(path...)
	}
	p.found = append(p.found, one)
}

func (p *planner) note(format string, args ...any) {
	p.out.Notes = append(p.out.Notes, fmt.Sprintf(format, args...))
}

// leave leaves a thing as others made it in the service.
func (p *planner) leave(thing string) {
	if !slices.Contains(p.out.Stayed, thing) {
		p.out.Stayed = append(p.out.Stayed, thing)
		p.note("%s was changed in the service since the folder was saved, and not in the files: it stays as it "+
			"is there",
			thing)
	}
}

func (p *planner) leaves(what string) bool { return slices.Contains(p.want.Project.LeftOut, what) }

func (p *planner) environment(key string) bool {
	return slices.ContainsFunc(p.now.Environments, func(e app.Environment) bool { return e.Key == key })
}

func (p *planner) attributes() {
	if !p.want.has["attributes.yaml"] {
		return
	}
	for _, a := range p.want.Attributes {
		at := slices.IndexFunc(p.now.Attributes, func(o app.Attribute) bool { return o.Name == a.Name })
		from := From{File: "attributes.yaml", Thing: "attribute/" + a.Name}
		if at < 0 {
			p.add("attribute.declare", "", a.Name, nil, a, from)
			continue
		}
		version := p.now.Attributes[at].Version
		was := p.now.Attributes[at]
		was.Version = 0
		if was != a {
			p.add("attribute.declare", "", a.Name, []int64{version}, a, from)
		}
	}
	for _, a := range p.now.Attributes {
		if !slices.ContainsFunc(p.want.Attributes, func(o app.Attribute) bool { return o.Name == a.Name }) {
			p.gone("attribute", a.Name, "attributes.yaml")
		}
	}
}

// gone takes away what the folder does not have, or says that it stays.
func (p *planner) gone(noun, key, file string) {
	if p.how.Remove {
		p.add(noun+".remove", "", key, nil, struct{}{}, From{File: file, Thing: noun + "/" + key})
		return
	}
	p.note("%s %s is not in the folder, and stays: --remove takes it away", noun, key)
}

func (p *planner) segments() {
	p.made = map[carry.Ref]bool{}
	for _, s := range p.want.Segments {
		at := slices.IndexFunc(p.now.Segments, func(o WholeSegment) bool { return o.Key == s.Key })
		from := From{File: "segments/" + s.Key + ".yaml", Thing: "segment/" + s.Key, place: s.Place}
		switch {
		case at < 0:
			p.made[carry.Ref{Key: s.Key, Segment: true}] = true
			p.add("segment.make", "", "", nil, map[string]any{"key": s.Key, "title": s.Title}, from)
		case p.now.Segments[at].Title != s.Title:
			p.add("segment.edit", "", s.Key, nil, map[string]any{"title": s.Title}, from)
		}
	}
	for _, s := range p.now.Segments {
		if !slices.ContainsFunc(p.want.Segments, func(o *files.Segment) bool { return o.Key == s.Key }) {
			p.note("segment %s is not in the folder, and stays: segments are not taken away", s.Key)
		}
	}
}

func (p *planner) flags() {
	p.bumped = map[string]bool{}
	for _, f := range p.want.Flags {
		d := f.Definition
		if p.leaves("people") {
			d.Owners = nil
		}
		from := From{File: "flags/" + d.Key + ".yaml", Thing: "flag/" + d.Key, place: f.Place}
		at := slices.IndexFunc(p.now.Flags, func(o WholeFlag) bool { return o.Definition.Key == d.Key })
		if at < 0 {
			p.made[carry.Ref{Key: d.Key}] = true
			d.Owners = append([]string{}, d.Owners...)
			p.add("flag.make", "", "", nil, d, from)
			continue
		}
		p.definition(&p.now.Flags[at].Definition, &d, from)
	}
	for _, f := range p.now.Flags {
		if !slices.ContainsFunc(p.want.Flags, func(o *files.Flag) bool {
			return o.Definition.Key == f.Definition.Key
		}) {
			p.note("flag %s is not in the folder, and stays: `greenlever retire` takes a flag out of use",
				f.Definition.Key)
		}
	}
}

// definition edits a definition: what is added comes before the documents that may use it, what is taken away after.
func (p *planner) definition(was, is *app.Definition, from From) {
	if was.Type != is.Type {
		p.wrong(from.File, fmt.Sprintf("never changes: it is %s", was.Type), from.place, "type")
		return
	}
	edit := flags.Edit{}
	text := func(into **string, was, is *string) {
		if *was != *is {
			*into = is
		}
	}
	text(&edit.Title, &was.Title, &is.Title)
	text(&edit.Description, &was.Description, &is.Description)
	text(&edit.Loses, &was.Loses, &is.Loses)
	text(&edit.GoneBy, &was.GoneBy, &is.GoneBy)
	text(&edit.Resting, &was.Resting, &is.Resting)
	text(&edit.End, &was.End, &is.End)
	if !slices.Equal(was.Owners, is.Owners) && !p.leaves("people") {
		owners := append([]string{}, is.Owners...)
		edit.Owners = &owners
	}
	if !slices.Equal(was.Tags, is.Tags) {
		edit.Tags = &is.Tags
	}
	if !slices.Equal(was.Muted, is.Muted) {
		muted := append([]app.Mute{}, is.Muted...)
		edit.Muted = &muted
	}
	if was.Visible != is.Visible {
		edit.Visible = &is.Visible
	}
	value := func(d *app.Definition, name string) json.RawMessage {
		if at := slices.IndexFunc(d.Variants, func(v app.Variant) bool { return v.Name == name }); at >= 0 {
			return d.Variants[at].Value
		}
		return nil
	}
	for _, v := range is.Variants {
		switch old := value(was, v.Name); {
		case old == nil:
			edit.AddVariants = append(edit.AddVariants, v)
		case !sameJSON(old, v.Value):
			if edit.Values == nil {
				edit.Values = map[string]json.RawMessage{}
			}
			edit.Values[v.Name] = v.Value
		}
	}
	var goes []string
	for _, v := range was.Variants {
		if value(is, v.Name) == nil {
			goes = append(goes, v.Name)
		}
	}
	if p.untouched(from.Thing) {
		edit, goes = flags.Edit{}, nil
		p.leave(from.Thing)
	}
	version := was.Version
	if !reflect.DeepEqual(edit, flags.Edit{}) {
		p.add("flag.edit", "", is.Key, []int64{version}, edit, from)
		version++
	}
	p.bumped[is.Key] = edit.Visible != nil || len(edit.AddVariants) > 0
	if len(goes) > 0 {
		p.last = append(p.last, Change{Do: "flag.edit", Project: p.now.Project.Key, Of: is.Key,
			Versions: []int64{version},
			With:     flags.Edit{RemoveVariants: goes}})
		p.lastFrom = append(p.lastFrom, from)
	}
}

func sameJSON(a, b any) bool {
	x, err := json.Marshal(a)
	if err != nil {
		return false
	}
	y, err := json.Marshal(b)
	return err == nil && string(x) == string(y)
}

// named are the ladders, recipes, metrics, policies and bundles.
func (p *planner) named() {
	whole(p, "ladder", "ladders", p.now.Ladders, p.want.Ladders, func(l *app.Ladder) (string, int64, bool) {
		return l.Key, 0, l.Shipped
	}, files.WriteLadder)
	whole(p, "recipe", "recipes", p.now.Recipes, p.want.Recipes, func(r *app.Recipe) (string, int64, bool) {
		return r.Key, 0, r.Shipped
	}, files.WriteRecipe)
	whole(p, "metric", "metrics", p.now.Metrics, p.want.Metrics, metricKey, files.WriteMetric)
	whole(p, "policy", "policies", p.now.Policies, p.want.Policies, func(o *app.Policy) (string, int64, bool) {
		return o.Key, o.Version, false
	}, files.WritePolicy)
	if !p.want.has["bundles.yaml"] {
		return
	}
	whole(p, "bundle", "", p.now.Bundles, p.want.Bundles, func(b *app.Bundle) (string, int64, bool) {
		return b.Key, b.Version, false
	}, func(b *app.Bundle) ([]byte, error) { return files.WriteBundles([]app.Bundle{*b}) })
}

// whole are things that are saved as a whole.
func whole[T any](p *planner, noun, dir string, now, want []T, of func(*T) (key string, version int64, shipped bool),
	write func(*T) ([]byte, error)) {
	find := func(all []T, key string) *T {
		for i := range all {
			if k, _, _ := of(&all[i]); k == key {
				return &all[i]
			}
		}
		return nil
	}
	for i := range want {
		key, _, _ := of(&want[i])
		file := dir + "/" + key + ".yaml"
		if dir == "" {
			file = noun + "s.yaml"
		}
		is, err := write(&want[i])
		if err != nil {
			p.wrong(file, err.Error(), nil)
			continue
		}
		var versions []int64
		if old := find(now, key); old != nil {
			_, version, shipped := of(old)
			was, err := write(old)
			if err == nil && bytes.Equal(was, is) && !shipped {
				continue
			}
			if version > 0 {
				versions = []int64{version}
			}
		}
		p.add(noun+".put", "", key, versions, map[string]any{noun: want[i]}, From{File: file, Thing: noun + "/" +
			key})
	}
	for i := range now {
		if key, _, shipped := of(&now[i]); !shipped && find(want, key) == nil {
			file := dir + "/" + key + ".yaml"
			if dir == "" {
				file = noun + "s.yaml"
			}
			p.gone(noun, key, file)
		}
	}
}

func (p *planner) environments() {
	for _, e := range p.want.Project.Environments {
		at := slices.IndexFunc(p.now.Environments, func(o app.Environment) bool { return o.Key == e.Key })
		if at < 0 {
			p.wrong("project.yaml", fmt.Sprintf("there is no environment %s: make it first, with `greenlever "+
				"environment "+
				"make %s`, since its access keys are shown once", e.Key, e.Key), nil, "environments", e.Key)
			continue
		}
		was, edit := &p.now.Environments[at], map[string]any{}
		if was.Title != e.Title {
			edit["title"] = e.Title
		}
		if was.AskFirst != e.AskFirst {
			edit["askFirst"] = e.AskFirst
		}
		if was.OwnersOnly != e.OwnersOnly {
			edit["ownersOnly"] = e.OwnersOnly
		}
		if was.Signing.String() != e.Signing.String() {
			edit["signing"] = e.Signing
		}
		if len(edit) > 0 {
			p.add("environment.edit", e.Key, "", nil, edit, From{File: "project.yaml", Thing: "environment/" +
				e.Key})
		}
	}
}

// plain is a document without what the service draws.
func plain(d *flag.Document) *flag.Document {
	out := *d
	out.Requires, out.Rules, out.End = nil, slices.Clone(d.Rules), drawn(d.End)
	for i := range out.Rules {
		out.Rules[i].Gives = drawn(out.Rules[i].Gives)
	}
	return &out
}

func drawn(g flag.Gives) flag.Gives {
	if g.Shares == nil {
		return g
	}
	s := *g.Shares
	s.Salt, s.Hash, s.Parts = "", 0, slices.Clone(s.Parts)
	for i := range s.Parts {
		s.Parts[i].Ranges = []flag.Ranges{}
	}
	return flag.Gives{Shares: &s}
}
