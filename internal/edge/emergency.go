package edge

import (
	"context"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/web"
)

// EmergencyPath is where emergency orders are taken.
const EmergencyPath = "/emergency/v1/orders"

// Emergency takes emergency orders.
type Emergency interface {
	// Order takes an order, as it travels; what is answered is of JSON.
	Order(ctx context.Context, text string) (taken any, err error)
	// Heard takes what a process holds beside the service's ruleset, and gives the ids of the stops that it is to let
	// go.
	Heard(ctx context.Context, environment int64, orders []string, kept []flag.Stop) (let []string)
}

// addEmergency takes emergency orders. Nobody signs in for that: the signature says who may, and checking one costs
// less than a request does.
func (a *Edge) addEmergency(e *echo.Echo) {
	e.POST(EmergencyPath, func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		if err := a.AllowOrder(c.RealIP()); err != nil {
			return err
		}
		raw, err := web.ReadBody(c, flag.MaxOrder)
		if err != nil {
			return err
		}
		taken, err := a.Emergency.Order(c.Request().Context(), strings.TrimSpace(string(raw)))
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, taken)
	})
}
