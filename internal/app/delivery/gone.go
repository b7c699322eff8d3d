package delivery

import (
	"context"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// GoneTx is what vouching for instances reads.
type GoneTx interface {
	Silent(environment int64, instance string, silentSince int64) ([]app.Instance, error)
}

// Kinds are the changes of who is expected to have a revision.
func Kinds() []*commit.Kind {
	return []*commit.Kind{commit.Of(commit.Kind{Name: "instance.gone", Alone: true,
		Says:   "Vouches for instances that fell silent: they decide no more",
		Action: app.StopIt, Span: commit.Environment}, gone)}
}

// Gone takes instances that fell silent off the list of the lost: somebody knows that they decide
// no more. Nothing else does, since silence alone proves nothing. Where the change is of none, it
// is all of them.
type Gone struct{}

// AccountedFor is the result of vouching for instances.
type AccountedFor struct {
	Gone      int            `json:"gone"`
	Instances []app.Instance `json:"instances"` // at most 100 of them
}

// most of them are named one by one in the answer and the audit; of more, the number.
const mostNamed = 100

func gone(_ context.Context, m *commit.Moment, _ *Gone) (*commit.Effects, error) {
	since := m.At - app.SilentAfter
	all, err := commit.Narrow[GoneTx](m).Silent(m.Environment.ID, m.Of, since)
	if err != nil {
		return nil, err
	}
	if m.Of != "" && len(all) == 0 {
		return nil, app.Faultf(app.NotFound, "there is no instance %s", m.Of)
	}
	out := &AccountedFor{Instances: []app.Instance{}}
	rec := &app.GoneRecord{EnvironmentID: m.Environment.ID, SilentSince: since, At: m.At}
	var lines []diff.Line
	for i := range all {
		one := &all[i]
		if one.Left {
			continue
		}
		if !one.Lost(m.At) {
			return nil, app.Faultf(app.Conflict, "instance %s was heard of a moment ago: it is not lost", one.ID)
		}
		one.Left, one.LeftAt = true, m.At
		rec.IDs = append(rec.IDs, one.ID)
		if out.Gone++; out.Gone <= mostNamed {
			out.Instances = append(out.Instances, *one)
			lines = append(lines, diff.Text(fmt.Sprintf("%s %s %s, silent with revision %d, decides no more",
				one.Application, one.Version, one.ID, one.Revision)))
		}
	}
	if out.Gone == 0 {
		return commit.Nothing(out), nil
	}
	if more := out.Gone - len(lines); more > 0 {
		lines = append(lines, diff.Text(fmt.Sprintf("and %d more silent instances decide no more", more)))
	}
	return &commit.Effects{Result: out, In: []commit.Effect{{Environment: m.Environment, Records: []commit.Record{rec},
		Entries: []commit.Entry{commit.Said("instance.gone", m.Of, lines...)}}}}, nil
}
