// Package tap joins package relay to the client, whose own options name no type of module core.
package tap

import "greenlever.example/core/flag"

// Tap is what a relay asks of a client.
type Tap struct {
	Applied func(*flag.Ruleset, *flag.Event)
	Report  func() map[string]any
	// set by the client when it is opened
	Soon  func()
	Order func(text string) error
	// Let is told of kept stops that are to be let go.
	Let func(ids []string)
}

// Put puts a tap into a pointer to the client's options; the client's package sets it.
var Put func(options any, t *Tap)
