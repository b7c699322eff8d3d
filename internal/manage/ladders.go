package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/ladders"
)

var _ = listed(
	op[none, listOf[app.Ladder]]("GET", atProject+"/ladders", "Saved orders of stages for releases",
		(*call).ladders).needs(app.Read),
	op[ladderBody, app.Ladder]("PUT", atProject+"/ladders/:ladder", "Save a ladder",
		(*call).putLadder).change().needs(app.ReleaseIt),
	op[reasonBody, app.Ladder]("POST", atProject+"/ladders/:ladder/remove", "Take a ladder away; releases that began "+
		"from it go on", (*call).removeLadder).change().needs(app.ReleaseIt),
)

func (c *call) ladders(*none) (any, error) {
	items, err := c.api.Records.Ladders(c.ctx, c.p.ID)
	return listOf[app.Ladder]{items}, err
}

type ladderBody struct {
	ladders.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putLadder(in *ladderBody) (any, error) {
	return c.apply(in.Reason, c.Param("ladder"), &in.Put)
}

func (c *call) removeLadder(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("ladder"), &ladders.Remove{})
}
