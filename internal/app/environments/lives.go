package environments

import (
	"context"
	"errors"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/work"
)

// LifeRecords are what short-lived environments are looked after by.
type LifeRecords interface {
	EndingLives(ctx context.Context, over, gone int64) (ending, going []app.Life, err error)
	ProjectStamps(ctx context.Context) (map[int64]string, error)
	ShortLived(ctx context.Context, project int64) ([]app.Environment, map[int64]app.Life, error)
	ProjectOf(ctx context.Context, id int64) (*app.Project, error)
}

// Lives looks after short-lived environments: they end when it is time, and get what their project gets.
type Lives struct {
	Records LifeRecords
	Apply   func(ctx context.Context, r commit.Request, changes ...commit.Change) ([]byte, error)
	Now     func() time.Time

	stamps map[int64]string // of projects whose environments have what there is
}

// Job is the work.
func (l *Lives) Job() work.Job {
	return work.Job{Name: "lives", Says: "look after short-lived environments", Every: followEvery,
		Lease: 10 * followEvery, Do: func(ctx context.Context, _ *work.Turn) error {
			return errors.Join(l.end(ctx), l.follow(ctx))
		}}
}

func (l *Lives) end(ctx context.Context) error {
	now := l.Now().UnixMilli()
	ending, going, err := l.Records.EndingLives(ctx, now, now-keptAfter.Milliseconds())
	if err != nil {
		return err
	}
	for i := range ending {
		err = errors.Join(err, l.do(ctx, ending[i].ProjectID, ending[i].EnvironmentID, &Over{}))
	}
	for i := range going {
		err = errors.Join(err, l.do(ctx, going[i].ProjectID, going[i].EnvironmentID, &Away{}))
	}
	return err
}

func (l *Lives) do(ctx context.Context, project, environment int64, do any) error {
	p, err := l.Records.ProjectOf(ctx, project)
	if err != nil {
		return err
	}
	r := commit.Request{Actor: app.Actor{Kind: "service", Through: "service", Cause: "short-lived"}}
	_, err = l.Apply(ctx, r, commit.Change{In: commit.In{Project: p, Environment: &app.Environment{ID: environment,
		ProjectID: project}}, Do: do})
	return err
}

// follow gives environments what their projects got since.
func (l *Lives) follow(ctx context.Context) error {
	stamps, err := l.Records.ProjectStamps(ctx)
	if err != nil {
		return err
	}
	if l.stamps == nil {
		l.stamps = map[int64]string{}
	}
	for project, stamp := range stamps {
		if l.stamps[project] == stamp {
			continue
		}
		envs, _, err := l.Records.ShortLived(ctx, project)
		if err != nil {
			return err
		}
		for i := range envs {
			if envs[i].State != app.Active {
				continue
			}
			if err := l.do(ctx, project, envs[i].ID, &Follow{}); err != nil {
				return err
			}
		}
		l.stamps[project] = stamp
	}
	return nil
}
