package manage

import (
	"slices"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/delivery"
)

var _ = listed(
	op[none, Instances]("GET", atEnvironment+"/instances", "Which process has which revision",
		(*call).instances).needs(app.Read),
	op[reasonBody, delivery.AccountedFor]("POST", atEnvironment+"/instances/:instance/gone",
		"Vouch for an instance that fell silent: it decides no more",
		(*call).accountFor).change().needs(app.StopIt),
	op[reasonBody, delivery.AccountedFor]("POST", atEnvironment+"/instances/gone",
		"Vouch for all instances that fell silent: they decide no more",
		(*call).accountFor).change().needs(app.StopIt),
)

// keptInstances is how long instances that left are looked at.
const keptInstances = 24 * time.Hour

// Instances says which process has which revision.
type Instances struct {
	Epoch     int64          `json:"epoch"`
	Revision  int64          `json:"revision"`
	Alive     int            `json:"alive"`
	Delivered int            `json:"delivered"`    // of those alive, how many have this revision
	Instances []app.Instance `json:"instances"`    // alive, outposts among them
	Lost      []app.Instance `json:"lost"`         // silent: they may still decide the old way
	Nodes     []NodeView     `json:"nodes"`        // processes of the service itself
	Strangers int            `json:"otherHistory"` // alive, of a history that the records lost
	Streams   int64          `json:"streams"`      // browsers with a stream open: an estimate
	Pollers   int64          `json:"pollers"`      // units for which all answers were asked for of late: an estimate
	Newest    *app.Delivery  `json:"newest,omitempty"`
	Recent    []app.Delivery `json:"recent"` // of earlier revisions, newest first
}

// NodeView is a process of the service and what it decides by here.
type NodeView struct {
	app.Node
	app.NodePlace
	// it holds nothing of this environment, and reads it as it stands once somebody asks
	Idle bool `json:"idle,omitempty"`
}

// summary is the delivery as a page of many flags needs it.
func (c *call) summary(e *app.Environment) (*Instances, error) {
	now := c.api.Now()
	all, err := c.api.Records.Instances(c.ctx, e.ID, now.Add(-keptInstances).UnixMilli())
	if err != nil {
		return nil, err
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	src := place.Rules().Source
	d := &Instances{Epoch: src.Epoch, Revision: src.Revision, Instances: []app.Instance{}, Lost: []app.Instance{},
		Nodes: []NodeView{}, Recent: []app.Delivery{}}
	for _, i := range all {
		lost := i.Lost(now.UnixMilli())
		switch {
		case i.Left:
			continue
		case i.Kind == wire.ANode: // of the release before, beside this one
			if !lost {
				d.Nodes = append(d.Nodes, NodeView{app.Node{ID: i.ID, Version: i.Version, Started: i.Started},
					app.NodePlace{Epoch: i.Epoch, Revision: i.Revision}, false})
			}
			continue
		case lost:
			d.Lost = append(d.Lost, i)
			continue
		default:
			d.Alive++
			d.Instances = append(d.Instances, i)
			if i.Other {
				d.Strangers++
			} else if i.Epoch == src.Epoch && i.Revision >= src.Revision {
				d.Delivered++
			}
		}
		d.Streams, d.Pollers = d.Streams+i.Streams, d.Pollers+i.Pollers
	}
	return d, nil
}

// nodes adds the processes of the service.
func (c *call) nodes(e *app.Environment, d *Instances) error {
	all, err := c.api.Records.Nodes(c.ctx)
	for _, n := range all {
		at, holds := n.Places[e.ID]
		if !holds {
			at = app.NodePlace{Epoch: d.Epoch, Revision: d.Revision}
		}
		d.Nodes = append(d.Nodes, NodeView{n, at, !holds})
		if n.Silent == 0 {
			d.Streams, d.Pollers = d.Streams+at.Streams, d.Pollers+at.Pollers
		}
	}
	return err
}

func (c *call) instances(*none) (any, error) {
	e := c.e
	d, err := c.summary(e)
	if err != nil {
		return nil, err
	}
	if err := c.nodes(e, d); err != nil {
		return nil, err
	}
	if d.Newest, err = c.api.Delivery.Newest(c.ctx, e.ID, d.Epoch, d.Revision); err != nil {
		return nil, err
	}
	if d.Recent, err = c.api.Records.Deliveries(c.ctx, e.ID, 20); err != nil {
		return nil, err
	}
	d.Recent = slices.DeleteFunc(d.Recent, func(r app.Delivery) bool {
		return r.Expected == 0 || r.Epoch == d.Epoch && r.Revision == d.Revision
	})
	for i := range d.Recent {
		d.Recent[i].Wave = nil // which the stop's own story tells
	}
	return d, nil
}

func (c *call) accountFor(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("instance"), &delivery.Gone{})
}
