package flags

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// CopyRules puts a flag's rules and end from one environment into others, in one change. Levers, values,
// resting variants and needs stay.
type CopyRules struct {
	From string `json:"from"` // key of an environment
	To   []Into `json:"to"`
	// DrawAnew gives the copies' shares other units. Without it the same units are in everywhere.
	DrawAnew bool `json:"drawAnew,omitempty"`
}

// Into is an environment that rules are copied into.
type Into struct {
	Environment string `json:"environment"`
	Version     int64  `json:"version"`         // of the flag there, as the author has seen it
	Units       *int64 `json:"units,omitempty"` // that would move, where the service asked to confirm that number
}

// Copied is what copying came to, in each environment that it changed.
type Copied struct {
	Items []Saved `json:"items"`
}

func (s *Service) copyRules(ctx context.Context, m *commit.Moment, in *CopyRules) (*commit.Effects, error) {
	tx := commit.Narrow[Tx](m)
	envs, err := m.Entire()
	if err != nil {
		return nil, err
	}
	find := func(place, key string) (*app.Environment, error) {
		at := slices.IndexFunc(envs, func(e app.Environment) bool { return e.Key == key })
		if at < 0 {
			return nil, app.InvalidField(place, "there is no environment %q in this project", key)
		}
		return &envs[at], nil
	}
	from, err := find("from", in.From)
	if err != nil {
		return nil, err
	}
	of, err := tx.Flag(from.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if len(in.To) == 0 {
		return nil, app.InvalidField("to", "name at least one environment")
	}
	result := &Copied{Items: []Saved{}}
	out := &commit.Effects{Result: result}
	for i := range in.To {
		place := fmt.Sprintf("to[%d].environment", i)
		env, err := find(place, in.To[i].Environment)
		if err != nil {
			return nil, err
		}
		if env.ID == from.ID || slices.ContainsFunc(in.To[:i], func(o Into) bool { return o.Environment == env.Key }) {
			return nil, app.InvalidField(place, "%s is named already", env.Key)
		}
		saved, e, err := s.copyInto(ctx, tx, env, of.Document, &in.To[i], in.DrawAnew)
		if err != nil {
			return nil, err
		}
		if len(saved.Difference) == 0 {
			continue
		}
		result.Items = append(result.Items, *saved)
		item := len(result.Items) - 1
		e.Judge.Noted = func(lines []diff.Line) {
			result.Items[item].Difference = append(result.Items[item].Difference, diff.Said(lines)...)
		}
		out.In = append(out.In, e)
	}
	if len(out.In) == 0 {
		return commit.Nothing(result), nil
	}
	return out, nil
}

func (s *Service) copyInto(ctx context.Context, tx Tx, env *app.Environment, of *flag.Document, to *Into,
	anew bool) (*Saved, commit.Effect, error) {
	var none commit.Effect
	old, err := tx.Flag(env.ID, of.Key)
	if err != nil {
		return nil, none, err
	}
	if old.Version != to.Version {
		return nil, none, &app.Fault{Kind: app.Stale, More: map[string]any{"environment": env.Key,
			"version": old.Version},
			Detail: "the flag was changed in " + env.Key + " meanwhile: look at the difference again"}
	}
	now := *old.Document
	now.Rules, now.End = flag.Plain(of.Rules), of.End
	from := *old.Document // whose shares the copies are laid out like
	if anew {
		for i := range now.Rules {
			now.Rules[i].Gives = drawnAnew(now.Rules[i].Gives, env.Key, old.Version)
		}
		now.End = drawnAnew(now.End, env.Key, old.Version)
		from.Rules, from.End = nil, flag.Gives{Variant: now.Resting}
	} else {
		from.Rules, from.End = of.Rules, of.End
	}
	around := conditions.Of(tx, env.ID)
	if err := complete(&from, &now, around, false); err != nil {
		return nil, none, err
	}
	if err := s.Stand(ctx, tx, env, old.Document, &now, around); err != nil {
		return nil, none, err
	}
	declared := conditions.Declared(tx, env.ProjectID)
	lines := diff.Flags(old.Document, &now, declared.Personal)
	if declared.Err != nil {
		return nil, none, declared.Err
	}
	if now.Asks() > old.Document.Asks() {
		if err := s.Overflows.Refuse(ctx, env.ID, []*flag.Document{&now}, nil); err != nil {
			return nil, none, err
		}
	}
	names := s.names(ctx, env.ID)
	saved := &Saved{Key: now.Key, Environment: env.Key, Version: old.Version + 1, Revision: env.Revision + 1,
		Document: &now, Sentence: sentence.Of(&now, false, names), Says: sentence.Parts(&now, names),
		Difference: diff.Said(lines)}
	e, err := commit.FlagPut(env, old.Document, &app.FlagRecord{Key: now.Key, Version: saved.Version, Document: &now},
		"flag.changed",
		lines)
	e.Judge = commit.Judge{Before: old.Document, After: &now, Units: to.Units}
	return saved, e, err
}

// drawnAnew gives shares another salt, the same one each time that the same is copied to the same place:
// so a dry run shows what happens. What moves together with others goes on doing so.
func drawnAnew(g flag.Gives, environment string, version int64) flag.Gives {
	if g.Shares == nil || g.Shares.Like != nil {
		return g
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s/%s/%d", g.Shares.Salt, environment, version))
	shares := *g.Shares
	shares.Salt = hex.EncodeToString(sum[:])[:len(conditions.NewSalt())]
	shares.Parts = slices.Clone(shares.Parts)
	for i := range shares.Parts {
		shares.Parts[i].Ranges = nil
	}
	g.Shares = &shares
	return g
}
