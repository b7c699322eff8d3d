package web

import (
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
)

// What is large and goes over slow lines has no limit of time in all, but one for each piece: it
// arrives as long as it moves.

// stalled is how long a piece may take.
const stalled = 20 * time.Second

// Steady sends a body to somebody who has shown an access key.
func Steady(c *echo.Context, kind string, body []byte) error {
	w := c.Response()
	rc := http.NewResponseController(w)
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(http.StatusOK)
	for piece := range slices.Chunk(body, 32<<10) {
		_ = rc.SetWriteDeadline(time.Now().Add(stalled))
		if _, err := w.Write(piece); err != nil {
			return nil // it is gone, or too slow, and comes again
		}
	}
	return nil
}

// SteadyBody has the body of somebody who has shown an access key read for as long as it moves.
func SteadyBody(c *echo.Context) {
	r := c.Request()
	rc := http.NewResponseController(c.Response())
	r.Body = &moving{r.Body, func() {
		_ = rc.SetReadDeadline(time.Now().Add(stalled))
		_ = rc.SetWriteDeadline(time.Now().Add(2 * stalled)) // which began when the request did
	}}
}

type moving struct {
	io.ReadCloser
	moves func()
}

func (m *moving) Read(into []byte) (int, error) {
	m.moves()
	return m.ReadCloser.Read(into)
}
