package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/roles"
)

var _ = listed(
	op[none, listOf[Person]]("GET", atProject+"/people", "Who has which roles", (*call).people).needs(app.Read),
	op[rolesBody, rolesBody]("PUT", atProject+"/people/:account", "Replace somebody's roles in a project",
		(*call).setRoles).change().needs(app.Manage),
)

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
