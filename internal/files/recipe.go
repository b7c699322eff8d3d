package files

import (
	"cmp"
	"encoding/json"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// Recipe is a file of a recipe.
type Recipe struct {
	Key        string    `json:"recipe" yaml:"recipe"`
	Title      string    `json:"title" yaml:"title"`
	Says       string    `json:"says,omitempty" yaml:"says,omitempty"`
	Type       string    `json:"type,omitempty" yaml:"type,omitempty"`
	Variants   []variant `json:"variants" yaml:"variants"`
	Resting    string    `json:"resting" yaml:"resting"`
	End        string    `json:"end" yaml:"end"`
	Months     int       `json:"months,omitempty" yaml:"months,omitempty"`
	NeedsOwner bool      `json:"needsOwner,omitempty" yaml:"needsOwner,omitempty"`
	NeedsLoses bool      `json:"needsLoses,omitempty" yaml:"needsLoses,omitempty"`
}

type variant struct {
	Name  string `json:"name" yaml:"name"`
	Value any    `json:"value" yaml:"value"`
}

// ReadRecipe reads a recipe.
func ReadRecipe(raw []byte) (*app.Recipe, error) {
	var r Recipe
	if _, err := read("recipe", raw, &r); err != nil {
		return nil, err
	}
	out := &app.Recipe{Key: r.Key, Title: r.Title, Says: r.Says, Type: flag.Type(cmp.Or(r.Type, string(flag.Boolean))),
		Resting: r.Resting, End: r.End, Months: r.Months, NeedsOwner: r.NeedsOwner, NeedsLoses: r.NeedsLoses}
	for _, v := range r.Variants {
		value, err := json.Marshal(v.Value)
		if err != nil {
			return nil, err
		}
		out.Variants = append(out.Variants, app.Variant{Name: v.Name, Value: value})
	}
	return out, nil
}

// WriteRecipe writes a recipe.
func WriteRecipe(r *app.Recipe) ([]byte, error) {
	out := Recipe{Key: r.Key, Title: r.Title, Says: r.Says, Type: string(r.Type), Resting: r.Resting, End: r.End,
		Months: r.Months, NeedsOwner: r.NeedsOwner, NeedsLoses: r.NeedsLoses}
	for _, v := range r.Variants {
		var value any
		if err := json.Unmarshal(v.Value, &value); err != nil {
			return nil, err
		}
		out.Variants = append(out.Variants, variant{v.Name, value})
	}
	return write("recipe", out)
}
