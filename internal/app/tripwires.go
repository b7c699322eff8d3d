package app

import "greenlever.example/core/span"

// Tripwire is a secret address at which a monitoring system stops flags of one environment, and nothing else.
type Tripwire struct {
	ID          string   `json:"id"`
	Environment int64    `json:"-"`
	Title       string   `json:"title"`
	Flags       []string `json:"flags"`
	// When is an expression in CEL over the alert that must be true; empty: every alert is meant.
	When string `json:"when,omitempty"`
	// Identity is an expression in CEL that gives the text by which an alert is known again; empty: all are one, and
	// somebody must arm the tripwire again by hand.
	Identity string `json:"identity,omitempty"`
	// Over is an expression in CEL that is true of a body that says that the alert is over; empty: the usual words.
	Over string `json:"over,omitempty"`
	// Least is how many calls of one alert within Within it takes; 0: one.
	Least  int       `json:"least,omitempty"`
	Within span.Span `json:"within,omitempty"`
	// Sources are networks from which calls are taken, such as 10.1.0.0/16; none: from everywhere.
	Sources []string `json:"sources,omitempty"`
	Signed  bool     `json:"signed,omitempty"` // calls carry a signature as Standard Webhooks 1.0 says
	Trial   bool     `json:"trial,omitempty"`  // it only records what it would stop
	Off     bool     `json:"off,omitempty"`
	Made    int64    `json:"made"`
	Hint    string   `json:"hint"` // the beginning of its secret
	Gone    bool     `json:"-"`

	Secrets []TripwireSecret `json:"-"`
	Signing string           `json:"-"` // the secret of signatures
}

// TripwireSecret is the digest of a secret of an address, and until when it is taken.
type TripwireSecret struct {
	Digest []byte `json:"digest"`
	Until  int64  `json:"until,omitempty"` // Unix milliseconds; 0: until it is rotated
}

// TripwireAlert is an alert that a tripwire heard of.
type TripwireAlert struct {
	Tripwire string `json:"-" db:"tripwire"`
	Identity string `json:"identity" db:"identity"` // its digest
	Name     string `json:"name" db:"name"`         // what the expression gave, as far as it is short
	Fired    int64  `json:"fired" db:"fired"`       // when it stopped, or would have
	Stop     string `json:"stop,omitempty" db:"stop"`
	Cleared  int64  `json:"cleared,omitempty" db:"cleared"` // when it was over, or somebody armed the tripwire again
}

// Disarmed tells whether the alert stopped something already, and stops nothing more.
func (a *TripwireAlert) Disarmed() bool { return a != nil && a.Fired > 0 && a.Cleared == 0 }

// TripwireArmed arms a tripwire again.
type TripwireArmed struct {
	ID string
	At int64
}

// TripwireRefused notes that calls of a tripwire were refused in a minute.
type TripwireRefused struct {
	ID     string
	Minute int64 // Unix minutes
}
