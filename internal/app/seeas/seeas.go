// Package seeas holds the change "see it as": an override for one's own session, variants by flag,
// for some minutes. It touches no rule and makes no revision; that it was issued is audited.
package seeas

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Service issues overrides.
type Service struct {
	// Seed gives the seed of the key that overrides of an environment are signed with.
	Seed func(ctx context.Context, environment int64) ([]byte, error)
}

// Tx is what the change reads.
type Tx interface {
	Flag(environment int64, key string) (*app.FlagRecord, error)
}

// Kinds are the changes of overrides.
func (s *Service) Kinds() []*commit.Kind {
	return []*commit.Kind{commit.Of(commit.Kind{Name: "see-as.issue", Alone: true, Says: "Issues an override for " +
		"the asker's own " +
		"session",
		Action: app.SeeIt, Span: commit.Environment}, s.issue)}
}

// Issue issues an override.
type Issue struct {
	Variants map[string]string `json:"variants"` // by flag
	Minutes  int64             `json:"minutes,omitempty"`
}

// Issued is a new override.
type Issued struct {
	flag.SeeAs
	Token string `json:"token"`
}

// WithoutSecrets is the override as it is kept for a repeated request.
func (i *Issued) WithoutSecrets() any { kept := *i; kept.Token = ""; return &kept }

func (s *Service) issue(ctx context.Context, m *commit.Moment, in *Issue) (*commit.Effects, error) {
	minutes := cmp.Or(in.Minutes, 60)
	if minutes < 1 || minutes*60_000 > flag.MaxSeeAs {
		return nil, app.InvalidField("minutes", "an override lasts 1 to %d minutes", flag.MaxSeeAs/60_000)
	}
	if len(in.Variants) == 0 || len(in.Variants) > 20 {
		return nil, app.InvalidField("variants", "name 1 to 20 flags, each with the variant to see")
	}
	seed, err := s.Seed(ctx, m.Environment.ID)
	if err != nil {
		return nil, err
	}
	issued := commit.Entry{Action: "see-as.issued"}
	for _, key := range slices.Sorted(maps.Keys(in.Variants)) {
		variant := in.Variants[key]
		rec, err := commit.Narrow[Tx](m).Flag(m.Environment.ID, key)
		if err != nil {
			return nil, noSuchFlag(err, key)
		}
		if _, ok := rec.Document.Variants[variant]; !ok {
			return nil, app.InvalidField("variants."+key, "%q is no variant of this flag: use one of %s", variant,
				strings.Join(rec.Document.VariantNames(), ", "))
		}
		issued.Lines = append(issued.Lines,
			diff.Text(fmt.Sprintf("%s seen as `%s` in the asker's own session, for %d minutes", key, variant,
				minutes)))
		if len(in.Variants) == 1 {
			issued.Subject = key
		}
	}
	slices.SortFunc(issued.Lines, func(a, b diff.Line) int { return strings.Compare(a.Text, b.Text) })
	out := &Issued{SeeAs: flag.SeeAs{ID: commit.NewID(), By: m.Actor.ID, Variants: in.Variants,
		Until: m.At + minutes*60_000}}
	if out.Token, err = out.Sign(seed); err != nil {
		return nil, err
	}
	return &commit.Effects{Result: out,
		In: []commit.Effect{{Environment: m.Environment, Entries: []commit.Entry{issued}}}}, nil
}

func noSuchFlag(err error, key string) error {
	var f *app.Fault
	if errors.As(err, &f) && f.Kind == app.NotFound {
		return app.InvalidField("variants", "there is no flag %q in this environment", key)
	}
	return err
}
