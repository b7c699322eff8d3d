package app

import "slices"

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

// CheckRole tells what is wrong with a role; empty where nothing is.
func CheckRole(r Role) string {
	if slices.Contains(Roles(), r) {
		return ""
	}
	return "must be one of auditor, developer, releaser, on-call, keeper"
}

// Action is something that a person may or may not do in a project.
type Action string

// The actions.
const (
	Read      Action = "read"     // see, ask why, see history, verify, export
	Define    Action = "define"   // definitions and segments
	MakeFlag  Action = "make"     // a flag, which does nothing yet
	Document  Action = "document" // everything in a flag document
	ReleaseIt Action = "release"  // a flag document's lever, rules and end
	StopIt    Action = "stop"
	LiftIt    Action = "lift"
	Propose   Action = "propose" // changes that others sign
	SeeIt     Action = "see-as"  // see a flag's variant in one's own session
	Manage    Action = "manage"  // environments, access keys, roles
)

// Actions lists the actions.
func Actions() []Action {
	return []Action{Read, Define, MakeFlag, Document, ReleaseIt, StopIt, LiftIt, Propose, SeeIt, Manage}
}

// Takes says which roles allow the action. Reading is allowed by every role.
func (a Action) Takes() []Role {
	switch a {
	case Read:
		return Roles()
	case Define, MakeFlag, Document:
		return []Role{Developer, Keeper}
	case ReleaseIt:
		return []Role{Developer, Releaser, Keeper}
	case StopIt:
		return []Role{Developer, Releaser, OnCall, Keeper}
	case Propose:
		return []Role{Developer, Releaser, OnCall, Keeper}
	case LiftIt:
		return []Role{Releaser, OnCall, Keeper}
	case SeeIt:
		return []Role{Developer, Releaser, Keeper}
	case Manage:
		return []Role{Keeper}
	}
	return nil
}

// Says is what somebody does who does the action.
func (a Action) Says() string {
	return map[Action]string{
		Read: "reads all", Define: "edits flags' definitions and " +
			"segments", MakeFlag: "makes flags", Document: "edits all of a flag",
		ReleaseIt: "turns levers, edits rules, releases", StopIt: "stops", LiftIt: "lifts", Propose: "proposes " +
			"changes",
		SeeIt: "sees flags as another variant", Manage: "keeps environments, keys and roles",
	}[a]
}

// Actor is who does something: kind, id, through what.
type Actor struct {
	Kind       string `json:"kind"` // "person", "service", "set-up"
	ID         string `json:"id"`   // of the account
	Credential string `json:"credential"`
	Through    string `json:"through"` // "console", "cli", "api"
	OnBehalfOf string `json:"onBehalfOf,omitempty"`
	Cause      string `json:"cause,omitempty"`

	Keeper bool   `json:"-"` // of the installation
	Grants Grants `json:"-"`
	// Narrow is what the credential is held to, of all that the account may do; Grants are within it already.
	Narrow *Narrow `json:"-"`
	// Is are the names by which the actor may own a flag: an address, the keys of teams.
	Is []string `json:"-"`
}
