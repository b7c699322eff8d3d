package manage

import (
	"cmp"
	"slices"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/radar"
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
	return d, nil
}

func (c *call) accountFor(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("instance"), &delivery.Gone{})
}

func (c *call) radar(*none) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	s := radar.Subject{Now: c.api.Now().UnixMilli(), Epoch: rules.Source.Epoch, Revision: rules.Source.Revision}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	s.Aside = place.Aside()
	if s.Definitions, err = c.api.Records.Definitions(c.ctx, p.ID); err != nil {
		return nil, err
	}
	if s.Asked, err = c.api.Records.Asked(c.ctx, e.ID); err != nil {
		return nil, err
	}
	if s.Instances, err = c.api.Records.Instances(c.ctx, e.ID, s.Now-keptInstances.Milliseconds()); err != nil {
		return nil, err
	}
	for i := range s.Definitions {
		d := &s.Definitions[i]
		s.Overdue = append(s.Overdue, lint.Overdue(&lint.Subject{Rules: rules, Flag: d.Key, Now: s.Now,
			GoneBy: d.GoneBy})...)
	}
	return radar.Look(s), nil
}

// span is how far back usage can be asked for, with its steps, in minutes.
type span struct {
	name          string
	minutes, step int64
}

var spans = []span{{"15m", 15, 1}, {"1h", 60, 1}, {"6h", 360, 5}, {"1d", 1440, 15}, {"7d", 7 * 1440, 120},
	{"30d", 30 * 1440, 1440}, {"90d", 90 * 1440, 1440}}

// Usage is what was decided in a span of time, and in the one before.
type Usage struct {
	From int64       `json:"from"` // Unix milliseconds
	To   int64       `json:"to"`
	Step int64       `json:"step"` // milliseconds
	Now  []UsageLine `json:"now"`
	Past []UsageLine `json:"past"` // the window before, of the same length
	// for one flag: sums by rule, reason, version of the flag, application and its version
	Ways []Way `json:"ways"`
}

// Way is how often a flag was decided in one way.
type Way struct {
	wire.CountLine
	Name string `json:"name,omitempty"` // of the rule
}

// UsageLine is how often a flag gave a variant, step by step.
type UsageLine struct {
	Flag    string   `json:"flag"`
	Variant string   `json:"variant,omitempty"` // empty: the caller's fallback
	Counts  []uint64 `json:"counts"`
	Total   uint64   `json:"total"`
}

func (c *call) usage(*none) (any, error) {
	e := c.e
	at := slices.IndexFunc(spans, func(s span) bool { return s.name == cmp.Or(c.QueryParam("span"), "1h") })
	if at < 0 {
		return nil, app.InvalidField("span", "must be 15m, 1h, 6h, 1d, 7d, 30d or 90d")
	}
	s := spans[at]
	to := (c.api.Now().UnixMilli()/60_000/s.step + 1) * s.step // the step that has begun counts as it is
	from := to - s.minutes
	key := c.QueryParam("flag")
	rows, err := c.api.Records.Uses(c.ctx, e.ID, key, from, to, s.step)
	if err != nil {
		return nil, err
	}
	past, err := c.api.Records.Uses(c.ctx, e.ID, key, from-s.minutes, from, s.step)
	if err != nil {
		return nil, err
	}
	u := &Usage{From: from * 60_000, To: to * 60_000, Step: s.step * 60_000, Now: s.lines(rows, key, from),
		Past: s.lines(past, key, from-s.minutes), Ways: []Way{}}
	if key != "" {
		place, err := c.api.Hub.Place(c.ctx, e.ID)
		if err != nil {
			return nil, err
		}
		var doc *flag.Document
		if f := place.Rules().Flag(key); f != nil {
			doc = f.Document()
		}
		u.Ways = ways(rows, key, doc)
	}
	return u, nil
}

// lines gathers rows by flag and variant.
func (s span) lines(rows []app.UseRow, flag string, from int64) []UsageLine {
	type key struct{ flag, variant string }
	all := map[key]*UsageLine{}
	for _, r := range rows {
		k := key{cmp.Or(flag, r.Flag), r.Variant}
		line := all[k]
		if line == nil {
			line = &UsageLine{Flag: k.flag, Variant: k.variant, Counts: make([]uint64, s.minutes/s.step)}
			all[k] = line
		}
		if i := (r.Minute - from) / s.step; r.Minute >= from && int(i) < len(line.Counts) {
			line.Counts[i] += r.Count
		} else {
			line.Counts[0] += r.Count // of a longer span that began before
		}
		line.Total += r.Count
	}
	out := make([]UsageLine, 0, len(all))
	for _, l := range all {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b UsageLine) int {
		return cmp.Or(cmp.Compare(a.Flag, b.Flag), cmp.Compare(a.Variant, b.Variant))
	})
	return out
}

// ways sums one flag's rows over time, the largest first.
func ways(rows []app.UseRow, key string, doc *flag.Document) []Way {
	sums := map[wire.CountLine]uint64{}
	for _, r := range rows {
		l := r.CountLine
		l.Flag, l.Count = key, 0
		sums[l] += r.Count
	}
	out := make([]Way, 0, len(sums))
	for l, n := range sums {
		l.Count = n
		way := Way{l, ""}
		if l.Rule != "" {
			way.Name = "a rule that is gone"
			if r := doc.Rule(l.Rule); r != nil {
				way.Name = r.Name
			}
		}
		out = append(out, way)
	}
	slices.SortFunc(out, func(a, b Way) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Variant, b.Variant), cmp.Compare(a.Rule, b.Rule),
			cmp.Compare(a.Application, b.Application),
			cmp.Compare(a.Version, b.Version), cmp.Compare(a.FlagVersion, b.FlagVersion),
			cmp.Compare(a.Reason, b.Reason))
	})
	return out
}
