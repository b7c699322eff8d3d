package manage

import "greenlever.example/greenlever/internal/app/lineage"

var _ = listed(
	op[reasonBody, epochBody]("POST", "/epoch", "Start a new epoch, after the records were restored from a backup",
		(*call).newEpoch).installation().change(),
)

type epochBody struct {
	Epoch int64 `json:"epoch"`
}

func (c *call) newEpoch(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &lineage.NewEpoch{})
}
