package admit

import (
	"context"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
)

// owners keeps a flag as its owners have it, where the environment says that only they change it. A flag that nobody
// owns is everybody's.
func owners(_ context.Context, c *Case) error {
	if c.Environment == nil || !c.Environment.OwnersOnly || c.Flag == "" || c.Owners == nil {
		return nil
	}
	own, err := c.Owners()
	if err != nil || len(own) == 0 {
		return err
	}
	for _, who := range append([]app.Actor{*c.Actor}, c.Signers...) {
		if slices.ContainsFunc(own, func(o string) bool {
			return slices.ContainsFunc(who.Is, func(is string) bool { return strings.EqualFold(o, is) })
		}) {
			return nil
		}
	}
	says := "in " + c.Environment.Key + " only those who own a flag change it, and " + c.Flag + " is owned by " +
		strings.Join(own, ", ")
	if c.Proposing {
		c.Notes = append(c.Notes, diff.Text(says+": one of them signs"))
		return nil
	}
	return &app.Fault{Kind: app.Forbidden, More: map[string]any{"owners": own}, Detail: says + "; propose it, " +
		"and one " +
		"of them signs"}
}
