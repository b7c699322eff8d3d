package manage

import (
	"greenlever.example/core/condition"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/zones"
)

var _ = listed(
	op[none, listOf[FreezeView]]("GET", atEnvironment+"/freezes", "When nothing moves units "+
		"here", (*call).freezes).needs(
		app.Read),
	op[freezeBody, app.Freeze]("POST", atEnvironment+"/freezes", "Have nothing move units for a while, once or weekly",
		(*call).freeze).made().change().needs(app.Manage),
	op[thawBody, app.Freeze]("POST", atEnvironment+"/freezes/:freeze/remove", "Take a freeze away",
		(*call).thaw).change().needs(app.Manage),
)

// FreezeView is a freeze, and whether it holds.
type FreezeView struct {
	app.Freeze
	Says   words.Said `json:"says"`
	Until  int64      `json:"until,omitempty"` // when it lets go, where it holds now
	Over   bool       `json:"over,omitempty"`
	ByName string     `json:"byName"`
}

type freezeBody struct {
	Freeze freezeAsked `json:"freeze"`
	Reason string      `json:"reason,omitempty"`
}

// freezeAsked is what people say of a freeze: once, from now on if nothing else is said, or weekly.
type freezeAsked struct {
	Reason string            `json:"reason"`
	From   int64             `json:"from,omitempty"` // Unix milliseconds
	To     int64             `json:"to,omitempty"`
	Weekly *condition.Weekly `json:"weekly,omitempty"`
	Flags  []string          `json:"flags,omitempty"` // that it does not hold
	Roles  []app.Role        `json:"roles,omitempty"` // that it does not hold
}

type thawBody struct {
	Reason string `json:"reason,omitempty"`
}

func (c *call) freezes(*none) (any, error) {
	names, err := c.names()
	now := c.api.Now().UnixMilli()
	out := listOf[FreezeView]{[]FreezeView{}}
	for _, f := range c.e.Freezes {
		if f.Gone != 0 {
			continue
		}
		v := FreezeView{Freeze: f, Says: environments.Says(&f), Over: f.Over(now), ByName: names[f.By]}
		if until, holds := f.Until(now, zones.Find); holds {
			v.Until = until
		}
		out.Items = append(out.Items, v)
	}
	return out, err
}

func (c *call) freeze(in *freezeBody) (any, error) {
	a := &in.Freeze
	f := app.Freeze{Reason: a.Reason, From: a.From, To: a.To, Weekly: a.Weekly, Flags: a.Flags, Roles: a.Roles}
	if f.Weekly == nil && f.From == 0 {
		f.From = c.api.Now().UnixMilli()
	}
	if in.Reason == "" {
		in.Reason = f.Reason
	}
	return c.apply(in.Reason, "", &environments.Freeze{Freeze: f})
}

func (c *call) thaw(in *thawBody) (any, error) {
	return c.apply(in.Reason, c.Param("freeze"), &environments.Thaw{})
}
