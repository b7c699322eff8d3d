package manage

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/people"
)

// TeamView is a team with its members' addresses.
type TeamView struct {
	Key     string   `json:"key"`
	Title   string   `json:"title"`
	Made    int64    `json:"made"`
	Members []string `json:"members"` // addresses, or the keys of robots after "robot:"
}

type teamBody struct {
	Title   string   `json:"title,omitempty"`
	Members []string `json:"members"` // addresses
}

type robotBody struct {
	Key  string `json:"key"`
	Name string `json:"name,omitempty"`
}

func (c *call) teams(*none) (any, error) {
	all, err := c.api.Records.Teams(c.ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := c.api.Records.Accounts(c.ctx)
	out := listOf[TeamView]{[]TeamView{}}
	for i := range all {
		out.Items = append(out.Items, teamView(&all[i], accounts))
	}
	return out, err
}

func teamView(t *app.Team, accounts []app.Account) TeamView {
	v := TeamView{Key: t.Key, Title: t.Title, Made: t.Made, Members: []string{}}
	for _, a := range accounts {
		if slices.Contains(t.Members, a.ID) {
			v.Members = append(v.Members, a.Email)
		}
	}
	return v
}

func (c *call) saveTeam(in *teamBody) (any, error) {
	accounts, err := c.api.Records.Accounts(c.ctx)
	if err != nil {
		return nil, err
	}
	var ids []string
	for i, address := range in.Members {
		at := slices.IndexFunc(accounts, func(a app.Account) bool { return a.Email == people.Address(address) })
		if at < 0 {
			return nil, app.InvalidField("members", "number %d: there is no account %s", i+1, address)
		}
		ids = append(ids, accounts[at].ID)
	}
	t, err := c.api.People.SaveTeam(c.ctx, c.actor, c.Param("team"), in.Title, ids)
	if err != nil {
		return nil, err
	}
	return teamView(t, accounts), nil
}

func (c *call) removeTeam(*none) (any, error) {
	return none{}, c.api.People.RemoveTeam(c.ctx, c.actor, c.Param("team"))
}

func (c *call) addRobot(in *robotBody) (any, error) {
	return c.api.People.AddRobot(c.ctx, c.actor, in.Key, in.Name)
}

func (c *call) addRobotToken(in *tokenBody) (any, error) {
	asked, err := c.newToken(in)
	if err != nil {
		return nil, err
	}
	t, secret, err := c.api.People.AddRobotToken(c.ctx, c.actor, c.Param("account"), asked)
	if err != nil {
		return nil, err
	}
	return madeToken{*t, secret}, nil
}
