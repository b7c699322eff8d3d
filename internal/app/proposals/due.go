package proposals

import (
	"context"
	"errors"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/work"
)

// Job makes proposals when it is time.
func (s *Service) Job() work.Job {
	return work.Job{Name: "proposals", Says: "make proposals that are due", Every: 2 * time.Second,
		Lease: 30 * time.Second, Do: func(ctx context.Context, _ *work.Turn) error { return s.Due(ctx) }}
}

// Due makes the proposals whose time has come. One that cannot be made says why, and is tried again until its latest
// time.
func (s *Service) Due(ctx context.Context) (err error) {
	now := s.Now().UnixMilli()
	all, err := s.Records.DueProposals(ctx, now)
	if err != nil {
		return err
	}
	by := app.Actor{Kind: "service", Through: "service"}
	for i := range all {
		p := &all[i]
		project, e := s.Records.ProjectOf(ctx, p.ProjectID)
		if e != nil {
			err = errors.Join(err, e)
			continue
		}
		r := commit.Request{Actor: by}
		tell := commit.Change{In: commit.In{Project: project}, Of: p.ID, Do: &Expire{}}
		if p.Latest == 0 || now < p.Latest {
			_, e = s.Apply(ctx, project, p.ID, by)
			f := new(app.Fault)
			if !errors.As(e, &f) || f.Kind == app.Unavailable {
				err = errors.Join(err, e)
				continue
			}
			why := f.Error()
			if why == p.Waits {
				continue
			}
			tell.Do = &Wait{Why: why}
		}
		_, e = s.Commit.Apply(ctx, r, tell)
		err = errors.Join(err, e)
	}
	return err
}
