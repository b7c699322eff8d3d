package manage

import (
	"encoding/json"
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/expr"
)

var _ = listed(
	op[newFlagBody, app.Definition]("POST", atProject+"/flags", "Make a flag, in every environment with its "+
		"lever off", (*call).addFlag).below().change().needs(app.MakeFlag),
	op[none, app.Definition]("GET", atProject+"/flags/:flag", "A flag's definition",
		(*call).definition).needs(app.Read),
	op[none, Definitions]("GET", atProject+"/definitions", "The definitions of all flags, by key",
		(*call).definitions).needs(app.Read),
	op[definitionEdit, app.Definition]("PATCH", atProject+"/flags/:flag",
		"Change a definition; variants and visibility change in all environments at once",
		(*call).editFlag).ifMatch().change().needs(app.Define),
	op[copyBody, copiedRules]("POST", atProject+"/flags/:flag/copy-rules", "Put a flag's rules from an environment "+
		"into others", (*call).copyRules).change().needs(app.ReleaseIt),
	op[none, FlagView]("GET", atEnvironment+"/flags/:flag", "A flag in an environment", (*call).flag).needs(app.Read),
	op[documentBody, savedFlag]("PUT", atEnvironment+"/flags/:flag", "Save a flag's document",
		(*call).putFlag).ifMatch().change().needs(app.ReleaseIt),
)

type newFlagBody struct {
	flags.Make
	Reason string `json:"reason,omitempty"`
}

// must names what cannot be left out.
func (newFlagBody) must() []string { return []string{"key"} }

func (c *call) addFlag(in *newFlagBody) (any, error) {
	return c.apply(in.Reason, "", &in.Make)
}

type definitionView struct{ *app.Definition }

func (d definitionView) version() int64 { return d.Version }

func (c *call) definition(*none) (any, error) {
	p := c.p
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	return definitionView{d}, nil
}

// Definitions is what a project owns of all its flags.
type Definitions struct {
	Project string           `json:"project"` // its key
	Items   []app.Definition `json:"items"`
}

func (c *call) definitions(*none) (any, error) {
	items, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	return &Definitions{c.p.Key, items}, err
}

type definitionEdit struct {
	flags.Edit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editFlag(in *definitionEdit) (any, error) {
	return c.apply(in.Reason, c.Param("flag"), &in.Edit)
}

// FlagView is a flag in an environment.
type FlagView struct {
	Definition  *app.Definition  `json:"definition"`
	Environment *app.Environment `json:"environment"`
	Document    *flag.Document   `json:"document"`
	Version     int64            `json:"version"`
	Revision    int64            `json:"revision"` // that made this version
	Stops       []StopView       `json:"stops"`    // standing ones
	Sentence    words.Said       `json:"sentence"`
	Says        []words.Said     `json:"says"`            // each rule by itself, and the end
	Texts       []string         `json:"texts"`           // each rule's condition as text
	Asked       *app.Asked       `json:"asked,omitempty"` // since when code asks for it
	Changed     int64            `json:"changed"`         // when this version was made
	By          string           `json:"by"`              // who made it
	Reason      string           `json:"reason,omitempty"`
}

func (f *FlagView) version() int64 { return f.Version }

func (c *call) flag(*none) (any, error) {
	p, e := c.p, c.e
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	rec, err := c.api.Records.Flag(c.ctx, e.ID, d.Key)
	if err != nil {
		return nil, err
	}
	all, err := c.standing(e, 0)
	if err != nil {
		return nil, err
	}
	names := c.api.Population.Names(c.ctx, e.ID)
	standing := slices.DeleteFunc(all, func(s StopView) bool {
		return s.LiftedAt != 0 || !slices.Contains(s.Flags, d.Key)
	})
	v := &FlagView{Definition: d, Environment: e, Document: rec.Document, Version: rec.Version, Revision: rec.Revision,
		Stops:    standing,
		Sentence: sentence.Of(rec.Document, len(standing) > 0, names), Says: sentence.Parts(rec.Document, names),
		Texts: texts(rec.Document)}
	asked, err := c.api.Records.Asked(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(asked, func(a app.Asked) bool { return a.Flag == d.Key }); i >= 0 {
		v.Asked = &asked[i]
	}
	stands, err := c.api.Records.FlagStands(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	v.Changed = stands[d.Key].Changed
	v.By, v.Reason, err = c.made(e, d.Key, rec.Revision)
	return v, err
}

// made says who made a version of a flag, and why.
func (c *call) made(e *app.Environment, flag string, revision int64) (by, reason string, err error) {
	const near = 50 // stops and lifts may have come since
	rows, err := c.api.Records.History(c.ctx, audit.Query{Project: c.p.ID, Environment: e.ID, Subject: flag,
		Limit: near})
	if err != nil {
		return "", "", err
	}
	for i := range rows {
		entry, err := rows[i].Read()
		if err != nil {
			return "", "", err
		}
		if entry.Revision != revision {
			continue
		}
		names, err := c.names()
		if err != nil {
			return "", "", err
		}
		return called(names, &entry.Actor), entry.Reason, nil
	}
	return "", "", nil
}

// texts are the rules' conditions as text; empty for everybody, and for what has none.
func texts(d *flag.Document) []string {
	out := make([]string, len(d.Rules))
	for i := range d.Rules {
		out[i], _ = expr.Print(d.Rules[i].When)
	}
	return out
}

type documentBody struct {
	flags.Put
	Reason string `json:"reason,omitempty"`
}

// savedFlag is the answer on saving a document; a dry run says what it would move.
type savedFlag struct {
	flags.Saved
	Preview *preview.Preview `json:"preview,omitempty"`
}

func (c *call) putFlag(in *documentBody) (any, error) {
	if in.Document.Key == "" {
		in.Document.Key = c.Param("flag")
	}
	if in.Document.Key != c.Param("flag") {
		return nil, app.InvalidField("document.key", "is %q, the address says %q", in.Document.Key, c.Param("flag"))
	}
	raw, err := c.apply(in.Reason, c.Param("flag"), &in.Put)
	if err != nil {
		return nil, err
	}
	return withPreview(c, raw, c.e, func(s *flags.Saved) preview.Edit {
		return preview.Edit{Flags: []*flag.Document{s.Document}}
	})
}

type copyBody struct {
	flags.CopyRules
	Reason string `json:"reason,omitempty"`
}

// copiedRules is the answer on copying rules; a dry run says what it would move in each environment.
type copiedRules struct {
	Items []savedFlag `json:"items"`
}

func (c *call) copyRules(in *copyBody) (any, error) {
	raw, err := c.apply(in.Reason, c.Param("flag"), &in.CopyRules)
	if err != nil || c.QueryParam("dryRun") != "true" {
		return raw, err
	}
	var done flags.Copied
	if err := json.Unmarshal(raw, &done); err != nil {
		return nil, err
	}
	out := &copiedRules{Items: make([]savedFlag, len(done.Items))}
	for i, s := range done.Items {
		_, e, err := c.api.Records.Place(c.ctx, c.p.Key, s.Environment)
		if err != nil {
			return nil, err
		}
		p, err := c.api.Preview.Of(c.ctx, e, preview.Edit{Flags: []*flag.Document{s.Document}})
		if err != nil {
			return nil, err
		}
		out.Items[i] = savedFlag{s, p}
	}
	return out, nil
}
