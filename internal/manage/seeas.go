package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/seeas"
)

var _ = listed(
	op[seeAsBody, seeas.Issued]("POST", atEnvironment+"/see-as", "Get a signed override for one's own session; it "+
		"touches no rule", (*call).seeAs).made().change().needs(app.SeeIt),
)

type seeAsBody struct {
	seeas.Issue
	Reason string `json:"reason,omitempty"`
}

func (c *call) seeAs(in *seeAsBody) (any, error) {
	return c.apply(in.Reason, "", &in.Issue)
}
