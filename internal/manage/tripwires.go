package manage

import (
	"encoding/json"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/tripwires"
)

var _ = listed(
	op[none, listOf[TripwireView]]("GET", atEnvironment+"/tripwires", "The addresses at which monitoring systems "+
		"stop flags here, and what they stopped for", (*call).tripwires).needs(app.Read),
	op[tripwireBody, tripwires.Saved]("POST", atEnvironment+"/tripwires", "Make a tripwire; its secret is shown once",
		(*call).addTripwire).below().change().needs(app.Manage),
	op[tripwireBody, tripwires.Saved]("PUT", atEnvironment+"/tripwires/:tripwire",
		"Save which flags a tripwire stops, and of which alerts", (*call).putTripwire).change().needs(app.Manage),
	op[reasonBody, tripwires.Saved]("POST", atEnvironment+"/tripwires/:tripwire/rotate",
		"Give a tripwire a new address; the old one is taken for a day more",
		(*call).rotateTripwire).change().needs(app.Manage),
	op[reasonBody, tripwires.Saved]("POST", atEnvironment+"/tripwires/:tripwire/remove", "Take a tripwire away",
		(*call).removeTripwire).change().needs(app.Manage),
	op[reasonBody, tripwires.Saved]("POST", atEnvironment+"/tripwires/:tripwire/arm",
		"Arm a tripwire again, whatever it stopped for before", (*call).armTripwire).change().needs(app.StopIt),
	op[tryTripwireBody, tripwires.Alert]("POST", atEnvironment+"/tripwires/try",
		"Read a body as a tripwire would, and change nothing", (*call).tryTripwire).needs(app.Read),
)

// TripwireView is a tripwire with what it stopped for.
type TripwireView struct {
	app.Tripwire
	Armed  bool                `json:"armed"`  // an alert that it knows nothing of yet, or that is over, stops
	Alerts []app.TripwireAlert `json:"alerts"` // newest first
	// Rotating is until when an old address is taken too, in Unix milliseconds.
	Rotating int64 `json:"rotating,omitempty"`
}

// mostAlerts is how many alerts are shown of all tripwires of an environment.
const mostAlerts = 200

func (c *call) tripwires(*none) (any, error) {
	all, err := c.api.Records.Tripwires(c.ctx, c.e.ID)
	if err != nil {
		return nil, err
	}
	alerts, err := c.api.Records.TripwireAlerts(c.ctx, c.e.ID, mostAlerts)
	if err != nil {
		return nil, err
	}
	out := listOf[TripwireView]{Items: []TripwireView{}}
	for _, w := range all {
		v := TripwireView{Tripwire: w, Armed: true, Alerts: []app.TripwireAlert{}}
		for _, a := range alerts {
			if a.Tripwire != w.ID {
				continue
			}
			v.Alerts = append(v.Alerts, a)
			if a.Disarmed() && w.Identity == "" {
				v.Armed = false
			}
		}
		for _, s := range w.Secrets {
			if s.Until > c.api.Now().UnixMilli() {
				v.Rotating = s.Until
			}
		}
		out.Items = append(out.Items, v)
	}
	return out, nil
}

type tripwireBody struct {
	tripwires.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) addTripwire(in *tripwireBody) (any, error) { return c.apply(in.Reason, "", &in.Put) }

func (c *call) putTripwire(in *tripwireBody) (any, error) {
	return c.apply(in.Reason, c.Param("tripwire"), &in.Put)
}

func (c *call) rotateTripwire(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("tripwire"), &tripwires.Rotate{})
}

func (c *call) removeTripwire(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("tripwire"), &tripwires.Remove{})
}

func (c *call) armTripwire(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("tripwire"), &tripwires.Arm{})
}

type tryTripwireBody struct {
	Tripwire app.Tripwire    `json:"tripwire"` // its expressions
	Body     json.RawMessage `json:"body"`     // of the alert
}

func (c *call) tryTripwire(in *tryTripwireBody) (any, error) {
	r, err := tripwires.NewReader(&in.Tripwire)
	if err != nil {
		return nil, err
	}
	return r.Read(in.Body)
}
