// Package edge is decisions over HTTP: remote evaluation, the feed that clients follow with what they
// report, and the client for browsers. It knows nothing of who manages flags, so an outpost serves it too.
//
// Its noun is an [Edge] upon a [web.Surface].
package edge

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"

	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/intake"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/web"
)

// Followers are the records of who follows and what was decided.
type Followers interface {
	// Take takes a report, of so many bytes, once; it tells whether it was new.
	Take(ctx context.Context, environment int64, r app.Incoming, size int) (bool, error)
	AddCounts(ctx context.Context, environment, now int64, lines []wire.CountLine, unknown []wire.UnknownLine) error
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
	NameOf(ctx context.Context, environment int64) (string, error)
}

// Edge is decisions for software: remote evaluation, the feed, and the client for browsers. The
// service and an outpost have it alike.
type Edge struct {
	*web.Surface
	Hub        *feed.Hub
	Keys       *feed.Keyring
	Population *population.Service
	Followers  Followers
	Beat       time.Duration
	// Contact is when an outpost last heard of the service, in Unix milliseconds. Nil: it is
	// the service.
	Contact func(environment int64) int64
	// Met tells whether a follower at a position, with an access key, is of another history
	// than this one. Nil in an outpost: the service finds out.
	Met func(ctx context.Context, place *feed.Place, environment int64, at flag.Position, key string) bool

	// Ledger takes batches of measurements. Nil in an outpost, which hands on what its clients report.
	Ledger *ledger.Service
	// Expose is told of units that were given an answer here by a watched rule, and Measure of what pages measured.
	Expose  func(environment int64, line wire.ExposureLine)
	Measure func(environment int64, r *wire.Report)

	// Emergency takes emergency orders, and what processes say that they hold of stops.
	Emergency Emergency

	// Tripwires takes calls of monitoring systems. Nil in an outpost.
	Tripwires Tripwires

	watching  watchers // streams of browsers
	audience  intake.Audience
	counts    intake.Counts
	order     order
	tokens    tokens
	pulse     pulse
	decisions prometheus.Counter
}

// Add adds the routes to a surface that has begun, and what operators watch of them.
func (a *Edge) Add(e *echo.Echo) {
	a.addOFREP(e)
	a.addFollow(e)
	a.addBrowser(e)
	a.addIngest(e)
	a.addTripwires(e)
	a.addEmergency(e)
	a.decisions = prometheus.NewCounter(prometheus.CounterOpts{Name: "greenlever_decisions_total",
		Help: "Decisions reported by clients or made here."})
	a.Register(a.decisions,
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "greenlever_browser_streams",
			Help: "Open streams of browsers."},
			func() float64 { return float64(a.watching.count()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "greenlever_left_out",
			Help: "Documents and lists that cannot be read and are left out."},
			func() float64 {
				n := 0
				for _, p := range a.Hub.Places() {
					n += len(p.Aside())
				}
				return float64(n)
			}))
}

// Handler builds an outpost's surface.
func (a *Edge) Handler(ready func() error) http.Handler {
	e := a.Begin()
	a.Add(e)
	e.GET("/readyz", func(c *echo.Context) error {
		if is, err := a.Leaving(c); is {
			return err
		}
		if err := ready(); err != nil {
			return c.String(http.StatusServiceUnavailable, "not ready: "+err.Error()+"\n")
		}
		return c.String(http.StatusOK, "ready for decisions\n")
	})
	return e
}

// Reported counts the reports that came of each environment, so that who watches learns that there
// are new ones.
func (a *Edge) Reported(envs []app.Environment) []int64 { return a.pulse.read(envs) }

// WriteUsage writes what was decided here to the records.
func (a *Edge) WriteUsage(ctx context.Context) error {
	var err error
	for env, used := range a.counts.Take() {
		err = errors.Join(err, a.Followers.AddCounts(ctx, env, a.Now().UnixMilli(), used.Lines, used.Unknown))
		for _, l := range used.Lines {
			a.decisions.Add(float64(l.Count))
		}
	}
	return err
}

// Audience counts browsers with a stream open here, and units that asked for all answers in
// the last five to ten minutes.
func (a *Edge) Audience(environment int64) (streams, pollers int64) {
	return a.audience.In(environment, a.Now())
}

// watchers counts streams of browsers by address.
type watchers struct {
	mu        sync.Mutex
	all       int
	byAddress map[string]int
}

// open counts one more stream from an address, unless there are as many as there may be.
func (w *watchers) open(address string, most, perAddress int) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.byAddress == nil {
		w.byAddress = map[string]int{}
	}
	switch {
	case w.all >= most:
		return app.Faultf(app.Unavailable, "as many pages watch here as may: ask again later")
	case w.byAddress[address] >= perAddress:
		return app.Faultf(app.TooMany, "too many streams from this address: at most %d", perAddress)
	}
	w.all++
	w.byAddress[address]++
	return nil
}

func (w *watchers) close(address string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all--
	w.byAddress[address]--
	if w.byAddress[address] == 0 {
		delete(w.byAddress, address)
	}
}

func (w *watchers) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.all
}
