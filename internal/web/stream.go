package web

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/guard"
)

// Stream is an open stream of server-sent events.
type Stream struct {
	log    *slog.Logger
	w      http.ResponseWriter
	rc     *http.ResponseController
	Ctx    context.Context // ends with the stream
	cancel context.CancelFunc
	closed []func() // what is counted off when it ends
}

// writeTime is how long a write to a stream may take before its reader counts as stalled.
const writeTime = 10 * time.Second

// OpenStream begins a stream of a service, or of the console.
func (a *Surface) OpenStream(c *echo.Context) (*Stream, error) {
	if err := HeadAlone(c); err != nil {
		return nil, err
	}
	if a.streams.Add(1) > int64(a.Limits.Streams) {
		a.streams.Add(-1)
		return nil, app.Faultf(app.Unavailable, "this service has as many streams open as it takes: try again, or "+
			"another node")
	}
	return a.Stream(c, func() { a.streams.Add(-1) })
}

// Stream begins a stream of server-sent events, which ends with the process; closed is done once it has.
func (a *Surface) Stream(c *echo.Context, closed ...func()) (*Stream, error) {
	w := c.Response()
	s := &Stream{log: a.Log, w: w, rc: http.NewResponseController(w), closed: closed}
	s.Ctx, s.cancel = context.WithCancel(c.Request().Context())
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-cache")
	h.Set("X-Accel-Buffering", "no") // a proxy that buffers would hold revisions back
	_ = s.rc.SetReadDeadline(time.Time{})
	w.WriteHeader(http.StatusOK)
	s.EndWith(a.ending)
	return s, nil
}

// Write sends to the reader, who counts as stalled where that takes too long.
func (s *Stream) Write(b []byte) error {
	_ = s.rc.SetWriteDeadline(time.Now().Add(writeTime))
	if _, err := s.w.Write(b); err != nil {
		return err
	}
	return s.rc.Flush()
}

// End has the stream end.
func (s *Stream) End() { s.cancel() }

// Close ends the stream, by who opened it.
func (s *Stream) Close() {
	s.cancel()
	for _, f := range s.closed {
		f()
	}
}

// EndWith ends the stream when a channel is closed.
func (s *Stream) EndWith(done <-chan struct{}) {
	guard.Go(s.log, "end a stream", func() {
		select {
		case <-done:
			s.cancel()
		case <-s.Ctx.Done():
		}
	})
}

// Pause waits, and tells whether the stream is still open after it.
func (s *Stream) Pause(d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-s.Ctx.Done():
		return false
	}
}
