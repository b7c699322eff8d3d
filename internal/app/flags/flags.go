// Package flags holds the changes of flags: they are made, their definitions are edited, and
// their documents are saved in an environment.
//
// Its noun is a [Service], whose [Service.Kinds] are what package commit makes:
//
//	commit.Change{In: commit.In{Project: p, Environment: e}, Of: "one-touch-open", Versions: []int64{3},
//		Do: &flags.Put{Document: doc}}
package flags

import (
	"context"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Service knows what changes of flags rest on.
type Service struct {
	Judge     conditions.Judge
	Overflows conditions.Overflows
	// Names tells how the project's catalogue says attributes. Without it by their names.
	Names func(ctx context.Context, environment int64) words.Names
	// Ready tells whether a flag may be retired. Without it every one may.
	Ready Readiness
}

// definitions are what a project owns of flags.
type definitions interface {
	Recipes(project int64) ([]app.Recipe, error)
	LockDefinition(project int64, key string) (*app.Definition, error)
}

// documents are flags in an environment, and what they refer to.
type documents interface {
	LockFlag(environment int64, key string) (*app.HeldFlag, error)
	Flag(environment int64, key string) (*app.FlagRecord, error)
	Flags(environment int64) ([]app.FlagRecord, error)
	Segment(environment int64, key string) (*app.SegmentRecord, error)
	Attributes(project int64) ([]app.Attribute, error)
}

// Tx is what changes of flags read.
type Tx interface {
	definitions
	documents
}

// Kinds are the changes of flags.
func (s *Service) Kinds() []*commit.Kind {
	return append(s.ends(),
		commit.Of(commit.Kind{Name: "flag.make", Says: "Makes a flag, in every environment with its lever off",
			Action: app.MakeFlag, Span: commit.Environments, Guarded: true, Queued: true}, s.make),
		commit.Of(commit.Kind{Name: "flag.edit", Says: "Changes a flag's definition; variants and visibility in all " +
			"environments at once",
			Action: app.Define, Span: commit.Environments, Guarded: true, Queued: true}, s.edit),
		commit.Of(commit.Kind{Name: "flag.copy-rules",
			Says: "Puts a flag's rules from an environment into others, in " +
				"one change", Action: app.ReleaseIt, Span: commit.Environments, OfFlag: true, Guarded: true,
			Signs: true, Queued: true},
			s.copyRules),
		commit.Taking(commit.Of(commit.Kind{Name: "flag.put", Says: "Saves a flag's document in an environment",
			Action: app.ReleaseIt, Span: commit.Environment, OfFlag: true, Guarded: true, Signs: true,
			Queued: true},
			s.put).Holding(holdFlag).Standing(s.stands), takes),
	)
}

func (s *Service) names(ctx context.Context, environment int64) words.Names {
	if s.Names == nil {
		return nil
	}
	return s.Names(ctx, environment)
}
