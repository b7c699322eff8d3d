package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/keys"
)

var _ = listed(
	op[none, listOf[app.AccessKey]]("GET", atEnvironment+"/keys", "The access keys", (*call).keys).needs(app.Manage),
	op[keys.Make, keys.Made]("POST", atEnvironment+"/keys", "Make an access key; its secret is answered once",
		(*call).addKey).below().change().needs(app.Manage),
	op[none, app.AccessKey]("DELETE", atEnvironment+"/keys/:key", "Revoke an access key; its streams end within "+
		"seconds",
		(*call).revokeKey).change().needs(app.Manage),
)

func (c *call) keys(*none) (any, error) {
	items, err := c.api.Records.AccessKeys(c.ctx, c.e.ID)
	return listOf[app.AccessKey]{items}, err
}

func (c *call) addKey(in *keys.Make) (any, error) { return c.apply("", "", in) }

func (c *call) revokeKey(*none) (any, error) { return c.apply("", c.Param("key"), &keys.Revoke{}) }
