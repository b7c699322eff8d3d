package store

import (
	"testing"

	"greenlever.example/greenlever/internal/app"
)

// Definitions of older releases say a purpose. What was said is kept.
func TestPurposesBecomeRecipes(t *testing.T) {
	const rest = `"key":"f","title":"F","resting":"off","variants":[{"name":"on","value":true},` +
		`{"name":"off","value":false}],"owners":[],"tags":["door"],"goneBy":"stays"`
	for purpose, want := range map[string]struct{ recipe, end, tags string }{
		"introduce":   {app.StepByStep, "off", "door"},
		"compare":     {app.SideBySide, "off", "door"},
		"kill-switch": {app.Switch, "on", "door"},
		"tune":        {"", "off", "door tune"},
		"grant":       {"", "off", "door grant"},
		"":            {"", "off", "door"},
	} {
		d, err := decodeDefinition([]byte(`{` + rest + `,"purpose":"` + purpose + `"}`))
		if err != nil {
			t.Fatal(err)
		}
		tags := ""
		for i, tag := range d.Tags {
			if i > 0 {
				tags += " "
			}
			tags += tag
		}
		if d.Recipe != want.recipe || d.End != want.end || tags != want.tags {
			t.Errorf("%s becomes %q, its end %s, tags %s", purpose, d.Recipe, d.End, tags)
		}
	}
	if d, err := decodeDefinition([]byte(`{` + rest + `,"end":"on"}`)); err != nil || d.End != "on" {
		t.Errorf("a new one: %+v, %v", d, err)
	}
}
