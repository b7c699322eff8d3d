package change

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// SavedSegment is the result of a change of a segment.
type SavedSegment struct {
	Key         string        `json:"key"`
	Title       string        `json:"title"`
	Environment string        `json:"environment,omitempty"`
	Version     int64         `json:"version"`
	Revision    int64         `json:"revision"`
	Document    *flag.Segment `json:"document"`
	Difference  []words.Said  `json:"difference"`
}

// AddSegment makes a segment: its key in the project, and in every environment the lists
// and the condition given.
func (s *Service) AddSegment(ctx context.Context, r Request, project *app.Project, title string, doc *flag.Segment) (json.RawMessage, error) {
	return s.queue(ctx, project.ID, r, func(tx Tx, c *commit) (any, error) {
		envs, err := c.enterAll(app.Define, project)
		if err != nil {
			return nil, err
		}
		declared := &catalogue{tx: tx, project: project.ID}
		title, doc := title, *doc
		if err := checkPlace(doc.Key, &title); err != nil {
			return nil, err
		}
		when, problems := settle("when", doc.When)
		if doc.When = when; len(problems) > 0 {
			return nil, app.InvalidFields(problems)
		}
		if err := knownLists(nil, &doc, nil); err != nil {
			return nil, err
		}
		if err := tx.AddSegmentDefinition(project.ID, doc.Key, title, c.at); err != nil {
			return nil, err
		}
		e := c.entry("segment.made", project.ID)
		e.Subject = doc.Key
		if err := c.project(e, diff.Text(fmt.Sprintf("segment %q made", title))); err != nil {
			return nil, err
		}
		lines := diff.Segments(nil, &doc, declared.personal)
		if declared.err != nil {
			return nil, declared.err
		}
		for i := range envs {
			if err := c.open(&envs[i]); err != nil {
				return nil, err
			}
			if err := s.fitsSegment(ctx, envs[i].ID, &doc, nil); err != nil {
				return nil, err
			}
			if err := c.putSegment(&envs[i], &app.SegmentRecord{EnvironmentID: envs[i].ID, Key: doc.Key, Version: 1, Document: &doc}, "segment.made", lines); err != nil {
				return nil, err
			}
		}
		return &SavedSegment{Key: doc.Key, Title: title, Version: 1, Document: &doc, Difference: diff.Said(lines)}, nil
	})
}

func (s *Service) fitsSegment(ctx context.Context, env int64, now, old *flag.Segment) error {
	if s.Judge == nil {
		return nil
	}
	known, err := s.Judge(ctx, env)
	if err != nil {
		return err
	}
	had := map[string]bool{}
	if old != nil {
		old.When.Leaves(func(l *condition.Node) { had[l.Words()] = true })
	}
	return app.InvalidFields(unfit("when", now.When, known, had))
}

// PutSegment saves a segment in an environment. Lists that live outside the document are
// given beside it where they are new, with the one before, as the difference to which they
// are kept; one that is named as it was stays as it was.
func (s *Service) PutSegment(ctx context.Context, r Request, env *app.Environment, doc *flag.Segment, base *app.ListBody, lists ...*app.ListBody) (json.RawMessage, error) {
	return s.queue(ctx, env.ProjectID, r, func(tx Tx, c *commit) (any, error) {
		env, err := c.enter(app.Define, env)
		if err != nil {
			return nil, err
		}
		old, err := tx.Segment(env.ID, doc.Key)
		if err != nil {
			return nil, err
		}
		if old == nil {
			return nil, app.Faultf(app.NotFound, "there is no segment %s in this project", doc.Key)
		}
		if err := c.seen(old.Version, map[string]any{"version": old.Version, "document": old.Document}); err != nil {
			return nil, err
		}
		declared := &catalogue{tx: tx, project: env.ProjectID}
		now := *doc
		when, problems := settle("when", doc.When)
		if now.When = when; len(problems) > 0 {
			return nil, app.InvalidFields(problems)
		}
		if err := s.fitsSegment(ctx, env.ID, &now, old.Document); err != nil {
			return nil, err
		}
		if err := knownLists(old.Document, &now, lists); err != nil {
			return nil, err
		}
		lines := diff.Segments(old.Document, &now, declared.personal)
		if declared.err != nil {
			return nil, declared.err
		}
		saved := &SavedSegment{Key: now.Key, Environment: env.Key, Version: old.Version, Revision: env.Revision, Document: &now, Difference: diff.Said(lines)}
		if len(lines) == 0 {
			return saved, nil
		}
		if err := s.overflows(ctx, env.ID, nil, []*flag.Segment{&now}); err != nil {
			return nil, err
		}
		for _, l := range lists {
			if err := tx.PutList(env.ProjectID, l, base, c.at); err != nil {
				return nil, err
			}
		}
		saved.Version++
		err = c.putSegment(env, &app.SegmentRecord{EnvironmentID: env.ID, Key: now.Key, Version: saved.Version, Document: &now}, "segment.changed", lines)
		saved.Revision = env.Revision
		return saved, err
	})
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
		if !slices.ContainsFunc(lists, func(b *app.ListBody) bool { return b.Digest == l.Digest && len(b.Hashes) == l.Count }) {
			return app.InvalidField(place+".digest", "is not the list that stands: upload long lists as a file")
		}
	}
	return nil
}

func (c *commit) putSegment(env *app.Environment, rec *app.SegmentRecord, action string, lines []diff.Line) error {
	problems := rec.Document.Check()
	docs := &around{tx: c.tx, env: env.ID}
	if len(problems) == 0 {
		problems = rec.Document.CheckReferences(docs)
	}
	if docs.err != nil {
		return docs.err
	}
	if err := app.InvalidFields(problems); err != nil {
		return err
	}
	raw, err := json.Marshal(rec.Document)
	if err != nil {
		return err
	}
	rec.Revision = env.Revision + 1
	if err := c.tx.PutSegment(rec); err != nil {
		return err
	}
	e := c.entry(action, env.ProjectID)
	e.Subject, e.Version, e.Document = rec.Key, rec.Version, audit.Digest(raw)
	return c.revise(env, &flag.Event{Segments: []json.RawMessage{raw}}, e, lines)
}
