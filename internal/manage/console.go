package manage

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
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
	packed := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024})
	e.GET("/*", func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' "+
			"data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // named by their content
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
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
	}, packed)
}
