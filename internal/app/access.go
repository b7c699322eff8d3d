package app

import (
	"slices"
	"strings"
)

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
	Read     Action = "read"     // see, ask why, see history, verify, export
	Define   Action = "define"   // definitions and segments
	Document Action = "document" // everything in a flag document
	Release  Action = "release"  // a flag document's lever, rules and end
	StopIt   Action = "stop"
	LiftIt   Action = "lift"
	SeeIt    Action = "see-as" // see a flag's variant in one's own session
	Manage   Action = "manage" // environments, access keys, roles
)

// Actions lists the actions.
func Actions() []Action {
	return []Action{Read, Define, Document, Release, StopIt, LiftIt, SeeIt, Manage}
}

// may says which roles allow an action. Reading is allowed by every role.
var may = map[Action][]Role{
	Read:     Roles(),
	Define:   {Developer, Keeper},
	Document: {Developer, Keeper},
	Release:  {Developer, Releaser, Keeper},
	StopIt:   {Developer, Releaser, OnCall, Keeper},
	LiftIt:   {Releaser, OnCall, Keeper},
	SeeIt:    {Developer, Releaser, Keeper},
	Manage:   {Keeper},
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

// Allow is the one place that decides whether an actor may do an action in an environment
// of a project; environment 0 stands for the project as a whole. Roles hold for all
// environments alike.
func Allow(a *Actor, action Action, project, environment int64) error {
	_ = environment // rights per environment will be decided here
	roles := a.Roles[project]
	if len(roles) == 0 {
		return Faultf(NotFound, "there is no such project, or you have no role in it: ask one of its keepers")
	}
	for _, r := range roles {
		if slices.Contains(may[action], r) {
			return nil
		}
	}
	need := make([]string, len(may[action]))
	for i, r := range may[action] {
		need[i] = string(r)
	}
	return Faultf(Forbidden, "to %s takes one of the roles %s in this project: ask one of its keepers", action, strings.Join(need, ", "))
}

// AllowInstallation decides whether an actor may manage projects and accounts.
func AllowInstallation(a *Actor) error {
	if a.Keeper {
		return nil
	}
	return Faultf(Forbidden, "only an installation keeper may do this")
}
