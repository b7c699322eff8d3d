package httpapi

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/work"
)

// Followers are the records of who follows and what was decided.
type Followers interface {
	// Take takes a report, of so many bytes, once; it tells whether it was new.
	Take(ctx context.Context, environment int64, r app.Incoming, size int) (bool, error)
	AddCounts(ctx context.Context, environment, now int64, lines []app.CountLine, unknown []app.AskedLine) error
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
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
	// Met tells whether a follower at a position, with an access key, is of another history
	// than this one. Nil in an outpost: the service finds out.
	Met func(ctx context.Context, place *feed.Place, environment int64, at flag.Position, key string) bool
	// Proxies are networks of proxies that are believed about whom they pass on.
	Proxies []netip.Prefix
	// Secure says that everything is reached over TLS.
	Secure bool
	// LogOneOf is of how many requests that went well one is logged; 0: none.
	LogOneOf int
	// Jobs tells how what goes on behind is doing. Nil: nothing does.
	Jobs func() []work.State

	streams  atomic.Int64 // open, of services and the console
	watching watchers     // streams of browsers
	browsers audience
	usage    usage
	order    order
	tokens   tokens
	metrics  *metrics
	pulse    pulse
	ending   chan struct{}
	leaving  atomic.Bool
}

// begin makes the surface, with nothing on it yet.
func (a *Edge) begin() *echo.Echo {
	a.metrics = newMetrics(a)
	a.ending = make(chan struct{})
	e := echo.New()
	e.HTTPErrorHandler = a.fail
	e.IPExtractor = a.addressOf
	e.Logger = a.Log
	e.Pre(heads)
	e.Use(a.identified(), a.metrics.measure, middleware.RecoverWithConfig(middleware.RecoverConfig{DisableStackAll: true}), a.headers)
	return e
}

func (a *Edge) add(e *echo.Echo) {
	a.addOFREP(e)
	a.addFollow(e)
	a.addBrowser(e)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
}

// AdminHandler builds what operators watch, for a listener of its own that strangers do not
// reach: metrics, jobs, profiles of the process, and an outpost's page. It is built after the surface.
func (a *Edge) AdminHandler(page echo.HandlerFunc) http.Handler {
	e := echo.New()
	e.HTTPErrorHandler = a.fail
	e.Logger = a.Log
	e.Pre(heads)
	e.Use(middleware.RecoverWithConfig(middleware.RecoverConfig{DisableStackAll: true}), a.headers)
	e.GET("/metrics", a.metrics.serve)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	for path, serve := range map[string]http.HandlerFunc{"": pprof.Index, "cmdline": pprof.Cmdline, "profile": pprof.Profile, "symbol": pprof.Symbol, "trace": pprof.Trace, "*": pprof.Index} {
		e.GET("/debug/pprof/"+path, func(c *echo.Context) error { serve(c.Response(), c.Request()); return nil })
	}
	e.GET("/jobs", func(c *echo.Context) error {
		if a.Jobs == nil {
			return c.JSON(http.StatusOK, []work.State{})
		}
		return c.JSON(http.StatusOK, a.Jobs())
	})
	if page != nil {
		e.GET("/", page)
	}
	return e
}

// addressOf is the address of who calls. What a request says of it is believed of proxies
// that are trusted alone.
func (a *Edge) addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0 && a.trusted(host); i-- {
		if ip, err := netip.ParseAddr(strings.TrimSpace(hops[i])); err == nil {
			host = ip.String()
		} else {
			break
		}
	}
	return host
}

func (a *Edge) trusted(host string) bool {
	ip, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(a.Proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
}

// Handler builds an outpost's surface.
func (a *Edge) Handler(ready func() error) http.Handler {
	e := a.begin()
	a.add(e)
	e.GET("/readyz", func(c *echo.Context) error {
		if a.leaving.Load() {
			return c.String(http.StatusServiceUnavailable, isLeaving)
		}
		if err := ready(); err != nil {
			return c.String(http.StatusServiceUnavailable, "not ready: "+err.Error()+"\n")
		}
		return c.String(http.StatusOK, "ready for decisions\n")
	})
	return e
}

// headers sets what every answer carries that a browser may show.
func (a *Edge) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("X-Content-Type-Options", "nosniff")
		if a.Secure {
			c.Response().Header().Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/ofrep/") {
			return next(c)
		}
		h := c.Response().Header()
		h.Set("Referrer-Policy", "same-origin")
		return next(c)
	}
}

// Serving is the HTTP server for a surface: every request but a stream has a limit of time.
func Serving(handler http.Handler, limits Limits, log *slog.Logger) *http.Server {
	return &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: limits.Time,
		WriteTimeout: limits.Time + 5*time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
}

// ListenAdmin listens for operators; elsewhere, on another port where that one is taken.
func ListenAdmin(address string, elsewhere bool) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err == nil || !elsewhere {
		return l, err
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	return net.Listen("tcp", net.JoinHostPort(host, "0"))
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

// Leave has /readyz say that the process ends, so that nobody new is sent to it.
func (a *Edge) Leave() { a.leaving.Store(true) }

const isLeaving = "not ready: this process ends\n"

// spread is over how long those who follow should come back after their streams ended, so
// that they do not all come at once: a millisecond for each, at most a quarter of a minute.
func (a *Edge) spread() time.Duration {
	return min(time.Duration(a.streams.Load())*time.Millisecond, 15*time.Second)
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
	if w.byAddress[address]--; w.byAddress[address] == 0 {
		delete(w.byAddress, address)
	}
}

func (w *watchers) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.all
}
