package files

import (
	"cmp"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/expr"
)

// Project is the file of a project itself.
type Project struct {
	Key, Title   string
	Exact        bool     // salts and buckets stand in the files
	LeftOut      []string // people, units
	Environments []app.Environment
	root         *yaml.Node
}

type signatures struct {
	Need  int        `json:"need"`
	Roles []app.Role `json:"roles"`
	Teams []string   `json:"teams"`
	Lever bool       `json:"leverAlone"`
}

// WriteProject writes a project.
func WriteProject(p *Project) ([]byte, error) {
	f := newFields()
	f.text("project", p.Key)
	if p.Title != p.Key {
		f.text("title", p.Title)
	}
	f.yes("exact", p.Exact)
	f.texts("leftOut", p.LeftOut)
	envs := newFields()
	for i := range p.Environments {
		e := &p.Environments[i]
		one := newFields()
		if e.Title != e.Key {
			one.text("title", e.Title)
		}
		one.yes("asksFirst", e.AskFirst)
		one.yes("ownersOnly", e.OwnersOnly)
		if e.Signing.Need > 0 {
			s := newFields()
			s.number("need", int64(e.Signing.Need))
			var roles []string
			for _, r := range e.Signing.Roles {
				roles = append(roles, string(r))
			}
			s.texts("roles", roles)
			s.texts("teams", e.Signing.Teams)
			s.yes("leverAlone", e.Signing.Lever)
			one.fields("signatures", s)
		}
		if len(one.node.Content) == 0 {
			one.node.Style = yaml.FlowStyle
		}
		envs.node_(e.Key, one.node)
	}
	f.node_("environments", envs.node)
	return encodeNode("project", f.node)
}

// ReadProject reads a project.
func ReadProject(raw []byte) (*Project, error) {
	var in struct {
		Project      string
		Title        string
		Exact        bool
		LeftOut      []string
		Environments map[string]struct {
			Title      string
			AsksFirst  bool
			OwnersOnly bool
			Signatures signatures
		}
	}
	root, err := read("project", raw, &in)
	if err != nil {
		return nil, err
	}
	out := &Project{Key: in.Project, Title: cmp.Or(in.Title, in.Project), Exact: in.Exact, LeftOut: in.LeftOut,
		root: root}
	for _, key := range names(root, "environments") {
		e := in.Environments[key]
		out.Environments = append(out.Environments, app.Environment{Key: key, Title: cmp.Or(e.Title, key),
			AskFirst: e.AsksFirst, OwnersOnly: e.OwnersOnly, Signing: app.Signing{Need: e.Signatures.Need,
				Roles: e.Signatures.Roles, Teams: e.Signatures.Teams, Lever: e.Signatures.Lever}})
	}
	return out, nil
}

// Segment is a file of a segment. Where a list stands beside it, its file is named in place of its units.
type Segment struct {
	Key, Title string
	In         map[string]SegmentIn // by environment
	root       *yaml.Node
}

// SegmentIn is whom a segment takes in an environment.
type SegmentIn struct {
	When            *condition.Node
	Lists           string
	In, Out         []string
	InFile, OutFile string
}

// Place finds where something of the segment stands in its file.
func (s *Segment) Place(path ...string) (line, column int) {
	n := find(s.root, path)
	return n.Line, n.Column
}

// WriteSegment writes a segment. In an environment that it does not name it takes nobody.
func WriteSegment(s *Segment) ([]byte, error) {
	f := newFields()
	f.text("segment", s.Key)
	if s.Title != s.Key {
		f.text("title", s.Title)
	}
	envs := newFields()
	for _, env := range sorted(s.In) {
		in, one := s.In[env], newFields()
		if in.When != nil {
			when, err := expr.Print(in.When)
			if err != nil {
				return nil, err
			}
			one.text("when", when)
		}
		one.text("lists", in.Lists)
		for _, l := range []struct {
			name  string
			units []string
		}{{"in", in.In}, {"out", in.Out}} {
			var all []*yaml.Node
			for _, u := range l.units {
				all = append(all, text(u))
			}
			one.lines(l.name, all)
		}
		one.text("inFile", in.InFile)
		one.text("outFile", in.OutFile)
		envs.fields(env, one)
	}
	f.fields("environments", envs)
	return encodeNode("segment", f.node)
}

// ReadSegment reads a segment.
func ReadSegment(raw []byte) (*Segment, error) {
	var in struct {
		Segment      string
		Title        string
		Environments map[string]struct {
			When, Lists, InFile, OutFile string
			In, Out                      []string
		}
	}
	root, err := read("segment", raw, &in)
	if err != nil {
		return nil, err
	}
	out := &Segment{Key: in.Segment, Title: cmp.Or(in.Title, in.Segment), In: map[string]SegmentIn{}, root: root}
	var found Problems
	if mend := flag.CheckKey(in.Segment); mend != "" {
		found = append(found, wrong(root, mend, "segment"))
	}
	for _, env := range names(root, "environments") {
		e := in.Environments[env]
		one := SegmentIn{Lists: e.Lists, In: e.In, Out: e.Out, InFile: e.InFile, OutFile: e.OutFile}
		if one.When, err = when(root, e.When, "environments", env, "when"); err != nil {
			found = append(found, err.(Problems)...)
		}
		if len(e.In) > 0 && e.InFile != "" {
			found = append(found, wrong(root, "stands in place of in: leave one of them out", "environments", env,
				"inFile"))
		}
		if len(e.Out) > 0 && e.OutFile != "" {
			found = append(found, wrong(root, "stands in place of out: leave one of them out", "environments", env,
				"outFile"))
		}
		out.In[env] = one
	}
	if len(found) > 0 {
		return nil, found
	}
	return out, nil
}

// WriteAttributes writes what a project declares of attributes.
func WriteAttributes(all []app.Attribute) ([]byte, error) {
	var items []*yaml.Node
	for i := range all {
		a, one := &all[i], newFields()
		one.text("attribute", a.Name)
		one.text("type", string(a.Type))
		one.text("description", a.Description)
		one.text("example", a.Example)
		one.text("one", a.One)
		one.text("many", a.Many)
		one.yes("personal", a.Personal)
		one.text("derive", string(a.Derive))
		one.yes("serverOnly", a.ServerOnly)
		one.yes("loose", a.Loose)
		items = append(items, one.node)
	}
	return encodeNode("attributes", listNode("attributes", items))
}

func listNode(name string, items []*yaml.Node) *yaml.Node {
	f := newFields()
	n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Content: items}
	if len(items) == 0 {
		n.Style = yaml.FlowStyle
	}
	f.node_(name, n)
	return f.node
}

// ReadAttributes reads them.
func ReadAttributes(raw []byte) ([]app.Attribute, error) {
	var in struct {
		Attributes []struct {
			Attribute, Type, Description, Example, One, Many, Derive string
			Personal, ServerOnly, Loose                              bool
		}
	}
	root, err := read("attributes", raw, &in)
	if err != nil {
		return nil, err
	}
	out, seen := []app.Attribute{}, map[string]bool{}
	for i, a := range in.Attributes {
		if seen[a.Attribute] {
			return nil, Problems{wrong(root, a.Attribute+" stands twice: leave one out", "attributes", itoa(i),
				"attribute")}
		}
		seen[a.Attribute] = true
		out = append(out, app.Attribute{Name: a.Attribute, Type: lint.Type(a.Type), Description: a.Description,
			Example: a.Example, One: a.One, Many: a.Many, Personal: a.Personal, Derive: sample.Derivation(a.Derive),
			ServerOnly: a.ServerOnly, Loose: a.Loose})
	}
	return out, nil
}

// WriteBundles writes flags that ship together.
func WriteBundles(all []app.Bundle) ([]byte, error) {
	var items []*yaml.Node
	for i := range all {
		b, one := &all[i], newFields()
		one.text("bundle", b.Key)
		if b.Title != b.Key {
			one.text("title", b.Title)
		}
		one.text("says", b.Says)
		one.texts("flags", b.Flags)
		items = append(items, one.node)
	}
	return encodeNode("bundles", listNode("bundles", items))
}

// ReadBundles reads them.
func ReadBundles(raw []byte) ([]app.Bundle, error) {
	var in struct {
		Bundles []struct {
			Bundle, Title, Says string
			Flags               []string
		}
	}
	root, err := read("bundles", raw, &in)
	if err != nil {
		return nil, err
	}
	out, seen := []app.Bundle{}, map[string]bool{}
	for i, b := range in.Bundles {
		if seen[b.Bundle] {
			return nil, Problems{wrong(root, b.Bundle+" stands twice: leave one out", "bundles", itoa(i), "bundle")}
		}
		seen[b.Bundle] = true
		out = append(out, app.Bundle{Key: b.Bundle, Title: cmp.Or(b.Title, b.Bundle), Says: b.Says, Flags: b.Flags})
	}
	return out, nil
}
