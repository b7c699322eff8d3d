package manage

import (
	"slices"
	"strings"

	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed(
	op[none, listOf[lint.Check]]("GET", "/checks", "What is looked for in flags", (*call).checks),
	op[none, listOf[lint.Finding]]("GET", atEnvironment+"/lint", "What the checks find in an environment",
		(*call).lint).takes("flags").needs(app.Read),
	op[none, listOf[lint.Finding]]("GET", atEnvironment+"/flags/:flag/lint", "What the checks find in a flag",
		(*call).lint).needs(app.Read),
)

func (c *call) checks(*none) (any, error) { return listOf[lint.Check]{lint.Checks()}, nil }

// lint runs the checks on the flag of the address, or on every flag of the environment.
func (c *call) lint(*none) (any, error) {
	p, e := c.p, c.e
	defs, err := c.api.Records.Definitions(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	stands, err := c.api.Records.FlagStands(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	if key := c.Param("flag"); key != "" {
		at := slices.IndexFunc(defs, func(d app.Definition) bool { return d.Key == key })
		if at < 0 {
			return nil, app.Faultf(app.NotFound, "there is no flag %s in this project", key)
		}
		defs = defs[at : at+1]
	}
	if some := c.QueryParam("flags"); some != "" {
		keys := strings.Split(some, ",")
		if len(keys) > maxPage {
			return nil, app.InvalidField("flags", "takes at most %d keys", maxPage)
		}
		defs = slices.DeleteFunc(defs, func(d app.Definition) bool { return !slices.Contains(keys, d.Key) })
	}
	found, err := c.api.Preview.Lint(c.ctx, e, defs, stands)
	return listOf[lint.Finding]{found}, err
}
