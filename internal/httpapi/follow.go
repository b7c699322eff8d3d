package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/population"
)

func (a *Edge) addFollow(e *echo.Echo) {
	e.GET("/follow/v1/snapshot", a.snapshot)
	e.GET("/follow/v1/feed", a.feed)
	e.GET("/follow/v1/lists/:digest", a.list)
	e.POST("/follow/v1/report", a.report)
	e.GET("/follow/v1/outpost", a.forOutposts)
}

// list answers a long list of a segment: whole, or as the difference to one that the
// follower has, where that is shorter.
func (a *Edge) list(c *echo.Context) error {
	_, place, err := a.follower(c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	hashes := place.Rules().Source.List(c.Param("digest"))
	if hashes == nil {
		return app.Faultf(app.NotFound, "no segment of this environment names the list %s now", c.Param("digest"))
	}
	body := hashes.Bytes()
	if from := c.QueryParam("from"); from != "" {
		if had, err := a.Followers.List(ctx, from); err == nil && had != nil {
			if delta := hashes.Delta(had); len(delta) < len(body) {
				body = delta
			}
		}
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Blob(http.StatusOK, "application/octet-stream", body)
}

// follower finds the environment of a service key.
func (a *Edge) follower(c *echo.Context) (*feed.Live, *feed.Place, error) {
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

func (a *Edge) snapshot(c *echo.Context) error {
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
func (a *Edge) feed(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	epoch, revision, err := parseEventID(c.Request().Header.Get("Last-Event-ID"))
	if err != nil {
		return err
	}
	if a.Contact == nil && ahead(place, epoch, revision) { // an outpost may lag behind what another way brought
		a.aheadOfUs(c.Request().Context(), place, key.EnvironmentID, epoch, revision)
	}
	s, err := a.openStream(c)
	if err != nil {
		return err
	}
	defer s.close()
	go s.endWith(key.Done) // a revoked key ends its streams
	reader := place.Read(epoch, revision)
	if err := s.write(a.beat(place, key.EnvironmentID).Bytes); err != nil {
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
			frames = []feed.Frame{a.beat(place, key.EnvironmentID)}
		}
		for _, f := range frames {
			if err := s.write(f.Bytes); err != nil {
				return nil // too slow, or gone: it comes back and catches up
			}
		}
	}
}

// beat says what stands, what time it is, over how long those who follow should come back
// if this process ends, and when an outpost last heard of the service.
func (a *Edge) beat(place *feed.Place, environment int64) feed.Frame {
	contact := int64(0)
	if a.Contact != nil {
		contact = a.Contact(environment)
	}
	return place.Beat(a.Now(), a.spread(), contact)
}

// ahead tells whether a follower has had more than stands here.
func ahead(place *feed.Place, epoch, revision int64) bool {
	src := place.Rules().Source
	return epoch > src.Epoch || epoch == src.Epoch && revision > src.Revision
}

// aheadOfUs meets a follower that has had more than stands here: another node may have
// committed it a moment ago; if not, the records were restored from a backup.
func (a *Edge) aheadOfUs(ctx context.Context, place *feed.Place, environment, epoch, revision int64) {
	if err := a.Hub.Look(ctx); err != nil || !ahead(place, epoch, revision) {
		return
	}
	src := place.Rules().Source
	a.Log.Error("a follower has had more than the records know: they were restored from a backup; run `greenlever epoch new`",
		"environment", environment, "follower", fmt.Sprintf("%d.%d", epoch, revision), "records", fmt.Sprintf("%d.%d", src.Epoch, src.Revision))
	if err := a.Followers.SetBehind(ctx, environment, max(revision, src.Revision+1)); err != nil {
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
	edge   *Edge
	w      http.ResponseWriter
	rc     *http.ResponseController
	ctx    context.Context
	cancel context.CancelFunc
}

// writeTime is how long a write to a stream may take before its reader counts as stalled.
const writeTime = 10 * time.Second

func (a *Edge) openStream(c *echo.Context) (*stream, error) {
	if a.streams.Add(1) > int64(a.Limits.Streams) {
		a.streams.Add(-1)
		return nil, app.Faultf(app.Unavailable, "this service has as many streams open as it takes: try again, or another node")
	}
	w := c.Response()
	s := &stream{edge: a, w: w, rc: http.NewResponseController(w)}
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
	s.edge.streams.Add(-1)
}

func (a *Edge) report(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	raw, err := readBody(c, a.Limits.ReportBody)
	if err != nil {
		return err
	}
	var r app.Report
	if err := json.Unmarshal(raw, &r); err != nil { // a newer client may say more than is known here
		return app.InvalidField("body", "is no report: %v", err)
	}
	if err := app.InvalidFields(checkReport(&r)); err != nil {
		return err
	}
	keepKnown(place.Rules(), &r)
	ctx, cancel := a.requestContext(c)
	defer cancel()
	taken, err := a.Followers.TakeReport(ctx, key.EnvironmentID, &r, a.Now().UnixMilli())
	if err != nil {
		return err
	}
	if taken {
		a.pulse.add(key.EnvironmentID)
		for _, line := range r.Counts {
			a.metrics.decisions.Add(float64(line.Count))
		}
	}
	answer := reportAnswer{Taken: taken}
	if taken {
		if err := a.Population.Take(ctx, key.EnvironmentID, &r); err != nil {
			a.Log.Warn("what a client saw of units could not be kept", "error", err) // a sample: the next report brings more
		}
	}
	if answer.Sampling, err = a.Population.Order(ctx, key.EnvironmentID); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, answer)
}

// reportAnswer is what a client is told on its report.
type reportAnswer struct {
	Taken    bool              `json:"taken"` // false: it was taken before
	Sampling *population.Order `json:"sampling"`
}

// Limits of one report.
const (
	maxBehind  = 20_000 // instances behind an outpost
	maxApplied = 1_000  // revisions
)

func checkReport(r *app.Report) (found []flag.Problem) {
	found = checkStatus("", &r.Status)
	if len(r.Behind) > maxBehind {
		found = append(found, flag.Problem{Place: "behind", Mend: "at most " + strconv.Itoa(maxBehind) + " are taken"})
		return found
	}
	for i := range r.Behind {
		found = append(found, checkStatus(fmt.Sprintf("behind[%d].", i), &r.Behind[i].Status)...)
	}
	return found
}

func checkStatus(place string, s *app.Status) (found []flag.Problem) {
	for _, f := range []struct {
		name, value string
		least, most int
	}{{"instance", s.Instance, 1, 64}, {"application", s.Application, 0, 100}, {"version", s.Version, 0, 100}, {"source", s.Source, 0, 20}, {"kind", string(s.Kind), 0, 20}} {
		if len(f.value) < f.least || len(f.value) > f.most || !utf8.ValidString(f.value) {
			found = append(found, flag.Problem{Place: place + f.name, Mend: fmt.Sprintf("must be %d to %d bytes of text", f.least, f.most)})
		}
	}
	if s.Sequence < 1 {
		found = append(found, flag.Problem{Place: place + "sequence", Mend: "counts from 1"})
	}
	if len(s.Applied) > maxApplied {
		s.Applied = s.Applied[len(s.Applied)-maxApplied:]
	}
	if b := s.Busy; b != nil && (len(b.Unit) > 1_000 || !utf8.ValidString(b.Unit)) {
		s.Busy = nil
	}
	return found
}

// keepKnown leaves out what cannot be: counts of flags that do not exist, and texts that
// are longer than any name.
func keepKnown(rules *decide.Ruleset, r *app.Report) {
	r.Counts = slices.DeleteFunc(r.Counts, func(l app.CountLine) bool {
		return rules.Flag(l.Flag) == nil || len(l.Variant) > 64 || len(l.Rule) > 64 || len(l.Reason) > 20 || len(l.Application) > 100 || len(l.Version) > 100
	})
	r.Unknown = slices.DeleteFunc(r.Unknown, func(l app.AskedLine) bool {
		return len(l.Flag) > 200 || !utf8.ValidString(l.Flag) || len(l.Type) > 10 || len(l.Fallback) > 4<<10 || len(l.Application) > 100
	})
}

// forOutposts answers what an outpost needs beside the ruleset, to let in those whom the
// service lets in and to sample as it says.
func (a *Edge) forOutposts(c *echo.Context) error {
	key, _, err := a.follower(c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	known, err := a.Population.Known(ctx, key.EnvironmentID)
	if err != nil {
		return err
	}
	out := OutpostNeeds{Off: known.Sampling.Off, Days: known.Sampling.Days, Seed: known.Sampling.Seed, Attributes: known.Attributes, Covers: known.Covers, Keys: []OutpostKey{}}
	if out.Name, err = a.Followers.NameOf(ctx, key.EnvironmentID); err != nil {
		return err
	}
	for _, k := range a.Keys.Of(key.EnvironmentID) {
		out.Keys = append(out.Keys, OutpostKey{ID: k.ID, Kind: k.Kind, Purpose: k.Purpose, Digest: k.Digest, Origins: k.Origins})
	}
	return c.JSON(http.StatusOK, out)
}

// OutpostNeeds is what an outpost needs beside the ruleset. It holds digests of secrets,
// from which nobody can find the secrets.
type OutpostNeeds struct {
	Name       string                  `json:"name"` // of the project and the environment, such as pinecrest/production
	Keys       []OutpostKey            `json:"keys"`
	Off        bool                    `json:"off"`         // no unit is sampled
	Days       int                     `json:"days"`        // that a sampled unit is kept
	Seed       uint64                  `json:"seed,string"` // of the hashes that units are sampled by
	Attributes []app.Attribute         `json:"attributes"`
	Covers     map[string]sample.Cover `json:"covers"`
}

// OutpostKey is an access key as an outpost knows it.
type OutpostKey struct {
	ID      string      `json:"id"`
	Kind    app.KeyKind `json:"kind"`
	Purpose string      `json:"purpose"`
	Digest  []byte      `json:"digest"`
	Origins app.Texts   `json:"origins"`
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
