package condition

import "math"

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
