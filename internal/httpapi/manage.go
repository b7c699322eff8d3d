package httpapi

import (
	"encoding/json"
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/change"
)

type reasonBody struct {
	Reason string `json:"reason,omitempty"`
}

type epochBody struct {
	Epoch int64 `json:"epoch"`
}

func (c *call) newEpoch(in *reasonBody) (any, error) {
	r, err := c.request(in.Reason)
	if err != nil {
		return nil, err
	}
	return c.api.Change.NewEpoch(c.ctx, r)
}

func (c *call) projects(*none) (any, error) {
	all, err := c.api.Records.Projects(c.ctx)
	mine := slices.DeleteFunc(all, func(p app.Project) bool { return app.Allow(&c.actor, app.Read, p.ID, 0) != nil })
	return listOf[app.Project]{mine}, err
}

type projectBody struct {
	Key   string `json:"key"`
	Title string `json:"title,omitempty"`
}

func (c *call) addProject(in *projectBody) (any, error) {
	r, err := c.request("")
	if err != nil {
		return nil, err
	}
	return c.api.Change.AddProject(c.ctx, r, &app.Project{Key: in.Key, Title: in.Title})
}

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
	return c.inProject("", func(r change.Request, p *app.Project) (json.RawMessage, error) {
		return c.api.Change.SetRoles(c.ctx, r, p, a.ID, in.Roles)
	})
}

func (c *call) environments(*none) (any, error) {
	p := c.p
	items, err := c.api.Records.Environments(c.ctx, p.ID)
	return listOf[app.Environment]{items}, err
}

type environmentBody struct {
	Key      string `json:"key"`
	Title    string `json:"title,omitempty"`
	AskFirst bool   `json:"askFirst,omitempty"`
	Reason   string `json:"reason,omitempty"`
}

func (c *call) addEnvironment(in *environmentBody) (any, error) {
	return c.inProject(in.Reason, func(r change.Request, p *app.Project) (json.RawMessage, error) {
		return c.api.Change.AddEnvironment(c.ctx, r, p, &app.Environment{Key: in.Key, Title: in.Title, AskFirst: in.AskFirst})
	})
}

type environmentEdit struct {
	change.EnvironmentEdit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editEnvironment(in *environmentEdit) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.EditEnvironment(c.ctx, r, e, &in.EnvironmentEdit)
	})
}

// inProject makes a change in the project of the address.
func (c *call) inProject(reason string, do func(r change.Request, p *app.Project) (json.RawMessage, error)) (any, error) {
	r, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	return do(r, c.p)
}

// inEnvironment makes a change in the environment of the address.
func (c *call) inEnvironment(reason string, do func(r change.Request, e *app.Environment) (json.RawMessage, error)) (any, error) {
	r, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	return do(r, c.e)
}

func (c *call) keys(*none) (any, error) {
	items, err := c.api.Records.AccessKeys(c.ctx, c.e.ID)
	return listOf[app.AccessKey]{items}, err
}

type keyBody struct {
	Kind    app.KeyKind `json:"kind"`
	Purpose string      `json:"purpose,omitempty"`
	Origins []string    `json:"origins,omitempty"` // of pages that may use a browser key, such as https://desk.pinecrest.example; none: any
}

func (c *call) addKey(in *keyBody) (any, error) {
	return c.inEnvironment("", func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.AddKey(c.ctx, r, e, in.Kind, in.Purpose, in.Origins)
	})
}

func (c *call) revokeKey(*none) (any, error) {
	return c.inEnvironment("", func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.RevokeKey(c.ctx, r, e, c.Param("key"))
	})
}
