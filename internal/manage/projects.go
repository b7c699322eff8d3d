package manage

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/environments"
)

var _ = listed(
	op[none, listOf[app.Project]]("GET", "/projects", "The projects in which I have a role", (*call).projects),
	op[environments.MakeProject, app.Project]("POST", "/projects", "Make a project",
		(*call).addProject).made().installation().change(),
	op[projectEdit, app.Project]("PATCH", atProject, "Change a project's title",
		(*call).editProject).change().needs(app.Manage),
)

type projectEdit struct {
	environments.EditProject
	Reason string `json:"reason,omitempty"`
}

func (c *call) editProject(in *projectEdit) (any, error) {
	return c.apply(in.Reason, "", &in.EditProject)
}

func (c *call) projects(*none) (any, error) {
	all, err := c.api.Records.Projects(c.ctx)
	mine := slices.DeleteFunc(all, func(p app.Project) bool { return admit.Allow(&c.actor, app.Read, p.ID, 0) != nil })
	return listOf[app.Project]{mine}, err
}

func (c *call) addProject(in *environments.MakeProject) (any, error) { return c.apply("", "", in) }
