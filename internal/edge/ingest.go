package edge

import (
	"encoding/json"
	"net/http"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/web"
)

// addIngest takes measurements from anybody who has an access key for it.
func (a *Edge) addIngest(e *echo.Echo) {
	e.POST("/ingest/v1/events", a.ingest)
}

func (a *Edge) ingest(c *echo.Context) error {
	key, err := a.accessKey(c)
	if err != nil {
		return err
	}
	if key.Kind == app.BrowserKey {
		return app.Faultf(app.Forbidden, "a browser key gets answers only: measurements take an ingest key")
	}
	if a.Ledger == nil {
		return app.Faultf(app.NotFound, "an outpost takes what its clients report: send batches to the service")
	}
	if !key.Allow(a.Limits.KeyRate) {
		return app.Faultf(app.TooMany, "too many requests with this access key: at most %.0f a second",
			a.Limits.KeyRate)
	}
	raw, err := web.ReadBody(c, a.Limits.ReportBody)
	if err != nil {
		return err
	}
	var in ledger.Batch
	if err := json.Unmarshal(raw, &in); err != nil {
		return app.InvalidField("body", "is no batch of events: %v", err)
	}
	ctx, cancel := a.RequestContext(c)
	defer cancel()
	told, err := a.Ledger.TakeBatch(ctx, key.EnvironmentID, key.ID, &in, len(raw))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, told)
}

// expose notes that a unit was given an answer here at a time, where a rule of it is watched.
func (a *Edge) expose(environment int64, f *decide.Flag, o decide.Outcome, unit *condition.Context, at int64) {
	if !f.Watched || a.Expose == nil {
		return
	}
	w := f.Watching(o)
	if w == nil {
		return
	}
	if key, is := w.Unit(unit); is {
		a.Expose(environment, wire.ExposureLine{Flag: f.Key, Rule: w.Rule, Run: w.Run, Stage: w.Stage,
			Unit: key,
			At:   at, With: w.Attributes(unit)})
	}
}
