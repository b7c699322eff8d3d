// Package outpost serves an environment near those who ask: it follows the service, and
// answers remote evaluation, the feed and browsers as the service does, also while the
// service cannot be reached. It tells the service who is behind it and what they decided.
//
//	o, err := outpost.Start(ctx, outpost.Config{URL: url, Keys: []string{key}, Listen: "127.0.0.1:8095", Dir: dir})
//	defer o.Stop()
package outpost

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"go.opentelemetry.io/otel/trace"
	greenlever "greenlever.example/client"
	"greenlever.example/client/relay"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/web"
)

// Config says what an outpost follows and where it serves it.
type Config struct {
	URL string // of the service, or of another outpost
	// AdminElsewhere takes another port where that of Admin is taken.
	AdminElsewhere bool
	Keys           []string      // access keys of kind service, one for each environment
	Listen         string        // address; port 0 picks a free one
	Admin          string        // address of what operators watch: its own page, and metrics; empty: none
	Dir            string        // for the copies from which it starts without the service
	Name           string        // by which the service lists it
	Version        string        // of the build
	Wait           time.Duration // for the service, at the start; default 2 s, negative: not at all
	Log            *slog.Logger
	Limits         web.Limits
	Tracer         trace.TracerProvider // of requests; nil: none
	Beat           time.Duration        // of feeds; default 15 s
	HTTP           *http.Client
	Now            func() time.Time // default: this machine's clock, corrected by the service's
	LogOneOf       int              // of how many requests that went well one is logged; 0: none
	Drain          time.Duration    // from when /readyz says that it ends until it takes no more requests
}

// Outpost is a running outpost.
type Outpost struct {
	Address string // where it listens
	Admin   string // where it listens for operators; empty: nowhere

	config  Config
	links   []*link
	edge    *edge.Edge
	http    []*http.Server
	started time.Time
	cancel  context.CancelFunc
	done    sync.WaitGroup
	jobs    *work.Worker
	failed  chan error

	stop    sync.Once
	stopped error
}

const (
	usageEvery = 10 * time.Second
	graceful   = 10 * time.Second
	startWait  = 2 * time.Second // where nothing else is asked for
)

// Start starts an outpost and returns once it listens. It need not have reached the
// service: then it serves what it has on disk, or nothing yet. The error is one of
// configuration, or of an address that is taken.
func Start(ctx context.Context, c Config) (*Outpost, error) {
	switch {
	case c.URL == "":
		return nil, errors.New("an outpost needs the service's address: --url or GREENLEVER_URL")
	case strings.Contains(c.URL, ","):
		return nil, fmt.Errorf("an outpost follows one address, and --url or GREENLEVER_URL holds several: %s", c.URL)
	case len(c.Keys) == 0:
		return nil, errors.New("an outpost needs an access key of kind service for each environment: --key or " +
			"GREENLEVER_KEY")
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.Limits == (web.Limits{}) {
		c.Limits = web.DefaultLimits()
	}
	if c.Beat == 0 {
		c.Beat = 15 * time.Second
	}
	if c.HTTP == nil {
		c.HTTP = &http.Client{}
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the directory of the outpost's copies: %w", err)
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("the outpost cannot listen on %s: %w (choose another address with --listen)", c.Listen,
			err)
	}
	o := &Outpost{Address: listener.Addr().String(), config: c, started: time.Now(), failed: make(chan error, 1)}
	var admin net.Listener
	if c.Admin != "" {
		if admin, err = web.ListenAdmin(c.Admin, c.AdminElsewhere); err != nil {
			listener.Close()
			return nil, fmt.Errorf("the outpost cannot listen for operators on %s: %w (choose another address with "+
				"--admin)", c.Admin, err)
		}
		o.Admin = admin.Addr().String()
	}
	if err := o.start(ctx, listener, admin); err != nil {
		listener.Close()
		if admin != nil {
			admin.Close()
		}
		o.Stop()
		return nil, err
	}
	return o, nil
}

func (o *Outpost) start(ctx context.Context, listener, admin net.Listener) error {
	c := o.config
	now := c.Now
	if now == nil {
		now = o.now
	}
	o.jobs = work.New(c.Log, nil, "")
	surface := &web.Surface{Now: now, Log: c.Log, Limits: c.Limits, Jobs: o.jobs.States, LogOneOf: c.LogOneOf,
		Tracer: c.Tracer}
	o.edge = &edge.Edge{Surface: surface, Hub: feed.NewHub(records{o}, c.Log), Keys: feed.NewKeyring(records{o},
		c.Log),
		Population: &population.Service{Records: records{o}, Now: now, Log: c.Log}, Followers: records{o},
		Beat: c.Beat, Contact: o.contact,
		Expose:  func(environment int64, line wire.ExposureLine) { o.of(environment).expose(line) },
		Measure: func(environment int64, r *wire.Report) { o.of(environment).measured(r) }, Emergency: emergency{o}}
	handler := surface.Spanned(o.edge.Handler(o.ready))
	run, cancel := context.WithCancel(context.Background())
	o.cancel = cancel
	for i, secret := range c.Keys {
		if err := o.link(ctx, run, int64(i+1), secret); err != nil {
			return err
		}
	}
	o.await(ctx)
	if err := errors.Join(o.edge.Hub.Gather(ctx), o.edge.Keys.Refresh(ctx)); err != nil {
		return err
	}
	o.jobs.Start(run, append(o.edge.Hub.Jobs(), o.edge.Keys.Job())...)
	o.jobs.Start(run,
		work.Job{Name: "usage", Says: "gather what was decided here", Every: usageEvery, Do: func(ctx context.Context,
			_ *work.Turn) error {
			return o.gather(ctx)
		}})
	o.serve(listener, handler)
	if admin != nil {
		o.serve(admin, o.edge.AdminHandler(o.page))
	}
	return nil
}

func (o *Outpost) serve(l net.Listener, handler http.Handler) {
	h := web.Serving(handler, o.config.Limits, o.config.Log)
	o.http = append(o.http, h)
	o.until(guard.Go(o.config.Log, "serve", func() {
		if err := h.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			o.failed <- err
		}
	}))
}

// until has the stop wait for a goroutine.
func (o *Outpost) until(done <-chan struct{}) {
	o.done.Add(1)
	guard.Go(o.config.Log, "wait for a part to end", func() {
		defer o.done.Done()
		<-done
	})
}

// link begins to follow the environment of an access key.
func (o *Outpost) link(ctx, run context.Context, id int64, secret string) error {
	c := o.config
	l := newLink(id, c.URL, secret, c.Dir, c.HTTP, time.Now)
	l.relay = &relay.Relay{
		Applied: func(rs *flag.Ruleset, e *flag.Event) {
			l.apply(rs, e)
			o.hold(id, rs)
			o.edge.Hub.Nudge()
		},
		Report: func() map[string]any { return l.report(o.edge.Audience(id)) },
		Let:    l.letGo,
	}
	o.links = append(o.links, l) // before its client calls
	client, err := greenlever.Open(ctx, l.relay.In(greenlever.Options{URL: c.URL, Key: secret, Dir: c.Dir,
		Application: c.Name, Version: c.Version,
		Wait: -1, HTTP: c.HTTP, Logger: c.Log}))
	if err != nil {
		return err
	}
	l.client.Store(client)
	o.jobs.Start(run, l.job(o.edge.Keys.Nudge), l.handUp(l.up))
	return nil
}

// hold has the place of an environment hold what the link's client holds beside the service's ruleset. Orders leave
// it by the revision that brings them as stops, so that none is missing in between.
func (o *Outpost) hold(id int64, rs *flag.Ruleset) {
	place := o.edge.Hub.Places()[id]
	if place == nil || len(rs.Orders)+len(rs.Kept)+len(place.Rules().Source.Kept) == 0 {
		return
	}
	place.Hold(func(mine *flag.Ruleset) *flag.Ruleset {
		for _, order := range rs.Orders {
			mine = mine.Take(order)
		}
		if mine.Position() == rs.Position() && len(mine.Kept) != len(rs.Kept) {
			same := *mine
			same.Kept = rs.Kept
			mine = &same
		}
		return mine
	})
}

// await gives the service a moment to answer for every link, all at once, so that the outpost
// begins with what is newest where that can be had. One that cannot be reached is not waited for.
func (o *Outpost) await(ctx context.Context) {
	if o.config.Wait < 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(o.config.Wait, startWait))
	defer cancel()
	for _, l := range o.links {
		for {
			changed := l.client.Load().Changed()
			if s := l.state(); s.Source == greenlever.FromService || s.LastError != "" {
				break
			}
			select {
			case <-changed:
				continue
			case <-ctx.Done():
				return
			}
		}
		select {
		case <-l.asked:
		case <-ctx.Done():
			return
		}
	}
}

// gather hands what was decided here to the links, which report it.
func (o *Outpost) gather(ctx context.Context) error {
	return errors.Join(o.edge.WriteUsage(ctx), o.edge.Population.Flush(ctx))
}

// now is the service's time, as near as it is known.
func (o *Outpost) now() time.Time {
	return time.Now().Add(o.links[0].state().Skew)
}

// contact is when the service was last heard of, by its own clock.
func (o *Outpost) contact(environment int64) int64 {
	s := o.of(environment).state()
	return s.Contact.Add(s.Skew).UnixMilli()
}

func (o *Outpost) of(environment int64) *link { return o.links[environment-1] }

// ready tells why the outpost cannot answer yet.
func (o *Outpost) ready() error {
	for i, l := range o.links {
		if _, ok := l.head(); !ok {
			return fmt.Errorf("key %d of %d: the service was not reached, and there is no copy on disk", i+1,
				len(o.links))
		}
	}
	return nil
}

// URL is the outpost's address for programs on this machine.
func (o *Outpost) URL() string { return web.LocalURL(o.Address) }

// AdminURL is the address of the outpost's own page; empty where there is none.
func (o *Outpost) AdminURL() string {
	if o.Admin == "" {
		return ""
	}
	return web.LocalURL(o.Admin)
}

// Failed gives the error that ended the outpost by itself, if one does.
func (o *Outpost) Failed() <-chan error { return o.failed }

// Stop ends the outpost in order: streams end, requests under way are answered, and the
// service is told what is not told yet and that the outpost leaves.
func (o *Outpost) Stop() error {
	o.stop.Do(func() { o.stopped = o.end() })
	return o.stopped
}

func (o *Outpost) end() error {
	ctx, cancel := context.WithTimeout(context.Background(), graceful)
	defer cancel()
	var err error
	if len(o.http) > 0 {
		o.edge.Leave()
		time.Sleep(o.config.Drain) // for whoever sends requests here to look
		o.edge.EndStreams()
		for _, h := range o.http {
			err = errors.Join(err, h.Shutdown(ctx))
		}
	}
	if o.cancel != nil {
		o.cancel()
		o.jobs.Wait()
		o.done.Wait()
		err = errors.Join(err, o.gather(ctx))
	}
	for _, l := range o.links {
		if c := l.client.Load(); c != nil {
			err = errors.Join(err, c.Close())
		}
	}
	return err
}

// records is an outpost as the parts of the service see it: what they would read from and
// write to the records goes through the links.
type records struct{ o *Outpost }

func (r records) Followed(context.Context, int64) (ids []int64, err error) {
	for _, l := range r.o.links {
		if _, ok := l.head(); ok {
			ids = append(ids, l.id)
		}
	}
	return ids, nil
}

func (r records) Heads(context.Context, []int64) (map[int64]feed.Head, error) {
	heads := map[int64]feed.Head{}
	for _, l := range r.o.links {
		if rs, ok := l.head(); ok {
			heads[l.id] = feed.Head{Epoch: rs.Epoch, Revision: rs.Revision, Digest: rs.Digest}
		}
	}
	return heads, nil
}

func (r records) Revisions(_ context.Context, environment, after int64, _ string, limit int) ([]*flag.Event, error) {
	return r.o.of(environment).after(after, limit)
}

func (r records) Ruleset(_ context.Context, environment int64) (*flag.Ruleset, []app.Aside, error) {
	rs, ok := r.o.of(environment).head()
	if !ok {
		return nil, nil, app.Faultf(app.Unavailable, "this outpost has not reached the service yet and has no copy "+
			"of the ruleset")
	}
	return rs, nil, nil
}

func (r records) List(_ context.Context, environment int64, digest string) (flag.Hashes, error) {
	if rs, ok := r.o.of(environment).head(); ok {
		if h := rs.List(digest); h != nil {
			return h, nil
		}
	}
	return nil, app.Faultf(app.NotFound, "the list %s is not here", digest)
}

func (r records) LiveAccessKeys(context.Context) (all []app.AccessKey, err error) {
	for _, l := range r.o.links {
		all = append(all, l.keys()...)
	}
	return all, nil
}

func (r records) Sampling(_ context.Context, environment int64) (*app.Sampling, error) {
	needs, err := r.o.of(environment).known()
	if err != nil {
		return nil, err
	}
	return &app.Sampling{Off: needs.Off, Days: needs.Days, Seed: needs.Seed}, nil
}

func (r records) AttributesOf(_ context.Context, environment int64) ([]app.Attribute, error) {
	needs, err := r.o.of(environment).known()
	if err != nil {
		return nil, err
	}
	return needs.Attributes, nil
}

func (r records) Covers(_ context.Context, environment int64) (map[string]sample.Cover, error) {
	needs, err := r.o.of(environment).known()
	if err != nil {
		return nil, err
	}
	return needs.Covers, nil
}

func (r records) MergeUnits(_ context.Context, environment int64, attribute string, rows []app.UnitRow, _,
	_ int64) error {
	r.o.of(environment).sampled(attribute, rows)
	return nil
}

func (r records) AddSeen(_ context.Context, environment, _ int64, contexts uint64, seen []sample.Seen) error {
	r.o.of(environment).saw(contexts, seen)
	return nil
}

func (r records) Population(context.Context, int64, string) ([]app.UnitRow, sample.Cover, error) {
	return nil, sample.Cover{}, app.Faultf(app.NotFound, "an outpost keeps no population")
}

func (r records) SeenAttributes(context.Context, int64, int64) (map[string]*sample.Seen, uint64, error) {
	return nil, 0, app.Faultf(app.NotFound, "an outpost keeps no account of attributes")
}

func (r records) Take(_ context.Context, environment int64, report app.Incoming, _ int) (bool, error) {
	l := r.o.of(environment)
	taken := l.take(report)
	if !taken {
		return false, nil
	}
	return true, r.o.edge.Population.Take(context.Background(), environment, []*wire.Report{report.Report})
}

func (r records) AddCounts(_ context.Context, environment, _ int64, lines []wire.CountLine,
	unknown []wire.UnknownLine) error {
	r.o.of(environment).count(lines, unknown)
	return nil
}

func (r records) NameOf(_ context.Context, environment int64) (string, error) {
	needs, err := r.o.of(environment).known()
	if err != nil {
		return "", err
	}
	return needs.Name, nil
}
