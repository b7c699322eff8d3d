package manage

import (
	"encoding/json"

	"greenlever.example/core/decide"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/web"
)

// here is the place of the address, and its ruleset as it stands in memory.
func (c *call) here() (*app.Project, *app.Environment, *decide.Ruleset, error) {
	p, e := c.p, c.e
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, nil, nil, err
	}
	return p, e, place.Rules(), nil
}

// preview adds to the result of a dry run what the edit would do.
func withPreview[T any](c *call, raw json.RawMessage, e *app.Environment, edit func(*T) preview.Edit) (any, error) {
	if c.QueryParam("dryRun") != "true" {
		return raw, nil
	}
	var saved T
	if err := json.Unmarshal(raw, &saved); err != nil {
		return nil, err
	}
	p, err := c.api.Preview.Of(c.ctx, e, edit(&saved))
	if err != nil {
		return nil, err
	}
	joined := map[string]json.RawMessage{}
	if err := json.Unmarshal(raw, &joined); err != nil {
		return nil, err
	}
	joined["preview"] = web.MustJSON(p)
	return joined, nil
}
