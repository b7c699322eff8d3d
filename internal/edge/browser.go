package edge

import (
	"embed"
	"encoding/json"
	"io/fs"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/web"
)

//go:embed all:dist
var dist embed.FS

// browserPath is where the client for browsers is served, and where it reports.
const browserPath = "/browser/v1/"

// addBrowser serves the client for browsers to pages of any origin, and takes what it says
// that it used.
func (a *Edge) addBrowser(e *echo.Echo) {
	files, err := fs.Sub(dist, "dist/browser")
	if err != nil {
		panic(err) // the path is constant
	}
	e.GET(browserPath+":file", func(c *echo.Context) error {
		raw, err := fs.ReadFile(files, c.Param("file"))
		kind := "text/javascript; charset=utf-8"
		if strings.HasSuffix(c.Param("file"), ".d.ts") { // the modules' types
			kind = "application/typescript; charset=utf-8"
		} else if !strings.HasSuffix(c.Param("file"), ".js") {
			err = fs.ErrNotExist
		}
		if err != nil {
			return echo.NewHTTPError(http.StatusNotFound, "there is nothing at this address")
		}
		h := c.Response().Header()
		h.Set("Access-Control-Allow-Origin", "*")
		h.Set("Cross-Origin-Resource-Policy", "cross-origin")
		h.Set("Cache-Control", "public, max-age=300")
		return c.Blob(http.StatusOK, kind, raw)
	}, middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 512}))
	e.POST(browserPath+"report", a.browserReport)
	e.OPTIONS(browserPath+"report", preflight)
}

// browserUse is what a page says that it used since it last said so.
type browserUse struct {
	Application string           `json:"application"`
	Version     string           `json:"version"`
	Counts      []wire.CountLine `json:"counts"`
	// Context is who the unit is, with what follows.
	Context json.RawMessage `json:"context"`
	// Read are the flags that the page read for the first time for this unit.
	Read []browserRead `json:"read"`
	// Events are what it measured.
	Events []browserEvent `json:"events"`
}

// browserRead is a flag that a page read. Times are told by how long ago they are: clocks of browsers are anything.
type browserRead struct {
	Flag    string `json:"flag"`
	Variant string `json:"variant"`
	Ago     int64  `json:"ago"` // milliseconds
}

// browserEvent is an event of a metric.
type browserEvent struct {
	Metric string  `json:"metric"`
	Value  float64 `json:"value"`
	Ago    int64   `json:"ago"`
	ID     string  `json:"id"`
}

// Bounds of one report of a page.
const (
	maxBrowserLines = 500
	maxBrowserAgo   = 10 * 60_000 // milliseconds
)

// maxBrowserCount bounds what one page can claim.
const maxBrowserCount = 10_000

// browserBody is how many bytes a page's report takes.
const browserBody = 64 << 10

// browserReport takes a page's counts. Anybody can have a browser key, so they are kept
// apart under the application that the page names, bounded, and only of flags that browsers
// may see.
func (a *Edge) browserReport(c *echo.Context) error {
	cors(c)
	key, err := a.accessKey(c)
	if err != nil {
		return err
	}
	if err := fromPage(c, key); err != nil {
		return err
	}
	if !key.Allow(a.Limits.KeyRate) {
		return app.Faultf(app.TooMany, "too many requests with this access key: at most %.0f a second",
			a.Limits.KeyRate)
	}
	if !a.audience.MayTell(c.RealIP(), a.Now()) {
		return app.Faultf(app.TooMany, "too many reports from this address: a page sends one now and then")
	}
	raw, err := web.ReadBody(c, browserBody)
	if err != nil {
		return err
	}
	var use browserUse
	if err := json.Unmarshal(raw, &use); err != nil || app.CheckText(use.Application, 0, 100) != "" ||
		app.CheckText(use.Version, 0, 100) != "" {
		return app.InvalidField("body", "must hold an application and a version of at most 100 bytes, and counts")
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	if err != nil {
		return err
	}
	rules := place.Rules()
	use.Application, use.Version = a.counts.Named(key.ID, use.Application, use.Version, a.Now())
	var lines []wire.CountLine
	for _, l := range use.Counts[:min(len(use.Counts), 1_000)] {
		f := rules.Flag(l.Flag)
		if f == nil || !f.Visible || !slices.ContainsFunc(f.Cells(), func(cell decide.Cell) bool {
			return cell.Variant == l.Variant && cell.Reason.String() == l.Reason
		}) {
			continue
		}
		lines = append(lines, wire.CountLine{Flag: l.Flag, Variant: l.Variant, Reason: l.Reason,
			Revision:    rules.Source.Revision,
			Application: use.Application, Version: use.Version, Count: min(l.Count, maxBrowserCount)})
	}
	a.counts.Tell(key.EnvironmentID, lines)
	if len(use.Read)+len(use.Events) > 0 {
		if err := a.browserEvidence(c.Request(), key, rules, &use); err != nil {
			return err
		}
	}
	return c.NoContent(http.StatusNoContent)
}

// browserEvidence takes what a page read and measured, for releases that are watched. That a flag gave what the page
// says, is believed only if it does so here.
func (a *Edge) browserEvidence(r *http.Request, key *feed.Live, rules *decide.Ruleset, use *browserUse) error {
	unit, err := condition.ParseContext(use.Context)
	if err != nil {
		return app.InvalidField("context", "%s", err)
	}
	known, err := a.Population.Known(r.Context(), key.EnvironmentID)
	if err != nil {
		return err
	}
	unit = a.seeAs(r, rules, unit.Without(func(name string) bool { return known.ServerOnly[name] }))
	now := a.Now().UnixMilli()
	at := func(ago int64) int64 { return now - min(max(ago, 0), maxBrowserAgo) }
	for _, read := range use.Read[:min(len(use.Read), maxBrowserLines)] {
		f := rules.Flag(read.Flag)
		if f == nil || !f.Visible {
			continue
		}
		o := f.Decide(rules, unit, now)
		if v := f.Variant(o.Variant); v != nil && v.Name == read.Variant {
			a.expose(key.EnvironmentID, f, o, unit, at(read.Ago))
		}
	}
	if a.Measure == nil || len(use.Events) == 0 {
		return nil
	}
	units := decide.Units(unit, rules.WatchedBy())
	out := &wire.Report{Status: wire.Status{Application: use.Application, Version: use.Version}}
	for _, e := range use.Events[:min(len(use.Events), maxBrowserLines)] {
		line := wire.MeasureLine{Metric: e.Metric, Application: use.Application, Version: use.Version}
		line.Add(e.Value)
		out.Measures = append(out.Measures, line)
		if len(units) > 0 { // else nobody watches
			out.Events = append(out.Events, wire.EventLine{Metric: e.Metric, Units: units, Value: e.Value,
				At: at(e.Ago), ID: e.ID})
		}
	}
	ledger.Check(out)
	a.Measure(key.EnvironmentID, out)
	return nil
}
