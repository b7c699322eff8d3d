package manage

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/seeas"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/expr"
	"greenlever.example/greenlever/internal/web"
)

// here is the place of the address, and its ruleset as it stands in memory.
func (c *call) here() (*app.Project, *app.Environment, *decide.Ruleset, error) {
	p, e := c.p, c.e
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, nil, nil, err
	}
	return p, e, place.Rules(), nil
}

// Conditions as text.

type conditionText struct {
	Text string `json:"text"`
}

// ConditionView is a condition in all of its forms.
type ConditionView struct {
	When  *condition.Node `json:"when,omitempty"`
	Text  string          `json:"text"`
	Words words.Said      `json:"words"`
}

func viewCondition(n *condition.Node) (*ConditionView, error) {
	text, err := expr.Print(n)
	if err != nil {
		return nil, app.InvalidField("when", "%s", err.Error())
	}
	return &ConditionView{n, text, n.Said(nil)}, nil
}

func (c *call) readCondition(in *conditionText) (any, error) {
	if strings.TrimSpace(in.Text) == "" {
		return viewCondition(nil)
	}
	n, err := expr.Parse(in.Text)
	var syntax *expr.SyntaxError
	if errors.As(err, &syntax) {
		return nil, &app.Fault{Kind: app.Invalid, Detail: "the text is no condition",
			More:   map[string]any{"line": syntax.Line, "column": syntax.Column},
			Fields: []flag.Problem{{Place: "text", Mend: syntax.Error()}}}
	}
	if err != nil {
		return nil, err
	}
	return viewCondition(n)
}

type conditionTree struct {
	When *condition.Node `json:"when,omitempty"`
}

func (c *call) writeCondition(in *conditionTree) (any, error) {
	if in.When == nil {
		return viewCondition(nil)
	}
	var found []flag.Problem
	in.When.Check("when", func(place, mend string) {
		if !strings.HasSuffix(place, ".part.salt") {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	if len(found) > 0 {
		return nil, app.InvalidFields(found)
	}
	return viewCondition(in.When.Canonical())
}

func (c *call) conditionFunctions(*none) (any, error) {
	return listOf[string]{expr.Usage()}, nil
}

func (c *call) checks(*none) (any, error) { return listOf[lint.Check]{lint.Checks()}, nil }

// The track of a flag: who is on it now.

func (c *call) track(*none) (any, error) {
	e, rec, err := c.record()
	if err != nil {
		return nil, err
	}
	return c.api.Preview.Of(c.ctx, e, preview.Edit{Flags: []*flag.Document{rec.Document}})
}

// record is the flag of the address as it is kept.
func (c *call) record() (*app.Environment, *app.FlagRecord, error) {
	e := c.e
	rec, err := c.api.Records.Flag(c.ctx, e.ID, c.Param("flag"))
	return e, rec, err
}

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

// Lint.

// lint runs the checks on the flag of the address, or on every flag of the environment.
func (c *call) lint(*none) (any, error) {
	p, e := c.p, c.e
	defs, err := c.api.Records.Definitions(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	times, err := c.api.Records.FlagTimes(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	if key := c.Param("flag"); key != "" {
		at := slices.IndexFunc(defs, func(d app.Definition) bool { return d.Key == key })
		if at < 0 {
			return nil, app.Faultf(app.NotFound, "there is no flag %s in this project", key)
		}
		defs = defs[at : at+1]
	}
	found, err := c.api.Preview.Lint(c.ctx, e, defs, times)
	return listOf[lint.Finding]{found}, err
}

// See it as.

type seeAsBody struct {
	seeas.Issue
	Reason string `json:"reason,omitempty"`
}

func (c *call) seeAs(in *seeAsBody) (any, error) {
	return c.apply(in.Reason, "", &in.Issue)
}

// preview adds to the result of a dry run what the edit would do.
func withPreview[T any](c *call, raw json.RawMessage, e *app.Environment, edit func(*T) preview.Edit) (any, error) {
	if c.QueryParam("dryRun") != "true" {
		return raw, nil
	}
	var saved T
	if err := json.Unmarshal(raw, &saved); err != nil {
		return nil, err
	}
	p, err := c.api.Preview.Of(c.ctx, e, edit(&saved))
	if err != nil {
		return nil, err
	}
	joined := map[string]json.RawMessage{}
	if err := json.Unmarshal(raw, &joined); err != nil {
		return nil, err
	}
	joined["preview"] = web.MustJSON(p)
	return joined, nil
}
