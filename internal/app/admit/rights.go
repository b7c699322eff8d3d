package admit

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

// Allow is the one place that decides whether an actor may do an action in an environment of a project; environment 0
// stands for the project as a whole.
func Allow(a *app.Actor, action app.Action, project, environment int64) error {
	_, err := By(a, action, project, environment)
	return err
}

// By gives the grant by which an actor may do an action. A refusal says which roles would do.
func By(a *app.Actor, action app.Action, project, environment int64) (app.Grant, error) {
	if _, reads := a.Grants.Allows(app.Read, project, 0); !reads {
		return app.Grant{}, app.Faultf(app.NotFound, "there is no such project, or you have no role in it: ask one "+
			"of its keepers")
	}
	if g, may := a.Grants.Allows(action, project, environment); may {
		return g, nil
	}
	need := make([]string, len(action.Takes()))
	for i, r := range action.Takes() {
		need[i] = string(r)
	}
	where := "in this project"
	if environment != 0 {
		where = "here"
	}
	for _, g := range a.Grants {
		if g.Project == project && slices.Contains(action.Takes(), g.Role) {
			where = "in all of the project"
			if environment != 0 {
				where = "in this environment"
			}
		}
	}
	return app.Grant{}, &app.Fault{Kind: app.Forbidden, More: map[string]any{"action": action, "takes": need},
		Detail: fmt.Sprintf("to %s takes one of the roles %s %s: ask one of the project's keepers", action,
			strings.Join(need, ", "), where)}
}

// Installation decides whether an actor may manage projects and accounts.
func Installation(a *app.Actor) error {
	if a.Keeper {
		return nil
	}
	return app.Faultf(app.Forbidden, "only an installation keeper may do this")
}
