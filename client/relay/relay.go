// Package relay is for processes that serve others what they follow, such as outposts.
// Applications do not need it.
//
//	r := &relay.Relay{Applied: func(rs *flag.Ruleset, e *flag.Event) { ... }}
//	client, err := greenlever.Open(ctx, r.In(greenlever.Options{Application: "yard"}))
package relay

import (
	greenlever "greenlever.example/client"
	"greenlever.example/client/internal/tap"
	"greenlever.example/core/flag"
)

// Relay hands on what one client follows.
type Relay struct {
	// Applied is called with each ruleset in use, in order, and the event that led to it, nil
	// where anything may differ. Neither must be changed.
	Applied func(*flag.Ruleset, *flag.Event)
	// Report gives members of the client's reports in place of its own.
	Report func() map[string]any

	// Let is called with the ids of kept stops that the service has said are to be let go.
	Let func(ids []string)

	tap *tap.Tap
}

// In gives the options of a client that hands on through the relay. A relay is for one client.
func (r *Relay) In(o greenlever.Options) greenlever.Options {
	r.tap = &tap.Tap{Applied: r.Applied, Report: r.Report, Let: r.Let}
	tap.Put(&o, r.tap)
	return o
}

// Order hands an emergency order to the client, which decides by it and keeps it.
func (r *Relay) Order(text string) error { return r.tap.Order(text) }

// Soon asks for a report now, because there is news of those that follow through the relay.
func (r *Relay) Soon() {
	if r.tap != nil && r.tap.Soon != nil {
		r.tap.Soon()
	}
}
