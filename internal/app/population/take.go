package population

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Order gives what clients of an environment are told.
func (s *Service) Order(ctx context.Context, environment int64) (*wire.Order, error) {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil, err
	}
	o := &wire.Order{Off: k.Sampling.Off, Seed: strconv.FormatUint(k.Sampling.Seed, 16), Personal: k.Personal,
		Limits: map[string]string{}}
	for name, c := range k.Covers {
		o.Limits[name] = strconv.FormatUint(c.Collect, 16)
	}
	return o, nil
}

// Limits of what one report brings.
const (
	maxUnits    = 20_000
	maxAttrs    = 16 << 10 // bytes of one unit's attributes
	maxSamples  = 20       // attributes that units are sampled by
	maxUnitText = 1_000
)

// Take takes what clients of an environment report of units and attributes, all together.
// What does not fit is left out: it is a sample.
func (s *Service) Take(ctx context.Context, environment int64, all []*wire.Report) error {
	all = slices.DeleteFunc(slices.Clone(all), func(r *wire.Report) bool {
		return len(r.Units) == 0 && r.Contexts == 0
	})
	if len(all) == 0 {
		return nil
	}
	k, err := s.Fresh(ctx, environment)
	if err != nil || k.Sampling.Off {
		return err
	}
	now := s.Now().UnixMilli()
	newest := map[string]map[uint64]app.UnitRow{} // by what the unit is of
	var seen sample.Attributes
	for _, r := range all {
		for _, u := range r.Units[:min(len(r.Units), maxUnits)] {
			row, ok := k.row(&u, now)
			if !ok {
				continue
			}
			if newest[u.Of] == nil {
				newest[u.Of] = map[uint64]app.UnitRow{}
			}
			if had, is := newest[u.Of][row.Hash]; !is || had.Seen <= row.Seen {
				newest[u.Of][row.Hash] = row
			}
		}
		seen.Add(r.Contexts, k.fit(r.Seen, now))
	}
	byName := map[string][]app.UnitRow{}
	for of, rows := range newest {
		// one order of locks
		byName[of] = slices.SortedFunc(maps.Values(rows), func(a, b app.UnitRow) int {
			return cmp.Compare(a.Hash, b.Hash)
		})
	}
	contexts, names := seen.Take()
	return s.merge(ctx, environment, k, byName, contexts, names)
}

// row is a reported unit as it is kept; false where it does not fit.
func (k *Known) row(u *wire.UnitLine, now int64) (app.UnitRow, bool) {
	if u.Unit == "" || len(u.Unit) > maxUnitText || !utf8.ValidString(u.Unit) || len(u.Attributes) > maxAttrs ||
		condition.CheckAttribute(u.Of) != "" {
		return app.UnitRow{}, false
	}
	if _, personal := k.Personal[u.Of]; personal {
		return app.UnitRow{}, false
	}
	c, err := condition.ParseContext(u.Attributes)
	if err != nil {
		return app.UnitRow{}, false
	}
	clean, _ := sample.Clean(c, k.Personal) // the client may not know the newest catalogue
	// The hash is the service's own: a client must not choose who is in the sample.
	return app.UnitRow{Hash: sample.Hash(k.Sampling.Seed, u.Unit), Unit: u.Unit, Context: mustJSON(clean),
		Seen: min(max(u.Seen, now-int64(time.Hour/time.Millisecond)), now)}, true
}

// kinds are those in which values come.
var kinds = map[string]bool{"string": true, "number": true, "boolean": true, "list": true, "other": true}

// fit is what is kept of attributes that somebody saw.
func (k *Known) fit(names []sample.Seen, now int64) (fit []sample.Seen) {
	for _, one := range names[:min(len(names), sample.MaxAttributes)] {
		if condition.CheckAttribute(one.Name) != "" {
			continue
		}
		if _, personal := k.Personal[one.Name]; personal {
			one.Values = nil
		}
		one.Values = slices.Clone(one.Values[:min(len(one.Values), sample.MaxValues)])
		one.Values = slices.DeleteFunc(one.Values, func(v sample.ValueCount) bool {
			return len(v.Value) > sample.MaxValueText || !utf8.ValidString(v.Value)
		})
		one.Kinds = maps.Clone(one.Kinds)
		maps.DeleteFunc(one.Kinds, func(kind string, _ uint64) bool { return !kinds[kind] })
		one.Last = min(one.Last, now)
		fit = append(fit, one)
	}
	return fit
}

func (s *Service) merge(ctx context.Context, environment int64, k *Known, byName map[string][]app.UnitRow,
	contexts uint64, names []sample.Seen) error {
	now := s.Now().UnixMilli()
	keep := int64(k.Sampling.Days) * 24 * int64(time.Hour/time.Millisecond)
	var err error
	taken := 0
	for name, rows := range byName {
		if _, known := k.Covers[name]; !known {
			if taken++; len(k.Covers)+taken > maxSamples {
				continue
			}
		}
		err = errors.Join(err, s.Records.MergeUnits(ctx, environment, name, rows, now, keep))
	}
	if contexts > 0 || len(names) > 0 {
		err = errors.Join(err, s.Records.AddSeen(ctx, environment, now, contexts, k.fit(names, now)))
	}
	return err
}

func mustJSON(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values of ours
	}
	return raw
}

// own is the sample of what is decided in this service, until it is merged.
type own struct {
	mu    sync.Mutex
	units map[string]*sample.Units
	seen  sample.Attributes
	calls uint64
}

// Note notes a unit for which this service decided: by its key, and by what shares are drawn by.
func (s *Service) Note(k *Known, environment int64, draws []condition.Name, c *condition.Context) {
	if k.Sampling.Off {
		return
	}
	s.mu.Lock()
	if s.samples == nil {
		s.samples = map[int64]*own{}
	}
	o := s.samples[environment]
	if o == nil {
		o = &own{units: map[string]*sample.Units{}}
		s.samples[environment] = o
	}
	s.mu.Unlock()
	now := s.Now().UnixMilli()
	o.mu.Lock()
	defer o.mu.Unlock()
	add := func(name condition.Name) {
		unit, ok := c.ShareKey(name)
		if _, personal := k.Personal[name.Value()]; personal || !ok || len(unit) > maxUnitText {
			return
		}
		units := o.units[name.Value()]
		if units == nil {
			units = sample.NewUnits()
			if cover, ok := k.Covers[name.Value()]; ok {
				units.Bound(cover.Collect)
			}
			o.units[name.Value()] = units
		}
		if h := sample.Hash(k.Sampling.Seed, unit); h < units.Limit() {
			units.Add(h, unit, c, now)
		}
	}
	add(condition.Intern(condition.KeyAttribute))
	for _, name := range draws {
		add(name)
	}
	if o.calls++; o.calls%looked == 1 {
		o.seen.Note(c, now, func(name string) bool { _, personal := k.Personal[name]; return !personal })
	}
}

// Flush merges what this service noted into the records.
func (s *Service) Flush(ctx context.Context) error {
	s.mu.Lock()
	samples := s.samples
	s.samples = nil
	s.mu.Unlock()
	var err error
	for environment, o := range samples {
		k, e := s.Known(ctx, environment)
		if e != nil {
			err = errors.Join(err, e)
			continue
		}
		o.mu.Lock()
		byName := map[string][]app.UnitRow{}
		for name, units := range o.units {
			for _, u := range units.All() {
				clean, _ := sample.Clean(u.Context, k.Personal)
				byName[name] = append(byName[name], app.UnitRow{Hash: u.Hash, Unit: u.Key, Context: mustJSON(clean),
					Seen: u.Seen})
			}
		}
		contexts, names := o.seen.Take()
		o.mu.Unlock()
		err = errors.Join(err, s.merge(ctx, environment, k, byName, contexts, names))
	}
	return err
}
