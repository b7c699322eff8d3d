package environments

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// FollowedTx is what the end of an environment reads.
type FollowedTx interface {
	// Following counts the processes that have followed an environment since a time.
	Following(environment, since int64) (int, error)
}

// Archive ends an environment for now: nobody can follow it any more, its access keys are not
// taken, and it is kept as it is until it is brought back.
type Archive struct{}

// BringBack has an archived environment live again.
type BringBack struct{}

// Remove ends an archived environment for good: what was sampled of units is forgotten, and the
// history alone names it.
type Remove struct{}

func ends() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "environment.archive", Says: "Archives an environment, which nobody can " +
			"follow then",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true}, archive),
		commit.Of(commit.Kind{Name: "environment.bring-back", Says: "Has an archived environment live again",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true, Reopens: true}, bringBack),
		commit.Of(commit.Kind{Name: "environment.remove", Says: "Ends an archived environment for good",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true, Reopens: true}, remove),
	}
}

func archive(_ context.Context, m *commit.Moment, _ *Archive) (*commit.Effects, error) {
	n, err := commit.Narrow[FollowedTx](m).Following(m.Environment.ID, m.At-app.SilentAfter)
	if err != nil {
		return nil, err
	}
	if n > 0 {
		return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"following": n},
			Detail: fmt.Sprintf("%s: end them, or have them follow another environment, first",
				words.Counted(n, "process follows it", "processes follow it"))}
	}
	return state(m, app.Archived, "environment.archived", fmt.Sprintf("environment %s archived: nobody follows it",
		m.Environment.Key)), nil
}

func bringBack(_ context.Context, m *commit.Moment, _ *BringBack) (*commit.Effects, error) {
	if m.Environment.State == app.Active {
		return commit.Nothing(m.Environment), nil
	}
	return state(m, app.Active, "environment.brought-back", fmt.Sprintf("environment %s brought back",
		m.Environment.Key)), nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	if m.Environment.State != app.Archived {
		return nil, app.Faultf(app.Conflict, "environment %s lives: archive it first", m.Environment.Key)
	}
	e := state(m, app.Gone, "environment.removed", fmt.Sprintf("environment %s removed for good", m.Environment.Key))
	e.In[0].Records = append(e.In[0].Records, &app.SamplingRecord{EnvironmentID: m.Environment.ID, Off: true, Days: 1})
	e.Stale.Units = true
	return e, nil
}

// state is the effect of another state.
func state(m *commit.Moment, to app.EnvironmentState, action, said string) *commit.Effects {
	env := *m.Environment
	env.State = to
	rec := &app.StateRecord{EnvironmentID: env.ID, State: to, At: m.At, By: m.Actor.ID}
	return &commit.Effects{Result: &env, Stale: commit.Stale{Keys: true},
		In: []commit.Effect{{Environment: m.Environment,
			Records: []commit.Record{rec}, Entries: []commit.Entry{commit.Said(action, env.Key, diff.Text(said))}}}}
}
