// Package population keeps the sample of units on which edits are tried, and what is seen
// of their attributes.
//
// Its nouns are a [Service], and what it has [Known] of an environment: how it is sampled
// and what its project declares. The smallest use:
//
//	units, err := s.Units(ctx, environment, "targetingKey")
//	shift.Between(before, after, "night-batching", units, now)
package population

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"

	"greenlever.example/core/condition"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/guard"
)

// Records are what this package reads and writes.
type Records interface {
	Sampling(ctx context.Context, environment int64) (*app.Sampling, error)
	AttributesOf(ctx context.Context, environment int64) ([]app.Attribute, error)
	Covers(ctx context.Context, environment int64) (map[string]sample.Cover, error)
	MergeUnits(ctx context.Context, environment int64, attribute string, rows []app.UnitRow, now, keep int64) error
	Population(ctx context.Context, environment int64, attribute string) ([]app.UnitRow, sample.Cover, error)
	AddSeen(ctx context.Context, environment, now int64, contexts uint64, seen []sample.Seen) error
	SeenAttributes(ctx context.Context, environment, since int64) (map[string]*sample.Seen, uint64, error)
}

// fresh is for how long what was read is used again: an edit is tried many times while it
// is being made.
const fresh = 2 * time.Second

// seenFor is over how long what was seen of attributes is summed up.
const seenFor = 7 * 24 * time.Hour

// Service keeps populations.
type Service struct {
	Records Records
	Now     func() time.Time
	Log     *slog.Logger

	mu      sync.Mutex
	known   map[int64]*kept
	units   map[unitsOf]*lately
	seen    map[int64]*seen
	samples map[int64]*own
}

type unitsOf struct {
	environment int64
	attribute   string
}

type lately struct {
	at         time.Time
	life       time.Duration // see unitsLife
	population shift.Population
	byHash     map[uint64]readUnit // so that what did not change is not read anew
}

type readUnit struct {
	unit    string
	context string // as it is kept
	as      *condition.Context
}

// unitsLife is how old units may be that an edit is tried on: less where they are read in no time,
// so that a small population shows at once who has come.
func unitsLife(reading time.Duration) time.Duration {
	return min(max(50*reading, 500*time.Millisecond), 10*time.Second)
}

type seen struct {
	at       time.Time
	names    map[string]*sample.Seen
	contexts uint64
}

// Known is how an environment is sampled and what its project declares.
type Known struct {
	Sampling   app.Sampling
	Attributes []app.Attribute
	Personal   map[string]sample.Derivation
	ServerOnly map[string]bool
	Covers     map[string]sample.Cover
}

// Names tells how sentences say the attributes.
func (k *Known) Names() words.Names {
	names := words.Names{}
	for _, a := range k.Attributes {
		if a.One != "" {
			names[a.Name] = words.Attribute{One: a.One, Many: a.Many}
		}
	}
	return names
}

// Names tells how sentences say the attributes of an environment; by their own names where the
// records cannot be read.
func (s *Service) Names(ctx context.Context, environment int64) words.Names {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil
	}
	return k.Names()
}

// kept is what is known of an environment, and how old that is.
type kept struct {
	*Known
	at      time.Time
	stale   bool // something was changed: read before it is used
	reading bool
}

// Known gives what is known of an environment. It waits for the records the first time only:
// after that it may be two seconds old, and older while they cannot be reached.
func (s *Service) Known(ctx context.Context, environment int64) (*Known, error) {
	s.mu.Lock()
	k := s.known[environment]
	if k == nil {
		s.mu.Unlock()
		return s.read(ctx, environment)
	}
	if (k.stale || time.Since(k.at) >= fresh) && !k.reading {
		k.reading = true
		guard.Go(s.Log, "read how units are sampled", func() { s.refresh(context.WithoutCancel(ctx), environment, k) })
	}
	s.mu.Unlock()
	return k.Known, nil
}

// Fresh is Known for who changes things: what was changed a moment ago is in it.
func (s *Service) Fresh(ctx context.Context, environment int64) (*Known, error) {
	s.mu.Lock()
	k := s.known[environment]
	s.mu.Unlock()
	if k != nil && !k.stale {
		return s.Known(ctx, environment)
	}
	next, err := s.read(ctx, environment)
	if err != nil && k != nil { // better old than nothing: personal attributes stay personal
		return k.Known, nil
	}
	return next, err
}

func (s *Service) refresh(ctx context.Context, environment int64, k *kept) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err := s.read(ctx, environment)
	s.mu.Lock()
	defer s.mu.Unlock()
	if k.reading = false; err != nil {
		k.at = time.Now() // asked again after a while
	}
}

// Put takes over what was known before, until it can be read.
func (s *Service) Put(environment int64, k *Known) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[int64]*kept{}
	}
	if s.known[environment] == nil {
		s.known[environment] = &kept{Known: k}
	}
}

func (s *Service) read(ctx context.Context, environment int64) (*Known, error) {
	sampling, err := s.Records.Sampling(ctx, environment)
	if err != nil {
		return nil, err
	}
	k := &Known{Sampling: *sampling, Personal: map[string]sample.Derivation{}, ServerOnly: map[string]bool{}}
	if k.Attributes, err = s.Records.AttributesOf(ctx, environment); err != nil {
		return nil, err
	}
	if k.Covers, err = s.Records.Covers(ctx, environment); err != nil {
		return nil, err
	}
	for _, a := range k.Attributes {
		if a.Personal {
			k.Personal[a.Name] = a.Derive
		}
		if a.ServerOnly {
			k.ServerOnly[a.Name] = true
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[int64]*kept{}
	}
	s.known[environment] = &kept{Known: k, at: time.Now()}
	return k, nil
}

// Forget has everything read anew before it is used, after a change.
func (s *Service) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.known {
		k.stale = true
	}
	s.units, s.seen = nil, nil
}

// Order is what a client is told of sampling, in the answer to its report.
type Order struct {
	Off      bool                         `json:"off"`
	Seed     string                       `json:"seed"`     // 64 bits in hexadecimal
	Personal map[string]sample.Derivation `json:"personal"` // what may leave of attributes that do not leave themselves
	Limits   map[string]string            `json:"limits"`   // hashes below which units are wanted, by attribute
}

// Order gives what clients of an environment are told.
func (s *Service) Order(ctx context.Context, environment int64) (*Order, error) {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil, err
	}
	o := &Order{Off: k.Sampling.Off, Seed: strconv.FormatUint(k.Sampling.Seed, 16), Personal: k.Personal, Limits: map[string]string{}}
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
func (s *Service) Take(ctx context.Context, environment int64, all []*app.Report) error {
	all = slices.DeleteFunc(slices.Clone(all), func(r *app.Report) bool { return len(r.Units) == 0 && r.Contexts == 0 })
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
		byName[of] = slices.SortedFunc(maps.Values(rows), func(a, b app.UnitRow) int { return cmp.Compare(a.Hash, b.Hash) }) // one order of locks
	}
	contexts, names := seen.Take()
	return s.merge(ctx, environment, k, byName, contexts, names)
}

// row is a reported unit as it is kept; false where it does not fit.
func (k *Known) row(u *app.UnitLine, now int64) (app.UnitRow, bool) {
	if u.Unit == "" || len(u.Unit) > maxUnitText || !utf8.ValidString(u.Unit) || len(u.Attributes) > maxAttrs || condition.CheckAttribute(u.Of) != "" {
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
	return app.UnitRow{Hash: sample.Hash(k.Sampling.Seed, u.Unit), Unit: u.Unit, Context: mustJSON(clean), Seen: min(max(u.Seen, now-int64(time.Hour/time.Millisecond)), now)}, true
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

func (s *Service) merge(ctx context.Context, environment int64, k *Known, byName map[string][]app.UnitRow, contexts uint64, names []sample.Seen) error {
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

// Units reads the population of an attribute, ready to decide with.
func (s *Service) Units(ctx context.Context, environment int64, attribute string) (shift.Population, error) {
	of := unitsOf{environment, attribute}
	s.mu.Lock()
	r := s.units[of]
	s.mu.Unlock()
	if r != nil && time.Since(r.at) < r.life {
		return r.population, nil
	}
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return shift.Population{}, err
	}
	began := time.Now()
	rows, cover, err := s.Records.Population(ctx, environment, attribute)
	if err != nil {
		return shift.Population{}, err
	}
	hidden, err := s.hidden(ctx, environment, k)
	if err != nil {
		return shift.Population{}, err
	}
	next := &lately{began, 0, shift.Population{Part: cover.Part(), Hidden: hidden, Units: make([]*condition.Context, 0, len(rows))}, make(map[uint64]readUnit, len(rows))}
	for _, row := range rows {
		var had readUnit
		if r != nil {
			had = r.byHash[row.Hash]
		}
		if had.as == nil || had.unit != row.Unit || had.context != string(row.Context) {
			c, err := Context(attribute, row.Unit, row.Context)
			if err != nil {
				return shift.Population{}, err
			}
			had = readUnit{row.Unit, string(row.Context), c}
		}
		next.byHash[row.Hash] = had
		next.population.Units = append(next.population.Units, had.as)
	}
	next.life = unitsLife(time.Since(began))
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.units == nil {
		s.units = map[unitsOf]*lately{}
	}
	s.units[of] = next
	return next.population, nil
}

// hidden are the attributes that the sample does not hold as processes have them: personal ones, and
// those that they find out for themselves.
func (s *Service) hidden(ctx context.Context, environment int64, k *Known) (map[string]sample.Derivation, error) {
	names, _, err := s.Records.SeenAttributes(ctx, environment, s.Now().Add(-seenFor).UnixMilli()) // now, not as it was lately
	if err != nil {
		return nil, err
	}
	hidden := maps.Clone(k.Personal)
	for name, one := range names {
		if _, personal := hidden[name]; one.Resolved && !personal {
			if hidden == nil {
				hidden = map[string]sample.Derivation{}
			}
			hidden[name] = sample.Resolved
		}
	}
	return hidden, nil
}

// Context makes the context of a kept unit. Values of another attribute than the key stand
// for themselves: their contexts have no key.
func Context(attribute, unit string, attributes []byte) (*condition.Context, error) {
	read, err := condition.Tree(attributes)
	tree, ok := read.(map[string]any)
	if err != nil || !ok {
		return nil, fmt.Errorf("unit %q: what is kept of it is no JSON object: %v", unit, err)
	}
	delete(tree, condition.KeyAttribute)
	tree[attribute] = unit
	return condition.ContextOf(tree)
}

// Seen reads what was seen of attributes in the last days.
func (s *Service) Seen(ctx context.Context, environment int64) (names map[string]*sample.Seen, contexts uint64, err error) {
	s.mu.Lock()
	r := s.seen[environment]
	s.mu.Unlock()
	if r != nil && time.Since(r.at) < fresh {
		return r.names, r.contexts, nil
	}
	names, contexts, err = s.Records.SeenAttributes(ctx, environment, s.Now().Add(-seenFor).UnixMilli())
	if err != nil {
		return nil, 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.seen == nil {
		s.seen = map[int64]*seen{}
	}
	s.seen[environment] = &seen{time.Now(), names, contexts}
	return names, contexts, nil
}

// Judge gives what checks need to know of attributes: declared and seen.
func (s *Service) Judge(ctx context.Context, environment int64) (all map[string]lint.Attribute, declared bool, contexts uint64, err error) {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil, false, 0, err
	}
	names, contexts, err := s.Seen(ctx, environment)
	if err != nil {
		return nil, false, 0, err
	}
	all = map[string]lint.Attribute{}
	for name, one := range names {
		mostly, _ := one.Mostly()
		all[name] = lint.Attribute{Kinds: one.Kinds, Mostly: mostly}
	}
	for _, a := range k.Attributes {
		l := all[a.Name]
		l.Declared, l.Loose = a.Type, a.Loose
		all[a.Name] = l
	}
	return all, len(k.Attributes) > 0, contexts, nil
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

// looked is how many decisions there are for each whose attributes are accounted for.
const looked = 16

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
				byName[name] = append(byName[name], app.UnitRow{Hash: u.Hash, Unit: u.Key, Context: mustJSON(clean), Seen: u.Seen})
			}
		}
		contexts, names := o.seen.Take()
		o.mu.Unlock()
		err = errors.Join(err, s.merge(ctx, environment, k, byName, contexts, names))
	}
	return err
}
