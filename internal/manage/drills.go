package manage

import (
	"encoding/json"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/drills"
)

var _ = listed(
	op[none, drillsView]("GET", atEnvironment+"/drills", "The stops that were practised here, and what was not for "+
		"long", (*call).drills).needs(app.Read),
	op[drillBody, drills.Held]("POST", atEnvironment+"/drills", "Practise a stop: nothing is "+
		"stopped, or a flag that is "+
		"there for practice", (*call).holdDrill).made().change().needs(app.StopIt),
	op[none, DrillView]("GET", atEnvironment+"/drills/:drill", "A drill, with who had it when",
		(*call).drill).needs(app.Read),
)

// DrillView is a drill with how it was delivered.
type DrillView struct {
	app.Drill
	ByName       string `json:"byName"`
	TripwireName string `json:"tripwireName,omitempty"`
	// Wave is how it arrived; nil where the records do not know it any more.
	Wave *app.Delivery `json:"wave,omitempty"`
}

type drillsView struct {
	Items []DrillView `json:"items"`
	Due   drills.Due  `json:"due"`
	Days  int         `json:"days"` // within which each should be practised
}

type drillBody struct {
	drills.Hold
	Reason string `json:"reason,omitempty"`
}

// mostDrills is how many drills are shown; underWay is for how long, in milliseconds, a drill may not be over.
const (
	mostDrills = 50
	underWay   = 10 * 60_000
)

func (c *call) drills(*none) (any, error) {
	all, err := c.api.Records.Drills(c.ctx, c.e.ID, mostDrills)
	if err != nil {
		return nil, err
	}
	out := drillsView{Items: []DrillView{}, Days: int(drills.Every.Hours() / 24)}
	revisions := make([]int64, len(all))
	for i := range all {
		revisions[i] = all[i].Revision
	}
	kept, err := c.api.Records.DeliveriesOf(c.ctx, c.e.ID, revisions)
	if err != nil {
		return nil, err
	}
	names, err := c.drillNames()
	if err != nil {
		return nil, err
	}
	for i := range all {
		v := names(all[i])
		if d, is := kept[all[i].Revision]; is {
			v.Wave = &d
		} else if c.api.Now().UnixMilli()-all[i].At < underWay { // it is not over yet
			if v.Wave, err = c.wave(all[i].Revision); err != nil {
				return nil, err
			}
		}
		if v.Wave != nil {
			v.Wave.Wave = nil // the drill's own page has it
		}
		out.Items = append(out.Items, v)
	}
	due, err := c.api.Drills.Due(c.ctx, c.e)
	if err != nil {
		return nil, err
	}
	out.Due = *due
	return out, nil
}

// drillNames gives a function that names who held a drill, and whose alert it was.
func (c *call) drillNames() (func(app.Drill) DrillView, error) {
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	wires, err := c.api.Records.TripwireNames(c.ctx, c.e.ID)
	return func(d app.Drill) DrillView {
		return DrillView{Drill: d, ByName: names[d.By], TripwireName: wires[d.Tripwire]}
	}, err
}

func (c *call) holdDrill(in *drillBody) (any, error) {
	if len(in.Alert) > 0 && !json.Valid(in.Alert) {
		return nil, app.InvalidField("alert", "is no JSON")
	}
	return c.apply(in.Reason, "", &in.Hold)
}

func (c *call) drill(*none) (any, error) {
	d, err := c.api.Records.Drill(c.ctx, c.e.ID, c.Param("drill"))
	if err != nil {
		return nil, err
	}
	names, err := c.drillNames()
	if err != nil {
		return nil, err
	}
	out := names(*d)
	out.Wave, err = c.wave(d.Revision)
	return out, err
}
