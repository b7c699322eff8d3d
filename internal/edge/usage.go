package edge

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
)

// usage counts what is decided here, and what browsers say that they used, until it is
// written to the records.
type usage struct {
	flags sync.Map // usedFlag -> *flagUsage

	mu      sync.Mutex
	told    map[int64]map[wire.CountLine]uint64 // by environment
	missing map[int64]map[string]uint64
	names   map[string]map[[2]string]bool // that pages gave today, by access key
	day     int64
}

// maxNames is how many different applications and versions pages may name with one access
// key in a day; all further ones are counted together.
const maxNames = 100

// named is the name under which a page's counts are kept.
func (u *usage) named(key, application, version string, now time.Time) (string, string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if day := now.Unix() / 86_400; day != u.day || u.names == nil {
		u.day, u.names = day, map[string]map[[2]string]bool{}
	}
	if u.names[key] == nil {
		u.names[key] = map[[2]string]bool{}
	}
	name := [2]string{application, version}
	if !u.names[key][name] && len(u.names[key]) >= maxNames {
		return "others", ""
	}
	u.names[key][name] = true
	return application, version
}

type usedFlag struct {
	flag *decide.Flag
	as   string
}

type flagUsage struct {
	environment int64
	revision    int64 // that was in use when the flag was first decided as it is
	cells       []atomic.Uint64
}

func (u *usage) count(environment int64, rules *decide.Ruleset, f *decide.Flag, o decide.Outcome, as string) {
	cells, ok := u.flags.Load(usedFlag{f, as})
	if !ok {
		cells, _ = u.flags.LoadOrStore(usedFlag{f, as}, &flagUsage{environment, rules.Source.Revision,
			make([]atomic.Uint64, f.CellCount())})
	}
	cells.(*flagUsage).cells[o.Cell].Add(1)
}

// maxTold bounds what is kept of flags that are asked for in vain, and of what browsers say.
const maxTold = 10_000

// unknown notes a flag that was asked for and is not defined.
func (u *usage) unknown(environment int64, flag string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.missing == nil {
		u.missing = map[int64]map[string]uint64{}
	}
	if u.missing[environment] == nil {
		u.missing[environment] = map[string]uint64{}
	}
	if m := u.missing[environment]; len(m) < maxTold && len(flag) <= 200 {
		m[flag]++
	}
}

// tell adds what a browser says that it used.
func (u *usage) tell(environment int64, lines []wire.CountLine) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.told == nil {
		u.told = map[int64]map[wire.CountLine]uint64{}
	}
	m := u.told[environment]
	if m == nil {
		m = map[wire.CountLine]uint64{}
		u.told[environment] = m
	}
	for _, l := range lines {
		n := l.Count
		l.Count = 0
		if _, ok := m[l]; ok || len(m) < maxTold {
			m[l] += n
		}
	}
}

// used is what was counted in an environment.
type used struct {
	lines   []wire.CountLine
	unknown []wire.AskedLine
}

// take gives what was counted since the last time, by environment. A flag is dropped once
// nothing came in for a whole round, so that those of old revisions do not pile up.
func (u *usage) take() map[int64]*used {
	out := map[int64]*used{}
	of := func(environment int64) *used {
		if out[environment] == nil {
			out[environment] = &used{}
		}
		return out[environment]
	}
	u.flags.Range(func(key, value any) bool {
		f, cells := key.(usedFlag), value.(*flagUsage)
		if lines := cells.take(f); len(lines) > 0 {
			to := of(cells.environment)
			to.lines = append(to.lines, lines...)
		} else {
			u.flags.Delete(key)
			if late := cells.take(f); len(late) > 0 { // what came in between
				to := of(cells.environment)
				to.lines = append(to.lines, late...)
			}
		}
		return true
	})
	u.mu.Lock()
	told, missing := u.told, u.missing
	u.told, u.missing = nil, nil
	u.mu.Unlock()
	for environment, lines := range told {
		to := of(environment)
		for l, n := range lines {
			l.Count = n
			to.lines = append(to.lines, l)
		}
	}
	for environment, flags := range missing {
		to := of(environment)
		for flag, n := range flags {
			to.unknown = append(to.unknown, wire.AskedLine{Flag: flag, Count: n})
		}
	}
	return out
}

func (u *flagUsage) take(f usedFlag) (lines []wire.CountLine) {
	cells := f.flag.Cells()
	for i := range u.cells {
		if n := u.cells[i].Swap(0); n > 0 {
			cell := cells[i]
			lines = append(lines, wire.CountLine{Flag: f.flag.Key, Variant: cell.Variant, Reason: cell.Reason.String(),
				Rule: cell.Rule, Revision: u.revision, Application: f.as, Count: n})
		}
	}
	return lines
}

// WriteUsage writes what was decided here to the records.
func (a *Edge) WriteUsage(ctx context.Context) error {
	var err error
	for env, u := range a.usage.take() {
		err = errors.Join(err, a.Followers.AddCounts(ctx, env, a.Now().UnixMilli(), u.lines, u.unknown))
		for _, l := range u.lines {
			a.decisions.Add(float64(l.Count))
		}
	}
	return err
}

// audience estimates who gets answers from here: browsers with a stream open, and units
// that asked lately.
type audience struct {
	mu      sync.Mutex
	streams map[int64]int64
	lately  [2]map[asker]bool // in this window and the one before
	window  int64
	tellers map[string]int // reports of pages this minute, by address
	minute  int64
}

// Reports of pages that one address may send in a minute, and how many addresses are told apart.
const (
	reportsPerMinute = 600
	maxTellers       = 100_000
)

func (b *audience) mayTell(address string, now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if m := now.Unix() / 60; m != b.minute || len(b.tellers) > maxTellers {
		b.minute, b.tellers = m, map[string]int{}
	}
	b.tellers[address]++
	return b.tellers[address] <= reportsPerMinute
}

type asker struct {
	environment int64
	unit        uint64
}

const (
	window    = 5 * 60_000 // milliseconds
	maxAskers = 100_000
)

func (b *audience) asked(environment int64, unit string, now int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.turn(now)
	if m := b.lately[0]; len(m) < maxAskers {
		m[asker{environment, sample.Hash(0, unit)}] = true
	}
}

func (b *audience) turn(now int64) {
	switch w := now / window; {
	case b.lately[0] == nil || w > b.window+1:
		b.lately, b.window = [2]map[asker]bool{{}, {}}, w
	case w == b.window+1:
		b.lately, b.window = [2]map[asker]bool{{}, b.lately[0]}, w
	}
}

func (b *audience) stream(environment, n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.streams == nil {
		b.streams = map[int64]int64{}
	}
	b.streams[environment] += n
}

// Audience counts browsers with a stream open here, and units that asked for all answers in
// the last five to ten minutes.
func (a *Edge) Audience(environment int64) (streams, pollers int64) {
	b := &a.browsers
	b.mu.Lock()
	defer b.mu.Unlock()
	b.turn(a.Now().UnixMilli())
	units := map[uint64]bool{}
	for _, m := range b.lately {
		for who := range m {
			if who.environment == environment {
				units[who.unit] = true
			}
		}
	}
	return b.streams[environment], int64(len(units))
}
