// Package folder keeps a project as files in a folder, and says what of the project they would change.
//
// Its nouns are the [Whole] of a project as the service has it, a [Folder] as it was read, and a [Todo]: the changes
// that take the one to the other, as data. The smallest use:
//
//	written, err := whole.Files(folder.Options{}, units)     // path: bytes
//	read, err := folder.Read(os.DirFS(dir))
//	todo, err := folder.Plan(whole, read, folder.How{Units: units})
//
// Nothing of it is state: no revisions, stops or releases that run. What a release that runs owns of a flag's rules
// is
// left out of the files, and left as it stands where they are loaded.
package folder

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/files"
)

// Whole is a project as the service has it.
type Whole struct {
	Project      app.Project       `json:"project"`
	Environments []app.Environment `json:"environments"`
	Flags        []WholeFlag       `json:"flags"`
	Segments     []WholeSegment    `json:"segments"`
	Attributes   []app.Attribute   `json:"attributes"`
	Ladders      []app.Ladder      `json:"ladders"`
	Recipes      []app.Recipe      `json:"recipes"`
	Metrics      []evidence.Metric `json:"metrics"`
	Policies     []app.Policy      `json:"policies"`
	Bundles      []app.Bundle      `json:"bundles"`
}

// WholeFlag is a flag with its documents.
type WholeFlag struct {
	Definition app.Definition           `json:"definition"`
	In         map[string]WholeDocument `json:"in"` // by environment
}

// WholeDocument is a flag's document in an environment.
type WholeDocument struct {
	Version  int64          `json:"version"`
	Document *flag.Document `json:"document"`
}

// WholeSegment is a segment with its documents. Long lists are named by their digest.
type WholeSegment struct {
	Key   string                          `json:"key"`
	Title string                          `json:"title"`
	In    map[string]WholeSegmentDocument `json:"in"` // by environment
}

// WholeSegmentDocument is a segment in an environment.
type WholeSegmentDocument struct {
	Version  int64         `json:"version"`
	Document *flag.Segment `json:"document"`
}

// Units reads a long list of a segment: in or out.
type Units func(segment, environment, list string) ([]string, error)

// Options are how a project is written.
type Options struct {
	Exact         bool // salts and buckets as well, so that the same units get the same shares elsewhere
	WithoutPeople bool // no owners
	WithoutUnits  bool // no lists of units, and no rules that name units
}

// Sidecar is the folder of what is no part of the project: the versions that were saved, and the schemas.
const Sidecar = ".greenlever"

// Ours tells whether a file of a folder is one that a project is kept in. Others are left alone.
func Ours(at string) bool {
	dir, name := path.Split(at)
	switch dir {
	case "":
		return name == "project.yaml" || name == "attributes.yaml" || name == "bundles.yaml"
	case "segments/":
		return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".txt")
	}
	return slices.Contains([]string{"flags/", "ladders/", "recipes/", "metrics/", "policies/"}, dir) &&
		strings.HasSuffix(name, ".yaml")
}

// mostInline is how many units stand in a segment's file; longer lists stand beside it.
const mostInline = 50

// leftOut are the names of what options leave out.
func (o Options) leftOut() (out []string) {
	if o.WithoutPeople {
		out = append(out, "people")
	}
	if o.WithoutUnits {
		out = append(out, "units")
	}
	return out
}

// Files writes a project: the bytes of each file by its path.
func (w *Whole) Files(o Options, units Units) (map[string][]byte, error) {
	out := map[string][]byte{}
	var failed error
	add := func(at string, raw []byte, err error) {
		if err != nil {
			failed = cmp.Or(failed, fmt.Errorf("%s: %w", at, err))
		}
		out[at] = schemaAt(at, raw)
	}
	raw, err := files.WriteProject(&files.Project{Key: w.Project.Key, Title: w.Project.Title, Exact: o.Exact,
		LeftOut: o.leftOut(), Environments: w.Environments})
	add("project.yaml", raw, err)
	for i := range w.Flags {
		d := w.Flags[i].Definition
		if o.WithoutPeople {
			d.Owners = nil
		}
		in := map[string]*flag.Document{}
		for env, one := range w.Flags[i].In {
			in[env] = one.Document
		}
		raw, err := files.WriteFlag(&d, in, files.FlagOptions{Exact: o.Exact, Kept: w.kept(o)})
		add("flags/"+d.Key+".yaml", raw, err)
	}
	for i := range w.Segments {
		raw, err := w.segmentFile(&w.Segments[i], o, units, out)
		add("segments/"+w.Segments[i].Key+".yaml", raw, err)
	}
	raw, err = files.WriteAttributes(w.Attributes)
	add("attributes.yaml", raw, err)
	raw, err = files.WriteBundles(w.Bundles)
	add("bundles.yaml", raw, err)
	for i := range w.Ladders {
		if l := &w.Ladders[i]; !l.Shipped {
			raw, err := files.WriteLadder(l)
			add("ladders/"+l.Key+".yaml", raw, err)
		}
	}
	for i := range w.Recipes {
		if r := &w.Recipes[i]; !r.Shipped {
			raw, err := files.WriteRecipe(r)
			add("recipes/"+r.Key+".yaml", raw, err)
		}
	}
	for i := range w.Metrics {
		raw, err := files.WriteMetric(&w.Metrics[i])
		add("metrics/"+w.Metrics[i].Key+".yaml", raw, err)
	}
	for i := range w.Policies {
		raw, err := files.WritePolicy(&w.Policies[i])
		add("policies/"+w.Policies[i].Key+".yaml", raw, err)
	}
	return out, failed
}

// schemaAt has editors find the schema of a file in the sidecar.
func schemaAt(at string, raw []byte) []byte {
	up := strings.Repeat("../", strings.Count(at, "/"))
	return bytes.Replace(raw, []byte("$schema="), []byte("$schema="+cmp.Or(up, "./")+Sidecar+"/"), 1)
}

// kept tells of a rule whether it names units, which are left out of the files.
func (w *Whole) kept(o Options) func(r *flag.Rule) bool {
	if !o.WithoutUnits {
		return nil
	}
	personal := map[string]bool{condition.KeyAttribute: true}
	for _, a := range w.Attributes {
		personal[a.Name] = personal[a.Name] || a.Personal
	}
	return func(r *flag.Rule) (names bool) {
		r.When.Leaves(func(l *condition.Node) { names = names || personal[l.Attribute] && len(l.Text) > 0 })
		return names
	}
}

func (w *Whole) segmentFile(s *WholeSegment, o Options, units Units, beside map[string][]byte) ([]byte, error) {
	out := &files.Segment{Key: s.Key, Title: s.Title, In: map[string]files.SegmentIn{}}
	for env, one := range s.In {
		in := files.SegmentIn{When: one.Document.When, Lists: one.Document.Lists}
		for _, l := range []struct {
			name  string
			list  *flag.List
			units *[]string
			file  *string
		}{{"in", one.Document.In, &in.In, &in.InFile}, {"out", one.Document.Out, &in.Out, &in.OutFile}} {
			if l.list.Len() == 0 || o.WithoutUnits {
				continue
			}
			all, err := exactUnits(s.Key, env, l.name, l.list, units)
			if err != nil {
				return nil, err
			}
			if len(all) <= mostInline && !slices.ContainsFunc(all, func(u string) bool {
				return strings.Contains(u,
					"\n")
			}) {
				*l.units = all
				continue
			}
			*l.file = fmt.Sprintf("%s.%s.%s.txt", s.Key, env, l.name)
			beside["segments/"+*l.file] = []byte(strings.Join(all, "\n") + "\n")
		}
		out.In[env] = in
	}
	return files.WriteSegment(out)
}

// exactUnits are the units of a list, sorted.
func exactUnits(segment, environment, name string, l *flag.List, units Units) ([]string, error) {
	if l.Len() == 0 {
		return nil, nil
	}
	all := slices.Clone(l.Units)
	if l.Digest != "" {
		var err error
		if all, err = units(segment, environment, name); err != nil {
			return nil, err
		}
	}
	slices.Sort(all)
	return all, nil
}

// Folder is a project as its files have it.
type Folder struct {
	Project    *files.Project
	Flags      []*files.Flag
	Segments   []*files.Segment
	Attributes []app.Attribute
	Ladders    []app.Ladder
	Recipes    []app.Recipe
	Metrics    []evidence.Metric
	Policies   []app.Policy
	Bundles    []app.Bundle
	has        map[string]bool // paths that were read
}

// Problem is one thing that is wrong with a folder.
type Problem struct {
	File string
	files.Problem
}

// Problems are the things that are wrong with a folder.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = one.File
		if one.Line > 0 {
			lines[i] += fmt.Sprintf(": line %d, column %d", one.Line, one.Column)
		}
		if one.Place != "" {
			lines[i] += ": " + one.Place
		}
		lines[i] += ": " + one.Mend
	}
	return strings.Join(lines, "\n")
}

// reader reads a folder.
type reader struct {
	fsys  fs.FS
	out   *Folder
	found Problems
}

// Read reads a folder. The error is Problems where files are wrong.
func Read(fsys fs.FS) (*Folder, error) {
	r := &reader{fsys: fsys, out: &Folder{has: map[string]bool{}}}
	r.one("project.yaml", true, func(raw []byte) (string, error) {
		var err error
		r.out.Project, err = files.ReadProject(raw)
		return "", err
	})
	r.one("attributes.yaml", false, func(raw []byte) (_ string, err error) {
		r.out.Attributes, err = files.ReadAttributes(raw)
		return "", err
	})
	r.one("bundles.yaml", false, func(raw []byte) (_ string, err error) {
		r.out.Bundles, err = files.ReadBundles(raw)
		return "", err
	})
	each(r, "flags", files.ReadFlag, func(f *files.Flag) string {
		r.out.Flags = append(r.out.Flags, f)
		return f.Definition.Key
	})
	each(r, "segments", files.ReadSegment, func(s *files.Segment) string {
		r.lists(s)
		r.out.Segments = append(r.out.Segments, s)
		return s.Key
	})
	each(r, "ladders", files.ReadLadder, func(l *app.Ladder) string {
		r.out.Ladders = append(r.out.Ladders, *l)
		return l.Key
	})
	each(r, "recipes", files.ReadRecipe, func(v *app.Recipe) string {
		r.out.Recipes = append(r.out.Recipes, *v)
		return v.Key
	})
	each(r, "metrics", files.ReadMetric, func(m *evidence.Metric) string {
		r.out.Metrics = append(r.out.Metrics, *m)
		return m.Key
	})
	each(r, "policies", files.ReadPolicy, func(p *app.Policy) string {
		r.out.Policies = append(r.out.Policies, *p)
		return p.Key
	})
	if len(r.found) > 0 {
		return nil, r.found
	}
	return r.out, nil
}

func (r *reader) one(at string, must bool, read func(raw []byte) (key string, err error)) {
	raw, err := fs.ReadFile(r.fsys, at)
	if err != nil && !must {
		return
	}
	if err != nil {
		r.found = append(r.found, Problem{at, files.Problem{Mend: "is not there: `greenlever files save` writes " +
			"it"}})
		return
	}
	r.out.has[at] = true
	key, err := read(raw)
	var wrong files.Problems
	switch is := false; {
	case err == nil:
		if name := strings.TrimSuffix(path.Base(at), ".yaml"); key != "" && key != name {
			r.found = append(r.found, Problem{at, files.Problem{Line: 1, Column: 1,
				Mend: fmt.Sprintf("holds %s: call the "+
					"file %s.yaml", key, key)}})
		}
	default:
		if wrong, is = err.(files.Problems); !is {
			wrong = files.Problems{{Line: 1, Column: 1, Place: "the file", Mend: err.Error()}}
		}
		for _, p := range wrong {
			r.found = append(r.found, Problem{at, p})
		}
	}
}

// each reads the files of a kind, in order of their names.
func each[T any](r *reader, dir string, read func(raw []byte) (*T, error), take func(*T) (key string)) {
	entries, err := fs.ReadDir(r.fsys, dir)
	if err != nil {
		return // there are none
	}
	for _, e := range entries {
		if e.IsDir() || !strings.HasSuffix(e.Name(), ".yaml") {
			continue
		}
		r.one(dir+"/"+e.Name(), true, func(raw []byte) (string, error) {
			v, err := read(raw)
			if err != nil {
				return "", err
			}
			return take(v), nil
		})
	}
}

// lists reads the lists that stand beside a segment.
func (r *reader) lists(s *files.Segment) {
	at := "segments/" + s.Key + ".yaml"
	for env, in := range s.In {
		for _, l := range []struct {
			name, file string
			units      *[]string
		}{{"in", in.InFile, &in.In}, {"out", in.OutFile, &in.Out}} {
			if l.file == "" {
				continue
			}
			raw, err := fs.ReadFile(r.fsys, "segments/"+l.file)
			if err != nil || strings.Contains(l.file, "/") {
				line, column := s.Place("environments", env, l.name+"File")
				r.found = append(r.found, Problem{at, files.Problem{Line: line, Column: column,
					Place: "environments." + env +
						"." + l.name + "File", Mend: "there is no file segments/" + l.file}})
				continue
			}
			*l.units = strings.FieldsFunc(string(raw), func(c rune) bool { return c == '\n' || c == '\r' })
		}
		s.In[env] = in
	}
}
