package app

// Role is what a person may do in a project. Roles add up.
type Role string

// The roles.
const (
	Auditor   Role = "auditor"
	Developer Role = "developer"
	Releaser  Role = "releaser"
	OnCall    Role = "on-call"
	Keeper    Role = "keeper"
)

// Roles lists the roles.
func Roles() []Role { return []Role{Auditor, Developer, Releaser, OnCall, Keeper} }

// Action is something that a person may or may not do in a project.
type Action string

// The actions.
const (
	Read      Action = "read"     // see, ask why, see history, verify, export
	Define    Action = "define"   // definitions and segments
	Document  Action = "document" // everything in a flag document
	ReleaseIt Action = "release"  // a flag document's lever, rules and end
	StopIt    Action = "stop"
	LiftIt    Action = "lift"
	SeeIt     Action = "see-as" // see a flag's variant in one's own session
	Manage    Action = "manage" // environments, access keys, roles
)

// Actions lists the actions.
func Actions() []Action {
	return []Action{Read, Define, Document, ReleaseIt, StopIt, LiftIt, SeeIt, Manage}
}

// Actor is who does something: kind, id, through what.
type Actor struct {
	Kind       string `json:"kind"` // "person", "service", "set-up"
	ID         string `json:"id"`   // of the account
	Credential string `json:"credential"`
	Through    string `json:"through"` // "console", "cli", "api"
	OnBehalfOf string `json:"onBehalfOf,omitempty"`
	Cause      string `json:"cause,omitempty"`

	Keeper bool             `json:"-"` // of the installation
	Roles  map[int64][]Role `json:"-"` // by project
}
