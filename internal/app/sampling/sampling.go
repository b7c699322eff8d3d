// Package sampling holds the changes of what is kept of units: how they are sampled, and that one is erased.
package sampling

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Kinds are the changes of what is kept of units.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "population.set", Says: "Says how units are sampled, or that they are not",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true}, set),
		commit.Of(commit.Kind{Name: "population.erase", Alone: true, Says: "Takes a unit out of the population",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true}, erase),
	}
}

// Set says how an environment's population is sampled. Switched off, what was sampled is
// forgotten at once. It makes no revision.
type Set struct {
	Off  bool `json:"off,omitempty"`
	Days int  `json:"days"`
}

// Erase takes a unit out of an environment's population. One that is seen again comes back.
type Erase struct {
	Unit string `json:"unit" shown:"no"`
}

func set(_ context.Context, m *commit.Moment, in *Set) (*commit.Effects, error) {
	if in.Days < 1 || in.Days > 90 {
		return nil, app.InvalidField("days", "units are kept 1 to 90 days after they were last seen")
	}
	said := fmt.Sprintf("population sampled, units kept %d days", in.Days)
	if in.Off {
		said = "population no longer sampled, what was sampled is forgotten"
	}
	return &commit.Effects{Result: &app.Sampling{Off: in.Off, Days: in.Days}, Stale: commit.Stale{Units: true},
		In: []commit.Effect{{Environment: m.Environment,
			Records: []commit.Record{&app.SamplingRecord{EnvironmentID: m.Environment.ID, Off: in.Off, Days: in.Days}},
			Entries: []commit.Entry{commit.Said("population.set", "", diff.Text(said))}}}}, nil
}

func erase(_ context.Context, m *commit.Moment, in *Erase) (*commit.Effects, error) {
	gone := &app.Erasure{EnvironmentID: m.Environment.ID, Unit: in.Unit}
	return &commit.Effects{Result: gone, Stale: commit.Stale{Units: true},
		In: []commit.Effect{{Environment: m.Environment, Records: []commit.Record{gone},
			Entries: []commit.Entry{commit.Said("population.erased", "",
				diff.Named("unit erased from the population: ", []string{in.Unit}))}}}}, nil
}
