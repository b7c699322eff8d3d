// Package plans makes lists of changes out of what is wished: a change taken back, flags as they stood, flags as they
// are in another environment.
//
// Its noun is a [Plan], which package commit makes and package proposals proposes:
//
//	plan, err := s.Undo(ctx, project, change, at)
//	done, err := commit.Apply(ctx, request, plan.Changes...)
package plans

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"greenlever.example/core/carry"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/segments"
)

// Records are what plans are made of.
type Records interface {
	Flag(ctx context.Context, environment int64, key string) (*app.FlagRecord, error)
	Segment(ctx context.Context, environment int64, key string) (*app.SegmentRecord, error)
	RunningIn(ctx context.Context, environment int64) ([]app.Release, error)
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
	ListUnits(ctx context.Context, environment int64, digest string) ([]byte, error)
}

// Past is what happened, and how it stood.
type Past interface {
	RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error)
	History(ctx context.Context, q audit.Query) ([]audit.Row, error)
	Inverses(ctx context.Context, project int64, change string) ([]json.RawMessage, error)
	Definition(ctx context.Context, project int64, key string) (*app.Definition, error)
	Place(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error)
	Ever(ctx context.Context, project int64) ([]app.Environment, error)
}

// Service makes plans.
type Service struct {
	Records Records
	Past    Past
	Kinds   *commit.Kinds
}

// Plan is what is to be changed, and what is left as it is, and why.
type Plan struct {
	Changes []commit.Change
	Left    []words.Said
}

func (p *Plan) leave(format string, args ...any) { p.Left = append(p.Left, words.Say(format, args...)) }

// runs tells which releases run in an environment.
func (s *Service) runs(ctx context.Context, environment int64) (carry.Runs, error) {
	all, err := s.Records.RunningIn(ctx, environment)
	return func(release string) bool {
		return slices.ContainsFunc(all, func(r app.Release) bool { return r.ID == release })
	}, err
}

// saves gathers documents that are to be saved in one environment, with the versions that stand.
type saves struct {
	in       commit.In
	flags    []*flag.Document
	segments []*flag.Segment
	versions map[carry.Ref]int64
}

func (v *saves) flag(rec *app.FlagRecord, doc *flag.Document) {
	if !sameJSON(rec.Document, doc) {
		v.flags = append(v.flags, doc)
		v.versions[carry.Ref{Key: doc.Key}] = rec.Version
	}
}

func (v *saves) segment(rec *app.SegmentRecord, doc *flag.Segment) {
	if !sameJSON(rec.Document, doc) {
		v.segments = append(v.segments, doc)
		v.versions[carry.Ref{Key: doc.Key, Segment: true}] = rec.Version
	}
}

// changes are what saves the documents, each after those that it refers to.
func (s *Service) changes(ctx context.Context, v *saves) (out []commit.Change, err error) {
	for _, ref := range carry.Order(v.flags, v.segments) {
		c := commit.Change{In: v.in, Of: ref.Key, Versions: []int64{v.versions[ref]}}
		if ref.Segment {
			at := slices.IndexFunc(v.segments, func(d *flag.Segment) bool { return d.Key == ref.Key })
			if c.Do, err = s.segmentPut(ctx, v.in.Environment.ID, v.segments[at]); err != nil {
				return nil, err
			}
		} else {
			at := slices.IndexFunc(v.flags, func(d *flag.Document) bool { return d.Key == ref.Key })
			c.Do = &flags.Put{Document: *v.flags[at], Exact: true}
		}
		out = append(out, c)
	}
	return out, nil
}

// segmentPut saves a segment, with the long lists that stand in the records and not in what is replaced.
func (s *Service) segmentPut(ctx context.Context, environment int64, doc *flag.Segment) (*segments.Put, error) {
	out := &segments.Put{Document: segments.Document{When: doc.When, Lists: doc.Lists, In: doc.In, Out: doc.Out}}
	for _, digest := range doc.Digests() {
		hashes, err := s.Records.List(ctx, environment, digest)
		if err != nil {
			return nil, err
		}
		units, err := s.Records.ListUnits(ctx, environment, digest)
		if err != nil {
			return nil, err
		}
		out.NewLists = append(out.NewLists, &app.ListBody{Digest: digest, Hashes: hashes, Units: units})
	}
	return out, nil
}

func sameJSON(a, b any) bool {
	x, err := json.Marshal(a)
	if err != nil {
		return false
	}
	y, err := json.Marshal(b)
	return err == nil && string(x) == string(y)
}

// Stood is an environment, or some of its flags, as it stood at a revision. Stops are not brought back, nor lifted.
func (s *Service) Stood(ctx context.Context, in commit.In, revision int64, keys []string) (*Plan, error) {
	env := in.Environment
	then, err := s.Past.RulesetAt(ctx, env.ID, revision)
	if err != nil {
		return nil, err
	}
	now, err := s.Past.RulesetAt(ctx, env.ID, env.Revision)
	if err != nil {
		return nil, err
	}
	runs, err := s.runs(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	out, v := &Plan{}, &saves{in: in, versions: map[carry.Ref]int64{}}
	for _, key := range keys {
		if _, is := now.Flags[key]; !is {
			return nil, app.Faultf(app.NotFound, "there is no flag %s in this environment", key)
		}
	}
	for key := range now.Flags {
		if len(keys) > 0 && !slices.Contains(keys, key) {
			continue
		}
		if err := s.stood(ctx, v, out, then, key, runs); err != nil {
			return nil, err
		}
	}
	if len(keys) == 0 {
		for key := range now.Segments {
			rec, err := s.Records.Segment(ctx, env.ID, key)
			if err != nil || rec == nil {
				return nil, err
			}
			if was := then.Segment(key); was == nil {
				out.leave("segment %s was made later", words.Key(key))
			} else {
				v.segment(rec, was)
			}
		}
	}
	slices.SortFunc(out.Left, func(a, b words.Said) int { return strings.Compare(a.String(), b.String()) })
	out.Changes, err = s.changes(ctx, v)
	return out, err
}

func (s *Service) stood(ctx context.Context, v *saves, out *Plan, then *flag.Ruleset, key string,
	runs carry.Runs) error {
	rec, err := s.Records.Flag(ctx, v.in.Environment.ID, key)
	if err != nil {
		return err
	}
	raw, was := then.Flags[key]
	if !was {
		out.leave("%s was made later", words.Key(key))
		return nil
	}
	var doc flag.Document
	if err := json.Unmarshal(raw, &doc); err != nil {
		return app.Faultf(app.Conflict, "%s cannot be read as it stood then: %v", key, err)
	}
	stands, err := carry.Stood(rec.Document, &doc, runs)
	if err != nil {
		return app.Faultf(app.Conflict, "%v", err)
	}
	v.flag(rec, stands)
	return nil
}
