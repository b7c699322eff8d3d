// Package ladders holds the changes of ladders: saved orders of stages for releases, which a project owns.
package ladders

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
)

// Kinds are the changes of ladders.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "ladder.put",
			Says:   "Saves a ladder, a new one or in place of the one with its key",
			Action: app.ReleaseIt, Span: commit.Project, Queued: true}, put),
		commit.Of(commit.Kind{Name: "ladder.remove", Says: "Takes a ladder away; releases that began from it go on",
			Action: app.ReleaseIt, Span: commit.Project, Queued: true}, remove),
	}
}

// most is how many ladders a project keeps.
const most = 100

// Put saves a ladder.
type Put struct {
	Ladder app.Ladder `json:"ladder"`
}

// Remove takes a ladder away.
type Remove struct{}

// Tx is what changes of ladders read.
type Tx interface {
	Ladders(project int64) ([]app.Ladder, error)
}

// Check lists what is wrong with a ladder, and puts its conditions into their canonical form.
func Check(l *app.Ladder) (found []flag.Problem) {
	add := func(place, mend string) {
		if mend != "" {
			found = append(found, flag.Problem{Place: "ladder." + place, Mend: mend})
		}
	}
	add("key", flag.CheckKey(l.Key))
	add("title", app.CheckText(l.Title, 1, 200))
	add("says", app.CheckText(l.Says, 0, 500))
	if n := len(l.Stages); n == 0 || n > stage.MaxStages {
		add("stages", fmt.Sprintf("has %d stages, takes 1 to %d", n, stage.MaxStages))
	}
	stages := make([]stage.Stage, len(l.Stages))
	for i := range l.Stages {
		one := &l.Stages[i]
		place := fmt.Sprintf("ladder.stages[%d]", i)
		when, problems := conditions.Settle(place+".who", one.Who)
		one.Who, found = when, append(found, problems...)
		if stages[i] = one.Stage; one.Asks {
			if one.Who != nil || one.Share > 0 {
				found = append(found, flag.Problem{Place: place, Mend: "asks for its units at the start, so it " +
					"takes neither " +
					`"who" nor "share"`})
			}
			stages[i].Share, stages[i].Who = 0, &condition.Node{Test: "string.one-of",
				Attribute: condition.KeyAttribute, Text: []string{"a unit"}}
		}
	}
	return append(found, stage.CheckStages("ladder.stages", stages)...)
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	l := in.Ladder
	l.Key, l.Shipped, l.Stages = m.Of, false, append([]app.LadderStage{}, in.Ladder.Stages...)
	if err := app.InvalidFields(Check(&l)); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).Ladders(m.Project.ID)
	if err != nil {
		return nil, err
	}
	if len(all) >= most {
		return nil, app.InvalidField("ladder", "a project keeps at most %d: take one away first", most)
	}
	var names []words.Said
	for i := range l.Stages {
		names = append(names, words.Said{words.Name(l.Stages[i].Name)})
	}
	said := words.Say("ladder %s saved: %s", words.Name(l.Title), words.Join(names, ", "))
	out := effects(m, "ladder.saved", &app.LadderRecord{ProjectID: m.Project.ID, Ladder: &l}, said)
	out.Back = m.Back(&Remove{})
	if at := slices.IndexFunc(all, func(o app.Ladder) bool { return o.Key == l.Key }); at >= 0 {
		out.Back = m.Back(&Put{Ladder: all[at]})
	}
	return out, nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).Ladders(m.Project.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Key == m.Of {
			out := effects(m, "ladder.removed", &app.LadderRecord{ProjectID: m.Project.ID, Ladder: &all[i],
				Gone: true}, words.Say("ladder %s removed", words.Name(all[i].Title)))
			out.Back = m.Back(&Put{Ladder: all[i]})
			return out, nil
		}
	}
	return nil, app.Faultf(app.NotFound, "there is no ladder %s in this project", m.Of)
}

func effects(m *commit.Moment, action string, l *app.LadderRecord, said words.Said) *commit.Effects {
	entry := commit.Said(action, l.Key, diff.Text(said.String()))
	return &commit.Effects{Result: l.Ladder, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{l},
		Entries: []commit.Entry{entry}}}}
}
