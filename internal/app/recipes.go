package app

import (
	"encoding/json"

	"greenlever.example/core/flag"
)

// Recipe is a saved beginning of a flag, which a project owns: it fills in what a new flag leaves open, and
// decides nothing later.
type Recipe struct {
	Key      string    `json:"key"`
	Title    string    `json:"title"`
	Says     string    `json:"says"` // what it is for, in one sentence
	Type     flag.Type `json:"type"`
	Variants []Variant `json:"variants"`
	Resting  string    `json:"resting"`
	End      string    `json:"end"`
	// Months is in how many months the flag should be gone; 0: it stays.
	Months int `json:"months"`
	// NeedsOwner has a new flag name who answers for it.
	NeedsOwner bool `json:"needsOwner,omitempty"`
	// NeedsLoses has a new flag say what users lose while it rests.
	NeedsLoses bool `json:"needsLoses,omitempty"`
	// Shipped tells that it came with the service, and was not edited since.
	Shipped bool `json:"shipped,omitempty"`
}

// RecipeRecord is a recipe that a project saved over a shipped one or beside them, or took away.
type RecipeRecord struct {
	ProjectID int64
	*Recipe
	Gone bool
}

// The recipes that ship.
const (
	StepByStep = "step-by-step"
	SideBySide = "side-by-side"
	Switch     = "switch"
)

// ShippedRecipes are those that every project has until it edits them or takes them away.
func ShippedRecipes() []Recipe {
	value := func(s string) json.RawMessage { return json.RawMessage(s) }
	return []Recipe{
		{Key: StepByStep, Title: "A change step by step",
			Says: "Something new that more and more get, until all have " +
				"it and the flag goes.", Type: flag.Boolean, Variants: []Variant{{"on", value("true")},
				{"off", value("false")}},
			Resting: "off", End: "off", Months: 3, Shipped: true},
		{Key: SideBySide, Title: "Ways side by side", Says: "Several ways to do one thing, each for a part of all, " +
			"to see which does best.", Type: flag.String, Variants: []Variant{{"as-before", value(`"as-before"`)},
			{"new-way", value(`"new-way"`)}}, Resting: "as-before", End: "as-before", Months: 3, Shipped: true},
		{Key: Switch, Title: "A switch for bad nights", Says: "On for all, until something has to rest for a while.",
			Type: flag.Boolean, Variants: []Variant{{"on", value("true")}, {"off", value("false")}}, Resting: "off",
			End: "on", NeedsOwner: true, NeedsLoses: true, Shipped: true},
	}
}
