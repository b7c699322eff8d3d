package lineage

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Kinds are the changes of the installation's generation.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "epoch.new", Says: "Starts a new epoch, after the records were restored from a " +
			"backup",
			Span: commit.Installation}, func(_ context.Context, m *commit.Moment, _ *NewEpoch) (*commit.Effects,
			error) {
			return raise(m), nil
		}),
		commit.Of(commit.Kind{Name: "epoch.cause", Says: "Starts a new epoch by the service itself",
			Span: commit.Installation, Insists: true, Inner: true},
			func(_ context.Context, m *commit.Moment, _ *EpochFor) (*commit.Effects, error) { return raise(m), nil }),
	}
}

// NewEpoch starts a new generation of the installation, after its records were restored from a
// backup. Followers then take the restored state, older as it may be.
type NewEpoch struct{}

// EpochFor starts a new epoch by the service itself, for the actor's cause: a stop must arrive
// where followers have had what the records lost.
type EpochFor struct{}

func raise(m *commit.Moment) *commit.Effects {
	r := &app.EpochRecord{At: m.At}
	return &commit.Effects{Result: r, Stale: commit.Stale{All: true},
		In: []commit.Effect{{Records: []commit.Record{r}}},
		Then: func() []commit.Effect {
			line := diff.Text(fmt.Sprintf("epoch %d → %d", r.Was, r.Epoch))
			return []commit.Effect{{Entries: []commit.Entry{commit.Said("epoch.new", "", line)}}}
		}}
}
