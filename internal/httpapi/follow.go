package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/strictjson"
)

func (a *API) addFollow(e *echo.Echo) {
	e.GET("/follow/v1/snapshot", a.snapshot)
	e.GET("/follow/v1/feed", a.feed)
	e.POST("/follow/v1/report", a.report)
}

// follower finds the environment of a service key.
func (a *API) follower(c *echo.Context) (*feed.Live, *feed.Place, error) {
	key, err := a.accessKey(c)
	if err != nil {
		return nil, nil, err
	}
	if key.Kind != app.ServiceKey {
		return nil, nil, app.Faultf(app.Forbidden, "a browser key gets answers only: following takes a service key")
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	return key, place, err
}

func (a *API) snapshot(c *echo.Context) error {
	_, place, err := a.follower(c)
	if err != nil {
		return err
	}
	p, err := place.Snapshot()
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("ETag", p.ETag)
	h.Set("Cache-Control", "no-cache")
	if c.Request().Header.Get("If-None-Match") == p.ETag {
		return c.NoContent(http.StatusNotModified)
	}
	h.Set("Content-Encoding", "gzip") // always: every HTTP client of note unpacks it
	return c.Blob(http.StatusOK, "application/json", p.Gzip)
}

// feed streams revisions until the client, its key or the service ends.
func (a *API) feed(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	epoch, revision, err := parseEventID(c.Request().Header.Get("Last-Event-ID"))
	if err != nil {
		return err
	}
	if ahead(place, epoch, revision) {
		a.aheadOfUs(c.Request().Context(), place, key.EnvironmentID, epoch, revision)
	}
	s, err := a.openStream(c)
	if err != nil {
		return err
	}
	defer s.close()
	go func() { // a revoked key ends its streams
		select {
		case <-key.Done:
			s.cancel()
		case <-s.ctx.Done():
		}
	}()
	reader := place.Read(epoch, revision)
	if err := s.write(place.Beat(a.Now()).Bytes); err != nil {
		return nil
	}
	for {
		wait, cancel := context.WithTimeout(s.ctx, a.Beat)
		frames, err := reader.Next(wait)
		cancel()
		if s.ctx.Err() != nil {
			return nil
		}
		if err != nil {
			frames = []feed.Frame{place.Beat(a.Now())}
		}
		for _, f := range frames {
			if err := s.write(f.Bytes); err != nil {
				return nil // too slow, or gone: it comes back and catches up
			}
		}
	}
}

// ahead tells whether a follower has had more than stands here.
func ahead(place *feed.Place, epoch, revision int64) bool {
	src := place.Rules().Source
	return epoch > src.Epoch || epoch == src.Epoch && revision > src.Revision
}

// aheadOfUs meets a follower that has had more than stands here: another node may have
// committed it a moment ago; if not, the records were restored from a backup.
func (a *API) aheadOfUs(ctx context.Context, place *feed.Place, environment, epoch, revision int64) {
	if err := a.Hub.Look(ctx); err != nil || !ahead(place, epoch, revision) {
		return
	}
	src := place.Rules().Source
	a.Log.Error("a follower has had more than the records know: they were restored from a backup; run `greenlever epoch new`",
		"environment", environment, "follower", fmt.Sprintf("%d.%d", epoch, revision), "records", fmt.Sprintf("%d.%d", src.Epoch, src.Revision))
	if err := a.Records.SetBehind(ctx, environment, max(revision, src.Revision+1)); err != nil {
		a.Log.Error("this could not be noted", "error", err)
	}
}

func parseEventID(id string) (epoch, revision int64, err error) {
	if id == "" {
		return 0, 0, nil
	}
	e, r, ok := strings.Cut(id, ".")
	epoch, err1 := strconv.ParseInt(e, 10, 64)
	revision, err2 := strconv.ParseInt(r, 10, 64)
	if !ok || err1 != nil || err2 != nil || epoch < 0 || revision < 0 {
		return 0, 0, app.InvalidField("Last-Event-ID", "must be epoch.revision, as the feed gave it")
	}
	return epoch, revision, nil
}

// stream is an open stream of server-sent events.
type stream struct {
	api    *API
	w      http.ResponseWriter
	rc     *http.ResponseController
	ctx    context.Context
	cancel context.CancelFunc
}

// writeTime is how long a write to a stream may take before its reader counts as stalled.
const writeTime = 10 * time.Second

func (a *API) openStream(c *echo.Context) (*stream, error) {
	if a.streams.Add(1) > int64(a.Limits.Streams) {
		a.streams.Add(-1)
		return nil, app.Faultf(app.Unavailable, "this service has as many streams open as it takes: try again, or another node")
	}
	w := c.Response()
	s := &stream{api: a, w: w, rc: http.NewResponseController(w)}
	s.ctx, s.cancel = context.WithCancel(c.Request().Context())
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-cache")
	h.Set("X-Accel-Buffering", "no") // a proxy that buffers would hold revisions back
	_ = s.rc.SetReadDeadline(time.Time{})
	w.WriteHeader(http.StatusOK)
	go func() {
		select {
		case <-a.ending:
			s.cancel()
		case <-s.ctx.Done():
		}
	}()
	return s, nil
}

func (s *stream) write(b []byte) error {
	_ = s.rc.SetWriteDeadline(time.Now().Add(writeTime))
	if _, err := s.w.Write(b); err != nil {
		return err
	}
	return s.rc.Flush()
}

func (s *stream) close() {
	s.cancel()
	s.api.streams.Add(-1)
}

func (a *API) report(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	raw, err := readBody(c, a.Limits.ReportBody)
	if err != nil {
		return err
	}
	var r app.Report
	if problems := strictjson.Decode(raw, &r); problems != nil {
		return app.InvalidFields(problems)
	}
	if err := app.InvalidFields(checkReport(&r)); err != nil {
		return err
	}
	known := r.Counts[:0]
	for _, line := range r.Counts {
		if f := place.Rules().Flag(line.Flag); f != nil && len(line.Variant) <= 64 {
			known = append(known, line)
		}
	}
	r.Counts = known
	ctx, cancel := a.requestContext(c)
	defer cancel()
	taken, err := a.Records.TakeReport(ctx, key.EnvironmentID, &r, a.Now().UnixMilli())
	if err != nil {
		return err
	}
	if taken {
		a.pulse.add(key.EnvironmentID)
		for _, line := range r.Counts {
			a.metrics.decisions.Add(float64(line.Count))
		}
	}
	return c.JSON(http.StatusOK, map[string]bool{"taken": taken})
}

func checkReport(r *app.Report) (found []flag.Problem) {
	for _, f := range []struct {
		place, value string
		least        int
	}{{"instance", r.Instance, 1}, {"application", r.Application, 0}, {"version", r.Version, 0}, {"source", r.Source, 0}} {
		most := 100
		if f.place == "instance" {
			most = 64
		} else if f.place == "source" {
			most = 20
		}
		if len(f.value) < f.least || len(f.value) > most {
			found = append(found, flag.Problem{Place: f.place, Mend: "must be " + strconv.Itoa(f.least) + " to " + strconv.Itoa(most) + " bytes"})
		}
	}
	if r.Sequence < 1 {
		found = append(found, flag.Problem{Place: "sequence", Mend: "counts from 1"})
	}
	return found
}

// pulse counts reports, so that the console learns that there are new ones.
type pulse struct {
	mu    sync.Mutex
	count map[int64]int64
}

func (p *pulse) add(environment int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.count == nil {
		p.count = map[int64]int64{}
	}
	p.count[environment]++
}

func (p *pulse) read(envs []app.Environment) []int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]int64, len(envs))
	for i, e := range envs {
		out[i] = p.count[e.ID]
	}
	return out
}
