package manage

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
)

var _ = listed(
	op[branchBody, environments.Made]("POST", atEnvironment+"/branch",
		"Make a short-lived environment out of this one; "+
			"the secrets of its access keys are answered once", (*call).branch).change().needs(app.Read),
	op[prolongBody, environments.Made]("POST", atEnvironment+"/prolong",
		"Have a short-lived environment live on; one "+
			"that ended lately gets new access keys, whose secrets are answered once",
		(*call).prolong).change().needs(app.Document),
	op[none, ShortLived]("GET", atProject+"/short-lived", "The short-lived environments by family, and what "+
		"flags give in "+
		"all of a family", (*call).shortLived).needs(app.Read),
	op[giveBody, environments.Given]("PUT", atProject+"/flags/:flag/family",
		"Say what a flag gives in all short-lived "+
			"environments of a family, those to come included", (*call).giveInFamily).change().needs(app.Document),
)

// ShortLived are the environments of a project that end by themselves.
type ShortLived struct {
	Families []Family `json:"families"`
}

// Family are short-lived environments whose keys begin alike.
type Family struct {
	Family string            `json:"family"`
	Items  []LivingShort     `json:"items"`
	Gives  []app.FamilyGives `json:"gives"`
}

// LivingShort is a short-lived environment.
type LivingShort struct {
	app.Environment
	From string `json:"from"`
	Name string `json:"name"` // of who made it
}

type branchBody struct {
	environments.Branch
	Reason string `json:"reason,omitempty"`
}

func (branchBody) must() []string { return []string{"key", "for"} }

func (c *call) branch(in *branchBody) (any, error) {
	return c.apply(in.Reason, "", &in.Branch)
}

type prolongBody struct {
	environments.Prolong
	Reason string `json:"reason,omitempty"`
}

func (prolongBody) must() []string { return []string{"for"} }

func (c *call) prolong(in *prolongBody) (any, error) {
	return c.apply(in.Reason, "", &in.Prolong)
}

type giveBody struct {
	environments.Give
	Reason string `json:"reason,omitempty"`
}

func (c *call) giveInFamily(in *giveBody) (any, error) {
	return c.apply(in.Reason, c.Param("flag"), &in.Give)
}

func (c *call) shortLived(*none) (any, error) {
	envs, lives, err := c.api.Records.ShortLived(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	gives, err := c.api.Records.FamilyGives(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	out := &ShortLived{Families: []Family{}}
	of := func(name string) *Family {
		at := slices.IndexFunc(out.Families, func(f Family) bool { return f.Family == name })
		if at < 0 {
			out.Families = append(out.Families, Family{name, []LivingShort{}, []app.FamilyGives{}})
			at = len(out.Families) - 1
		}
		return &out.Families[at]
	}
	for i := range envs {
		life := lives[envs[i].ID]
		f := of(life.Family)
		f.Items = append(f.Items, LivingShort{envs[i], life.Source, names[life.By]})
	}
	for _, g := range gives {
		f := of(g.Family)
		f.Gives = append(f.Gives, g)
	}
	return out, nil
}
