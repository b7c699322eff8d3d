package server

import (
	"cmp"
	"context"
	"net/http"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/attributes"
	"greenlever.example/greenlever/internal/app/bundles"
	"greenlever.example/greenlever/internal/app/calendars"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/drills"
	"greenlever.example/greenlever/internal/app/emergency"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/intake"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/ladders"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/app/lineage"
	"greenlever.example/greenlever/internal/app/metrics"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/plans"
	"greenlever.example/greenlever/internal/app/policies"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/proposals"
	"greenlever.example/greenlever/internal/app/recipes"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/app/reminders"
	"greenlever.example/greenlever/internal/app/roles"
	"greenlever.example/greenlever/internal/app/sampling"
	"greenlever.example/greenlever/internal/app/scans"
	"greenlever.example/greenlever/internal/app/seeas"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/app/settled"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/app/testunits"
	"greenlever.example/greenlever/internal/app/tripwires"
	"greenlever.example/greenlever/internal/app/webhooks"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/store"
	"greenlever.example/greenlever/internal/web"
)

// wire puts the parts together; nothing runs yet.
func (s *Server) wire() {
	c, st := s.config, s.store
	hub := feed.NewHub(st, c.Log)
	keys := feed.NewKeyring(st, c.Log)
	units := &population.Service{Records: st, Now: c.Now, Log: c.Log}
	s.intake = intake.New(st, c.Now, c.Log)
	s.jobs = work.New(c.Log, st, s.node)
	s.ledger = &ledger.Service{Records: st, Now: c.Now, Metrics: st.MetricsIn}
	s.ledger.Batches = intake.Gather[app.Batch]{Name: "batches", Says: "write batches of measurements",
		Write: func(ctx context.Context, environment int64, all []app.Batch) ([]bool, error) {
			return st.TakeBatches(ctx, environment, all, c.Now().UnixMilli())
		}}
	s.intake.Sampled = units.Take
	rules := func(ctx context.Context, environment int64) (*decide.Ruleset, error) {
		place, err := hub.Place(ctx, environment)
		if err != nil {
			return nil, err
		}
		return place.Rules(), nil
	}
	tries := &preview.Service{Rules: rules, Population: units, TestUnits: st.TestUnits, List: st.List, Now: c.Now,
		Came: st.CameSince, Releases: st.RunningIn}
	deliveries := &delivery.Service{Records: st, Now: c.Now,
		Settled: func() bool { return s.clock.Settled(app.SilentAfter * time.Millisecond) },
		Write: func(ctx context.Context, fn func(delivery.Tx) error) error {
			return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
		}}
	edits := editsOf(units, tries)
	ends := &manage.Settled{Records: st, Now: c.Now, Spans: settled.Spans{
		Settled: cmp.Or(c.Settles, settled.Usual.Settled), Unasked: cmp.Or(c.Idle, settled.Usual.Unasked)}}
	edits.Ready = ends.Ready
	running := &releases.Service{Records: st, Rules: rules, Units: units.Units, Delivery: deliveries.At, Now: c.Now,
		Names: units.Names, Wake: make(chan struct{}, 1), Ledger: s.ledger,
		Stand: func(ctx context.Context, tx releases.Documents, env *app.Environment, old,
			now *flag.Document) error {
			return edits.Stand(ctx, tx, env, old, now, conditions.Of(tx, env.ID))
		}}
	changes := &commit.Service{
		Kinds: kinds(units, tries, edits, running),
		Write: func(ctx context.Context, fn func(commit.Tx) error) error {
			return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
		},
		Insist: func(ctx context.Context, fn func(commit.Tx) error) error {
			return st.Insist(ctx, func(tx *store.Tx) error { return fn(tx) })
		},
		Now: c.Now, Committed: s.committed, Shift: tries.Shift, Policies: &policies.Judge{},
	}
	s.commit = changes
	running.Apply = changes.Apply
	s.sender = &webhooks.Sender{Records: st, Now: c.Now, Log: c.Log, Allowed: c.WebhookNetworks,
		Tries: c.WebhookTries, Timeout: c.WebhookTimeout, Wake: make(chan struct{}, 1)}
	s.running = running
	s.proposals = &proposals.Service{Records: st, Commit: changes, Now: c.Now}
	history := &lineage.Service{Records: st, Look: hub.Look, Epoch: s.newEpoch, Log: c.Log}
	hub.Lost = history.Restored
	s.emergency = &emergency.Desk{Hub: hub, Records: st, Commit: changes, Path: filepath.Join(c.Dir,
		"emergency.json"),
		Now: c.Now, Log: c.Log}
	hub.Held = s.emergency.Held
	s.drills = &drills.Service{Records: st, Apply: changes.Apply, Now: c.Now,
		Rules: func(ctx context.Context, environment int64) (*flag.Ruleset, error) {
			rs, err := rules(ctx, environment)
			if err != nil {
				return nil, err
			}
			return rs.Source, nil
		}}
	s.reminders = &reminders.Service{Records: st, Apply: changes.Apply, Now: c.Now}
	s.lives = &environments.Lives{Records: st, Now: c.Now, Apply: func(ctx context.Context, r commit.Request,
		all ...commit.Change) ([]byte, error) {
		return changes.Apply(ctx, r, all...)
	}}
	s.tripwires = &tripwires.Service{Records: st, Commit: changes, Now: c.Now, Log: c.Log}
	s.web = &web.Surface{Now: c.Now, Log: c.Log, Limits: c.Limits, Proxies: c.Proxies, Secure: c.Secure,
		LogOneOf: c.LogOneOf, Jobs: s.jobs.States, Tracer: c.Tracer}
	s.edge = &edge.Edge{Surface: s.web, Hub: hub, Keys: keys, Population: units, Followers: followers{st, s.intake,
		s.ledger},
		Beat: c.Beat,
		Met:  history.Met, Ledger: s.ledger, Expose: s.ledger.Expose,
		Measure: s.ledger.Measure, Tripwires: s.tripwires, Emergency: s.emergency}
	s.api = &manage.API{Surface: s.web, Hub: hub, Population: units, Reported: s.edge.Reported,
		Stale: cmp.Or(c.ReadyStale, 30*time.Second),
		Records: manage.Records{PlaceReader: st, FlagReader: st, CodeReader: st, SegmentReader: st,
			AccountReader: st,
			CallerReader:  st, PastReader: st, InstanceReader: st, UnitReader: st, ReleaseReader: st,
			EvidenceReader: st, ProposalReader: st, PolicyReader: st, BundleReader: st, LifeReader: st,
			CalendarReader: st,
			IdentityReader: st,
			WebhookReader:  st,
			TripwireReader: st,
			StateReader:    st},
		Sign: s.signHeads, Preview: tries, Commit: changes, Heads: s.heads.read, Forgets: s.mayBeGone,
		Delivery: deliveries, Releases: running, Emergency: s.emergency,
		Settled: ends,
		Plans:   &plans.Service{Records: st, Past: st, Kinds: changes.Kinds},
		Drills:  s.drills, Proposals: s.proposals, Providers: providers(c.Identity, c.Now),
		PasswordsOff: c.Identity.LocalOff, See: st.See,
		People: &people.Service{
			Write: func(ctx context.Context, fn func(people.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			},
			Records: st, Devices: st, Identities: st, Now: c.Now, PasswordsOff: c.Identity.LocalOff,
		},
	}
}

// providers are those with which people sign in.
func providers(c identity.Config, now func() time.Time) (out []*identity.Provider) {
	for _, one := range c.Providers {
		out = append(out, &identity.Provider{Settings: one, Now: now,
			Client: &http.Client{Timeout: 10 * time.Second}})
	}
	return out
}

// handler is the whole surface.
func (s *Server) handler() http.Handler {
	e := s.web.Begin()
	s.edge.Add(e)
	s.api.Add(e)
	for name, pool := range s.store.Pools() {
		s.web.Register(collectors.NewDBStatsCollector(pool, name))
	}
	s.web.Register(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "greenlever_feed_lag_seconds",
		Help: "For how long the log of revisions could not be read; 0 while it can."}, func() float64 {
		return s.edge.Hub.Stale().Seconds()
	}))
	return s.web.Spanned(e)
}

// editsOf is what edits of flags rest on.
func editsOf(units *population.Service, tries *preview.Service) *flags.Service {
	return &flags.Service{Judge: judging(units), Overflows: overflowing(tries), Names: units.Names}
}

func judging(units *population.Service) conditions.Judge {
	return func(ctx context.Context, environment int64) (map[string]lint.Attribute, error) {
		known, _, _, err := units.Judge(ctx, environment)
		return known, err
	}
}

func overflowing(tries *preview.Service) conditions.Overflows {
	return func(ctx context.Context, environment int64, flags []*flag.Document,
		segments []*flag.Segment) ([]flag.Problem, error) {
		return tries.Overflows(ctx, environment, preview.Edit{Flags: flags, Segments: segments})
	}
}

// kinds are all kinds of changes that there are.
func kinds(units *population.Service, tries *preview.Service, edits *flags.Service,
	running *releases.Service) *commit.Kinds {
	seed := func(ctx context.Context, environment int64) ([]byte, error) {
		known, err := units.Known(ctx, environment)
		if err != nil {
			return nil, err
		}
		return known.Sampling.SeeAs, nil
	}
	return commit.NewKinds(
		edits.Kinds(), running.Kinds(), ladders.Kinds(), metrics.Kinds(), webhooks.Kinds(),
		(&segments.Service{Judge: judging(units), Overflows: overflowing(tries)}).Kinds(),
		(&seeas.Service{Seed: seed}).Kinds(),
		environments.Kinds(), keys.Kinds(), roles.Kinds(), attributes.Kinds(), testunits.Kinds(), recipes.Kinds(),
		sampling.Kinds(),
		(&proposals.Service{}).Kinds(), policies.Kinds(), calendars.Kinds(), reminders.Kinds(),
		bundles.Kinds(), scans.Kinds(),
		stops.Kinds(), emergency.Kinds(), drills.Kinds(), tripwires.Kinds(), delivery.Kinds(), lineage.Kinds(),
	)
}

// What the kinds of changes read, the store's transaction gives: see commit.Narrow.
var (
	_ flags.Tx                = (*store.Tx)(nil)
	_ releases.Documents      = (*store.Tx)(nil)
	_ releases.Own            = (*store.Tx)(nil)
	_ segments.Tx             = (*store.Tx)(nil)
	_ seeas.Tx                = (*store.Tx)(nil)
	_ environments.Tx         = (*store.Tx)(nil)
	_ environments.LivesTx    = (*store.Tx)(nil)
	_ environments.FollowedTx = (*store.Tx)(nil)
	_ keys.Tx                 = (*store.Tx)(nil)
	_ roles.Tx                = (*store.Tx)(nil)
	_ attributes.Tx           = (*store.Tx)(nil)
	_ stops.Tx                = (*store.Tx)(nil)
	_ tripwires.Tx            = (*store.Tx)(nil)
	_ emergency.Tx            = (*store.Tx)(nil)
	_ drills.Tx               = (*store.Tx)(nil)
	_ proposals.Tx            = (*store.Tx)(nil)
	_ calendars.Tx            = (*store.Tx)(nil)
	_ people.IdentityTx       = (*store.Tx)(nil)
	_ policies.Tx             = (*store.Tx)(nil)
	_ bundles.Tx              = (*store.Tx)(nil)
	_ scans.Tx                = (*store.Tx)(nil)
	_ policies.Reader         = (*store.Tx)(nil)
	_ webhooks.Tx             = (*store.Tx)(nil)
	_ metrics.Tx              = (*store.Tx)(nil)
	_ delivery.GoneTx         = (*store.Tx)(nil)
)

// newEpoch starts a new epoch by the service itself, for a cause.
func (s *Server) newEpoch(ctx context.Context, cause string) error {
	r := commit.Request{Actor: app.Actor{Kind: "service", Through: "service", Cause: cause}}
	_, err := s.commit.Apply(ctx, r, commit.Change{Do: &lineage.EpochFor{}})
	return err
}

// followers are the records of who follows, with reports going through the intake.
type followers struct {
	*store.Store
	in     *intake.Intake
	ledger *ledger.Service
}

func (f followers) Take(ctx context.Context, environment int64, r app.Incoming, size int) (bool, error) {
	var err error
	if r.Evidence, err = f.ledger.Look(ctx, environment, r.Report, r.Instance+"/"+strconv.FormatInt(r.Sequence,
		10)); err != nil {
		return false, err
	}
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
