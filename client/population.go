package greenlever

import (
	"cmp"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
)

// population samples the units that decisions are made for, so that an edit can be tried
// on them before it is saved. Nothing is sampled before the service said how, and which
// attributes are personal: those never leave the process.
//
// Flags that look at the unit sample every unit that asks, uniformly. Flags that answer
// alike for everybody look at one call in 64, and at fewer where there are very many, since
// their decisions touch no unit.
type population struct {
	order atomic.Pointer[order] // nil: not at all

	mu      sync.Mutex
	samples map[condition.Name]*units
	seen    sample.Attributes
	often   frequent
	finds   []string // the attributes that resolvers find out
}

// order is what the service wants sampled; it is replaced as a whole.
type order struct {
	seed     uint64
	personal map[string]sample.Derivation
	key      *gate
	others   map[condition.Name]*gate
}

// gate lets a unit through once between two reports, and only if its hash is wanted. Which were let
// through is kept in lines, each of one line of the cache: a unit belongs to one, by its hash.
type gate struct {
	name  condition.Name
	limit atomic.Uint64
	noted [lines][8]atomic.Uint64
}

// lines hold a whole sample's units four times over.
const lines = 1_024

// through tells whether the unit is one that was let through already, and if not where to note it:
// where there is room, else in place of another.
func (g *gate) through(h uint64) (place *atomic.Uint64, already bool) {
	line := &g.noted[h%lines]
	place = &line[h>>32%8]
	for i := range line {
		switch line[i].Load() {
		case h:
			return nil, true
		case 0:
			return &line[i], false
		}
	}
	return place, false
}

type units struct {
	*sample.Units
	sent map[uint64]sentUnit
}

// sentUnit is what the service was told of a unit, and when.
type sentUnit struct {
	at   int64
	hash uint64 // of the attributes
}

const (
	thinned   = 64    // of the calls on flags that are alike for everybody
	busy      = 4_096 // calls between two reports from which on fewer are looked at
	sendAgain = int64(10 * time.Minute / time.Millisecond)
	renew     = 24 * time.Hour // a sample is begun anew, so that who is gone makes room
	most      = 1_000          // bytes of a unit's key
	mostKnown = 16 << 10       // bytes of all that is known of a unit: who has more is not sampled
)

var keyName = condition.Intern(condition.KeyAttribute)

func newOrder(seed uint64, personal map[string]sample.Derivation) *order {
	return &order{seed: seed, personal: personal, key: newGate(keyName), others: map[condition.Name]*gate{}}
}

func newGate(name condition.Name) *gate {
	g := &gate{name: name}
	g.limit.Store(math.MaxUint64)
	return g
}

// observe notes the unit of a decision. n is the new value of the counter that counted it.
func (p *population) observe(f *decide.Flag, c *condition.Context, n uint32) {
	if often := n%thinned == 1 && (n < busy || n%(thinned*16) == 1); often || !f.Same() {
		p.look(f, c, often)
	}
}

func (p *population) look(f *decide.Flag, c *condition.Context, often bool) {
	o := p.order.Load()
	if o == nil {
		return
	}
	if key := c.Key(); key != "" {
		if h := sample.Hash(o.seed, key); h < o.key.limit.Load() {
			p.note(o.key, h, key, c)
		}
	}
	if f.Drawn {
		p.lookAtDraws(o, f, c)
	}
	if often && p.mu.TryLock() { // nobody waits here; another call is looked at soon
		if _, personal := o.personal[condition.KeyAttribute]; !personal && c.Key() != "" {
			p.often.note(strings.Clone(c.Key()))
		}
		p.seen.Note(c, time.Now().UnixMilli(), func(name string) bool {
			_, personal := o.personal[name]
			return !personal
		})
		p.mu.Unlock()
	}
}

func (p *population) lookAtDraws(o *order, f *decide.Flag, c *condition.Context) {
	for _, name := range f.Draws {
		if g := o.others[name]; g != nil {
			if key, ok := c.ShareKey(name); ok {
				if h := sample.Hash(o.seed, key); h < g.limit.Load() {
					p.note(g, h, key, c)
				}
			}
		}
	}
}

func (p *population) note(g *gate, h uint64, key string, c *condition.Context) {
	place, already := g.through(h)
	if already || len(key) > most || !p.mu.TryLock() { // nobody waits here; the unit's next call is noted
		return
	}
	defer p.mu.Unlock()
	place.Store(h)
	u := p.samples[g.name]
	if u == nil {
		return
	}
	if kept, ok := c.Kept(mostKnown); ok {
		u.Add(h, strings.Clone(key), kept, time.Now().UnixMilli())
		g.limit.Store(u.Limit())
	}
}

// follow does as the service says. by are the attributes that shares are drawn by.
func (p *population) follow(told *wire.Order, by []condition.Name) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if told == nil || told.Off {
		p.order.Store(nil)
		p.samples, p.seen = nil, sample.Attributes{}
		return
	}
	seed, err := strconv.ParseUint(told.Seed, 16, 64)
	if err != nil {
		return
	}
	next := newOrder(seed, told.Personal)
	if p.samples == nil || p.order.Load() == nil || p.order.Load().seed != seed {
		p.samples = map[condition.Name]*units{}
	}
	for _, name := range append([]condition.Name{keyName}, by...) {
		if _, personal := told.Personal[name.Value()]; personal {
			continue
		}
		u := p.samples[name]
		if u == nil {
			u = &units{sample.NewUnits(), map[uint64]sentUnit{}}
			p.samples[name] = u
		}
		if limit, err := strconv.ParseUint(told.Limits[name.Value()], 16, 64); err == nil {
			u.Bound(limit)
		}
		g := next.key
		if name != keyName {
			g = newGate(name)
			next.others[name] = g
		}
		g.limit.Store(u.Limit())
	}
	p.order.Store(next)
}

// renew begins the samples anew.
func (p *population) renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for name := range p.samples {
		p.samples[name] = &units{sample.NewUnits(), map[uint64]sentUnit{}}
	}
}

// Bounds of one report; the rest goes with the next.
const (
	maxUnitLines = 2_000
	maxUnitBytes = 2 << 20
)

// take gives what the service does not know yet: units that are new, that look otherwise
// than before, or that were last told of a while ago.
func (p *population) take() (lines []wire.UnitLine, contexts uint64, seen []sample.Seen, busy *wire.Busy) {
	o := p.order.Load()
	if o == nil {
		return nil, 0, nil, nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	bytes := 0
	for name, u := range p.samples {
		for _, one := range u.All() {
			before, told := u.sent[one.Hash]
			if told && one.Seen == before.at {
				continue
			}
			clean, _ := sample.Clean(one.Context, o.personal)
			raw, err := json.Marshal(clean)
			if err != nil || len(lines) >= maxUnitLines || bytes+len(raw) > maxUnitBytes {
				continue
			}
			hash := sample.Hash(0, string(raw))
			if told && before.hash == hash && one.Seen-before.at < sendAgain {
				continue
			}
			u.sent[one.Hash] = sentUnit{one.Seen, hash}
			if len(raw) > mostKnown { // escapes made it more than the service keeps
				continue
			}
			bytes += len(raw)
			lines = append(lines, wire.UnitLine{Of: name.Value(), Hash: strconv.FormatUint(one.Hash, 16),
				Unit: one.Key, Attributes: raw, Seen: one.Seen})
		}
		if len(u.sent) > 4*sample.K { // those that fell out of the sample
			u.sent = map[uint64]sentUnit{}
		}
	}
	slices.SortFunc(lines, func(a, b wire.UnitLine) int {
		return cmp.Or(cmp.Compare(a.Of, b.Of), cmp.Compare(a.Hash, b.Hash))
	})
	for _, name := range p.finds {
		p.seen.Resolved(name)
	}
	contexts, seen = p.seen.Take()
	return lines, contexts, seen, p.often.take()
}

// frequent finds a unit that makes most of the calls, within fixed memory: counts are too
// low by at most a fifth of all calls (Misra and Gries, "Finding repeated elements", 1982).
type frequent struct {
	counts map[string]int64
	of     int64
}

const (
	frequentKept  = 4
	frequentLeast = 50 // calls looked at, below which nothing is said
	frequentTurn  = 100_000
)

func (f *frequent) note(unit string) {
	if f.counts == nil || f.of >= frequentTurn {
		f.counts, f.of = map[string]int64{}, 0
	}
	f.of++
	if _, ok := f.counts[unit]; ok || len(f.counts) < frequentKept {
		f.counts[unit]++
		return
	}
	for u := range f.counts {
		f.counts[u]--
		if f.counts[u] == 0 {
			delete(f.counts, u)
		}
	}
}

// take gives the unit that surely makes more than half of the calls, if one does.
func (f *frequent) take() *wire.Busy {
	for unit, n := range f.counts {
		if f.of >= frequentLeast && 2*n > f.of && len(unit) <= most {
			return &wire.Busy{Unit: unit, Calls: n, Of: f.of}
		}
	}
	return nil
}
