package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
)

var _ = listed(
	op[none, listOf[app.Environment]]("GET", atProject+"/environments",
		"The environments, or those that are archived", (*call).environments).takes("archived").needs(app.Read),
	op[environmentBody, environments.Made]("POST", atProject+"/environments",
		"Make an environment; the secrets of its first access keys are answered once",
		(*call).addEnvironment).below().change().needs(app.Manage),
	op[environmentEdit, app.Environment]("PATCH", atEnvironment, "Change an environment's title, or whether it asks "+
		"first",
		(*call).editEnvironment).change().needs(app.Manage),
	op[reasonBody, app.Environment]("POST", atEnvironment+"/archive",
		"Archive an environment that nobody follows; its "+
			"access keys are not taken then", (*call).archiveEnvironment).change().needs(app.Manage),
	op[reasonBody, app.Environment]("POST", atEnvironment+"/bring-back", "Have an archived environment live again",
		(*call).bringBackEnvironment).change().needs(app.Manage),
	op[reasonBody, app.Environment]("POST", atEnvironment+"/remove", "End an archived environment for good",
		(*call).removeEnvironment).change().needs(app.Manage),
)

type reasonBody struct {
	Reason string `json:"reason,omitempty"`
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
