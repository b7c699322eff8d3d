package admit

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// signed keeps an environment from being changed without the signatures that it wants. Who looks ahead is told.
func signed(_ context.Context, c *Case) error {
	if !c.Signs || c.Environment == nil || c.Environment.Signing.Need == 0 {
		return nil
	}
	s := &c.Environment.Signing
	if s.Lever && LeverAlone(c.Before, c.After) {
		return nil
	}
	has := s.Signed(c.Signers, c.Project, c.Environment.ID)
	if has >= s.Need {
		return nil
	}
	says := fmt.Sprintf("environment %s wants %s", c.Environment.Key, s)
	if len(c.Signers) > 0 {
		says += fmt.Sprintf(", and has %d", has)
	}
	if c.DryRun {
		c.Notes = append(c.Notes, diff.Text(says))
		return nil
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"signing": s, "has": has},
		Detail: says + ": propose the change, and those who may sign do"}
}

// LeverAlone tells whether two documents differ in nothing but the lever.
func LeverAlone(before, after *flag.Document) bool {
	if before == nil || after == nil || before.Lever == after.Lever {
		return false
	}
	alike := *after
	alike.Lever = before.Lever
	a, err1 := json.Marshal(before)
	b, err2 := json.Marshal(&alike)
	return err1 == nil && err2 == nil && bytes.Equal(a, b)
}
