// Package reminders tells, once each, of what comes without anybody changing anything: a flag that should be gone, a
// freeze that ends. Webhooks hear of it as of any change.
package reminders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/zones"
)

// Remind enters what comes, so that webhooks are told.
type Remind struct{ Action, Says string }

// Kinds are the changes that reminders are.
func Kinds() []*commit.Kind {
	kind := func(span commit.Span, name string) commit.Kind {
		return commit.Kind{Name: name, Says: "Tells of what comes", Span: span, Inner: true}
	}
	return []*commit.Kind{
		commit.Of(kind(commit.Project, "remind.project"), func(_ context.Context, m *commit.Moment,
			in *Remind) (*commit.Effects, error) {
			return &commit.Effects{In: []commit.Effect{{Project: m.Project,
				Entries: []commit.Entry{commit.Said(in.Action,
					m.Of, diff.Text(in.Says))}}}}, nil
		}),
		commit.Of(kind(commit.Environment, "remind.environment"), func(_ context.Context, m *commit.Moment,
			in *RemindHere) (*commit.Effects, error) {
			return &commit.Effects{In: []commit.Effect{{Environment: m.Environment,
				Entries: []commit.Entry{commit.Said(
					in.Action, m.Of, diff.Text(in.Says))}}}}, nil
		}),
	}
}

// RemindHere is Remind of something in one environment.
type RemindHere struct{ Remind }

// Records are what is read to find what comes.
type Records interface {
	Projects(ctx context.Context) ([]app.Project, error)
	Environments(ctx context.Context, project int64) ([]app.Environment, error)
	Definitions(ctx context.Context, project int64) ([]app.Definition, error)
}

// Service finds what comes.
type Service struct {
	Records Records
	Apply   func(ctx context.Context, r commit.Request, changes ...commit.Change) (json.RawMessage, error)
	Now     func() time.Time
}

// Ahead is how long before its end a freeze is told of, and after its date a flag.
const Ahead = 24 * time.Hour

// Tell tells of all that comes. Each is told under an id of its own, so once however often it is looked.
func (s *Service) Tell(ctx context.Context) (err error) {
	projects, err := s.Records.Projects(ctx)
	for i := range projects {
		err = errors.Join(err, s.project(ctx, &projects[i]))
	}
	return err
}

func (s *Service) project(ctx context.Context, p *app.Project) error {
	now := s.Now()
	defs, err := s.Records.Definitions(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, d := range defs {
		day, e := time.Parse("2006-01-02", d.GoneBy)
		if e != nil || now.Before(day) || now.Sub(day) >= Ahead { // results of requests are kept that long
			continue
		}
		err = errors.Join(err, s.tell(ctx, fmt.Sprintf("gone-by %d %s %s", p.ID, d.Key, d.GoneBy), commit.Change{
			In: commit.In{Project: p}, Of: d.Key, Do: &Remind{"flag.overdue", "should be gone by " + d.GoneBy}}))
	}
	envs, e := s.Records.Environments(ctx, p.ID)
	err = errors.Join(err, e)
	for j := range envs {
		env := &envs[j]
		for k := range env.Freezes {
			f := &env.Freezes[k]
			until, holds := f.Until(now.UnixMilli(), zones.Find)
			if !holds || f.Weekly != nil || until-now.UnixMilli() > Ahead.Milliseconds() {
				continue
			}
			err = errors.Join(err, s.tell(ctx, fmt.Sprintf("thaws %s %d", f.ID, until), commit.Change{
				In: commit.In{Project: p, Environment: env}, Of: env.Key, Do: &RemindHere{Remind{"environment.thaws",
					"frozen no more at " + time.UnixMilli(until).UTC().Format("2006-01-02 15:04 UTC") + ": " +
						"" + f.Reason}}}))
		}
	}
	return err
}

func (s *Service) tell(ctx context.Context, id string, c commit.Change) error {
	_, err := s.Apply(ctx, commit.Request{Actor: app.Actor{Kind: "service", Through: "service"}, ID: id,
		Digest: id}, c)
	return err
}
