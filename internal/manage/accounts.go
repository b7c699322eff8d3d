package manage

import (
	"cmp"
	"fmt"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/people"
)

var _ = listed(
	op[passwordBody, none]("POST", "/me/password", "Change my password; my other sessions and tokens end, but "+
		"for the tokens that are named", (*call).changePassword),
	op[none, listOf[app.Token]]("GET", "/me/tokens", "My personal tokens", (*call).tokens),
	op[tokenBody, madeToken]("POST", "/me/tokens", "Make a personal token; its secret is answered once",
		(*call).addToken).made(),
	op[none, none]("DELETE", "/me/tokens/:token", "Remove one of my personal tokens", (*call).removeToken),
	op[none, listOf[SessionView]]("GET", "/me/sessions", "My sessions", (*call).sessions),
	op[none, none]("DELETE", "/me/sessions/:session", "End one of my sessions", (*call).endSession),
	op[findBody, Found]("POST", "/accounts/find", "Find an account by its e-mail address; a keeper of any "+
		"project may", (*call).findAccount).ofKeepers(),
	op[none, listOf[AccountView]]("GET", "/accounts", "All accounts, and when each was seen last",
		(*call).accounts).installation(),
	op[accountBody, app.Account]("POST", "/accounts", "Make an account", (*call).addAccount).made().installation(),
	op[people.Edit, app.Account]("PATCH", "/accounts/:account", "Change a name, who keeps the installation, or "+
		"disable an account: its sessions, tokens and streams end", (*call).editAccount).installation(),
	op[none, listOf[SessionView]]("GET", "/accounts/:account/sessions", "Somebody's sessions",
		(*call).sessions).installation(),
	op[none, none]("DELETE", "/accounts/:account/sessions/:session", "End somebody's session",
		(*call).endSession).installation(),
	op[none, listOf[app.Token]]("GET", "/accounts/:account/tokens", "Somebody's personal tokens",
		(*call).tokens).installation(),
	op[none, none]("DELETE", "/accounts/:account/tokens/:token", "Remove somebody's personal token",
		(*call).removeToken).installation(),
	op[tokenBody, madeToken]("POST", "/accounts/:account/tokens", "Make a robot's token; its secret is answered once",
		(*call).addRobotToken).made().installation(),
	op[robotBody, app.Account]("POST", "/robots", "Make a robot: an account that nobody signs in to",
		(*call).addRobot).made().installation(),
	op[none, listOf[TeamView]]("GET", "/teams", "All teams, and who is in them", (*call).teams).installation(),
	op[teamBody, TeamView]("PUT", "/teams/:team", "Make a team, or give it another title or other members",
		(*call).saveTeam).installation(),
	op[none, none]("DELETE", "/teams/:team", "Take a team away, and all that its members held by it",
		(*call).removeTeam).installation(),
	op[resetBody, none]("POST", "/accounts/:account/password", "Give somebody a new password",
		(*call).resetPassword).installation(),
)

type passwordBody struct {
	Old        string   `json:"old" shown:"no"`
	Password   string   `json:"password" shown:"no"`
	KeepTokens []string `json:"keepTokens,omitempty"` // names of personal tokens that stay; the others end
}

func (c *call) changePassword(in *passwordBody) (any, error) {
	if err := c.inPerson(); err != nil {
		return nil, err
	}
	if err := c.guesses(c.actor.ID); err != nil {
		return nil, err
	}
	return none{}, c.api.People.ChangePassword(c.ctx, c.actor, c.session, in.Old, in.Password, in.KeepTokens, c.from())
}

// inPerson asks for a session: a token that leaked must not be able to outlive itself.
func (c *call) inPerson() error {
	if !c.signedIn {
		return app.Faultf(app.Forbidden, "this takes somebody who is signed in to the console: a personal token "+
			"cannot do it")
	}
	return nil
}

// whose is the account of the address, or one's own.
func (c *call) whose() string { return cmp.Or(c.Param("account"), c.actor.ID) }

func (c *call) tokens(*none) (any, error) {
	items, err := c.api.Records.Tokens(c.ctx, c.whose())
	return listOf[app.Token]{items}, err
}

type tokenBody struct {
	Name string `json:"name"`
	Days int    `json:"days"`
	// Only is what the token is held to; nothing: all that its account may do.
	Only []onlyBody `json:"only,omitempty"`
}

type onlyBody struct {
	Project     string   `json:"project"`
	Environment string   `json:"environment,omitempty"` // all if left out
	Role        app.Role `json:"role"`
}

// newToken reads what a token is made for.
func (c *call) newToken(in *tokenBody) (people.NewToken, error) {
	out := people.NewToken{Name: in.Name, Days: in.Days}
	for i, only := range in.Only {
		place := fmt.Sprintf("only[%d]", i)
		if mend := app.CheckRole(only.Role); mend != "" {
			return out, app.InvalidField(place+".role", "%s", mend)
		}
		p, e, err := c.api.Records.Place(c.ctx, only.Project, only.Environment)
		if err != nil || p == nil || only.Environment != "" && e == nil {
			return out, app.InvalidField(place, "there is no such project or environment: %s %s", only.Project,
				only.Environment)
		}
		held := app.Narrowed{Project: p.ID, Role: only.Role}
		if e != nil {
			held.Environment = e.ID
		}
		out.Only = append(out.Only, held)
	}
	return out, nil
}

type madeToken struct {
	app.Token
	Secret string `json:"secret"`
}

func (c *call) addToken(in *tokenBody) (any, error) {
	if err := c.inPerson(); err != nil {
		return nil, err
	}
	asked, err := c.newToken(in)
	if err != nil {
		return nil, err
	}
	t, secret, err := c.api.People.AddToken(c.ctx, c.actor, asked)
	if err != nil {
		return nil, err
	}
	return madeToken{*t, secret}, nil
}

func (c *call) removeToken(*none) (any, error) {
	return none{}, c.api.People.RemoveToken(c.ctx, c.actor, c.whose(), c.Param("token"))
}

// SessionView is a session of somebody's.
type SessionView struct {
	ID string `json:"id"`
	app.Session
	Own bool `json:"own"` // it is the one that asks
}

func (c *call) sessions(*none) (any, error) {
	all, err := c.api.Records.Sessions(c.ctx, c.whose(), c.api.Now().UnixMilli())
	out := listOf[SessionView]{[]SessionView{}}
	for i := range all {
		out.Items = append(out.Items, SessionView{all[i].ID(), all[i], string(all[i].Digest) == string(c.session)})
	}
	return out, err
}

func (c *call) endSession(*none) (any, error) {
	return none{}, c.api.People.EndSession(c.ctx, c.actor, c.whose(), c.Param("session"))
}

func (c *call) accounts(*none) (any, error) {
	all, err := c.api.Records.Accounts(c.ctx)
	if err != nil {
		return nil, err
	}
	seen, err := c.api.Records.Seen(c.ctx)
	out := listOf[AccountView]{[]AccountView{}}
	for _, a := range all {
		out.Items = append(out.Items, AccountView{a, seen[a.ID]})
	}
	return out, err
}

// AccountView is an account, and when it was seen last, to some minutes.
type AccountView struct {
	app.Account
	Seen int64 `json:"seen,omitempty"`
}

type accountBody struct {
	Email    string `json:"email"`
	Name     string `json:"name"`
	Password string `json:"password" shown:"no"`
	Keeper   bool   `json:"keeper,omitempty"`
}

func (c *call) addAccount(in *accountBody) (any, error) {
	return c.api.People.AddAccount(c.ctx, c.actor, in.Email, in.Name, in.Password, in.Keeper)
}

func (c *call) editAccount(in *people.Edit) (any, error) {
	return c.api.People.EditAccount(c.ctx, c.actor, c.Param("account"), *in)
}

type findBody struct {
	Email string `json:"email"`
}

// Found is an account that was looked for.
type Found struct {
	Account string `json:"account"`
	Name    string `json:"name"`
}

// findAccount finds the account of an address, for who gives out roles. An address has no
// place in the address of a request, which proxies write down.
func (c *call) findAccount(in *findBody) (any, error) {
	a, err := c.api.Records.AccountByEmail(c.ctx, people.Address(in.Email))
	if err != nil {
		return nil, err
	}
	return Found{a.ID, a.Name}, nil
}

// keepsAny tells whether somebody keeps the installation or a project.
func (c *call) keepsAny() bool {
	for _, project := range c.actor.Grants.Projects() {
		if admit.Allow(&c.actor, app.Manage, project, 0) == nil {
			return true
		}
	}
	return c.actor.Keeper
}

type resetBody struct {
	Password string `json:"password" shown:"no"`
}

func (c *call) resetPassword(in *resetBody) (any, error) {
	return none{}, c.api.People.ResetPassword(c.ctx, c.actor, c.Param("account"), in.Password)
}
