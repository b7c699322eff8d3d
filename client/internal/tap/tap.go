// Package tap joins package relay to the client, whose own options name no type of module core.
package tap

import "greenlever.example/core/flag"

// Tap is what a relay asks of a client.
type Tap struct {
	Applied func(*flag.Ruleset, *flag.Event)
	Report  func() map[string]any
	Soon    func() // set by the client when it is opened
}

// Put puts a tap into a pointer to the client's options; the client's package sets it.
var Put func(options any, t *Tap)
