package manage

import (
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/snippet"
)

var _ = listed(
	op[none, listOf[snippet.Snippet]]("GET", atEnvironment+"/flags/:flag/snippets", "Code that asks for a flag",
		(*call).snippets).needs(app.Read),
)

func (c *call) snippets(*none) (any, error) {
	e, rec, err := c.record()
	if err != nil {
		return nil, err
	}
	by, err := c.looksAt(e, rec.Document)
	if err != nil {
		return nil, err
	}
	scheme := "http"
	if c.api.Secure {
		scheme = "https"
	}
	return listOf[snippet.Snippet]{snippet.For(rec.Document, by, scheme+"://"+c.Request().Host)}, nil
}

// looksAt lists the attributes that a flag looks at, those of its segments among them, but
// for the key.
func (c *call) looksAt(e *app.Environment, d *flag.Document) ([]snippet.Attribute, error) {
	known, _, _, err := c.api.Population.Judge(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	names := d.Attributes()
	var open []string
	for look := d.Segments(); len(look) > 0; look = look[1:] {
		s := place.Rules().Source.Segment(look[0])
		if s == nil || slices.Contains(open, look[0]) {
			continue
		}
		open = append(open, look[0])
		look = append(look, s.Segments()...)
		s.When.Leaves(func(l *condition.Node) { names = append(names, l.Attribute) })
		if s.In.Len()+s.Out.Len() > 0 {
			names = append(names, s.Attribute())
		}
	}
	slices.Sort(names)
	var out []snippet.Attribute
	for _, name := range slices.Compact(names) {
		if name == "" || name == condition.KeyAttribute {
			continue
		}
		kind := known[name].Mostly
		if declared := known[name].Declared; declared != "" {
			kind = declared.Kind()
		}
		out = append(out, snippet.Attribute{Name: name, Kind: kind})
	}
	return out, nil
}
