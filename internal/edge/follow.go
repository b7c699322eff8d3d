package edge

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/intake"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/web"
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
	key, place, err := a.follower(c)
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
		// Of this environment's project alone: a difference tells what it is one to.
		if had, err := a.Followers.List(ctx, key.EnvironmentID, from); err == nil && had != nil {
			if delta := hashes.Delta(had); len(delta) < len(body) {
				body = delta
			}
		}
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	return web.Steady(c, "application/octet-stream", body)
}

// follower finds the environment of a service key.
func (a *Edge) follower(c *echo.Context) (*feed.Live, *feed.Place, error) {
	key, err := a.accessKey(c)
	if err != nil {
		return nil, nil, err
	}
	if key.Kind != app.ServiceKey {
		return nil, nil, app.Faultf(app.Forbidden, "following takes a service key: this is an access key of kind %s",
			key.Kind)
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
	if web.Unchanged(c, p.ETag) {
		return c.NoContent(http.StatusNotModified)
	}
	h.Set("Content-Encoding", "gzip") // always: every HTTP client of note unpacks it
	return web.Steady(c, "application/json", p.Gzip)
}

// feed streams revisions until the client, its key or the service ends.
func (a *Edge) feed(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	at, err := flag.ParsePosition(c.Request().Header.Get("Last-Event-ID"))
	if err != nil {
		return app.InvalidField("Last-Event-ID", "%s", err)
	}
	other := a.Met != nil && a.Met(c.Request().Context(), place, key.EnvironmentID, at, key.ID)
	s, err := a.OpenStream(c)
	if err != nil {
		return err
	}
	defer s.Close()
	s.EndWith(key.Done) // a revoked key ends its streams
	reader := place.Read(at.Epoch, at.Revision)
	if other { // it keeps what it has, and waits here for a new epoch
		reader = place.ReadOther(at.Epoch)
	}
	if err := s.Write(a.beat(place, key.EnvironmentID, other).Bytes); err != nil {
		return nil
	}
	for {
		wait, cancel := context.WithTimeout(s.Ctx, a.Beat)
		frames, err := reader.Next(wait)
		cancel()
		if s.Ctx.Err() != nil {
			return nil
		}
		if err != nil {
			frames = []feed.Frame{a.beat(place, key.EnvironmentID, other && reader.Waits())}
		}
		for _, f := range frames {
			if err := s.Write(f.Bytes); err != nil {
				return nil // too slow, or gone: it comes back and catches up
			}
		}
	}
}

// beat says what stands, what time it is, over how long those who follow should come back
// if this process ends, and when an outpost last heard of the service.
func (a *Edge) beat(place *feed.Place, environment int64, other bool) feed.Frame {
	contact := int64(0)
	if a.Contact != nil {
		contact = a.Contact(environment)
	}
	return place.Beat(a.Now(), a.Spread(), contact, other)
}

// watch begins a stream of a browser. They are counted apart, by key and by address, so that
// a page cannot take the streams of services.
func (a *Edge) watch(c *echo.Context, key *feed.Live) (*web.Stream, error) {
	if key.Kind == app.ServiceKey {
		return a.OpenStream(c)
	}
	if err := web.HeadAlone(c); err != nil {
		return nil, err
	}
	address := c.RealIP()
	if err := a.watching.open(address, a.Limits.Browsers, a.Limits.Address); err != nil {
		return nil, err
	}
	off, ok := key.Open(a.Limits.KeyStreams)
	if !ok {
		a.watching.close(address)
		return nil, app.Faultf(app.TooMany, "too many streams with this access key: at most %d", a.Limits.KeyStreams)
	}
	return a.Surface.Stream(c, off, func() { a.watching.close(address) })
}

func (a *Edge) report(c *echo.Context) error {
	key, place, err := a.follower(c)
	if err != nil {
		return err
	}
	web.SteadyBody(c)
	raw, err := web.ReadBody(c, a.Limits.ReportBody)
	if err != nil {
		return err
	}
	var r wire.Report
	if err := json.Unmarshal(raw, &r); err != nil { // a newer client may say more than is known here
		return app.InvalidField("body", "is no report: %v", err)
	}
	if err := app.InvalidFields(intake.Check(&r)); err != nil {
		return err
	}
	var let []string
	if len(r.Orders)+len(r.Kept) > 0 { // before the records are asked for anything, which may be away
		let = a.Emergency.Heard(c.Request().Context(), key.EnvironmentID, r.Orders, r.Kept)
	}
	intake.Known(place.Rules(), &r)
	ledger.Check(&r)
	ctx, cancel := a.RequestContext(c)
	defer cancel()
	taken, err := a.Followers.Take(ctx, key.EnvironmentID, app.Incoming{Report: &r, Key: key.ID}, len(raw))
	if err != nil {
		return err
	}
	if taken {
		a.pulse.add(key.EnvironmentID)
		for _, line := range r.Counts {
			a.decisions.Add(float64(line.Count))
		}
	}
	answer := wire.Answer{Taken: taken, Let: let}
	if answer.Sampling, err = a.Population.Order(ctx, key.EnvironmentID); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, answer)
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
	out := OutpostNeeds{Off: known.Sampling.Off, Days: known.Sampling.Days, Seed: known.Sampling.Seed,
		Attributes: known.Attributes, Covers: known.Covers, Keys: []OutpostKey{}}
	if out.Name, err = a.Followers.NameOf(ctx, key.EnvironmentID); err != nil {
		return err
	}
	for _, k := range a.Keys.Of(key.EnvironmentID) {
		out.Keys = append(out.Keys, OutpostKey{ID: k.ID, Kind: k.Kind, Purpose: k.Purpose, Digest: k.Digest,
			Origins: k.Origins})
	}
	slices.SortFunc(out.Keys, func(a, b OutpostKey) int { return strings.Compare(a.ID, b.ID) })
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	if web.Tagged(c, raw) {
		return c.NoContent(http.StatusNotModified)
	}
	return c.JSONBlob(http.StatusOK, raw)
}

// OutpostNeeds is what an outpost needs beside the ruleset. It holds digests of secrets,
// from which nobody can find the secrets.
type OutpostNeeds struct {
	// of the project and the environment, such as pinecrest/production
	Name       string                  `json:"name"`
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
