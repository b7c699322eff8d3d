package manage

import (
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/recipes"
)

var _ = listed(
	op[none, listOf[app.Recipe]]("GET", atProject+"/recipes", "Saved beginnings of flags",
		(*call).recipes).needs(app.Read),
	op[recipeBody, app.Recipe]("PUT", atProject+"/recipes/:recipe", "Save a recipe", (*call).putRecipe).change().needs(
		app.Define),
	op[reasonBody, app.Recipe]("POST", atProject+"/recipes/:recipe/remove",
		"Take a recipe away; flags that began from "+
			"it stay", (*call).removeRecipe).change().needs(app.Define),
)

func (c *call) recipes(*none) (any, error) {
	items, err := c.api.Records.Recipes(c.ctx, c.p.ID)
	return listOf[app.Recipe]{items}, err
}

type recipeBody struct {
	recipes.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putRecipe(in *recipeBody) (any, error) {
	return c.apply(in.Reason, c.Param("recipe"), &in.Put)
}

func (c *call) removeRecipe(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("recipe"), &recipes.Remove{})
}
