package httpapi

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/population"
)

// Followers are the records of who follows and what was decided.
type Followers interface {
	TakeReport(ctx context.Context, environment int64, r *app.Report, now int64) (bool, error)
	AddCounts(ctx context.Context, environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error
	SetBehind(ctx context.Context, environment, revision int64) error
	List(ctx context.Context, digest string) (flag.Hashes, error)
	NameOf(ctx context.Context, environment int64) (string, error)
}

// Edge is the part of the surface that software uses: remote evaluation, the feed, and the
// client for browsers. The service and an outpost have it alike.
type Edge struct {
	Hub        *feed.Hub
	Keys       *feed.Keyring
	Population *population.Service
	Followers  Followers
	Now        func() time.Time
	Log        *slog.Logger
	Limits     Limits
	Beat       time.Duration
	// Contact is when an outpost last heard of the service, in Unix milliseconds. Nil: it is
	// the service.
	Contact func(environment int64) int64

	streams  atomic.Int64 // open
	browsers audience
	usage    usage
	order    order
	metrics  *metrics
	pulse    pulse
	ending   chan struct{}
}

// begin makes the surface, with nothing on it yet.
func (a *Edge) begin() *echo.Echo {
	a.metrics = newMetrics(a)
	a.ending = make(chan struct{})
	e := echo.New()
	e.HTTPErrorHandler = a.fail
	e.Logger = a.Log
	e.Use(a.metrics.measure, middleware.RecoverWithConfig(middleware.RecoverConfig{DisableStackAll: true}), headers)
	return e
}

func (a *Edge) add(e *echo.Echo) {
	a.addOFREP(e)
	a.addFollow(e)
	a.addBrowser(e)
	e.GET("/metrics", a.metrics.serve)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
}

// Handler builds an outpost's surface; page is its own, at the root.
func (a *Edge) Handler(page echo.HandlerFunc, ready func() error) http.Handler {
	e := a.begin()
	a.add(e)
	e.GET("/", page)
	e.GET("/readyz", func(c *echo.Context) error {
		if err := ready(); err != nil {
			return c.String(http.StatusServiceUnavailable, "not ready: "+err.Error()+"\n")
		}
		return c.String(http.StatusOK, "ready for decisions\n")
	})
	return e
}

// Serving is the HTTP server for a surface: every request but a stream has a limit of time.
func Serving(handler http.Handler, limits Limits, log *slog.Logger) *http.Server {
	return &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: limits.Time,
		WriteTimeout: limits.Time + 5*time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
}

// LocalURL is the address of a listener for programs on this machine.
func LocalURL(address string) string {
	host, port, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err == nil && ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	return "http://" + net.JoinHostPort(host, port)
}

// EndStreams ends all open streams, so that a graceful stop need not wait for them.
func (a *Edge) EndStreams() { close(a.ending) }

// spread is over how long those who follow should come back after their streams ended, so
// that they do not all come at once: a millisecond for each, at most a quarter of a minute.
func (a *Edge) spread() time.Duration {
	return min(time.Duration(a.streams.Load())*time.Millisecond, 15*time.Second)
}
