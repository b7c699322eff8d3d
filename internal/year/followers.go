package year

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"time"

	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/store"
)

// deliver records that the environment's newest revision reached its instances.
func (p *Past) deliver(tx *store.Tx, e *place, at time.Time) error {
	if e.followed == 0 {
		return nil
	}
	half := 20 + int64(e.rng.IntN(60))
	all := []app.Delivery{{Epoch: e.epoch, Revision: e.Revision, At: at.UnixMilli(), Expected: e.followed,
		Reached: e.followed, Half: half, Most: 2 * half, All: 3 * half}}
	if first, err := tx.AddDeliveries(e.ID, all); err != nil || !first {
		return err
	}
	_, err := tx.Append(audit.EnvironmentChain(e.ID), audit.Entry{At: at.Add(time.Second).UnixMilli(),
		Actor: app.Actor{Kind: "service", Through: "delivery"}, Action: "revision.delivered",
		Project: e.ProjectID, Environment: e.ID, Revision: e.Revision, Difference: delivery.Words(all)}, nil)
	return err
}

// report has every instance say where it stands.
func (p *Past) report(ctx context.Context) error {
	now := p.Until.UnixMilli()
	for _, e := range p.envs {
		var all []app.Incoming
		for i := range e.followed {
			all = append(all,
				app.Incoming{Report: &wire.Report{Status: wire.Status{Instance: fmt.Sprintf("instance-%s-%04d", e.Key,
					i), Sequence: 1, Application: []string{"door", "rounds"}[i%2],
					Version: fmt.Sprintf("4.%d.0", i%7), Epoch: e.epoch, Revision: e.Revision, Source: "feed",
					Started: now - 86_400_000}}})
		}
		if len(all) == 0 {
			continue
		}
		if _, err := p.Store.TakeReports(ctx, e.ID, all, now); err != nil {
			return err
		}
	}
	return nil
}

// counted is how many flags are decided by in an environment that is followed.
const counted = 300

// count adds counts as far back as they are kept, each in the span that it has by then.
func (p *Past) count(ctx context.Context) error {
	days := min(p.Size.Days, store.Days()["keep-counts"])
	for n, e := range p.envs[:min(followed, len(p.envs))] {
		flags, minutes := min(counted, len(e.flags)), p.Size.Minutes
		if n > 0 {
			flags, minutes = min(flags, counted/5), minutes/8
		}
		step, added := 24*time.Hour, 0
		for at := p.Until.AddDate(0, 0, -days); at.Before(p.Until); at = at.Add(step) {
			switch left := p.Until.Sub(at); {
			case left <= time.Duration(minutes)*time.Minute:
				step = time.Minute
			case left <= 35*24*time.Hour:
				step = time.Hour
			}
			if err := p.Store.AddCounts(ctx, e.ID, at.UnixMilli(), counts(e, flags, uint64(step/time.Minute)),
				[]wire.UnknownLine{{Flag: fmt.Sprintf("gone-%d", at.YearDay()), Count: 1,
					Application: "door"}}); err != nil {
				return err
			}
			if added++; added%50 == 0 { // as it goes on meanwhile
				if err := p.Store.ThinUses(ctx, p.Until.UnixMilli()); err != nil {
					return err
				}
			}
		}
		p.Said("environments counted", n+1, followed)
	}
	return nil
}

func counts(e *place, flags int, minutes uint64) []wire.CountLine {
	var lines []wire.CountLine
	for i := range flags {
		at := &e.flags[i]
		for j, variant := range at.doc.VariantNames()[:2] {
			lines = append(lines, wire.CountLine{Flag: at.doc.Key, Variant: variant, Reason: "SPLIT",
				FlagVersion: at.version, Application: "door", Version: "4.2.0", Count: minutes * uint64(40+i+j)})
		}
	}
	return lines
}

// sample adds units that were seen, and what was seen of attributes.
func (p *Past) sample(ctx context.Context) error {
	now := p.Until.UnixMilli()
	for n, e := range p.envs[:min(followed, len(p.envs))] {
		rng := rand.New(rand.NewPCG(uint64(n), 7))
		sampling, err := p.Store.Sampling(ctx, e.ID)
		if err != nil {
			return err
		}
		var rows []app.UnitRow
		for i := range p.Size.Units {
			attributes, err := json.Marshal(map[string]any{"site.id": fmt.Sprintf("site-%d", rng.IntN(600)),
				"site.region": []string{"north", "west", "east"}[rng.IntN(3)], "firmware": fmt.Sprintf("4.%d.0",
					rng.IntN(5))})
			if err != nil {
				return err
			}
			unit := fmt.Sprintf("recipient-%05d", i)
			rows = append(rows, app.UnitRow{Hash: sample.Hash(sampling.Seed, unit), Unit: unit, Context: attributes,
				Seen: now - rng.Int64N(5*86_400_000)})
		}
		if err := p.Store.MergeUnits(ctx, e.ID, "targetingKey", rows, now,
			int64(sampling.Days)*86_400_000); err != nil {
			return err
		}
		for day := range 30 {
			if err := p.Store.AddSeen(ctx, e.ID, now-int64(day)*86_400_000, 10_000,
				[]sample.Seen{{Name: "site.region", Kinds: map[string]uint64{"string": 10_000}},
					{Name: "firmware", Kinds: map[string]uint64{"string": 9_000}}}); err != nil {
				return err
			}
		}
	}
	return nil
}
