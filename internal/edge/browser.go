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

	"greenlever.example/core/decide"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
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
}

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
	return c.NoContent(http.StatusNoContent)
}
