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
	"sync"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/httpapi"
)

// Config says what an outpost follows and where it serves it.
type Config struct {
	URL     string        // of the service, or of another outpost
	Keys    []string      // access keys of kind service, one for each environment
	Listen  string        // address; port 0 picks a free one
	Dir     string        // for the copies from which it starts without the service
	Name    string        // by which the service lists it
	Version string        // of the build
	Wait    time.Duration // for the service, at the start; default 2 s, negative: not at all
	Log     *slog.Logger
	Limits  httpapi.Limits
	Beat    time.Duration // of feeds; default 15 s
	HTTP    *http.Client
	Now     func() time.Time // default: this machine's clock, corrected by the service's
}

// Outpost is a running outpost.
type Outpost struct {
	Address string // where it listens

	config  Config
	links   []*link
	edge    *httpapi.Edge
	http    *http.Server
	started time.Time
	cancel  context.CancelFunc
	done    sync.WaitGroup
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
	case len(c.Keys) == 0:
		return nil, errors.New("an outpost needs an access key of kind service for each environment: --key or GREENLEVER_KEY")
	}
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.Limits == (httpapi.Limits{}) {
		c.Limits = httpapi.DefaultLimits()
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
		return nil, fmt.Errorf("the outpost cannot listen on %s: %w (choose another address with --listen)", c.Listen, err)
	}
	o := &Outpost{Address: listener.Addr().String(), config: c, started: time.Now(), failed: make(chan error, 1)}
	if err := o.start(ctx, listener); err != nil {
		listener.Close()
		o.Stop()
		return nil, err
	}
	return o, nil
}

func (o *Outpost) start(ctx context.Context, listener net.Listener) error {
	c := o.config
	now := c.Now
	if now == nil {
		now = o.now
	}
	o.edge = &httpapi.Edge{Hub: feed.NewHub(records{o}, c.Log), Keys: feed.NewKeyring(records{o}, c.Log),
		Population: &population.Service{Records: records{o}, Now: now}, Followers: records{o},
		Now: now, Log: c.Log, Limits: c.Limits, Beat: c.Beat, Contact: o.contact}
	handler := o.edge.Handler(o.page, o.ready)
	run, cancel := context.WithCancel(context.Background())
	o.cancel = cancel
	for i, secret := range c.Keys {
		if err := o.link(ctx, run, int64(i+1), secret); err != nil {
			return err
		}
	}
	o.await(ctx)
	if err := errors.Join(o.edge.Hub.Look(ctx), o.edge.Keys.Refresh(ctx)); err != nil {
		return err
	}
	o.done.Go(func() { o.edge.Hub.Run(run) })
	o.done.Go(func() { o.edge.Keys.Run(run) })
	o.done.Go(func() {
		tick := time.NewTicker(usageEvery)
		defer tick.Stop()
		for {
			select {
			case <-run.Done():
				return
			case <-tick.C:
				o.gather(run)
			}
		}
	})
	o.http = httpapi.Serving(handler, c.Limits, c.Log)
	o.done.Go(func() {
		if err := o.http.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			o.failed <- err
		}
	})
	return nil
}

// link begins to follow the environment of an access key.
func (o *Outpost) link(ctx, run context.Context, id int64, secret string) error {
	c := o.config
	l := newLink(id, c.URL, secret, c.Dir, c.HTTP, time.Now)
	l.relay = &greenlever.Relay{
		Applied: func(ruleset, event any) {
			l.apply(ruleset, event)
			o.edge.Hub.Nudge()
		},
		Report: func() map[string]any { return l.report(o.edge.Audience(id)) },
	}
	o.links = append(o.links, l) // before its client calls
	client, err := greenlever.Open(ctx, greenlever.Options{URL: c.URL, Key: secret, Dir: c.Dir, Application: c.Name, Version: c.Version,
		Wait: -1, HTTP: c.HTTP, Logger: c.Log, Relay: l.relay})
	if err != nil {
		return err
	}
	l.client.Store(client)
	o.done.Go(func() { l.learn(run, o.edge.Keys.Nudge) })
	return nil
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
func (o *Outpost) gather(ctx context.Context) {
	if err := errors.Join(o.edge.WriteUsage(ctx), o.edge.Population.Flush(ctx)); err != nil && ctx.Err() == nil {
		o.config.Log.Warn("what was decided here could not be gathered", "error", err)
	}
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
			return fmt.Errorf("key %d of %d: the service was not reached, and there is no copy on disk", i+1, len(o.links))
		}
	}
	return nil
}

// URL is the outpost's address for programs on this machine.
func (o *Outpost) URL() string { return httpapi.LocalURL(o.Address) }

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
	if o.http != nil {
		o.edge.EndStreams()
		err = o.http.Shutdown(ctx)
	}
	if o.cancel != nil {
		o.cancel()
		o.done.Wait()
		o.gather(ctx)
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

func (r records) Heads(context.Context) (map[int64]feed.Head, error) {
	heads := map[int64]feed.Head{}
	for _, l := range r.o.links {
		if rs, ok := l.head(); ok {
			heads[l.id] = feed.Head{Epoch: rs.Epoch, Revision: rs.Revision}
		}
	}
	return heads, nil
}

func (r records) Revisions(_ context.Context, environment, after int64, limit int) ([]*flag.Event, error) {
	return r.o.of(environment).after(after, limit)
}

func (r records) Ruleset(_ context.Context, environment int64) (*flag.Ruleset, error) {
	rs, ok := r.o.of(environment).head()
	if !ok {
		return nil, app.Faultf(app.Unavailable, "this outpost has not reached the service yet and has no copy of the ruleset")
	}
	return rs, nil
}

func (r records) List(_ context.Context, digest string) (flag.Hashes, error) {
	for _, l := range r.o.links {
		if rs, ok := l.head(); ok {
			if h := rs.List(digest); h != nil {
				return h, nil
			}
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

func (r records) MergeUnits(_ context.Context, environment int64, attribute string, rows []app.UnitRow, _, _ int64) error {
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

func (r records) TakeReport(_ context.Context, environment int64, report *app.Report, _ int64) (bool, error) {
	return r.o.of(environment).take(report), nil
}

func (r records) AddCounts(_ context.Context, environment, _ int64, lines []app.CountLine, unknown []app.AskedLine) error {
	r.o.of(environment).count(lines, unknown)
	return nil
}

func (r records) SetBehind(context.Context, int64, int64) error { return nil } // the service finds out by itself

func (r records) NameOf(_ context.Context, environment int64) (string, error) {
	needs, err := r.o.of(environment).known()
	if err != nil {
		return "", err
	}
	return needs.Name, nil
}
