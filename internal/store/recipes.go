package store

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "recipes", Why: "kept until somebody takes them away"},
)

var _ = writes((*Tx).PutRecipe)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r recipeRow) row { return recipeRecord(id, r) }, "SELECT recipe, gone, body FROM recipes "+
		"WHERE project_id = ?", id)
})

type recipeRow struct {
	Recipe string `db:"recipe"`
	Gone   bool   `db:"gone"`
	Body   []byte `db:"body"`
}

// Recipes lists the recipes of a project: what ships, as the project edited it, and its own behind them.
func (s *Store) Recipes(ctx context.Context, project int64) ([]app.Recipe, error) {
	return reader{ctx, s.pages}.Recipes(project)
}

// Recipes lists the recipes of a project.
func (r reader) Recipes(project int64) ([]app.Recipe, error) {
	rows, err := list[recipeRow](r.ctx, r.q, "SELECT recipe, gone, body FROM recipes WHERE project_id = ?", project)
	if err != nil {
		return nil, err
	}
	all := app.ShippedRecipes()
	ships := len(all)
	for _, row := range rows {
		at := slices.IndexFunc(all, func(o app.Recipe) bool { return o.Key == row.Recipe })
		switch {
		case row.Gone && at >= 0:
			all = slices.Delete(all, at, at+1)
			ships--
			continue
		case row.Gone:
			continue
		}
		one, err := decode[app.Recipe](row.Body)
		if err != nil {
			return nil, err
		}
		if at >= 0 {
			all[at] = one
		} else {
			all = append(all, one)
		}
	}
	slices.SortFunc(all[ships:], func(a, b app.Recipe) int { return strings.Compare(a.Title, b.Title) })
	return all, nil
}

// PutRecipe saves a recipe, or that it is gone.
func (t *Tx) PutRecipe(r *app.RecipeRecord) error {
	row := recipeRow{r.Key, r.Gone, []byte(encode(r.Recipe))}
	if err := t.exec("INSERT INTO recipes (project_id, recipe, gone, body) VALUES (?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE "+
		"gone = VALUES(gone), body = VALUES(body)", r.ProjectID, row.Recipe, row.Gone, string(row.Body)); err != nil {
		return err
	}
	return t.touch(recipeRecord(r.ProjectID, row))
}

func recipeRecord(project int64, r recipeRow) row {
	return row{of: fmt.Sprintf("recipes/%d/%s", project, r.Recipe), content: []any{r.Gone, string(r.Body)}}
}
