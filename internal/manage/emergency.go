package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/emergency"
)

var _ = listed(
	op[none, emergencyKey]("GET", "/emergency-key", "The public half of the key that emergency orders are signed with",
		(*call).emergencyKey).installation(),
	op[reasonBody, emergency.Renewed]("POST", "/emergency-key", "Make a new key for emergency orders; the one before "+
		"is refused from then on", (*call).newEmergencyKey).made().installation().change(),
)

// emergencyKey is the public half of a key; empty where there is none.
type emergencyKey struct {
	Public string `json:"public"`
}

func (c *call) emergencyKey(*none) (any, error) {
	key, err := c.api.Records.EmergencyKey(c.ctx)
	return emergencyKey{key}, err
}

func (c *call) newEmergencyKey(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &emergency.Renew{})
}

// stoppedBy are the names of who stopped something where no account did.
var stoppedBy = map[string]string{app.ByOrder: "an emergency order", app.ByKeeping: "processes that kept it over a " +
	"restore"}
