package manage

import (
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
)

var _ = listed(
	op[none, preview.Preview]("GET", atEnvironment+"/flags/:flag/track", "Who is on which branch of a flag now",
		(*call).track).needs(app.Read),
)

func (c *call) track(*none) (any, error) {
	e, rec, err := c.record()
	if err != nil {
		return nil, err
	}
	return c.api.Preview.Of(c.ctx, e, preview.Edit{Flags: []*flag.Document{rec.Document}})
}

// record is the flag of the address as it is kept.
func (c *call) record() (*app.Environment, *app.FlagRecord, error) {
	e := c.e
	rec, err := c.api.Records.Flag(c.ctx, e.ID, c.Param("flag"))
	return e, rec, err
}
