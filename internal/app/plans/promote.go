package plans

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"greenlever.example/core/carry"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Promotion takes what flags do from an environment into others.
type Promotion struct {
	Flags   []string `json:"flags,omitempty"`
	From    string   `json:"from"` // key of an environment
	To      []string `json:"to"`
	Rules   bool     `json:"rules,omitempty"` // and the end
	Values  bool     `json:"values,omitempty"`
	Lever   bool     `json:"lever,omitempty"`
	Resting bool     `json:"resting,omitempty"` // the variant, and what the flag needs
	// Segments fills those that the rules name and that have nobody there.
	Segments bool `json:"segments,omitempty"`
	// DrawAnew gives the shares other units there. Without it the same units are in.
	DrawAnew bool `json:"drawAnew,omitempty"`
}

// Promote makes a plan of a promotion.
func (s *Service) Promote(ctx context.Context, p *app.Project, in *Promotion) (*Plan, error) {
	switch {
	case len(in.Flags) == 0:
		return nil, app.InvalidField("flags", "name at least one flag")
	case len(in.To) == 0:
		return nil, app.InvalidField("to", "name at least one environment")
	case !in.Rules && !in.Values && !in.Lever && !in.Resting:
		return nil, app.InvalidField("rules", "say what is promoted: rules, values, lever or resting")
	}
	_, from, err := s.Past.Place(ctx, p.Key, in.From)
	if err != nil {
		return nil, err
	}
	if from == nil {
		return nil, app.InvalidField("from", "there is no environment %q in this project", in.From)
	}
	out := &Plan{}
	for i, key := range in.To {
		_, to, err := s.Past.Place(ctx, p.Key, key)
		if err != nil {
			return nil, err
		}
		if to == nil || to.ID == from.ID || slices.Contains(in.To[:i], key) {
			return nil, app.InvalidField(fmt.Sprintf("to[%d]", i), "must be another environment of this project, "+
				"each once: %q is none", key)
		}
		if err := s.into(ctx, commit.In{Project: p, Environment: to}, from, in, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Service) into(ctx context.Context, to commit.In, from *app.Environment, in *Promotion, out *Plan) error {
	runs, err := s.runs(ctx, to.Environment.ID)
	if err != nil {
		return err
	}
	what := carry.What{Rules: in.Rules, Values: in.Values, Lever: in.Lever, Resting: in.Resting}
	v := &saves{in: to, versions: map[carry.Ref]int64{}}
	filled := map[string]bool{}
	for i, key := range in.Flags {
		there, err := s.Records.Flag(ctx, from.ID, key)
		if err != nil {
			return app.InvalidField(fmt.Sprintf("flags[%d]", i), "there is no flag %s in this project", key)
		}
		here, err := s.Records.Flag(ctx, to.Environment.ID, key)
		if err != nil {
			return err
		}
		doc := carry.Promote(there.Document, here.Document, what, runs)
		doc.Requires = nil
		if in.DrawAnew && in.Rules {
			drawAnew(doc, to.Environment.Key, here.Version)
		}
		v.flag(here, doc)
		if slices.ContainsFunc(there.Document.Rules, func(r flag.Rule) bool { return r.Release != "" }) && in.Rules {
			out.leave("a release of %s runs in %s: what it gives is promoted as it is now", words.Key(key),
				words.Key(from.Key))
		}
		if err := s.fill(ctx, v, there.Document, from, in, out, filled); err != nil {
			return err
		}
	}
	changes, err := s.changes(ctx, v)
	out.Changes = append(out.Changes, changes...)
	return err
}

// fill adds the segments that rules name and that have nobody in the other environment.
func (s *Service) fill(ctx context.Context, v *saves, doc *flag.Document, from *app.Environment, in *Promotion,
	out *Plan, filled map[string]bool) error {
	if !in.Rules {
		return nil
	}
	var failed error
	read := func(environment int64) func(string) *flag.Segment {
		return func(key string) *flag.Segment {
			rec, err := s.Records.Segment(ctx, environment, key)
			if err != nil {
				failed = err
			}
			if rec == nil {
				return nil
			}
			return rec.Document
		}
	}
	to := v.in.Environment
	empty, other := carry.Missing(doc, read(from.ID), read(to.ID))
	if failed != nil {
		return failed
	}
	for _, key := range other {
		if !filled[key] {
			filled[key] = true
			out.leave("segment %s takes others in %s than in %s", words.Key(key), words.Key(to.Key),
				words.Key(from.Key))
		}
	}
	for _, key := range empty {
		if filled[key] {
			continue
		}
		filled[key] = true
		if !in.Segments {
			out.leave("segment %s has nobody in %s: promote segments as well, or fill it", words.Key(key),
				words.Key(to.Key))
			continue
		}
		there, err := s.Records.Segment(ctx, from.ID, key)
		if err != nil || there == nil {
			return err
		}
		here, err := s.Records.Segment(ctx, to.ID, key)
		if err != nil || here == nil {
			return err
		}
		v.segment(here, there.Document)
	}
	return nil
}

// drawAnew gives shares another salt, the same one each time that the same is promoted to the same place: so a dry run
// shows what happens. What moves together with others goes on doing so.
func drawAnew(doc *flag.Document, environment string, version int64) {
	anew := func(g flag.Gives) flag.Gives {
		if g.Shares == nil || g.Shares.Like != nil {
			return g
		}
		sum := sha256.Sum256(fmt.Appendf(nil, "%s/%s/%d", g.Shares.Salt, environment, version))
		shares := *g.Shares
		shares.Salt, shares.DrawAnew = hex.EncodeToString(sum[:])[:len(conditions.NewSalt())], true
		shares.Parts = slices.Clone(shares.Parts)
		for i := range shares.Parts {
			shares.Parts[i].Ranges = nil
		}
		g.Shares = &shares
		return g
	}
	doc.Rules = slices.Clone(doc.Rules)
	for i := range doc.Rules {
		if doc.Rules[i].Release == "" {
			doc.Rules[i].Gives = anew(doc.Rules[i].Gives)
		}
	}
	doc.End = anew(doc.End)
}
