package web

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"greenlever.example/greenlever/internal/app"
)

// Limits bound what callers may ask for.
type Limits struct {
	Body       int64         // bytes of a request's body
	ReportBody int64         // bytes of a client's report
	ListBody   int64         // bytes of a list of units
	Time       time.Duration // of a request that is no stream
	Streams    int           // at once
	Browsers   int           // streams of browsers at once, which services do not share
	KeyStreams int           // streams with one browser key at once
	Address    int           // streams of browsers from one address at once
	Rate       float64       // requests a second of one person
	KeyRate    float64       // remote evaluations a second with one access key
	SignIns    float64       // tries a minute for one address
}

// DefaultLimits suit a service on two processors.
func DefaultLimits() Limits {
	return Limits{Body: 1 << 20, ReportBody: 8 << 20, ListBody: 256 << 20, Time: 30 * time.Second, Streams: 20_000,
		Browsers: 10_000, KeyStreams: 5_000, Address: 500, Rate: 400, KeyRate: 50_000, SignIns: 10}
}

// RequestContext bounds a request's time.
func (s *Surface) RequestContext(c *echo.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(c.Request().Context(), s.Limits.Time)
}

// ReadBody reads a request's body, of at most so many bytes.
func ReadBody(c *echo.Context, limit int64) ([]byte, error) {
	var raw bytes.Buffer
	// what is claimed is believed as far as it costs little
	if size := c.Request().ContentLength; size > 0 && size < 64<<10 {
		raw.Grow(int(size) + bytes.MinRead)
	}
	_, err := raw.ReadFrom(http.MaxBytesReader(c.Response(), c.Request().Body, limit))
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		return nil, echo.NewHTTPError(http.StatusRequestEntityTooLarge, "the body is too large: at most "+
			strconv.FormatInt(limit, 10)+" bytes are taken")
	}
	if err != nil {
		return nil, app.InvalidField("body", "could not be read to its end")
	}
	return raw.Bytes(), nil
}
