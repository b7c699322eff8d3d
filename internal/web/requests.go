package web

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
)

// Each request has an id, which its answer and all that is logged of it carry. A caller's or a
// proxy's own is kept where it is plain.

const requestHeader = "X-Request-Id"

// plainID is an id that cannot break a log.
var plainID = regexp.MustCompile(`^[A-Za-z0-9._:/+=-]{1,100}$`)

// requestID is the id of a request.
func requestID(c *echo.Context) string { return c.Response().Header().Get(requestHeader) }

// ids are made of the process and a count, so that they cost nothing and are never alike.
type ids struct {
	process string
	count   atomic.Uint64
}

func newIDs() *ids { return &ids{process: rand.Text()[:10]} }

func (i *ids) next() string {
	return string(strconv.AppendUint(append(append(make([]byte, 0, 32), i.process...), '-'), i.count.Add(1), 36))
}

// slow is from when on a request is logged although it went well.
const slow = time.Second

// identified gives each request its id and logs it: those that fail here and slow ones always, of
// the others one of so many as [Surface.LogOneOf] says.
func (a *Surface) identified() echo.MiddlewareFunc {
	made, well := newIDs(), atomic.Int64{}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			id := c.Request().Header.Get(requestHeader)
			if id == "" || !plainID.MatchString(id) {
				id = made.next()
			}
			c.Response().Header().Set(requestHeader, id)
			began := time.Now()
			err := next(c)
			if err != nil {
				a.fail(c, err) // which commits the answer; nobody looks at the error any more
			}
			took, status, size := time.Since(began), http.StatusOK, int64(0)
			if r, e := echo.UnwrapResponse(c.Response()); e == nil {
				status, size = r.Status, r.Size
			}
			stream := c.Response().Header().Get("Content-Type") == "text/event-stream"
			gone := errors.Is(c.Request().Context().Err(), context.Canceled)
			level := slog.LevelDebug
			switch {
			case status >= 500 && !gone:
				level = slog.LevelWarn
			case took >= slow && !stream, a.LogOneOf > 0 && well.Add(1)%int64(a.LogOneOf) == 0:
				level = slog.LevelInfo
			}
			if a.Log.Enabled(c.Request().Context(), level) {
				a.logRequest(c, level, id, status, size, took)
			}
			return nil
		}
	}
}

// What addresses begin with that hold a secret: the rest is said nowhere.
const (
	TripwireSecrets = "/tripwire/"
	CalendarSecrets = "/calendar/"
)

// secretive gives what an address with a secret in it begins with; empty for others.
func secretive(path string) string {
	for _, begins := range []string{TripwireSecrets, CalendarSecrets} {
		if strings.HasPrefix(path, begins) {
			return begins
		}
	}
	return ""
}

// sayable is a request's path as it may be said.
func sayable(r *http.Request) string {
	if begins := secretive(r.URL.Path); begins != "" {
		return begins + "…"
	}
	return r.URL.Path
}

// logRequest says what was asked and how it went; neither a query, which may hold a token, nor who
// asked.
func (a *Surface) logRequest(c *echo.Context, level slog.Level, id string, status int, size int64,
	took time.Duration) {
	said := []slog.Attr{slog.String("id", id), slog.String("method", c.Request().Method),
		slog.String("path", sayable(c.Request())),
		slog.Int("status", status), slog.Int64("bytes", size), slog.Duration("took", took.Round(time.Microsecond))}
	if of := traceOf(c); of != "" {
		said = append(said, slog.String("trace", of))
	}
	a.Log.LogAttrs(c.Request().Context(), level, "request", said...)
}
