package folder

import (
	"encoding/json"

	"greenlever.example/greenlever/internal/app/flags"
)

// parts are digests of what the files say of each thing, as in [Versions]: so it is known later which of them somebody
// edited.
func (f *Folder) parts(environments []string) map[string]string {
	out := map[string]string{}
	say := func(thing string, v any) {
		if raw, err := json.Marshal(v); err == nil {
			out[thing] = digest(raw)
		}
	}
	say("project", f.Project.Title)
	for _, e := range f.Project.Environments {
		say("environment/"+e.Key, e)
	}
	for _, one := range f.Flags {
		d := one.Definition
		say("flag/"+d.Key, d)
		for _, env := range environments {
			doc := one.In[env]
			if doc == nil {
				doc = flags.FirstDocument(&d)
			}
			say("flag/"+d.Key+"/"+env, []any{doc, one.Kept[env]})
		}
	}
	for _, s := range f.Segments {
		say("segment/"+s.Key, s.Title)
		for _, env := range environments {
			say("segment/"+s.Key+"/"+env, s.In[env])
		}
	}
	for _, a := range f.Attributes {
		say("attribute/"+a.Name, a)
	}
	for _, l := range f.Ladders {
		say("ladder/"+l.Key, l)
	}
	for _, r := range f.Recipes {
		say("recipe/"+r.Key, r)
	}
	for _, m := range f.Metrics {
		say("metric/"+m.Key, m)
	}
	for _, o := range f.Policies {
		say("policy/"+o.Key, o)
	}
	for _, b := range f.Bundles {
		say("bundle/"+b.Key, b)
	}
	return out
}

// Keep notes in versions what the files of a folder say of each thing.
func (v *Versions) Keep(f *Folder, w *Whole) {
	var keys []string
	for i := range w.Environments {
		keys = append(keys, w.Environments[i].Key)
	}
	v.Saved = f.parts(keys)
}

// untouched tells whether nobody edited what the files say of a thing, and somebody did in the service: then it stays
// as it is there.
func (p *planner) untouched(thing string) bool {
	if p.how.Seen == nil || p.how.Seen.Saved == nil || p.parts[thing] == "" ||
		p.how.Seen.Saved[thing] != p.parts[thing] {
		return false
	}
	stands, is := p.stands[thing]
	return is && p.how.Seen.Things[thing] != stands
}
