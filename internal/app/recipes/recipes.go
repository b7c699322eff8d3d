// Package recipes holds the changes of recipes: saved beginnings of flags, which a project owns.
package recipes

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
)

// Kinds are the changes of recipes.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "recipe.put",
			Says:   "Saves a recipe, a new one or in place of the one with its key",
			Action: app.Define, Span: commit.Project, Queued: true}, put),
		commit.Of(commit.Kind{Name: "recipe.remove", Says: "Takes a recipe away; flags that began from it stay",
			Action: app.Define, Span: commit.Project, Queued: true}, remove),
	}
}

// most is how many recipes a project keeps.
const most = 100

// Put saves a recipe.
type Put struct {
	Recipe app.Recipe `json:"recipe"`
}

// Remove takes a recipe away.
type Remove struct{}

// Tx is what changes of recipes read.
type Tx interface {
	Recipes(project int64) ([]app.Recipe, error)
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	r := in.Recipe
	r.Key, r.Shipped = m.Of, false
	if err := app.InvalidFields(flags.CheckRecipe(&r)); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).Recipes(m.Project.ID)
	if err != nil {
		return nil, err
	}
	if len(all) >= most {
		return nil, app.InvalidField("recipe", "a project keeps at most %d: take one away first", most)
	}
	out := effects(m, "recipe.saved", &app.RecipeRecord{ProjectID: m.Project.ID, Recipe: &r}, diff.Text(fmt.Sprintf(
		"recipe %q saved: %s", r.Title, r.Says)))
	out.Back = m.Back(&Remove{})
	if at := slices.IndexFunc(all, func(o app.Recipe) bool { return o.Key == r.Key }); at >= 0 {
		out.Back = m.Back(&Put{Recipe: all[at]})
	}
	return out, nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).Recipes(m.Project.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.Key == m.Of {
			out := effects(m, "recipe.removed", &app.RecipeRecord{ProjectID: m.Project.ID, Recipe: &r, Gone: true},
				diff.Text(fmt.Sprintf("recipe %q removed", r.Title)))
			out.Back = m.Back(&Put{Recipe: r})
			return out, nil
		}
	}
	return nil, app.Faultf(app.NotFound, "there is no recipe %s in this project", m.Of)
}

func effects(m *commit.Moment, action string, r *app.RecipeRecord, line diff.Line) *commit.Effects {
	said := commit.Said(action, r.Key, line)
	return &commit.Effects{Result: r.Recipe, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{said}}}}
}
