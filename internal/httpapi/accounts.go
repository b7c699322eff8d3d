package httpapi

import (
	"net/url"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

type passwordBody struct {
	Old      string `json:"old"`
	Password string `json:"password"`
}

func (c *call) changePassword(in *passwordBody) (any, error) {
	return none{}, c.api.People.ChangePassword(c.ctx, c.actor, c.session, in.Old, in.Password)
}

func (c *call) tokens(*none) (any, error) {
	items, err := c.api.Records.Tokens(c.ctx, c.actor.ID)
	return listOf[app.Token]{items}, err
}

type tokenBody struct {
	Name string `json:"name"`
	Days int    `json:"days"`
}

type madeToken struct {
	app.Token
	Secret string `json:"secret"`
}

func (c *call) addToken(in *tokenBody) (any, error) {
	t, secret, err := c.api.People.AddToken(c.ctx, c.actor, in.Name, in.Days)
	if err != nil {
		return nil, err
	}
	return madeToken{*t, secret}, nil
}

func (c *call) removeToken(*none) (any, error) {
	return none{}, c.api.People.RemoveToken(c.ctx, c.actor, c.Param("token"))
}

func (c *call) accounts(*none) (any, error) {
	if err := app.AllowInstallation(&c.actor); err != nil {
		return nil, err
	}
	items, err := c.api.Records.Accounts(c.ctx)
	return listOf[app.Account]{items}, err
}

type accountBody struct {
	Email    string `json:"email"`
	Name     string `json:"name"`
	Password string `json:"password"`
	Keeper   bool   `json:"keeper,omitempty"`
}

func (c *call) addAccount(in *accountBody) (any, error) {
	return c.api.People.AddAccount(c.ctx, c.actor, in.Email, in.Name, in.Password, in.Keeper)
}

type resetBody struct {
	Password string `json:"password"`
}

func (c *call) resetPassword(in *resetBody) (any, error) {
	if err := app.AllowInstallation(&c.actor); err != nil {
		return nil, err
	}
	a, err := c.account()
	if err != nil {
		return nil, err
	}
	return none{}, c.api.People.ResetPassword(c.ctx, c.actor, a.ID, in.Password)
}

// account is the account of the address: by its id or its e-mail address.
func (c *call) account() (*app.Account, error) {
	who := c.Param("account")
	if raw, err := url.PathUnescape(who); err == nil {
		who = raw
	}
	if strings.Contains(who, "@") {
		return c.api.Records.AccountByEmail(c.ctx, who)
	}
	return c.api.Records.Account(c.ctx, who)
}
