package edge

import (
	"cmp"

	"github.com/labstack/echo/v5"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/web"
)

// accessKey finds the access key of a request to the feed or to remote evaluation.
func (a *Edge) accessKey(c *echo.Context) (*feed.Live, error) {
	secret := cmp.Or(web.Bearer(c.Request()), c.Request().Header.Get(web.KeyHeader))
	if secret == "" {
		return nil, app.Faultf(app.Unauthorized, "send an access key: Authorization: Bearer gls_... or glb_..., or "+
			"X-API-Key")
	}
	live := a.Keys.Find(c.Request().Context(), secret)
	if live == nil {
		return nil, app.Faultf(app.Unauthorized, "the access key is not known: it was revoked, or mistyped")
	}
	return live, nil
}
