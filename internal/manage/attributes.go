package manage

import (
	"cmp"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/attributes"
)

var _ = listed(
	op[none, AttributesView]("GET", atEnvironment+"/attributes",
		"Attributes as they are declared and as they are seen",
		(*call).attributes).needs(app.Read),
	op[attributeBody, app.Attribute]("PUT", atProject+"/attributes/:attribute",
		"Declare an attribute, or change what is declared", (*call).putAttribute).ifMatch().change().needs(
		app.Define),
	op[none, app.Attribute]("DELETE", atProject+"/attributes/:attribute", "Take an attribute out of the catalogue",
		(*call).removeAttribute).change().needs(app.Define),
)

// AttributeView is an attribute as it is declared and as it is seen.
type AttributeView struct {
	Name     string         `json:"name"`
	Declared *app.Attribute `json:"declared,omitempty"`
	Seen     *sample.Seen   `json:"seen,omitempty"`
	Share    float64        `json:"share"`         // of the contexts that were looked at, 0 to 1, that had it
	Odd      string         `json:"odd,omitempty"` // what does not fit
	UsedBy   []string       `json:"usedBy"`        // flags and segments, in this environment
}

// AttributesView is an environment's attributes.
type AttributesView struct {
	Items    []AttributeView `json:"items"`
	Contexts uint64          `json:"contexts"` // that were looked at in the last 7 days
}

func (c *call) attributes(*none) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	declared, err := c.api.Records.Attributes(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	seen, contexts, err := c.api.Population.Seen(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	all := map[string]*AttributeView{}
	at := func(name string) *AttributeView {
		if all[name] == nil {
			all[name] = &AttributeView{Name: name, UsedBy: []string{}}
		}
		return all[name]
	}
	for i := range declared {
		at(declared[i].Name).Declared = &declared[i]
	}
	for name, s := range seen {
		v := at(name)
		v.Seen = s
		if contexts > 0 {
			v.Share = min(float64(s.Present())/float64(contexts), 1)
		}
	}
	for f := range rules.Flags {
		for _, name := range f.Document().Attributes() {
			if name != condition.KeyAttribute {
				at(name).UsedBy = append(at(name).UsedBy, f.Key)
			}
		}
	}
	for key := range rules.Source.Segments {
		if s := rules.Source.Segment(key); s != nil {
			names := map[string]bool{s.Attribute(): s.In.Len()+s.Out.Len() > 0}
			s.When.Leaves(func(l *condition.Node) { names[l.Attribute] = true })
			for name, used := range names {
				if used && name != "" && name != condition.KeyAttribute {
					at(name).UsedBy = append(at(name).UsedBy, "segment "+key)
				}
			}
		}
	}
	out := &AttributesView{Items: []AttributeView{}, Contexts: contexts}
	for _, v := range all {
		slices.Sort(v.UsedBy)
		v.Odd = oddity(v, contexts)
		out.Items = append(out.Items, *v)
	}
	slices.SortFunc(out.Items, func(a, b AttributeView) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// oddity says what does not fit between what is declared, seen and compared.
func oddity(v *AttributeView, contexts uint64) string {
	switch {
	case v.Declared == nil && v.Seen == nil:
		return "is compared, but neither declared nor seen"
	case v.Declared == nil:
		return "is sent, but not declared"
	case v.Seen == nil && contexts >= 100:
		return "is declared, but never sent"
	case v.Seen != nil:
		want := v.Declared.Type.Kind()
		for kind, n := range v.Seen.Kinds {
			if kind != want && n*50 > v.Seen.Present() {
				return "is declared as " + string(v.Declared.Type) + ", and arrives as " + kind + " too"
			}
		}
	}
	return ""
}

type attributeBody struct {
	attributes.Declare
	Reason string `json:"reason,omitempty"`
}

// must names what cannot be left out.
func (attributeBody) must() []string { return []string{"type"} }

func (c *call) putAttribute(in *attributeBody) (any, error) {
	if in.Name == "" {
		in.Name = c.Param("attribute")
	}
	if in.Name != c.Param("attribute") {
		return nil, app.InvalidField("name", "is %q, the address says %q", in.Name, c.Param("attribute"))
	}
	return c.apply(in.Reason, in.Name, &in.Declare)
}

func (c *call) removeAttribute(*none) (any, error) {
	return c.apply("", c.Param("attribute"), &attributes.Remove{})
}
