package flags

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Put saves a flag's document.
type Put struct {
	Document flag.Document `json:"document"`
	// Exact takes shares as they are given, with their salts and buckets, in place of moving as few as possible from
	// where they stand: as they were at another time, or are in another place.
	Exact bool   `json:"exact,omitempty"`
	Units *int64 `json:"units,omitempty"` // that would move, where the service asked to confirm that number
}

// Saved is the result of a change of a flag document.
type Saved struct {
	Key         string         `json:"key"`
	Environment string         `json:"environment"`
	Version     int64          `json:"version"`
	Revision    int64          `json:"revision"`
	Document    *flag.Document `json:"document"`
	Sentence    words.Said     `json:"sentence"`
	Says        []words.Said   `json:"says"` // each rule by itself, and the end
	Difference  []words.Said   `json:"difference"`
}

// holdFlag holds the environment, and reads the flag in one message with it.
func holdFlag(m *commit.Moment) (*app.Environment, error) {
	held, err := commit.Narrow[documents](m).LockFlag(m.Environment.ID, m.Of)
	if err != nil {
		return nil, err
	}
	m.Held = held
	return held.Environment, nil
}

// stands is the document that is edited.
func (s *Service) stands(ctx context.Context, m *commit.Moment) (version int64, present func() any, err error) {
	held := m.Held.(*app.HeldFlag)
	old := held.Flag
	return old.Version, func() any {
		names := s.names(ctx, m.Environment.ID)
		return map[string]any{"version": old.Version, "document": old.Document,
			"sentence": sentence.Of(old.Document, held.Stop != "", names), "says": sentence.Parts(old.Document, names)}
	}, nil
}

// put saves a document. Rules without an id are new; shares keep their salt and move as few
// buckets as their new sizes require. A document that changes nothing makes no revision.
func (s *Service) put(ctx context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	tx, env, names := commit.Narrow[documents](m), m.Environment, s.names(ctx, m.Environment.ID)
	held := m.Held.(*app.HeldFlag)
	old, stopped := held.Flag, held.Stop != ""
	now := in.Document // it may be prepared again
	now.Key, now.Rules = m.Of, slices.Clone(in.Document.Rules)
	if err := s.check(ctx, tx, env, old.Document, &now, in.Exact); err != nil {
		return nil, err
	}
	if err := underStop(held, &now); err != nil {
		return nil, err
	}
	declared := conditions.Declared(tx, env.ProjectID)
	lines := diff.Flags(old.Document, &now, declared.Personal)
	if declared.Err != nil {
		return nil, declared.Err
	}
	saved := &Saved{Key: now.Key, Environment: env.Key, Version: old.Version, Revision: env.Revision, Document: &now,
		Sentence: sentence.Of(&now, stopped, names), Says: sentence.Parts(&now, names), Difference: diff.Said(lines)}
	if len(lines) == 0 {
		return commit.Nothing(saved), nil
	}
	if now.Asks() > old.Document.Asks() { // those that ask for it then take more decisions
		if err := s.Overflows.Refuse(ctx, env.ID, []*flag.Document{&now}, nil); err != nil {
			return nil, err
		}
	}
	saved.Version++
	saved.Revision++
	e, err := commit.FlagPut(env, old.Document, &app.FlagRecord{Key: now.Key, Version: saved.Version, Document: &now},
		"flag.changed", lines)
	e.Judge = commit.Judge{Before: old.Document, After: &now, Units: in.Units,
		Noted: func(lines []diff.Line) { saved.Difference = append(saved.Difference, diff.Said(lines)...) }}
	return &commit.Effects{Result: saved, In: []commit.Effect{e}}, err
}

// takes is the right that the difference takes, and no more.
func takes(m *commit.Moment, in *Put) app.Action {
	old, now := m.Held.(*app.HeldFlag).Flag.Document, &in.Document
	needs := slices.EqualFunc(old.Needs, now.Needs, func(a, b flag.Need) bool { return a == b })
	if old.Resting != now.Resting || !needs || now.Variants != nil && !maps.EqualFunc(old.Variants, now.Variants,
		sameJSON) {
		return app.Document
	}
	return app.ReleaseIt
}

// check completes a document, and refuses one that cannot stand.
func (s *Service) check(ctx context.Context, tx documents, env *app.Environment, old, now *flag.Document,
	exact bool) error {
	around := conditions.Of(tx, env.ID)
	if err := complete(old, now, around, exact); err != nil {
		return err
	}
	return s.Stand(ctx, tx, env, old, now, around)
}

// Stand refuses a completed document that cannot stand.
func (s *Service) Stand(ctx context.Context, tx documents, env *app.Environment, old, now *flag.Document,
	around *conditions.Around) error {
	problems := now.Check()
	if len(problems) == 0 {
		problems = now.CheckReferences(around)
	}
	if around.Err != nil {
		return around.Err
	}
	if err := app.InvalidFields(below("document", problems)); err != nil {
		return err
	}
	if err := s.fits(ctx, env.ID, now, old); err != nil {
		return err
	}
	return stillAlike(tx, env.ID, old, now)
}

// underStop keeps what a stop gives from being edited while it stands.
func underStop(held *app.HeldFlag, now *flag.Document) error {
	old := held.Flag.Document
	if held.Stop == "" || now.Resting == old.Resting && sameJSON(now.Variants[now.Resting],
		old.Variants[old.Resting]) {
		return nil
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"stop": held.Stop},
		Detail: "while stop " + held.Stop + " stands, the resting variant and its value cannot be edited: lift it " +
			"first, or leave them as they are"}
}

func sameJSON(a, b json.RawMessage) bool {
	if bytes.Equal(a, b) {
		return true
	}
	x, err1 := audit.Canonical(a)
	y, err2 := audit.Canonical(b)
	return err1 == nil && err2 == nil && bytes.Equal(x, y)
}

// fits refuses new comparisons that what is declared or seen of their attribute can never
// meet: such a rule would silently never apply.
func (s *Service) fits(ctx context.Context, env int64, now, old *flag.Document) error {
	if s.Judge == nil {
		return nil
	}
	had := conditions.Leaves{}
	for i := range old.Rules {
		had.Add(old.Rules[i].When)
	}
	anew := false // most edits bring no comparison that was not there
	for i := range now.Rules {
		now.Rules[i].When.Leaves(func(l *condition.Node) {
			anew = anew || !had[l.Words()] || strings.HasPrefix(l.Test, "version.")
		})
	}
	if !anew {
		return nil
	}
	known, err := s.Judge(ctx, env)
	if err != nil {
		return err
	}
	var found []flag.Problem
	for i := range now.Rules {
		found = append(found, conditions.Unfit(fmt.Sprintf("document.rules[%d].when", i), now.Rules[i].When, known,
			had)...)
	}
	return app.InvalidFields(found)
}

func below(place string, problems []flag.Problem) []flag.Problem {
	for i := range problems {
		problems[i].Place = place + "." + problems[i].Place
	}
	return problems
}

// documented is what a flag's document stands in, as [commit.Kind.Standing] shows it and as it is saved.
type documented struct {
	Document json.RawMessage `json:"document"`
}

// Complete gives the change with the ids, salts and buckets that a dry run gave it.
func (p *Put) Complete(result json.RawMessage) (any, error) {
	out := *p
	var saved Saved
	if err := json.Unmarshal(result, &saved); err != nil {
		return nil, err
	}
	if saved.Document != nil {
		out.Document = *saved.Document
	}
	return &out, nil
}

// Edits says what the change makes of a flag as it stood.
func (p *Put) Edits(base json.RawMessage) ([]merge.Edit, error) {
	was, ours, err := p.beside(base)
	if err != nil {
		return nil, err
	}
	return merge.Flag.Edits(was, ours)
}

func (p *Put) beside(base json.RawMessage) (was, ours json.RawMessage, err error) {
	var b documented
	if err = json.Unmarshal(base, &b); err == nil {
		ours, err = json.Marshal(p.Document)
	}
	return b.Document, ours, err
}

// Carry gives the change upon a flag as it stands at present.
func (p *Put) Carry(base, present json.RawMessage) (any, []merge.Conflict, error) {
	was, ours, err := p.beside(base)
	if err != nil {
		return nil, nil, err
	}
	var now documented
	if err := json.Unmarshal(present, &now); err != nil {
		return nil, nil, err
	}
	merged, conflicts, err := merge.Flag.Merge(was, now.Document, ours)
	if err != nil {
		return nil, nil, err
	}
	out := *p
	out.Document = flag.Document{}
	return &out, conflicts, json.Unmarshal(merged, &out.Document)
}
