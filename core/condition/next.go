package condition

import (
	"math"

	"greenlever.example/core/words"
)

// minute and the longest look ahead: a window of the week comes back within eight days.
const (
	minute    = 60_000
	lookAhead = 8 * 24 * 60
)

// NextChange is the first instant after now, in Unix milliseconds, at which a leaf that
// looks at the clock may change its mind; ok is false where none ever will. Windows of the
// week are looked at by the minute, since zones are ahead of UTC by whole minutes.
func (c *Code) NextChange(now int64) (at int64, ok bool) {
	at = math.MaxInt64
	take := func(t int64) {
		if t > now && t < at {
			at = t
		}
	}
	for i := range c.ins {
		in := &c.ins[i]
		switch in.op {
		case opClock:
			take(in.more.times[0])
		case opClockBetween:
			take(in.more.times[0])
			take(in.more.times[1])
		case opWeekly:
			if t, ok := in.more.weekly.next(now); ok {
				take(t)
			}
		}
	}
	return at, at != math.MaxInt64
}

// Window tells whether the window holds an instant, and until when that is so, in Unix milliseconds; where it
// never changes, until as far as is looked ahead. ok is false where the zone is not known.
func (w *Weekly) Window(now int64, zones Zones) (holds bool, until int64, ok bool) {
	c := w.compile(zones)
	if c == nil {
		return false, 0, false
	}
	if until, ok = c.next(now); !ok {
		until = now + lookAhead*minute
	}
	return c.holds(now), until, true
}

// Check reports what is wrong with the window.
func (w *Weekly) Check(place string, report Report) { w.check(place, report) }

// Said says the window in words.
func (w *Weekly) Said() words.Said { return w.said() }

// next is the first minute after now at which the window opens or closes.
func (w *weekly) next(now int64) (at int64, ok bool) {
	holds := w.holds(now)
	at = floorDiv(now, minute) * minute
	for range lookAhead {
		if at += minute; w.holds(at) != holds {
			return at, true
		}
	}
	return 0, false
}
