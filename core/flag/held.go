package flag

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Standing are the stops that stand: those of the service, and those that are held here although its records do not
// know them. An emergency lift takes back those that it names.
func (rs *Ruleset) Standing() []Stop {
	if len(rs.Orders)+len(rs.Kept) == 0 {
		return rs.Stops
	}
	lifted := map[string]bool{} // and then what is there already
	for _, o := range rs.Orders {
		for _, id := range o.Lifts {
			lifted[id] = true
		}
	}
	var out []Stop
	add := func(s Stop) {
		if !lifted[s.ID] {
			lifted[s.ID] = true
			out = append(out, s)
		}
	}
	for _, s := range slices.Concat(rs.Stops, rs.Kept) {
		add(s)
	}
	for _, o := range rs.Orders {
		if len(o.Flags) > 0 {
			add(Stop{ID: o.ID, Flags: o.Flags, At: o.Issued})
		}
	}
	return out
}

// OrderTexts are the orders that are held, as they travel.
func (rs *Ruleset) OrderTexts() (texts []string) {
	for _, o := range rs.Orders {
		texts = append(texts, o.Text)
	}
	return texts
}

// Knows tells whether the records of the service know an order already, or had it lifted before it came.
func (rs *Ruleset) Knows(o *Order) bool {
	return slices.Contains(rs.Settled, o.ID) || slices.ContainsFunc(rs.Stops, func(s Stop) bool {
		return s.ID == o.ID
	})
}

// Take gives the ruleset with an order, leaving this one as it is; itself where that changes nothing.
func (rs *Ruleset) Take(o *Order) *Ruleset {
	if rs.Knows(o) || len(rs.Orders) >= maxOrders ||
		slices.ContainsFunc(rs.Orders, func(had *Order) bool { return had.ID == o.ID }) {
		return rs
	}
	next := *rs
	next.Orders = append(slices.Clip(rs.Orders), o)
	return &next
}

// Let gives the ruleset without some of the stops that were kept, since the records know them; itself where none is
// among them.
func (rs *Ruleset) Let(known []string) *Ruleset {
	kept := slices.DeleteFunc(slices.Clone(rs.Kept), func(s Stop) bool { return slices.Contains(known, s.ID) })
	if len(kept) == len(rs.Kept) {
		return rs
	}
	next := *rs
	next.Kept = kept
	return &next
}

// Succeed gives the ruleset as whoever had another one before takes it over: with the orders that its records do not
// know yet, and, where a new epoch began, with the stops that it does not know. Records that were restored from a
// backup have lost what came after it, and a restore is no lift.
func (rs *Ruleset) Succeed(had *Ruleset) *Ruleset {
	if had == nil || len(had.Orders)+len(had.Kept)+len(had.Stops) == 0 {
		return rs
	}
	next := *rs
	from := *had
	from.Kept = slices.Concat(had.Kept, rs.Kept) // an outpost hands on what it keeps
	if rs.Epoch > had.Epoch {
		for _, s := range had.Stops {
			if s.Proof != "" { // of a service that can tell whether it knows it
				from.Kept = append(from.Kept, s)
			}
		}
	}
	from.Orders = append(slices.Clip(had.Orders), rs.Orders...)
	next.hold(&from, nil)
	return &next
}

// hold takes over what a ruleset holds beside the service's own, without what the service knows by now.
func (rs *Ruleset) hold(from *Ruleset, lifted []string) {
	rs.Orders, rs.Kept = nil, nil
	if len(from.Orders)+len(from.Kept) == 0 {
		return
	}
	seen := map[string]bool{}
	for _, id := range slices.Concat(rs.Settled, lifted) {
		seen[id] = true
	}
	for _, s := range rs.Stops {
		seen[s.ID] = true
	}
	for _, o := range from.Orders {
		if !seen[o.ID] {
			seen[o.ID] = true
			rs.Orders = append(rs.Orders, o)
		}
	}
	for _, s := range from.Kept {
		if !seen[s.ID] {
			seen[s.ID] = true
			rs.Kept = append(rs.Kept, s)
		}
	}
}

// Prove gives the proof of a stop in an environment under the installation's secret, as [Position.Prove] does.
func (s Stop) Prove(secret []byte, environment int64) string {
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "greenlever stop\n%d\n%s\n%d\n%s\n", environment, s.ID, s.At, strings.Join(s.Flags, "\n"))
	return hex.EncodeToString(mac.Sum(nil)[:16])
}

// Genuine tells whether a service of the installation gave this stop.
func (s Stop) Genuine(secret []byte, environment int64) bool {
	return s.Proof != "" && len(secret) > 0 && hmac.Equal([]byte(s.Proof), []byte(s.Prove(secret, environment)))
}
