package commit

import (
	"encoding/json"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// Effects are what a change would do, as values. Whoever prepares them writes nothing.
type Effects struct {
	Result any // what is answered, as JSON; read once all is written
	In     []Effect
	// Then gives more, once those are written: the id of something new is known only then.
	Then  func() []Effect
	Stale Stale
	// Back takes the change back, where that is not to be read from the versions of documents.
	Back []Change
}

// Nothing is done by a change that changes nothing.
func Nothing(result any) *Effects { return &Effects{Result: result} }

// Stale is what of the memory of processes a change makes old, besides the rules of the
// environments that get a revision.
type Stale struct {
	All   bool // everything
	Keys  bool // access keys
	Units bool // what is sampled, or declared of attributes
	// Releases were changed, and are to be looked at.
	Releases  bool
	Tripwires bool // were changed
}

// Effect is what a change does in one place: rows that are written in this order, what followers
// get of it, and the entries that tell of it.
type Effect struct {
	// Environment is held, or new and among the records; nil: what the project owns, or, without
	// a project, the installation.
	Environment *app.Environment
	Project     *app.Project
	Records     []Record
	Event       *flag.Event // the environment gets a revision; nil for none
	Entries     []Entry
	// Rules are those of a flag before and after; nil where none are touched.
	Rules *Rules
	// Action is a right that this takes beyond what its kind takes; empty for none.
	Action app.Action
	Judge  Judge

	heard Heard // what the gate found
}

// Record is a row as it will stand: a pointer to one of the nouns of package app. The store
// knows which table it belongs to.
type Record any

// Placed records stand in an environment, and under its revision. They are told of both when
// they are written: of a new environment nobody knows the id before.
type Placed interface {
	Stand(environment, revision int64)
}

// Entry is an entry of the audit without what the transaction knows.
type Entry struct {
	Action   string
	Subject  string
	Version  int64
	Document string // digest of the document that it speaks of
	Lines    []diff.Line
	// Told is what webhooks are told besides, as JSON; it is no part of the audit.
	Told any
}

// Judge is what the gate looks at besides who does what: see admit.Case.
type Judge struct {
	Before, After *flag.Document
	Units         *int64
	Signs         bool // beyond what its kind takes
	// Noted is told the lines that the gate has the entry take besides, for the result.
	Noted func(lines []diff.Line)
}

// Rules are a flag's document before and after an effect.
type Rules struct{ Before, After *flag.Document }

// Said makes an entry of lines.
func Said(action, subject string, lines ...diff.Line) Entry {
	return Entry{Action: action, Subject: subject, Lines: lines}
}

// FlagPut is the effect of a flag's document in place of another; before is nil for a new flag.
func FlagPut(env *app.Environment, before *flag.Document, rec *app.FlagRecord, action string,
	lines []diff.Line) (Effect, error) {
	raw, err := json.Marshal(rec.Document)
	return Effect{Environment: env, Records: []Record{rec}, Rules: &Rules{before, rec.Document},
		Event: &flag.Event{Flags: []json.RawMessage{raw}},
		Entries: []Entry{{Action: action, Subject: rec.Key, Version: rec.Version, Document: audit.Digest(raw),
			Lines: lines}}}, err
}

// SegmentPut is the effect of a segment's document.
func SegmentPut(env *app.Environment, rec *app.SegmentRecord, action string, lines []diff.Line) (Effect, error) {
	raw, err := json.Marshal(rec.Document)
	return Effect{Environment: env, Records: []Record{rec}, Event: &flag.Event{Segments: []json.RawMessage{raw}},
		Entries: []Entry{{Action: action, Subject: rec.Key, Version: rec.Version, Document: audit.Digest(raw),
			Lines: lines}}}, err
}

// tells is the data of an event.
type tells struct {
	Action     string    `json:"action"`
	Subject    string    `json:"subject,omitempty"`
	Version    int64     `json:"version,omitempty"`
	Revision   int64     `json:"revision,omitempty"`
	Change     string    `json:"change"`
	Reason     string    `json:"reason,omitempty"`
	Actor      app.Actor `json:"actor"`
	Difference []string  `json:"difference"`
	Release    any       `json:"release,omitempty"`
}

// notice is what webhooks are told of an entry: what the chain says of it, without personal values.
func notice(e *audit.Entry, more any, number int) (app.Notice, error) {
	body, err := json.Marshal(tells{e.Action, e.Subject, e.Version, e.Revision, e.Change, e.Reason, e.Actor,
		e.Difference, more})
	return app.Notice{Lane: app.LaneOf(e.Action), Environment: e.Environment,
		Event: fmt.Sprintf("%s.%d", e.Change, number), At: e.At, Action: e.Action, Subject: e.Subject, Body: body}, err
}

// entry is an entry as the chain takes it, and the personal values of its lines.
func (m *Moment) entry(e Entry, project int64, env *app.Environment) (audit.Entry, []string) {
	out := audit.Entry{At: m.At, Actor: m.Actor, Action: e.Action, Project: project, Change: m.Change,
		Reason:  m.Reason,
		Subject: e.Subject, Version: e.Version, Document: e.Document}
	if env != nil {
		out.Environment, out.Project, out.Revision = env.ID, env.ProjectID, env.Revision
	}
	var personal []string
	out.Difference, personal = audit.Differences(e.Lines)
	return out, personal
}
