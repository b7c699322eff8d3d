// Package segments holds the changes of segments: they are made in a project, and their
// documents are saved in an environment.
package segments

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Service knows what changes of segments rest on.
type Service struct {
	Judge     conditions.Judge
	Overflows conditions.Overflows
}

// Tx is what changes of segments read.
type Tx interface {
	Flag(environment int64, key string) (*app.FlagRecord, error)
	Segment(environment int64, key string) (*app.SegmentRecord, error)
	Attributes(project int64) ([]app.Attribute, error)
	SegmentTitles(project int64) (map[string]string, error)
}

// Kinds are the changes of segments.
func (s *Service) Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "segment.make", Says: "Makes a segment, in every environment alike",
			Action: app.Define, Span: commit.Environments, Guarded: true, Queued: true}, s.make),
		commit.Of(commit.Kind{Name: "segment.edit", Says: "Changes a segment's title", Action: app.Define,
			Span: commit.Project, Queued: true}, edit),
		commit.Of(commit.Kind{Name: "segment.put", Says: "Saves a segment's document in an environment",
			Action: app.Define, Span: commit.Environment, Guarded: true, Signs: true, Moves: true, Queued: true},
			s.put).Standing(stands),
	}
}

// Edit gives the segment that the change is of another title.
type Edit struct {
	Title string `json:"title"`
}

// Titled is a segment with its title.
type Titled struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

func edit(_ context.Context, m *commit.Moment, in *Edit) (*commit.Effects, error) {
	titles, err := commit.Narrow[Tx](m).SegmentTitles(m.Project.ID)
	if err != nil {
		return nil, err
	}
	was, is := titles[m.Of]
	if !is {
		return nil, app.Faultf(app.NotFound, "there is no segment %q in this project", m.Of)
	}
	if mend := app.CheckText(in.Title, 1, 200); mend != "" {
		return nil, app.InvalidField("title", "%s", mend)
	}
	out := &Titled{m.Of, in.Title}
	if was == in.Title {
		return commit.Nothing(out), nil
	}
	return &commit.Effects{Result: out, Back: m.Back(&Edit{Title: was}), In: []commit.Effect{{Project: m.Project,
		Records: []commit.Record{&app.SegmentTitle{ProjectID: m.Project.ID, Key: m.Of, Title: in.Title}},
		Entries: []commit.Entry{commit.Said("segment.titled", m.Of,
			diff.Text(fmt.Sprintf("title %q → %q", was, in.Title)))}}}}, nil
}

// Document is a segment without its key.
type Document struct {
	When  *condition.Node `json:"when,omitempty"`
	Lists string          `json:"lists,omitempty"` // the attribute that the lists name
	In    *flag.List      `json:"in,omitempty"`
	Out   *flag.List      `json:"out,omitempty"`
}

// Segment is the document of a segment with a key. The targeting key is what lists name where
// nothing is said.
func (d *Document) Segment(key string) *flag.Segment {
	s := &flag.Segment{Key: key, When: d.When, Lists: d.Lists, In: d.In, Out: d.Out}
	if s.Lists == condition.KeyAttribute {
		s.Lists = ""
	}
	for _, l := range []**flag.List{&s.In, &s.Out} {
		if *l != nil && (*l).Len() == 0 {
			*l = nil
		}
	}
	return s
}

// Make makes a segment: its key in the project, and in every environment the lists and the
// condition given.
type Make struct {
	Key   string `json:"key"`
	Title string `json:"title,omitempty"`
	Document
}

// Put saves a segment. Lists that live outside the document are given beside it where they are
// new, with the one before, as the difference to which they are kept; one that is named as it was
// stays as it was.
type Put struct {
	Document
	Base     *app.ListBody   `json:"base,omitempty"`
	NewLists []*app.ListBody `json:"newLists,omitempty"`
}

// Saved is the result of a change of a segment.
type Saved struct {
	Key         string        `json:"key"`
	Title       string        `json:"title"`
	Environment string        `json:"environment,omitempty"`
	Version     int64         `json:"version"`
	Revision    int64         `json:"revision"`
	Document    *flag.Segment `json:"document"`
	Difference  []words.Said  `json:"difference"`
}

func (s *Service) make(ctx context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	tx := commit.Narrow[Tx](m)
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	title, doc := in.Title, in.Segment(in.Key)
	if err := app.CheckTitled(doc.Key, &title); err != nil {
		return nil, err
	}
	when, problems := conditions.Settle("when", doc.When)
	doc.When = when
	if len(problems) > 0 {
		return nil, app.InvalidFields(problems)
	}
	if err := knownLists(nil, doc, nil); err != nil {
		return nil, err
	}
	declared := conditions.Declared(tx, m.Project.ID)
	lines := diff.Segments(nil, doc, declared.Personal)
	if declared.Err != nil {
		return nil, declared.Err
	}
	made := commit.Said("segment.made", doc.Key, diff.Text(fmt.Sprintf("segment %q made", title)))
	out := &commit.Effects{Result: &Saved{Key: doc.Key, Title: title, Version: 1, Document: doc,
		Difference: diff.Said(lines)},
		In: []commit.Effect{{Project: m.Project, Entries: []commit.Entry{made},
			Records: []commit.Record{&app.SegmentDefinition{ProjectID: m.Project.ID, Key: doc.Key, Title: title,
				Created: m.At}}}}}
	for i := range envs {
		if err := s.fits(ctx, envs[i].ID, doc, nil); err != nil {
			return nil, err
		}
		e, err := s.effect(tx, &envs[i], &app.SegmentRecord{Key: doc.Key, Version: 1, Document: doc}, "segment.made",
			lines)
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	return out, nil
}

func (s *Service) fits(ctx context.Context, env int64, now, old *flag.Segment) error {
	if s.Judge == nil {
		return nil
	}
	known, err := s.Judge(ctx, env)
	if err != nil {
		return err
	}
	had := conditions.Leaves{}
	if old != nil {
		had.Add(old.When)
	}
	return app.InvalidFields(conditions.Unfit("when", now.When, known, had))
}

// stands reads the document that is edited.
func stands(_ context.Context, m *commit.Moment) (version int64, present func() any, err error) {
	old, err := commit.Narrow[Tx](m).Segment(m.Environment.ID, m.Of)
	if err != nil {
		return 0, nil, err
	}
	if old == nil {
		return 0, nil, app.Faultf(app.NotFound, "there is no segment %s in this project", m.Of)
	}
	m.Held = old
	return old.Version, func() any { return map[string]any{"version": old.Version, "document": old.Document} }, nil
}

func (s *Service) put(ctx context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	tx, env, old := commit.Narrow[Tx](m), m.Environment, m.Held.(*app.SegmentRecord)
	now := in.Segment(m.Of)
	when, problems := conditions.Settle("when", now.When)
	now.When = when
	if len(problems) > 0 {
		return nil, app.InvalidFields(problems)
	}
	if err := s.fits(ctx, env.ID, now, old.Document); err != nil {
		return nil, err
	}
	if err := knownLists(old.Document, now, in.NewLists); err != nil {
		return nil, err
	}
	declared := conditions.Declared(tx, env.ProjectID)
	lines := diff.Segments(old.Document, now, declared.Personal)
	if declared.Err != nil {
		return nil, declared.Err
	}
	saved := &Saved{Key: now.Key, Environment: env.Key, Version: old.Version, Revision: env.Revision, Document: now,
		Difference: diff.Said(lines)}
	if len(lines) == 0 {
		return commit.Nothing(saved), nil
	}
	if err := s.Overflows.Refuse(ctx, env.ID, nil, []*flag.Segment{now}); err != nil {
		return nil, err
	}
	saved.Version++
	saved.Revision++
	e, err := s.effect(tx, env, &app.SegmentRecord{Key: now.Key, Version: saved.Version, Document: now},
		"segment.changed", lines)
	for _, l := range in.NewLists {
		e.Records = append([]commit.Record{&app.ListRecord{ProjectID: env.ProjectID, List: l, Base: in.Base,
			At: m.At}}, e.Records...)
	}
	return &commit.Effects{Result: saved, In: []commit.Effect{e}}, err
}

// knownLists checks that long lists are the ones that stand or come with the change.
func knownLists(old, now *flag.Segment, lists []*app.ListBody) error {
	if old == nil {
		old = &flag.Segment{}
	}
	for place, pair := range map[string][2]*flag.List{"in": {old.In, now.In}, "out": {old.Out, now.Out}} {
		before, l := pair[0], pair[1]
		if l == nil || l.Digest == "" || before != nil && *before.Ref() == *l.Ref() {
			continue
		}
		if !slices.ContainsFunc(lists, func(b *app.ListBody) bool {
			return b.Digest == l.Digest && len(b.Hashes) == l.Count
		}) {
			return app.InvalidField(place+".digest", "is not the list that stands: upload long lists as a file")
		}
	}
	return nil
}

// effect is the effect of a document that can stand.
func (s *Service) effect(tx Tx, env *app.Environment, rec *app.SegmentRecord, action string,
	lines []diff.Line) (e commit.Effect, err error) {
	problems := rec.Document.Check()
	around := conditions.Of(tx, env.ID)
	if len(problems) == 0 {
		problems = rec.Document.CheckReferences(around)
	}
	if around.Err != nil {
		return e, around.Err
	}
	if err := app.InvalidFields(problems); err != nil {
		return e, err
	}
	return commit.SegmentPut(env, rec, action, lines)
}

// Edits says what the change makes of a segment as it stood.
func (p *Put) Edits(base json.RawMessage) ([]merge.Edit, error) {
	was, ours, err := p.beside(base)
	if err != nil {
		return nil, err
	}
	return merge.Plain.Edits(was, ours)
}

// beside are the document that stood and the one that is saved, both without their key.
func (p *Put) beside(base json.RawMessage) (was, ours json.RawMessage, err error) {
	if was, err = plain(base); err == nil {
		ours, err = json.Marshal(p.Document)
	}
	return was, ours, err
}

func plain(stands json.RawMessage) (json.RawMessage, error) {
	var s struct{ Document Document }
	if err := json.Unmarshal(stands, &s); err != nil {
		return nil, err
	}
	return json.Marshal(s.Document)
}

// Carry gives the change upon a segment as it stands at present.
func (p *Put) Carry(base, present json.RawMessage) (any, []merge.Conflict, error) {
	was, ours, err := p.beside(base)
	if err != nil {
		return nil, nil, err
	}
	now, err := plain(present)
	if err != nil {
		return nil, nil, err
	}
	merged, conflicts, err := merge.Plain.Merge(was, now, ours)
	if err != nil {
		return nil, nil, err
	}
	out := *p
	out.Document = Document{}
	return &out, conflicts, json.Unmarshal(merged, &out.Document)
}
