package app

import (
	"encoding/json"
	"slices"
	"strings"
)

// Webhook is an address that is told of changes in a project.
type Webhook struct {
	ID      string `json:"id"`
	Project int64  `json:"-"`
	Title   string `json:"title"`
	URL     string `json:"url"`
	// What it wants to hear; an empty list is all. Kinds are actions of the audit, such as flag.changed, or
	// release.* for all that begin so.
	Kinds        []string `json:"kinds"`
	Environments []string `json:"environments"`
	Flags        []string `json:"flags"`
	Tags         []string `json:"tags"` // of flags
	Off          bool     `json:"off,omitempty"`
	Made         int64    `json:"made"`
	Secrets      []Secret `json:"-"`
	Gone         bool     `json:"-"`
}

// Secret signs what a webhook is told, until a time.
type Secret struct {
	Text  string `json:"text"`
	Until int64  `json:"until,omitempty"` // Unix milliseconds; 0: until it is rotated
}

// Wants tells whether a webhook wants to hear of something. tags are those of its flag.
func (w *Webhook) Wants(action, environment, subject string, tags []string) bool {
	has := func(list []string, v string) bool { return len(list) == 0 || slices.Contains(list, v) }
	kind := len(w.Kinds) == 0 || slices.ContainsFunc(w.Kinds, func(k string) bool {
		prefix, all := strings.CutSuffix(k, "*")
		return k == action || all && strings.HasPrefix(action, prefix)
	})
	return kind && has(w.Environments, environment) && has(w.Flags, subject) &&
		(len(w.Tags) == 0 || slices.ContainsFunc(tags, func(t string) bool { return slices.Contains(w.Tags, t) }))
}

// Lane is one of the two ways that notices go to a webhook, each in its own order, so that a stop waits
// behind nothing.
type Lane int

// The lanes.
const (
	StopLane Lane = iota
	OtherLane
)

// LaneOf is the lane of an action.
func LaneOf(action string) Lane {
	if action == "flag.stopped" || action == "flag.lifted" {
		return StopLane
	}
	return OtherLane
}

// NoticeState is how a notice stands.
type NoticeState int

// How it can stand.
const (
	NoticeWaits NoticeState = iota
	NoticeArrived
	NoticeParked // it was tried for a day
)

// Notice is what a webhook is told of an entry of the audit.
type Notice struct {
	Number      int64           `json:"number" db:"id"`
	Webhook     string          `json:"-" db:"webhook"`
	Lane        Lane            `json:"lane" db:"lane"`
	State       NoticeState     `json:"state" db:"state"`
	Due         int64           `json:"due" db:"due"`           // when it is tried next
	Attempts    int             `json:"attempts" db:"attempts"` // so far
	Answer      string          `json:"answer" db:"answer"`     // of the last one
	Sent        int64           `json:"sent" db:"sent"`         // when it arrived
	Project     int64           `json:"-" db:"project_id"`
	Environment int64           `json:"-" db:"environment_id"`
	Event       string          `json:"event" db:"event"`       // id, the same at each attempt
	Sequence    int64           `json:"sequence" db:"sequence"` // in its chain of the audit
	At          int64           `json:"at" db:"at"`
	Since       int64           `json:"since" db:"since"` // since when it is tried
	Action      string          `json:"action" db:"action"`
	Subject     string          `json:"subject" db:"subject"`
	Body        json.RawMessage `json:"body" db:"body"` // data of the event
}

// Replay has notices of a webhook told again.
type Replay struct {
	Webhook string  `json:"-"`
	Numbers []int64 `json:"numbers"` // none: all that are parked
	Now     int64   `json:"-"`
	Count   int64   `json:"count"` // of them; known once it is done
}

// Around is what a notice's event says of its place, beside what was written with it.
type Around struct {
	Project     string
	Environment string
	By          string   // the name of who did it
	Tags        []string // of the flag that it is of
}
