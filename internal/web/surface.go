// Package web is what every HTTP surface of the project has, whatever stands on it: problem documents,
// conditional requests, request ids and the log of them, limits, streams of server-sent events, metrics,
// and a listener for operators.
//
// Its noun is a [Surface]:
//
//	s := &web.Surface{Log: log, Limits: web.DefaultLimits(), Now: time.Now}
//	e := s.Begin()
//	e.GET("/...", ...)
package web

import (
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/trace"
	"greenlever.example/greenlever/internal/app/work"
)

// Surface is an HTTP surface, and what its routes share.
type Surface struct {
	Now    func() time.Time
	Log    *slog.Logger
	Limits Limits
	// Proxies are networks of proxies that are believed about whom they pass on.
	Proxies []netip.Prefix
	// Secure says that everything is reached over TLS.
	Secure bool
	// LogOneOf is of how many requests that went well one is logged; 0: none.
	LogOneOf int
	// Tracer makes spans of requests. Nil: none are made.
	Tracer trace.TracerProvider
	// Jobs tells how what goes on behind is doing. Nil: nothing does.
	Jobs func() []work.State

	streams atomic.Int64 // open, of services and the console
	metrics *metrics
	ending  chan struct{}
	leaving atomic.Bool
	orders  Rates
}

// Begin makes the surface, with nothing on it yet.
func (s *Surface) Begin() *echo.Echo {
	s.metrics = newMetrics(s)
	s.ending = make(chan struct{})
	e := echo.New()
	e.HTTPErrorHandler = s.fail
	e.IPExtractor = s.addressOf
	e.Logger = s.Log
	e.Pre(heads)
	e.Use(s.identified(), named, s.metrics.measure,
		middleware.RecoverWithConfig(middleware.RecoverConfig{DisableStackAll: true}), s.headers)
	e.GET("/healthz", healthy)
	return e
}

func healthy(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") }

// Register adds to what operators watch; once the surface has begun.
func (s *Surface) Register(all ...prometheus.Collector) { s.metrics.registry.MustRegister(all...) }

// AdminHandler builds what operators watch, for a listener of its own that strangers do not
// reach: metrics, jobs, profiles of the process, and an outpost's page. It is built after the surface.
func (s *Surface) AdminHandler(page echo.HandlerFunc) http.Handler {
	e := echo.New()
	e.HTTPErrorHandler = s.fail
	e.Logger = s.Log
	e.Pre(heads)
	e.Use(middleware.RecoverWithConfig(middleware.RecoverConfig{DisableStackAll: true}), s.headers)
	e.GET("/metrics", s.metrics.serve)
	e.GET("/healthz", healthy)
	for path, serve := range map[string]http.HandlerFunc{"": pprof.Index, "cmdline": pprof.Cmdline,
		"profile": pprof.Profile, "symbol": pprof.Symbol, "trace": pprof.Trace, "*": pprof.Index} {
		e.GET("/debug/pprof/"+path, func(c *echo.Context) error { serve(c.Response(), c.Request()); return nil })
	}
	e.GET("/jobs", func(c *echo.Context) error {
		if s.Jobs == nil {
			return c.JSON(http.StatusOK, []work.State{})
		}
		return c.JSON(http.StatusOK, s.Jobs())
	})
	if page != nil {
		e.GET("/", page)
	}
	return e
}

// addressOf is the address of who calls. What a request says of it is believed of proxies
// that are trusted alone.
func (s *Surface) addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0 && s.trusted(host); i-- {
		if ip, err := netip.ParseAddr(strings.TrimSpace(hops[i])); err == nil {
			host = ip.String()
		} else {
			break
		}
	}
	return host
}

func (s *Surface) trusted(host string) bool {
	ip, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
}

// headers sets what every answer carries that a browser may show.
func (s *Surface) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("X-Content-Type-Options", "nosniff")
		if s.Secure {
			c.Response().Header().Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/ofrep/") {
			return next(c)
		}
		h := c.Response().Header()
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Date", s.Now().UTC().Format(http.TimeFormat)) // by which pages go, whose own clock may be wrong
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
func (s *Surface) EndStreams() { close(s.ending) }

// Leave has /readyz say that the process ends, so that nobody new is sent to it.
func (s *Surface) Leave() { s.leaving.Store(true) }

// Leaving answers that the process ends, if it does.
func (s *Surface) Leaving(c *echo.Context) (is bool, err error) {
	if !s.leaving.Load() {
		return false, nil
	}
	return true, c.String(http.StatusServiceUnavailable, "not ready: this process ends\n")
}

// Spread is over how long those who follow should come back after their streams ended, so
// that they do not all come at once: a millisecond for each, at most a quarter of a minute.
func (s *Surface) Spread() time.Duration {
	return min(time.Duration(s.streams.Load())*time.Millisecond, 15*time.Second)
}
