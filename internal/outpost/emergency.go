package outpost

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/edge"
)

// emergency takes emergency orders at the outpost. The client of the link keeps them on its disk, and tells the
// service that it holds them.
type emergency struct{ o *Outpost }

// Order takes an order.
func (e emergency) Order(_ context.Context, text string) (any, error) {
	place, err := e.o.edge.Hub.Ordered(text)
	if err != nil {
		return nil, err
	}
	rs := place.Rules().Source
	o, err := orders.Accept(text, rs, e.o.now())
	if err != nil {
		return nil, err
	}
	out := &orders.Taken{ID: o.ID, Of: o.Of, Flags: o.Flags, Unknown: orders.Unknown(o, rs), Lifts: o.Lifts}
	for _, had := range rs.Orders {
		out.Again = out.Again || had.ID == o.ID
	}
	for _, l := range e.o.links {
		mine, err := e.o.edge.Hub.Place(context.Background(), l.id)
		if err == nil && mine == place {
			if err := l.relay.Order(text); err != nil {
				return nil, app.Faultf(app.Forbidden, "%s", err)
			}
			select {
			case l.up <- struct{}{}:
			default:
			}
		}
	}
	return out, nil
}

// Heard takes what a process behind the outpost holds of stops, and hands it on. Only the service knows which of them
// its records have: what it has said is remembered for those who ask.
func (e emergency) Heard(_ context.Context, environment int64, held []string, kept []flag.Stop) (let []string) {
	l := e.o.of(environment)
	if place := e.o.edge.Hub.Places()[environment]; place != nil {
		for _, text := range held[:min(len(held), maxHeard)] {
			if _, err := orders.Accept(text, place.Rules().Source, e.o.now()); err == nil {
				_ = l.relay.Order(text) // it is genuine: that was just looked at
			}
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range kept[:min(len(kept), maxHeard)] {
		if l.let[s.ID] {
			let = append(let, s.ID)
		} else if len(l.kept) < maxHeard {
			l.kept[s.ID] = s
		}
	}
	return let
}

// handUp hands what the outpost holds to whom it follows: while the records are away no report is taken there, and an
// order that came here alone is to stop everywhere.
func (l *link) handUp(wake chan struct{}) work.Job {
	return work.Job{Name: fmt.Sprintf("orders-%d", l.id), Says: "hand emergency orders to the service",
		Every: handEvery, Quiet: true, Wake: wake, Do: func(ctx context.Context, _ *work.Turn) (err error) {
			rs, ok := l.head()
			if !ok {
				return nil
			}
			for _, o := range rs.Orders {
				if !l.handed[o.ID] {
					err = errors.Join(err, l.hand(ctx, o))
				}
			}
			return err
		}}
}

// handEvery is how often it is tried to hand an order up.
const handEvery = 2 * time.Second

func (l *link) hand(ctx context.Context, o *flag.Order) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, l.url+edge.EmergencyPath, strings.NewReader(o.Text))
	if err != nil {
		return err
	}
	res, err := l.http.Do(req)
	if err != nil {
		return err
	}
	if res.StatusCode < 500 { // taken, known already, or refused for good
		l.handed[o.ID] = true
	}
	return res.Body.Close()
}

// maxHeard bounds what is taken of one report, and what of all waits to be handed on.
const maxHeard = 100

// letGo remembers which kept stops the service said are to be let go.
func (l *link) letGo(ids []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, id := range ids {
		if len(l.let) > maxUnknown {
			clear(l.let)
		}
		l.let[id] = true
		delete(l.kept, id)
	}
}

// keeping is what is told of kept stops: the outpost's own, and those of who is behind it.
func (l *link) keeping() []flag.Stop {
	var all []flag.Stop
	if l.rules != nil {
		all = append(all, l.rules.Kept...)
	}
	for id, s := range l.kept {
		if l.rules != nil && standing(l.rules, id) {
			delete(l.kept, id)
			continue
		}
		all = append(all, s)
	}
	return all
}

func standing(rs *flag.Ruleset, id string) bool {
	for _, s := range rs.Stops {
		if s.ID == id {
			return true
		}
	}
	return false
}
