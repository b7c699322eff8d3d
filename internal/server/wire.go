package server

import (
	"context"
	"runtime/debug"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/change"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/intake"
	"greenlever.example/greenlever/internal/app/lineage"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/httpapi"
	"greenlever.example/greenlever/internal/store"
)

// wire puts the parts together; nothing runs yet.
func (s *Server) wire() {
	c, st := s.config, s.store
	hub := feed.NewHub(st, c.Log)
	keys := feed.NewKeyring(st, c.Log)
	units := &population.Service{Records: st, Now: c.Now, Log: c.Log}
	s.intake = intake.New(st, c.Now, c.Log)
	s.jobs = work.New(c.Log, st, s.node)
	s.intake.Sampled = units.Take
	rules := func(ctx context.Context, environment int64) (*decide.Ruleset, error) {
		place, err := hub.Place(ctx, environment)
		if err != nil {
			return nil, err
		}
		return place.Rules(), nil
	}
	tries := &preview.Service{Rules: rules, Population: units, TestUnits: st.TestUnits, List: st.List, Now: c.Now}
	changes := &change.Service{
		Write: func(ctx context.Context, fn func(change.Tx) error) error {
			return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
		},
		Insist: func(ctx context.Context, fn func(change.Tx) error) error {
			return st.Insist(ctx, func(tx *store.Tx) error { return fn(tx) })
		},
		Now:       c.Now,
		Committed: s.committed,
		Judge: func(ctx context.Context, environment int64) (map[string]lint.Attribute, error) {
			known, _, _, err := units.Judge(ctx, environment)
			return known, err
		},
		Names: units.Names,
		Overflows: func(ctx context.Context, environment int64, flags []*flag.Document, segments []*flag.Segment) ([]flag.Problem, error) {
			return tries.Overflows(ctx, environment, preview.Edit{Flags: flags, Segments: segments})
		},
		Shift: tries.Shift,
	}
	history := &lineage.Service{Records: st, Look: hub.Look, Epoch: changes.EpochFor, Log: c.Log}
	hub.Lost = history.Restored
	s.api = &httpapi.API{
		Edge: httpapi.Edge{Hub: hub, Keys: keys, Population: units, Followers: followers{st, s.intake}, Now: c.Now, Log: c.Log, Limits: c.Limits, Beat: c.Beat,
			Met: history.Met, Proxies: c.Proxies, Secure: c.Secure, Jobs: s.jobs.States, LogOneOf: c.LogOneOf},
		Records: st, Sign: s.signHeads, Preview: tries, Change: changes, Heads: s.heads.read, Forgets: s.mayBeGone,
		Delivery: &delivery.Service{Records: st, Now: c.Now,
			Settled: func() bool { return s.clock.Settled(app.SilentAfter * time.Millisecond) },
			Write: func(ctx context.Context, fn func(delivery.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			}},
		People: &people.Service{
			Write: func(ctx context.Context, fn func(people.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			},
			Records: st, Now: c.Now,
		},
	}
}

// followers are the records of who follows, with reports going through the intake.
type followers struct {
	*store.Store
	in *intake.Intake
}

func (f followers) Take(ctx context.Context, environment int64, r app.Incoming, size int) (bool, error) {
	return f.in.Take(ctx, environment, r, size)
}

func (f followers) List(ctx context.Context, environment int64, digest string) (flag.Hashes, error) {
	return f.Store.List(ctx, environment, digest)
}

// Version names the build; empty where nothing is known of it.
func Version() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				return s.Value[:min(12, len(s.Value))]
			}
		}
	}
	return ""
}
