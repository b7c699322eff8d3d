package emergency

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/wholefile"
)

// Records are what a desk reads.
type Records interface {
	PlaceOf(ctx context.Context, environment int64) (*app.Project, *app.Environment, error)
	GenuineStop(ctx context.Context, environment int64, stop flag.Stop) (bool, error)
	Knows(ctx context.Context, environment int64, stops []string) ([]string, error)
}

// Desk takes orders, and has the records take them once they can.
type Desk struct {
	Hub     *feed.Hub
	Records Records
	Commit  *commit.Service
	Path    string // of the file that keeps orders until they are recorded
	Now     func() time.Time
	Log     *slog.Logger

	wake chan struct{}
	mu   sync.Mutex
	held []string // as they travel
	said string   // why the last could not be recorded
}

// Open reads the orders that were kept.
func (d *Desk) Open() error {
	d.wake = make(chan struct{}, 1)
	raw, err := os.ReadFile(d.Path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &d.held)
	}
	if err != nil {
		return fmt.Errorf("the kept emergency orders cannot be read: mend %s, or move it away: %w", d.Path, err)
	}
	return nil
}

// Held gives a ruleset that was read with the orders that wait to be recorded.
func (d *Desk) Held(rs *flag.Ruleset) *flag.Ruleset {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, text := range d.held {
		if o, err := flag.ReadOrder(text, rs.Emergency); err == nil {
			rs = rs.Take(o)
		}
	}
	return rs
}

// Take takes an order: it is on this process's disk and decided by when this returns. It needs no records.
func (d *Desk) Take(_ context.Context, text string) (*orders.Taken, error) {
	place, err := d.Hub.Ordered(text)
	if err != nil {
		return nil, err
	}
	rs := place.Rules().Source
	o, err := orders.Accept(text, rs, d.Now())
	if err != nil {
		return nil, err
	}
	out := &orders.Taken{ID: o.ID, Of: o.Of, Flags: o.Flags, Unknown: orders.Unknown(o, rs), Lifts: o.Lifts}
	if out.Again, err = d.keep(text); err != nil {
		return nil, err
	}
	holds := place.Hold(func(rs *flag.Ruleset) *flag.Ruleset { return rs.Take(o) })
	if !holds && !out.Again && !place.Rules().Source.Knows(o) {
		return nil, app.Faultf(app.TooMany, "as many emergency orders as may wait do wait here")
	}
	d.Log.Warn("an emergency order was taken", "order", o.ID, "of", o.Of, "flags", o.Flags, "lifts", o.Lifts)
	d.nudge()
	return out, nil
}

// Order is Take, for who knows nothing of emergencies.
func (d *Desk) Order(ctx context.Context, text string) (any, error) { return d.Take(ctx, text) }

func (d *Desk) nudge() {
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// keep keeps an order on disk, and tells whether it was there.
func (d *Desk) keep(text string) (again bool, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if slices.Contains(d.held, text) {
		return true, nil
	}
	return false, d.write(append(slices.Clone(d.held), text))
}

// write keeps orders on disk and in memory; the caller holds mu.
func (d *Desk) write(all []string) error {
	raw, err := json.Marshal(append([]string{}, all...))
	if err != nil {
		return err
	}
	if err := wholefile.Write(d.Path, raw); err != nil {
		return fmt.Errorf("the emergency order cannot be kept on disk: %w", err)
	}
	d.held = all
	return nil
}

// Job records what waits.
func (d *Desk) Job() work.Job {
	return work.Job{Name: "emergency", Says: "record emergency orders, and stops that were kept over a restore",
		Every: time.Second, Wake: d.wake, Quiet: true,
		Do: func(ctx context.Context, _ *work.Turn) error { return d.Settle(ctx) }}
}

// Settle records the orders and the kept stops of all places.
func (d *Desk) Settle(ctx context.Context) (err error) {
	for environment, place := range d.Hub.Places() {
		src := place.Rules().Source
		for _, o := range src.Orders {
			err = errors.Join(err, d.apply(ctx, environment, o.Reason, &Record{Order: o}))
		}
		if len(src.Kept) > 0 {
			let, e := d.keptBy(ctx, environment, src.Kept)
			place.Hold(func(rs *flag.Ruleset) *flag.Ruleset { return rs.Let(let) })
			err = errors.Join(err, e)
		}
	}
	d.note(err)
	return errors.Join(err, d.forget())
}

// note logs once why something cannot be recorded.
func (d *Desk) note(err error) {
	var f *app.Fault
	said := ""
	if err != nil && !(errors.As(err, &f) && f.Kind == app.Unavailable) {
		said = err.Error()
	}
	if said != d.said && said != "" {
		d.Log.Error("an emergency order cannot be recorded yet, and stands", "error", said)
	}
	d.said = said
}

func (d *Desk) apply(ctx context.Context, environment int64, reason string, do any) error {
	project, env, err := d.Records.PlaceOf(ctx, environment)
	if err != nil {
		return err
	}
	by := app.Actor{Kind: "emergency", Through: "emergency order"}
	_, err = stops.Arrive(ctx, d.Commit, commit.Request{Actor: by, Reason: reason}, commit.Change{
		In: commit.In{Project: project, Environment: env}, Do: do})
	return err
}

// forget takes orders off the disk that the records know.
func (d *Desk) forget() error {
	places := d.Hub.Places()
	d.mu.Lock()
	defer d.mu.Unlock()
	var left []string
	for _, text := range d.held {
		known := false
		for _, p := range places {
			rs := p.Rules().Source
			if o, err := flag.ReadOrder(text, rs.Emergency); err == nil && rs.Knows(o) {
				known = true
			}
		}
		if !known {
			left = append(left, text)
		}
	}
	if len(left) == len(d.held) {
		return nil
	}
	return d.write(left)
}

// keptFor is how old a stop may be that processes have kept over a restore: no backup is older, and what was lifted
// before it may be forgotten.
const keptFor = 30 * 24 * time.Hour

// maxHeard bounds what of one report is looked at.
const maxHeard = 100

// Heard takes what a process tells that it holds beside the service's ruleset: orders, and stops of an epoch before.
// It gives the ids of stops that the process is to let go, since the records know them or no service of this
// installation gave them.
func (d *Desk) Heard(ctx context.Context, environment int64, orders []string, kept []flag.Stop) (let []string) {
	places := d.Hub.Places()
	for _, text := range orders[:min(len(orders), maxHeard)] {
		place := places[environment]
		if place == nil {
			break
		}
		rs := place.Rules().Source
		o, err := flag.ReadOrder(text, rs.Emergency)
		if now := d.Now(); err != nil || rs.Knows(o) || now.UnixMilli() >= o.Expires &&
			(o.Issued > rs.Epoch || o.Issued < now.Add(-keptFor).UnixMilli()) {
			continue // an expired one counts where the records have lost it since: an epoch is named by its time
		}
		if _, err := d.keep(text); err != nil {
			d.Log.Error("an emergency order that a process holds cannot be kept", "error", err)
			continue
		}
		place.Hold(func(rs *flag.Ruleset) *flag.Ruleset { return rs.Take(o) })
		d.nudge()
	}
	if len(kept) == 0 {
		return nil
	}
	let, err := d.keptBy(ctx, environment, kept[:min(len(kept), maxHeard)])
	if err != nil {
		d.Log.Warn("stops that a process has kept cannot be looked up yet", "error", err)
	}
	return let
}

// keptBy finds out what to do about stops that the epoch does not tell of: what the records know was lifted, or
// stands and is told of; what they lost they take over; what is not genuine never was.
func (d *Desk) keptBy(ctx context.Context, environment int64, kept []flag.Stop) (let []string, err error) {
	ids := make([]string, len(kept))
	for i, s := range kept {
		ids[i] = s.ID
	}
	known, err := d.Records.Knows(ctx, environment, ids)
	if err != nil {
		return nil, err
	}
	old := d.Now().Add(-keptFor).UnixMilli()
	for _, s := range kept {
		if slices.Contains(known, s.ID) || s.At < old {
			let = append(let, s.ID)
			continue
		}
		genuine, e := d.Records.GenuineStop(ctx, environment, s)
		switch {
		case e != nil:
			err = errors.Join(err, e)
		case !genuine:
			let = append(let, s.ID)
		default:
			err = errors.Join(err, d.apply(ctx, environment, "", &Recover{Stop: s}))
		}
	}
	return let, err
}
