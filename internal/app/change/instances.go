package change

import (
	"context"
	"encoding/json"
	"fmt"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
)

// AccountedFor is the result of vouching for instances.
type AccountedFor struct {
	Gone      int            `json:"gone"`
	Instances []app.Instance `json:"instances"` // at most 100 of them
}

// most of them are named one by one in the answer and the audit; of more, the number.
const mostNamed = 100

// AccountFor takes instances that fell silent off the list of the lost: somebody knows that
// they decide no more. Nothing else does, since silence alone proves nothing. Without an id
// it is all of them.
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
		all, err := tx.AccountFor(env.ID, instance, c.at-app.SilentAfter, c.at)
		if err != nil {
			return nil, err
		}
		out := &AccountedFor{Instances: []app.Instance{}}
		if instance != "" && len(all) == 0 {
			return nil, app.Faultf(app.NotFound, "there is no instance %s", instance)
		}
		var lines []diff.Line
		for i := range all {
			one := &all[i]
			if one.Left {
				continue
			}
			if !one.Lost(c.at) {
				return nil, app.Faultf(app.Conflict, "instance %s was heard of a moment ago: it is not lost", one.ID)
			}
			one.Left, one.LeftAt = true, c.at
			if out.Gone++; out.Gone <= mostNamed {
				out.Instances = append(out.Instances, *one)
				lines = append(lines, diff.Text(fmt.Sprintf("%s %s %s, silent with revision %d, decides no more", one.Application, one.Version, one.ID, one.Revision)))
			}
		}
		if out.Gone == 0 {
			return out, nil
		}
		if more := out.Gone - len(lines); more > 0 {
			lines = append(lines, diff.Text(fmt.Sprintf("and %d more silent instances decide no more", more)))
		}
		e := c.entry("instance.gone", env.ProjectID)
		e.Subject = instance
		return out, c.environment(env, e, lines)
	})
}
