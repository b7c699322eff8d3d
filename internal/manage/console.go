package manage

import (
	"embed"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
)

//go:embed all:dist
var dist embed.FS

// addConsole serves the console's files. Addresses without a file are the console's own
// routes, so they get its page.
func addConsole(e *echo.Echo) {
	files, err := fs.Sub(dist, "dist/app")
	if err != nil {
		panic(err) // the path is constant
	}
	server := http.FileServerFS(files)
	e.GET("/*", func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' "+
			"data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // named by their content
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			if servePacked(c, files, name) {
				return nil
			}
			server.ServeHTTP(c.Response(), c.Request())
			return nil
		}
		if strings.HasPrefix(name, "assets/") ||
			strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "follow/") || strings.HasPrefix(name,
			"ofrep/") || strings.HasPrefix(name, "browser/") {
			return echo.NewHTTPError(http.StatusNotFound, "there is nothing at this address")
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return echo.NewHTTPError(http.StatusNotFound, "this build has no console in it: build it with make")
		}
		h.Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	})
}

// servePacked serves what was packed when the console was built, as the browser takes it.
func servePacked(c *echo.Context, files fs.FS, name string) bool {
	h := c.Response().Header()
	h.Add("Vary", "Accept-Encoding")
	for _, p := range []struct{ encoding, ending string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if !accepts(c.Request().Header.Values("Accept-Encoding"), p.encoding) {
			continue
		}
		raw, err := fs.ReadFile(files, name+p.ending)
		if err != nil {
			continue
		}
		h.Set("Content-Encoding", p.encoding)
		kind := mime.TypeByExtension(path.Ext(name))
		_ = c.Blob(http.StatusOK, kind, raw) // a browser that is gone needs none
		return true
	}
	return false
}

// accepts tells whether a header takes an encoding (RFC 9110, 12.5.3).
func accepts(header []string, encoding string) bool {
	for one := range strings.SplitSeq(strings.Join(header, ","), ",") {
		name, weight, _ := strings.Cut(one, ";")
		if strings.TrimSpace(name) == encoding {
			return strings.ReplaceAll(weight, " ", "") != "q=0"
		}
	}
	return false
}
