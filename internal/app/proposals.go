package app

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/words"
)

// Signing is what an environment wants before its flags change what they give: signatures under a proposal.
type Signing struct {
	Need  int      `json:"need"`            // how many persons besides the author; 0: none
	Roles []Role   `json:"roles,omitempty"` // that count; with no teams either: of whoever may make the change
	Teams []string `json:"teams,omitempty"` // keys, that count
	// Lever may be turned without a proposal.
	Lever bool `json:"lever,omitempty"`
}

// Counts tells whether somebody's signature counts in an environment. Robots do not sign.
func (s *Signing) Counts(who *Actor, project, environment int64) bool {
	if who.Kind != "person" {
		return false
	}
	roles := who.Grants.Roles(project, environment)
	if len(s.Roles) == 0 && len(s.Teams) == 0 {
		_, may := who.Grants.Allows(ReleaseIt, project, environment)
		return may
	}
	return slices.ContainsFunc(roles, func(r Role) bool { return slices.Contains(s.Roles, r) }) ||
		slices.ContainsFunc(who.Is, func(t string) bool { return slices.Contains(s.Teams, t) })
}

// Signed counts the signatures that count in an environment.
func (s *Signing) Signed(by []Actor, project, environment int64) (n int) {
	for i := range by {
		if s.Counts(&by[i], project, environment) {
			n++
		}
	}
	return n
}

// String says what is wanted, such as "2 signatures of releaser, team doors".
func (s Signing) String() string {
	if s.Need == 0 {
		return "no signatures"
	}
	says := fmt.Sprintf("%d signatures", s.Need)
	if s.Need == 1 {
		says = "1 signature"
	}
	var of []string
	for _, r := range s.Roles {
		of = append(of, string(r))
	}
	for _, t := range s.Teams {
		of = append(of, "team "+t)
	}
	if len(of) > 0 {
		says += " of " + strings.Join(of, ", ")
	}
	if s.Lever {
		says += ", not for the lever alone"
	}
	return says
}

// Scan reads what the records keep.
func (s *Signing) Scan(from any) error {
	var raw []byte
	switch v := from.(type) {
	case []byte:
		raw = v
	case string:
		raw = []byte(v)
	case nil:
	default:
		return fmt.Errorf("signing is no %T", from)
	}
	*s = Signing{}
	if len(raw) == 0 {
		return nil
	}
	return json.Unmarshal(raw, s)
}

// ProposalState is how a proposal stands.
type ProposalState string

// The states. A signed one is an open one with enough signatures, and a due one has a time besides: see
// proposals.View.
const (
	ProposalOpen      ProposalState = "open"
	ProposalSigned    ProposalState = "signed"
	ProposalDue       ProposalState = "due"
	ProposalDone      ProposalState = "done"
	ProposalWithdrawn ProposalState = "withdrawn"
	ProposalExpired   ProposalState = "expired"
)

// Proposal is one or many changes of a project that are talked about, signed, and made later, all or none.
type Proposal struct {
	ID        string `json:"id"`
	ProjectID int64  `json:"project"`
	Title     string `json:"title"`
	Reason    string `json:"reason,omitempty"`
	Author    string `json:"author"` // id of the account in whose right it is made
	Made      int64  `json:"made"`   // Unix milliseconds
	// Narrow is what the credentials were held to with which it was proposed: it is made with no more.
	Narrow  *Narrow `json:"narrow,omitempty"`
	Version int64   `json:"version"` // counts everything that happens to it
	// State is open, done, withdrawn or expired: the others follow from it.
	State      ProposalState `json:"state"`
	Items      []Item        `json:"items"`
	Digest     string        `json:"digest"` // of what the items change, which is what is signed
	Signatures []Signature   `json:"signatures,omitempty"`
	Comments   []Comment     `json:"comments,omitempty"`
	At         int64         `json:"at,omitempty"`     // when it is to be made; 0: by hand
	Latest     int64         `json:"latest,omitempty"` // when it is not made any more
	Waits      string        `json:"waits,omitempty"`  // why it could not be made when it was time
	Ended      int64         `json:"ended,omitempty"`
	EndedBy    string        `json:"endedBy,omitempty"` // id of the account; empty: the service
	Change     string        `json:"change,omitempty"`  // that it was made as
}

// Item is a change of a proposal, as a value: see commit.Kinds.
type Item struct {
	Do          string          `json:"do"` // such as flag.put
	Environment string          `json:"environment,omitempty"`
	Of          string          `json:"of,omitempty"`
	Change      json.RawMessage `json:"change"`
	Base        json.RawMessage `json:"base,omitempty"` // what stood when it was made, where it is an edit
	Edits       json.RawMessage `json:"edits"`          // what it changes of that
	Says        []ItemLine      `json:"says"`           // in words
	Takes       []Take          `json:"takes"`
	// Refused is what a policy said when it was proposed that would refuse it, as where others are to sign.
	Refused string `json:"refused,omitempty"`
}

// Take is what an item takes in one place.
type Take struct {
	Environment string `json:"environment,omitempty"` // key; empty: the project
	Action      Action `json:"action"`
	Signs       bool   `json:"signs,omitempty"` // the signatures that the environment wants
	Lever       bool   `json:"lever,omitempty"` // it turns a lever and does nothing else
}

// ItemLine is a line of what an item changes.
type ItemLine struct {
	Environment string       `json:"environment,omitempty"`
	Action      string       `json:"action"`
	Subject     string       `json:"subject,omitempty"`
	Lines       []words.Said `json:"lines"`
}

// Same tells whether two items change the same thing.
func (i *Item) Same(o *Item) bool {
	return i.Do == o.Do && i.Environment == o.Environment && i.Of == o.Of && i.Of != ""
}

// Signature is somebody's word for a proposal as it stood.
type Signature struct {
	By     string `json:"by"` // id of the account
	At     int64  `json:"at"`
	Digest string `json:"digest"`
}

// Comment is what somebody says of a proposal.
type Comment struct {
	By   string `json:"by"`
	At   int64  `json:"at"`
	Text string `json:"text"`
}

// Over tells that nothing more happens to the proposal.
func (p *Proposal) Over() bool { return p.State != ProposalOpen }

// Valid are the signatures of what the proposal is now.
func (p *Proposal) Valid() (by []Signature) {
	for _, s := range p.Signatures {
		if s.Digest == p.Digest {
			by = append(by, s)
		}
	}
	return by
}
