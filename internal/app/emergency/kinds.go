// Package emergency takes emergency orders: stops and lifts that are signed with the installation's emergency key, and
// that a process of the service takes while the records are away. It decides by them at once, keeps them on its disk
// and hands them on to those who follow; once the records are back they become ordinary stops and lifts.
//
// Its noun is a [Desk]:
//
//	taken, err := desk.Take(ctx, text)
//
// It also has the records take over stops that they lost: see [Desk.Heard].
package emergency

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/app/stops"
)

// Tx is what these changes read.
type Tx interface {
	stops.Tx
	Settled(environment int64) ([]string, error)
}

// Kinds are the changes that come of orders, and a new key.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "emergency.order", Says: "Takes an emergency order into the records",
			Span: commit.Environment, Insists: true, Inner: true}, record).Holding(stops.Hold),
		commit.Of(commit.Kind{Name: "flag.stop-kept", Says: "Takes a stop over that the records have lost",
			Span: commit.Environment, Insists: true, Inner: true}, recover).Holding(stops.Hold),
		commit.Of(commit.Kind{Name: "emergency.key", Says: "Makes a new key for emergency orders",
			Span: commit.Installation}, renew),
	}
}

// Record takes an order into the records that a process has verified.
type Record struct{ Order *flag.Order }

// Recover takes a stop over that this installation gave and its records do not know.
type Recover struct{ Stop flag.Stop }

// Known is the result of both: false where the records knew it already.
type Known struct {
	New bool `json:"new"`
}

// Renew makes a new emergency key; orders that are signed with the one before are refused from then on.
type Renew struct{}

// Renewed is a new key. Its private half is shown once, and kept nowhere.
type Renewed struct {
	Public  string `json:"public"`
	Private string `json:"private,omitempty"` // PKCS #8 in PEM
	Epoch   int64  `json:"epoch"`             // that began so that everybody learns of it
}

// WithoutSecrets is the key as it is kept for a repeated request.
func (r *Renewed) WithoutSecrets() any { return &Renewed{Public: r.Public, Epoch: r.Epoch} }

// renew makes a key, and a new epoch, since everybody who follows must know it.
func renew(_ context.Context, m *commit.Moment, _ *Renew) (*commit.Effects, error) {
	public, private, err := orders.NewKey()
	if err != nil {
		return nil, err
	}
	epoch := &app.EpochRecord{At: m.At}
	out := &Renewed{Public: public, Private: private}
	return &commit.Effects{Result: out, Stale: commit.Stale{All: true},
		In: []commit.Effect{{Records: []commit.Record{epoch, &app.EmergencyKey{Public: public}}}},
		Then: func() []commit.Effect {
			out.Epoch = epoch.Epoch
			return []commit.Effect{{Entries: []commit.Entry{commit.Said("emergency.key-made", "",
				diff.Text(orders.KeyMade(public)), diff.Text(fmt.Sprintf("epoch %d → %d", epoch.Was, epoch.Epoch)))}}}
		}}, nil
}

// record makes an order an ordinary stop or lift. Of two processes that have it one does.
func record(_ context.Context, m *commit.Moment, in *Record) (*commit.Effects, error) {
	tx, env, o := commit.Narrow[Tx](m), m.Environment, in.Order
	settled, err := tx.Settled(env.ID)
	if err != nil {
		return nil, err
	}
	known := func(id string) bool { return slices.Contains(settled, id) }
	row := &app.EmergencyOrder{ID: o.ID, At: m.At, Lifts: o.Lifts, Text: o.Text}
	if known(o.ID) {
		return commit.Nothing(&Known{}), nil // also one that was lifted before it came
	}
	e := commit.Effect{Environment: env, Records: []commit.Record{row},
		Event: &flag.Event{Settled: append([]string{o.ID}, o.Lifts...)}}
	said := words.Say("emergency order %s, issued %s", words.Plain(o.ID), words.Plain(orders.Clock(o.Issued)))
	about := strings.Join(append(slices.Clone(o.Flags), o.Lifts...), ", ")
	keys, err := stops.Here(tx, env.ID, o.Flags)
	if err != nil {
		return nil, err
	}
	if was, err := tx.Stop(env.ID, o.ID); err != nil {
		return nil, err
	} else if was != nil { // processes kept it over a restore of the records
		keys = nil
	}
	if len(keys) > 0 {
		rec := &app.StopRecord{ID: o.ID, Flags: keys, By: app.ByOrder, At: m.At, Reason: o.Reason}
		e.Records = append(e.Records, rec)
		e.Event.Stops = []flag.Stop{{ID: rec.ID, Flags: keys, At: m.At}}
		e.Entries = stops.Entries(rec)
	}
	standing, err := tx.StandingStops(env.ID, o.Lifts)
	if err != nil {
		return nil, err
	}
	if len(standing) > 0 {
		var ids, flags []string
		for _, s := range standing {
			ids, flags = append(ids, s.ID), append(flags, s.Flags...)
		}
		e.Records = append(e.Records, &app.Lift{IDs: ids, By: app.ByOrder, At: m.At})
		e.Event.Lifted = ids
		e.Entries = append(e.Entries, stops.Lifts(ids, flags)...)
	}
	// The order's own entry is the first: it speaks of the order's row.
	own := commit.Said("emergency.taken", about, diff.Text(said.String()))
	e.Entries = append([]commit.Entry{own}, e.Entries...)
	return &commit.Effects{Result: &Known{New: true}, In: []commit.Effect{e}}, nil
}

// recover makes a stop that the records lost a stop again. Whether it is genuine was asked before.
func recover(_ context.Context, m *commit.Moment, in *Recover) (*commit.Effects, error) {
	tx, env := commit.Narrow[Tx](m), m.Environment
	was, err := tx.Stop(env.ID, in.Stop.ID)
	if err != nil || was != nil {
		return commit.Nothing(&Known{}), err
	}
	settled, err := tx.Settled(env.ID)
	if err != nil || slices.Contains(settled, in.Stop.ID) {
		return commit.Nothing(&Known{}), err
	}
	keys, err := stops.Here(tx, env.ID, in.Stop.Flags)
	if err != nil || len(keys) == 0 {
		return commit.Nothing(&Known{}), err
	}
	rec := &app.StopRecord{ID: in.Stop.ID, Flags: keys, By: app.ByKeeping, At: m.At}
	entries := stops.Entries(rec)
	for i := range entries {
		entries[i].Lines = append(entries[i].Lines, diff.Text("processes have kept this stop of "+
			orders.Clock(in.Stop.At)+", which the restored records had lost"))
	}
	return &commit.Effects{Result: &Known{New: true}, In: []commit.Effect{{Environment: env,
		Records: []commit.Record{rec}, Event: &flag.Event{Stops: []flag.Stop{{ID: rec.ID, Flags: keys, At: m.At}}},
		Entries: entries}}}, nil
}
