package manage

import (
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/roles"
)

var _ = listed(
	op[none, listOf[Person]]("GET", atProject+"/people", "Who has which roles", (*call).people).needs(app.Read),
	op[rolesBody, rolesBody]("PUT", atProject+"/people/:account", "Replace somebody's roles in a project",
		(*call).setRoles).change().needs(app.Manage),
	op[none, listOf[TeamRoles]]("GET", atProject+"/teams", "Which teams have which roles, and who is in them",
		(*call).teamsHere).needs(app.Read),
	op[rolesBody, rolesBody]("PUT", atProject+"/teams/:team", "Replace a team's roles in a project",
		(*call).setTeamRoles).change().needs(app.Manage),
	op[none, Can]("GET", atProject+"/can", "Whether somebody may do something, why, and who could",
		(*call).can).needs(app.Read).takes("who", "do", "environment"),
)

// Held are roles in a project.
type Held struct {
	Roles []app.Role            `json:"roles"`        // in all environments
	In    map[string][]app.Role `json:"in,omitempty"` // in one environment alone, by its key
}

// Person is somebody with roles in a project.
type Person struct {
	Account string `json:"account"`
	Name    string `json:"name"`
	Email   string `json:"email"`
	Robot   bool   `json:"robot,omitempty"`
	Held
	Teams []string `json:"teams,omitempty"` // keys of those that they hold roles by
}

// TeamRoles are a team's roles in a project.
type TeamRoles struct {
	Key     string   `json:"key"`
	Title   string   `json:"title"`
	Members []string `json:"members"` // names
	Held
}

// held says roles by the keys of environments.
func (c *call) held(p *app.Project, grants app.Grants) (Held, error) {
	h := Held{Roles: grants.Roles(p.ID, 0)}
	if h.Roles == nil {
		h.Roles = []app.Role{}
	}
	var err error
	h.In, err = c.rolesByPlace(p, grants)
	return h, err
}

// rolesByPlace gives the roles that count in one environment alone, by its key.
func (c *call) rolesByPlace(p *app.Project, grants app.Grants) (map[string][]app.Role, error) {
	if !slices.ContainsFunc(grants, func(g app.Grant) bool { return g.Project == p.ID && g.Environment != 0 }) {
		return nil, nil
	}
	all, err := c.api.Records.Environments(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	in := map[string][]app.Role{}
	for _, e := range all {
		for _, g := range grants {
			if g.Environment == e.ID {
				in[e.Key] = append(in[e.Key], g.Role)
			}
		}
	}
	return in, nil
}

// holder is an account with what it holds in the project.
type holder struct {
	app.Account
	own, all app.Grants // by itself, and by teams as well
	teams    []string   // keys of those that it holds something by
}

// holders are the accounts that hold something in the project, by address.
func (c *call) holders() (out []holder, err error) {
	grants, err := c.api.Records.GrantsIn(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	teams, err := c.api.Records.Teams(c.ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := c.api.Records.Accounts(c.ctx)
	for _, a := range accounts {
		h := holder{Account: a, own: grants[a.ID], all: slices.Clone(grants[a.ID])}
		for _, t := range teams {
			if len(grants[t.ID]) > 0 && slices.Contains(t.Members, a.ID) {
				h.teams, h.all = append(h.teams, t.Key), append(h.all, grants[t.ID]...)
			}
		}
		if len(h.all) > 0 {
			out = append(out, h)
		}
	}
	return out, err
}

func (c *call) people(*none) (any, error) {
	all, err := c.holders()
	if err != nil {
		return nil, err
	}
	out := listOf[Person]{[]Person{}}
	for _, h := range all {
		one := Person{Account: h.ID, Name: h.Name, Email: h.Email, Robot: h.IsRobot(), Teams: h.teams}
		if one.Held, err = c.held(c.p, h.own); err != nil {
			return nil, err
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

func (c *call) teamsHere(*none) (any, error) {
	grants, err := c.api.Records.GrantsIn(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	teams, err := c.api.Records.Teams(c.ctx)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	// Who gives roles sees all teams; others those that have some here: who is in the rest is none of theirs.
	gives := admit.Allow(&c.actor, app.Manage, c.p.ID, 0) == nil
	out := listOf[TeamRoles]{[]TeamRoles{}}
	for _, t := range teams {
		if !gives && len(grants[t.ID]) == 0 {
			continue
		}
		one := TeamRoles{Key: t.Key, Title: t.Title, Members: []string{}}
		if one.Held, err = c.held(c.p, grants[t.ID]); err != nil {
			return nil, err
		}
		for _, id := range t.Members {
			one.Members = append(one.Members, names[id])
		}
		slices.Sort(one.Members)
		out.Items = append(out.Items, one)
	}
	return out, err
}

type rolesBody struct {
	Account string `json:"account,omitempty"`
	Held
}

func (c *call) setRoles(in *rolesBody) (any, error) {
	a, err := c.api.Records.Account(c.ctx, c.Param("account"))
	if err != nil {
		return nil, err
	}
	return c.apply("", a.ID, &roles.Set{Roles: in.Roles, In: in.In})
}

func (c *call) setTeamRoles(in *rolesBody) (any, error) {
	t, err := c.team(c.Param("team"))
	if err != nil {
		return nil, err
	}
	return c.apply("", t.ID, &roles.Set{Roles: in.Roles, In: in.In, Team: t.Key})
}

func (c *call) team(key string) (*app.Team, error) {
	all, err := c.api.Records.Teams(c.ctx)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(t app.Team) bool { return t.Key == key })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no team %s", key)
	}
	return &all[at], nil
}

// Can says whether somebody may do something, and why.
type Can struct {
	Who string     `json:"who"` // name
	Do  app.Action `json:"do"`
	May bool       `json:"may"`
	Why string     `json:"why"` // the role that allows it and where it comes from, or what is missing
	// Could are those who may, by name.
	Could []string `json:"could"`
}

func (c *call) can(*none) (any, error) {
	action := app.Action(c.QueryParam("do"))
	if !slices.Contains(app.Actions(), action) {
		return nil, app.InvalidField("do", "must be one of %s", actionNames())
	}
	a, err := c.whoIs(c.QueryParam("who"))
	if err != nil {
		return nil, err
	}
	grants, err := c.api.Records.GrantsOf(c.ctx, a.ID)
	if err != nil {
		return nil, err
	}
	environment := int64(0)
	if key := c.QueryParam("environment"); key != "" {
		_, e, err := c.api.Records.Place(c.ctx, c.p.Key, key)
		if err != nil {
			return nil, err
		}
		if e == nil {
			return nil, app.InvalidField("environment", "there is no environment %s in this project", key)
		}
		environment = e.ID
	}
	out := Can{Who: a.Name, Do: action}
	if a.Disabled > 0 {
		out.Why = "the account is disabled"
	} else if g, err := admit.By(&app.Actor{Grants: grants}, action, c.p.ID, environment); err != nil {
		out.Why = err.Error()
	} else {
		out.May, out.Why = true, byGrant(g)
	}
	out.Could, err = c.whoCould(action, environment)
	return out, err
}

// byGrant says where a right comes from.
func byGrant(g app.Grant) string {
	text := "by the role " + string(g.Role)
	if g.Team != "" {
		text += " of the team " + g.Team
	}
	if g.Environment == 0 {
		return text + ", in all of the project"
	}
	return text + ", in this environment"
}

// whoIs finds an account by an address, or a robot by its key. Who holds nothing here is told of only to those who
// keep accounts.
func (c *call) whoIs(who string) (*app.Account, error) {
	if who == "" {
		return c.api.Records.Account(c.ctx, c.actor.ID)
	}
	all, err := c.api.Records.Accounts(c.ctx)
	if err != nil {
		return nil, err
	}
	here, err := c.holders()
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(a app.Account) bool {
		return a.Email == people.Address(who) || a.Email == app.RobotPrefix+who
	})
	if at < 0 || !c.actor.Keeper && all[at].ID != c.actor.ID &&
		!slices.ContainsFunc(here, func(h holder) bool { return h.ID == all[at].ID }) {
		return nil, app.InvalidField("who", "nobody with roles in this project has the address %s", who)
	}
	return &all[at], nil
}

// whoCould names those who may do something.
func (c *call) whoCould(action app.Action, environment int64) ([]string, error) {
	all, err := c.holders()
	names := []string{}
	for _, h := range all {
		if _, may := h.all.Allows(action, c.p.ID, environment); may && h.Disabled == 0 && !h.IsRobot() {
			names = append(names, h.Name)
		}
	}
	return names, err
}

func actionNames() string {
	all := make([]string, len(app.Actions()))
	for i, a := range app.Actions() {
		all[i] = string(a)
	}
	return strings.Join(all, ", ")
}

// RouteRight is what a route of a project takes.
type RouteRight struct {
	Method, Path string // with the names of parameters after colons
	Action       app.Action
}

// RouteRights lists what each route of a project takes.
func RouteRights() (all []RouteRight) {
	for _, r := range table {
		if strings.HasPrefix(r.path, atProject) {
			all = append(all, RouteRight{r.method, r.path, r.action})
		}
	}
	return all
}
