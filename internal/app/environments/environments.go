// Package environments holds the changes of what flags stand in: projects and their environments.
package environments

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/roles"
)

// Tx is what these changes read.
type Tx interface {
	Definitions(project int64) ([]app.Definition, error)
	SegmentTitles(project int64) (map[string]string, error)
}

// Kinds are the changes of projects and environments.
func Kinds() []*commit.Kind {
	return append(slices.Concat(ends(), freezes(), lives()),
		commit.Of(commit.Kind{Name: "project.make", Says: "Makes a project", Span: commit.Installation}, makeProject),
		commit.Of(commit.Kind{Name: "project.edit", Says: "Changes a project's title", Action: app.Manage,
			Span: commit.Project, Queued: true}, editProject),
		commit.Of(commit.Kind{Name: "environment.make", Alone: true, Says: "Makes an environment with every flag " +
			"of the project, " +
			"levers off",
			Action: app.Manage, Span: commit.Project, Queued: true}, makeEnvironment),
		commit.Of(commit.Kind{Name: "environment.edit", Says: "Changes an environment's title, or whether it asks " +
			"first",
			Action: app.Manage, Span: commit.Environment, Guarded: true, Queued: true}, edit),
	)
}

// MakeProject makes a project, with the one who made it as its first keeper.
type MakeProject struct {
	Key   string `json:"key"`
	Title string `json:"title,omitempty"`
}

func makeProject(_ context.Context, m *commit.Moment, in *MakeProject) (*commit.Effects, error) {
	p := &app.Project{Key: in.Key, Title: in.Title, Created: m.At}
	if err := app.CheckTitled(p.Key, &p.Title); err != nil {
		return nil, err
	}
	made := commit.Said("project.made", p.Key, diff.Text(fmt.Sprintf("project %q made", p.Title)))
	return &commit.Effects{Result: p, In: []commit.Effect{{Project: p, Records: []commit.Record{p},
		Entries: []commit.Entry{made}}},
		Then: func() []commit.Effect {
			return []commit.Effect{roles.Changed(p, m.Actor.ID, nil, []app.Role{app.Keeper})}
		}}, nil
}

// EditProject gives a project another title.
type EditProject struct {
	Title string `json:"title"`
}

func editProject(_ context.Context, m *commit.Moment, in *EditProject) (*commit.Effects, error) {
	p := *m.Project
	if mend := app.CheckText(in.Title, 1, 200); mend != "" {
		return nil, app.InvalidField("title", "%s", mend)
	}
	if p.Title == in.Title {
		return commit.Nothing(&p), nil
	}
	line := diff.Text(fmt.Sprintf("title %q → %q", p.Title, in.Title))
	p.Title = in.Title
	return &commit.Effects{Result: &p, In: []commit.Effect{{Project: &p,
		Records: []commit.Record{&app.ProjectTitle{ID: p.ID, Title: p.Title}},
		Entries: []commit.Entry{commit.Said("project.changed", p.Key, line)}}}}, nil
}

// Make makes an environment.
type Make struct {
	Key      string `json:"key"`
	Title    string `json:"title,omitempty"`
	AskFirst bool   `json:"askFirst,omitempty"`
}

// Made is the result of making an environment: the secrets of its first access keys are in it once.
type Made struct {
	*app.Environment
	Keys []keys.Made `json:"keys"`
}

// WithoutSecrets is the environment as it is kept for a repeated request.
func (m *Made) WithoutSecrets() any {
	out := &Made{m.Environment, slices.Clone(m.Keys)}
	for i := range out.Keys {
		out.Keys[i].Secret = ""
	}
	return out
}

func makeEnvironment(_ context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	env := &app.Environment{ProjectID: m.Project.ID, Key: in.Key, Title: in.Title, AskFirst: in.AskFirst,
		Created: m.At}
	if err := app.CheckTitled(env.Key, &env.Title); err != nil {
		return nil, err
	}
	inside, err := fill(commit.Narrow[Tx](m), env)
	if err != nil {
		return nil, err
	}
	inside.Entries = []commit.Entry{commit.Said("environment.made", env.Key,
		diff.Text(fmt.Sprintf("environment %q made, asks first %t, with %d flags, levers off", env.Title, env.AskFirst,
			len(inside.Event.Flags))))}
	beside := commit.Effect{Project: m.Project, Entries: []commit.Entry{
		commit.Said("environment.made", env.Key, diff.Text(fmt.Sprintf("environment %s made", env.Key)))}}
	made := &Made{Environment: env, Keys: []keys.Made{}}
	return &commit.Effects{Result: made, In: []commit.Effect{inside, beside}, Stale: commit.Stale{Keys: true},
		Then: func() []commit.Effect { return newKeys(env, made, m.At) }}, nil
}

// fill is what a new environment holds: every flag of the project as it is first, and every
// segment without anybody in it.
func fill(tx Tx, env *app.Environment) (e commit.Effect, err error) {
	e = commit.Effect{Environment: env, Records: []commit.Record{env}, Event: &flag.Event{}}
	defs, err := tx.Definitions(env.ProjectID)
	if err != nil {
		return e, err
	}
	for i := range defs {
		doc := flags.FirstDocument(&defs[i])
		raw, err := json.Marshal(doc)
		if err != nil {
			return e, err
		}
		e.Event.Flags = append(e.Event.Flags, raw)
		e.Records = append(e.Records, &app.FlagRecord{Key: doc.Key, Version: 1, Document: doc})
	}
	titles, err := tx.SegmentTitles(env.ProjectID)
	if err != nil {
		return e, err
	}
	for _, key := range slices.Sorted(maps.Keys(titles)) {
		doc := &flag.Segment{Key: key}
		raw, err := json.Marshal(doc)
		if err != nil {
			return e, err
		}
		e.Event.Segments = append(e.Event.Segments, raw)
		e.Records = append(e.Records, &app.SegmentRecord{Key: key, Version: 1, Document: doc})
	}
	return e, nil
}

// Edit says what to change of an environment; nil fields stay.
type Edit struct {
	Title    *string `json:"title,omitempty"`
	AskFirst *bool   `json:"askFirst,omitempty"`
	// OwnersOnly has only those who own a flag change what it gives here.
	OwnersOnly *bool `json:"ownersOnly,omitempty"`
	// Signing is what it takes to change what flags give here.
	Signing *app.Signing `json:"signing,omitempty"`
}

func edit(_ context.Context, m *commit.Moment, in *Edit) (*commit.Effects, error) {
	env := *m.Environment
	var lines []diff.Line
	if in.Title != nil && *in.Title != env.Title {
		lines = append(lines, diff.Text(fmt.Sprintf("title %q → %q", env.Title, *in.Title)))
		env.Title = *in.Title
		if err := app.CheckTitled(env.Key, &env.Title); err != nil {
			return nil, err
		}
	}
	asked := env.AskFirst
	if in.AskFirst != nil && *in.AskFirst != asked {
		lines = append(lines, diff.Text(fmt.Sprintf("asks first %t → %t", asked, *in.AskFirst)))
		env.AskFirst = *in.AskFirst
	}
	records := []commit.Record{&env}
	asks := app.AsksRecord{EnvironmentID: env.ID, OwnersOnly: env.OwnersOnly, Signing: env.Signing}
	if in.OwnersOnly != nil && *in.OwnersOnly != env.OwnersOnly {
		lines = append(lines, diff.Text(fmt.Sprintf("only owners change flags %t → "+
			"%t", env.OwnersOnly, *in.OwnersOnly)))
		env.OwnersOnly, asks.OwnersOnly = *in.OwnersOnly, *in.OwnersOnly
		records = []commit.Record{&env, &asks}
	}
	if in.Signing != nil && in.Signing.String() != env.Signing.String() {
		if err := app.InvalidFields(checkSigning(in.Signing)); err != nil {
			return nil, err
		}
		lines = append(lines, diff.Text(fmt.Sprintf("wants %s → %s", env.Signing, *in.Signing)))
		env.Signing, asks.Signing = *in.Signing, *in.Signing
		records = []commit.Record{&env, &asks}
	}
	if len(lines) == 0 {
		return commit.Nothing(&env), nil
	}
	return &commit.Effects{Result: &env,
		In: []commit.Effect{{Environment: m.Environment, Records: records,
			Entries: []commit.Entry{commit.Said("environment.changed", env.Key, lines...)}}}}, nil
}

// mostSignatures is what an environment may want: more would never come together.
const mostSignatures = 5

func checkSigning(s *app.Signing) (found []flag.Problem) {
	if s.Need < 0 || s.Need > mostSignatures {
		found = append(found, flag.Problem{Place: "signing.need", Mend: fmt.Sprintf("must be 0 to %d",
			mostSignatures)})
	}
	if s.Need == 0 && (len(s.Roles) > 0 || len(s.Teams) > 0 || s.Lever) {
		found = append(found, flag.Problem{Place: "signing.need", Mend: "must be at least 1 where it is said who " +
			"signs"})
	}
	for i, role := range s.Roles {
		if mend := app.CheckRole(role); mend != "" {
			found = append(found, flag.Problem{Place: fmt.Sprintf("signing.roles[%d]", i), Mend: mend})
		}
	}
	for i, team := range s.Teams {
		if mend := flag.CheckKey(team); mend != "" || i >= 20 {
			found = append(found, flag.Problem{Place: fmt.Sprintf("signing.teams[%d]", i),
				Mend: "must be the key of a team; at most 20 are named"})
		}
	}
	return found
}
