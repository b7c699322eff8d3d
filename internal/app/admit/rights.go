package admit

import (
	"maps"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

// may says which roles allow an action. Reading is allowed by every role.
var may = map[app.Action][]app.Role{
	app.Read:      app.Roles(),
	app.Define:    {app.Developer, app.Keeper},
	app.Document:  {app.Developer, app.Keeper},
	app.ReleaseIt: {app.Developer, app.Releaser, app.Keeper},
	app.StopIt:    {app.Developer, app.Releaser, app.OnCall, app.Keeper},
	app.LiftIt:    {app.Releaser, app.OnCall, app.Keeper},
	app.SeeIt:     {app.Developer, app.Releaser, app.Keeper},
	app.Manage:    {app.Keeper},
}

// Allow is the one place that decides whether an actor may do an action in an environment
// of a project; environment 0 stands for the project as a whole. Roles hold for all
// environments alike.
func Allow(a *app.Actor, action app.Action, project, environment int64) error {
	_ = environment // rights per environment will be decided here
	roles := a.Roles[project]
	if len(roles) == 0 {
		return app.Faultf(app.NotFound, "there is no such project, or you have no role in it: ask one of its keepers")
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
	return app.Faultf(app.Forbidden, "to %s takes one of the roles %s in this project: ask one of its keepers",
		action, strings.Join(need, ", "))
}

// Takes says which roles may do what.
func Takes() map[app.Action][]app.Role { return maps.Clone(may) }

// Installation decides whether an actor may manage projects and accounts.
func Installation(a *app.Actor) error {
	if a.Keeper {
		return nil
	}
	return app.Faultf(app.Forbidden, "only an installation keeper may do this")
}
