package edge

import (
	"context"
	"net/http"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"

	"greenlever.example/greenlever/internal/web"
)

// alertBody is how large an alert may be, in bytes.
const alertBody = 256 << 10

// Tripwires takes alerts.
type Tripwires interface {
	// Take takes an alert at a secret address, and tells what came of it.
	Take(ctx context.Context, secret, from string, header http.Header, body []byte) (told any, err error)
	Unknown() int64 // calls with secrets that there are not
}

// addTripwires takes alerts at secret addresses. Whoever guesses at them costs a look into a map, and is counted.
func (a *Edge) addTripwires(e *echo.Echo) {
	if a.Tripwires == nil {
		return
	}
	a.Register(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "greenlever_tripwires_unknown_total",
		Help: "Calls of tripwires with secrets that there are not."},
		func() float64 { return float64(a.Tripwires.Unknown()) }))
	e.POST(web.TripwireSecrets+":secret", func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		raw, err := web.ReadBody(c, alertBody)
		if err != nil {
			return err
		}
		ctx, cancel := a.RequestContext(c)
		defer cancel()
		told, err := a.Tripwires.Take(ctx, c.Param("secret"), c.RealIP(), c.Request().Header, raw)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, told)
	})
}
