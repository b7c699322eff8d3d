package change

import (
	"context"
	"encoding/json"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
)

// AccountFor takes an instance that fell silent off the list of the lost: somebody knows
// that it decides no more. Nothing else does, since silence alone proves nothing.
func (s *Service) AccountFor(ctx context.Context, r Request, env *app.Environment, instance string) (json.RawMessage, error) {
	return s.do(ctx, r, func(tx Tx, c *commit) (any, error) {
		if err := app.Allow(&r.Actor, app.StopIt, env.ProjectID, env.ID); err != nil {
			return nil, err
		}
		if err := c.checkReason(); err != nil {
			return nil, err
		}
		env, err := tx.LockEnvironment(env.ID)
		if err != nil {
			return nil, err
		}
		i, err := tx.AccountFor(env.ID, instance, c.at)
		if err != nil {
			return nil, err
		}
		if i.Left {
			return i, nil
		}
		if !i.Lost(c.at) {
			return nil, app.Faultf(app.Conflict, "instance %s was heard of a moment ago: it is not lost", instance)
		}
		i.Left, i.LeftAt = true, c.at
		e := c.entry("instance.gone", env.ProjectID)
		e.Subject = i.ID
		return i, c.environment(env, e, []diff.Line{{Text: fmt.Sprintf("%s %s %s, silent with revision %d, decides no more", i.Application, i.Version, i.ID, i.Revision)}})
	})
}
