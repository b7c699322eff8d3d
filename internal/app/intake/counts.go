package intake

import (
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/wire"
)

// Counts counts what is decided here, and what browsers say that they used, until it is
// written to the records. The zero value is ready.
type Counts struct {
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

// Named is the name under which a page's counts are kept.
func (u *Counts) Named(key, application, version string, now time.Time) (string, string) {
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

// Count counts a decision, of those who ask in a way of their own apart.
func (u *Counts) Count(environment int64, rules *decide.Ruleset, f *decide.Flag, o decide.Outcome, as string) {
	cells, ok := u.flags.Load(usedFlag{f, as})
	if !ok {
		cells, _ = u.flags.LoadOrStore(usedFlag{f, as}, &flagUsage{environment, rules.Source.Revision,
			make([]atomic.Uint64, f.CellCount())})
	}
	cells.(*flagUsage).cells[o.Cell].Add(1)
}

// maxTold bounds what is kept of flags that are asked for in vain, and of what browsers say.
const maxTold = 10_000

// Unknown notes a flag that was asked for and is not defined.
func (u *Counts) Unknown(environment int64, flag string) {
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

// Tell adds what a browser says that it used.
func (u *Counts) Tell(environment int64, lines []wire.CountLine) {
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

// Used is what was counted in an environment.
type Used struct {
	Lines   []wire.CountLine
	Unknown []wire.UnknownLine
}

// Take gives what was counted since the last time, by environment. A flag is dropped once
// nothing came in for a whole round, so that those of old revisions do not pile up.
func (u *Counts) Take() map[int64]*Used {
	out := map[int64]*Used{}
	of := func(environment int64) *Used {
		if out[environment] == nil {
			out[environment] = &Used{}
		}
		return out[environment]
	}
	u.flags.Range(func(key, value any) bool {
		f, cells := key.(usedFlag), value.(*flagUsage)
		if lines := cells.take(f); len(lines) > 0 {
			to := of(cells.environment)
			to.Lines = append(to.Lines, lines...)
		} else {
			u.flags.Delete(key)
			if late := cells.take(f); len(late) > 0 { // what came in between
				to := of(cells.environment)
				to.Lines = append(to.Lines, late...)
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
			to.Lines = append(to.Lines, l)
		}
	}
	for environment, flags := range missing {
		to := of(environment)
		for flag, n := range flags {
			to.Unknown = append(to.Unknown, wire.UnknownLine{Flag: flag, Count: n})
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
