package app

import (
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
)

// Attribute is what a project declares of an attribute of its evaluation contexts.
type Attribute struct {
	Name        string    `json:"name"`
	Type        lint.Type `json:"type"`
	Description string    `json:"description"`
	Example     string    `json:"example"`
	// How sentences say it: one of it, such as "site" of site.id, and many; or by its name.
	One  string `json:"one,omitempty"`
	Many string `json:"many,omitempty"`
	// Personal attributes never leave a client as they are: only what is derived from them does.
	Personal   bool              `json:"personal"`
	Derive     sample.Derivation `json:"derive,omitempty"`
	ServerOnly bool              `json:"serverOnly"` // ignored where it comes with a browser key
	Loose      bool              `json:"loose"`      // of versions: 4.2 and v4.2.0 are sent too
	Version    int64             `json:"version"`
}
