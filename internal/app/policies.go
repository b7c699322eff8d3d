package app

import "slices"

// Outcome is what a policy does to a change that it bites.
type Outcome string

// The outcomes.
const (
	Refuse Outcome = "refuse"
	Warn   Outcome = "warn" // it is made, and who looks ahead, makes or signs it is told
	Note   Outcome = "note" // it is counted
)

// Outcomes lists the outcomes.
func Outcomes() []Outcome { return []Outcome{Refuse, Warn, Note} }

// Policy is a rule for changes that a project wrote down.
type Policy struct {
	Key     string   `json:"key"`
	Title   string   `json:"title"`
	Reason  string   `json:"reason"` // why there is the policy
	Nouns   []string `json:"nouns"`  // what it judges: flag, definition, segment, release, environment
	When    string   `json:"when"`   // an expression that is true where it bites
	Outcome Outcome  `json:"outcome"`
	Mend    string   `json:"mend"` // what to do instead
	// Environments and Tags are those in which, and of flags with which, it counts; none: all.
	Environments []string `json:"environments"`
	Tags         []string `json:"tags"`
	Dry          bool     `json:"dry"` // it is counted and shown, and keeps nothing from happening
	Version      int64    `json:"version"`
	At           int64    `json:"at"` // when this version was saved
	By           string   `json:"by"` // id of the account
}

// Counts tells whether a policy judges changes of a noun in an environment (empty: the project), of a flag with tags.
func (p *Policy) Counts(noun, environment string, tags []string) bool {
	return slices.Contains(p.Nouns, noun) &&
		(len(p.Environments) == 0 || slices.Contains(p.Environments, environment)) &&
		(len(p.Tags) == 0 || slices.ContainsFunc(tags, func(t string) bool { return slices.Contains(p.Tags, t) }))
}

// PolicyRecord is a policy that a project saved, or took away.
type PolicyRecord struct {
	ProjectID int64
	*Policy
	Gone bool
}

// Ruling is how a policy ruled on a change.
type Ruling struct {
	Policy      string  `json:"policy"`
	Version     int64   `json:"version"`
	At          int64   `json:"at"`
	Change      string  `json:"change"` // id of the change; of one that was refused no entry tells
	Environment string  `json:"environment,omitempty"`
	Subject     string  `json:"subject"`
	Actor       string  `json:"actor"` // id of the account
	Outcome     Outcome `json:"outcome"`
	Dry         bool    `json:"dry,omitempty"`
	Forced      bool    `json:"forced,omitempty"` // an installation keeper had it made all the same
	Failed      string  `json:"failed,omitempty"` // why it could not be judged
}

// Rulings are those of one change, to be kept.
type Rulings struct {
	ProjectID int64
	Items     []Ruling
}

// PastRevision is a revision of an environment as it was told to those who follow.
type PastRevision struct {
	Revision int64  `db:"revision"`
	At       int64  `db:"at"`
	Event    []byte `db:"event"` // as JSON
}
