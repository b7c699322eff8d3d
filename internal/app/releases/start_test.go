package releases

import (
	"slices"
	"testing"

	"greenlever.example/core/stage"
)

// A release after another takes over what its own plan leaves open, and nothing else.
func TestCarry(t *testing.T) {
	was := &stage.Plan{From: "off", To: "on", Beside: []string{"slow"}, By: []string{"site.id"}}
	for name, one := range map[string]struct{ own, want stage.Plan }{
		"all is open": {stage.Plan{}, *was},
		"others beside": {stage.Plan{Beside: []string{"late"}}, stage.Plan{From: "off", To: "on",
			Beside: []string{"late"}, By: was.By}},
		"another, nothing beside": {stage.Plan{To: "late"}, stage.Plan{To: "late", By: was.By}},
		"by other units": {stage.Plan{By: []string{"unit"}}, stage.Plan{From: "off", To: "on", Beside: was.Beside,
			By: []string{"unit"}}},
	} {
		got := one.own
		carry(&got, was)
		if got.From != one.want.From || got.To != one.want.To || !slices.Equal(got.Beside, one.want.Beside) ||
			!slices.Equal(got.By, one.want.By) {
			t.Errorf("%s: %+v, want %+v", name, got, one.want)
		}
	}
}
