package manage

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/lineage"
	"greenlever.example/greenlever/internal/app/roles"
)

type reasonBody struct {
	Reason string `json:"reason,omitempty"`
}

type epochBody struct {
	Epoch int64 `json:"epoch"`
}

func (c *call) newEpoch(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &lineage.NewEpoch{})
}

func (c *call) projects(*none) (any, error) {
	all, err := c.api.Records.Projects(c.ctx)
	mine := slices.DeleteFunc(all, func(p app.Project) bool { return admit.Allow(&c.actor, app.Read, p.ID, 0) != nil })
	return listOf[app.Project]{mine}, err
}

func (c *call) addProject(in *environments.MakeProject) (any, error) { return c.apply("", "", in) }

// Person is somebody with roles in a project.
type Person struct {
	Account string     `json:"account"`
	Name    string     `json:"name"`
	Email   string     `json:"email"`
	Roles   []app.Role `json:"roles"`
}

func (c *call) people(*none) (any, error) {
	p := c.p
	roles, err := c.api.Records.RolesIn(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	all, err := c.api.Records.Accounts(c.ctx)
	out := listOf[Person]{[]Person{}}
	for _, a := range all {
		if r := roles[a.ID]; len(r) > 0 {
			out.Items = append(out.Items, Person{a.ID, a.Name, a.Email, r})
		}
	}
	return out, err
}

type rolesBody struct {
	Account string     `json:"account,omitempty"`
	Roles   []app.Role `json:"roles"`
}

func (c *call) setRoles(in *rolesBody) (any, error) {
	a, err := c.api.Records.Account(c.ctx, c.Param("account"))
	if err != nil {
		return nil, err
	}
	return c.apply("", a.ID, &roles.Set{Roles: in.Roles})
}

func (c *call) environments(*none) (any, error) {
	list := c.api.Records.Environments
	switch v := c.QueryParam("archived"); v {
	case "", "false":
	case "true":
		list = c.api.Records.Archived
	default:
		return nil, app.InvalidField("archived", "must be true or false")
	}
	items, err := list(c.ctx, c.p.ID)
	return listOf[app.Environment]{items}, err
}

func (c *call) archiveEnvironment(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &environments.Archive{})
}

func (c *call) bringBackEnvironment(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &environments.BringBack{})
}

func (c *call) removeEnvironment(in *reasonBody) (any, error) {
	return c.apply(in.Reason, "", &environments.Remove{})
}

type environmentBody struct {
	environments.Make
	Reason string `json:"reason,omitempty"`
}

func (c *call) addEnvironment(in *environmentBody) (any, error) {
	return c.apply(in.Reason, "", &in.Make)
}

type environmentEdit struct {
	environments.Edit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editEnvironment(in *environmentEdit) (any, error) {
	return c.apply(in.Reason, "", &in.Edit)
}

func (c *call) keys(*none) (any, error) {
	items, err := c.api.Records.AccessKeys(c.ctx, c.e.ID)
	return listOf[app.AccessKey]{items}, err
}

func (c *call) addKey(in *keys.Make) (any, error) { return c.apply("", "", in) }

func (c *call) revokeKey(*none) (any, error) { return c.apply("", c.Param("key"), &keys.Revoke{}) }
