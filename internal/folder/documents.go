package folder

import (
	"fmt"
	"maps"
	"slices"

	"greenlever.example/core/carry"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/files"
)

func metricKey(m *evidence.Metric) (string, int64, bool) { return m.Key, 0, false }

// put is a document that is to be saved in an environment.
type put struct {
	version int64
	with    any
	from    From
}

// documents saves what flags and segments are in the environments, each after what it refers to.
func (p *planner) documents() {
	for _, e := range p.now.Environments {
		puts := map[carry.Ref]put{}
		var docs []*flag.Document
		var segs []*flag.Segment
		for _, s := range p.want.Segments {
			if doc := p.segment(s, e.Key, puts); doc != nil {
				segs = append(segs, doc)
			}
		}
		for _, f := range p.want.Flags {
			if doc := p.flag(f, e.Key, puts); doc != nil {
				docs = append(docs, doc)
			}
		}
		for _, ref := range carry.Order(docs, segs) {
			one := puts[ref]
			do := "flag.put"
			if ref.Segment {
				do = "segment.put"
			}
			p.add(do, e.Key, ref.Key, []int64{one.version}, one.with, one.from)
		}
	}
	for _, f := range p.want.Flags {
		for env := range f.In {
			if !p.environment(env) {
				p.wrong("flags/"+f.Definition.Key+".yaml", "there is no environment "+env+" in this project",
					f.Place,
					"environments", env)
			}
		}
	}
	for _, s := range p.want.Segments {
		for env := range s.In {
			if !p.environment(env) {
				p.wrong("segments/"+s.Key+".yaml", "there is no environment "+env+" in this project", s.Place,
					"environments", env)
			}
		}
	}
}

// flag gives a flag's document as it is to be; nil where it is like that.
func (p *planner) flag(f *files.Flag, env string, puts map[carry.Ref]put) *flag.Document {
	d := f.Definition
	ref := carry.Ref{Key: d.Key}
	want := flags.FirstDocument(&d)
	if in := f.In[env]; in != nil {
		copied := *in
		want = &copied
	}
	was, version := flags.FirstDocument(&d), int64(1)
	if !p.made[ref] {
		at := slices.IndexFunc(p.now.Flags, func(o WholeFlag) bool { return o.Definition.Key == d.Key })
		stands, is := p.now.Flags[at].In[env]
		if !is {
			return nil
		}
		was, version = stands.Document, stands.Version
	}
	want.Rules, want.Variants = p.rules(f, env, want.Rules, was), maps.Clone(want.Variants)
	for name, value := range was.Variants { // one that is to go goes when nothing uses it any more
		if _, is := want.Variants[name]; !is {
			want.Variants[name] = value
		}
	}
	now := *was
	now.Visible = want.Visible
	now.Variants = maps.Clone(was.Variants)
	for _, v := range d.Variants { // one that is new has the definition's value
		if _, is := now.Variants[v.Name]; !is {
			now.Variants[v.Name] = v.Value
		}
	}
	exact := p.want.Project.Exact
	a, b := &now, want
	if !exact {
		a, b = plain(a), plain(b)
	} else {
		x, y := now, *want
		x.Requires, y.Requires = nil, nil
		a, b = &x, &y
	}
	if sameJSON(a, b) {
		return nil
	}
	if p.bumped[d.Key] {
		version++
	}
	if !exact {
		want = b
	}
	puts[ref] = put{version, &flags.Put{Document: *want, Exact: exact}, From{File: "flags/" + d.Key + ".yaml",
		Thing: "flag/" + d.Key + "/" + env, Path: []string{"environments", env}, place: f.Place}}
	return want
}

// rules are those of a file, with what it leaves as it stands: kept rules, and those that a release owns.
func (p *planner) rules(f *files.Flag, env string, rules []flag.Rule, was *flag.Document) (out []flag.Rule) {
	for i, r := range rules {
		if r.ID == "" { // a new one; or the one of its name, where it was loaded already
			r.ID = called(r.Name, rules, was)
		}
		if slices.Contains(f.Kept[env], r.ID) {
			stands := was.Rule(r.ID)
			if stands == nil {
				p.note("rule %q of %s in %s was left out of the files, and does not stand there: it is left out",
					r.Name, f.Definition.Key, env)
				continue
			}
			r = *stands
		}
		if o := was.Rule(r.ID); o != nil && o.Release != "" {
			p.wrong("flags/"+f.Definition.Key+".yaml", "is the id of a rule that a release owns: leave it out",
				f.Place,
				"environments", env, "rules", fmt.Sprint(i), "id")
		}
		out = append(out, r)
	}
	return carry.Around(out, was.Rules, func(string) bool { return true })
}

// called is the id of the one rule that stands with a name and that no other rule of the file is; empty: there is
// none.
func called(name string, rules []flag.Rule, was *flag.Document) (id string) {
	for _, r := range was.Rules {
		if r.Name != name || r.Release != "" || slices.ContainsFunc(rules, func(o flag.Rule) bool {
			return o.ID == r.ID
		}) {
			continue
		}
		if id != "" {
			return ""
		}
		id = r.ID
	}
	if n := slices.IndexFunc(rules, func(r flag.Rule) bool { return r.ID == "" && r.Name == name }); n >= 0 &&
		slices.ContainsFunc(rules[n+1:], func(r flag.Rule) bool { return r.ID == "" && r.Name == name }) {
		return "" // two of that name
	}
	return id
}

// segment gives a segment's document as it is to be; nil where it is like that.
func (p *planner) segment(s *files.Segment, env string, puts map[carry.Ref]put) *flag.Segment {
	ref := carry.Ref{Key: s.Key, Segment: true}
	was, version := &flag.Segment{Key: s.Key}, int64(1)
	if !p.made[ref] {
		at := slices.IndexFunc(p.now.Segments, func(o WholeSegment) bool { return o.Key == s.Key })
		stands, is := p.now.Segments[at].In[env]
		if !is {
			return nil
		}
		was, version = stands.Document, stands.Version
	}
	in := s.In[env]
	want := &flag.Segment{Key: s.Key, When: in.When, Lists: in.Lists}
	changed := want.Lists != was.Lists || !sameJSON(want.When, was.When)
	for _, l := range []struct {
		name  string
		units []string
		was   *flag.List
		into  **flag.List
	}{{"in", in.In, was.In, &want.In}, {"out", in.Out, was.Out, &want.Out}} {
		if p.leaves("units") {
			*l.into = l.was
			continue
		}
		had, err := exactUnits(s.Key, env, l.name, l.was, p.how.Units)
		if err != nil {
			p.wrong("segments/"+s.Key+".yaml", err.Error(), s.Place, "environments", env)
			return nil
		}
		units := slices.Clone(l.units)
		slices.Sort(units)
		units = slices.Compact(units)
		switch {
		case slices.Equal(had, units):
			*l.into = l.was
		case len(units) > 0:
			*l.into, changed = &flag.List{Units: units}, true
		default:
			changed = true
		}
	}
	if !changed {
		return nil
	}
	puts[ref] = put{version, map[string]any{"when": want.When, "lists": want.Lists, "in": want.In, "out": want.Out},
		From{File: "segments/" + s.Key + ".yaml", Thing: "segment/" + s.Key + "/" + env,
			Path: []string{"environments", env}, place: s.Place}}
	return want
}
