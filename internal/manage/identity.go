package manage

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/identity"
)

var _ = listed(
	op[none, SignInWays]("GET", "/sign-in/ways", "How people sign in here", (*call).signInWays).public(),
	op[none, listOf[app.Identity]]("GET", "/me/identities", "Whom providers know as me, and who asks to be",
		(*call).identities),
	op[identityBody, none]("POST", "/me/identities/:identity", "Say that a subject of a provider is me, or is not",
		(*call).confirmIdentity),
	op[none, listOf[app.Identity]]("GET", "/accounts/:account/identities", "Whom providers know as somebody",
		(*call).identities).installation(),
	op[identityBody, none]("POST", "/accounts/:account/identities/:identity", "Say that a subject of a provider is "+
		"somebody, or is not", (*call).confirmIdentity).installation(),
	op[none, none]("DELETE", "/accounts/:account", "Remove an account: it is disabled, and its name and address are "+
		"taken out; what it did stays under its id", (*call).removeAccount).installation(),
)

// SignInWays are how people sign in.
type SignInWays struct {
	Providers []SignInWay `json:"providers"`
	// Passwords are taken of everybody; else of keepers of the installation alone.
	Passwords bool `json:"passwords"`
}

// SignInWay is a provider of identities.
type SignInWay struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

type identityBody struct {
	Is bool `json:"is"`
}

func (c *call) signInWays(*none) (any, error) {
	out := &SignInWays{Providers: []SignInWay{}, Passwords: !c.api.PasswordsOff}
	for _, p := range c.api.Providers {
		out.Providers = append(out.Providers, SignInWay{p.Key, p.Title})
	}
	return out, nil
}

func (c *call) identities(*none) (any, error) {
	items, err := c.api.Records.Identities(c.ctx, c.whose())
	return listOf[app.Identity]{items}, err
}

func (c *call) confirmIdentity(in *identityBody) (any, error) {
	if err := c.inPerson(); err != nil && c.Param("account") == "" {
		return nil, err
	}
	return none{}, c.api.People.Confirm(c.ctx, c.actor, c.whose(), c.Param("identity"), in.Is)
}

func (c *call) removeAccount(*none) (any, error) {
	return none{}, c.api.People.RemoveAccount(c.ctx, c.actor, c.Param("account"))
}

// addIdentity adds the addresses by which a browser goes to a provider and comes back.
func (a *API) addIdentity(e *echo.Echo) {
	e.GET("/sign-in/with/:provider", a.leaveForProvider)
	e.GET("/sign-in/back/:provider", a.backFromProvider)
}

const (
	keptCookie = "greenlever_sign_in"
	keptFor    = 10 * time.Minute
)

func (a *API) provider(key string) *identity.Provider {
	for _, p := range a.Providers {
		if p.Key == key {
			return p
		}
	}
	return nil
}

// back is where a provider sends browsers back to.
func (a *API) back(c *echo.Context, p *identity.Provider) string {
	scheme := "http"
	if a.Secure || c.Request().TLS != nil {
		scheme = "https"
	}
	return scheme + "://" + c.Request().Host + "/sign-in/back/" + p.Key
}

func (a *API) keep(c *echo.Context, value string, life time.Duration) {
	c.SetCookie(&http.Cookie{Name: keptCookie, Value: value, Path: "/sign-in/", HttpOnly: true, Secure: a.Secure,
		SameSite: http.SameSiteLaxMode, MaxAge: int(life.Seconds())})
}

func (a *API) leaveForProvider(ec *echo.Context) error {
	p := a.provider(ec.Param("provider"))
	if p == nil {
		return app.Faultf(app.NotFound, "there is no such way to sign in")
	}
	ctx, cancel := a.RequestContext(ec)
	defer cancel()
	if !a.rates.Allow("open "+ec.RealIP(), a.Limits.SignIns, 10*a.Limits.SignIns) {
		return app.Faultf(app.TooMany, "too many requests from this address: wait a moment")
	}
	address, kept, err := p.Begin(ctx, a.back(ec, p), within(ec.QueryParam("to")))
	if err != nil {
		return a.turnedAway(ec, p, err)
	}
	raw, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	a.keep(ec, base64.RawURLEncoding.EncodeToString(raw), keptFor)
	return ec.Redirect(http.StatusFound, address)
}

// within is an address of the console's own, and no other.
func within(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.HasPrefix(to, `/\`) {
		return "/"
	}
	return to
}

func (a *API) backFromProvider(ec *echo.Context) error {
	p := a.provider(ec.Param("provider"))
	if p == nil {
		return app.Faultf(app.NotFound, "there is no such way to sign in")
	}
	ctx, cancel := a.RequestContext(ec)
	defer cancel()
	var kept *identity.Kept
	if cookie, err := ec.Cookie(keptCookie); err == nil {
		raw, err := base64.RawURLEncoding.DecodeString(cookie.Value)
		if k := new(identity.Kept); err == nil && json.Unmarshal(raw, k) == nil {
			kept = k
		}
	}
	a.keep(ec, "", -time.Second) // one try each
	who, err := p.End(ctx, a.back(ec, p), kept, ec.QueryParam("code"), ec.QueryParam("state"))
	if err != nil {
		return a.turnedAway(ec, p, err)
	}
	secret, _, _, err := a.People.SignInWith(ctx, who, people.From{Address: ec.RealIP(),
		Agent: ec.Request().UserAgent()})
	if err != nil {
		return a.turnedAway(ec, p, err)
	}
	c := &call{Context: ec, api: a, ctx: ctx}
	c.setCookie(secret, people.SessionLifetime)
	return ec.Redirect(http.StatusFound, within(kept.To))
}

// turnedAway sends somebody back to the page where one signs in, which says why; the log has the reason alone.
func (a *API) turnedAway(ec *echo.Context, p *identity.Provider, err error) error {
	refused := new(identity.Refused)
	if !errors.As(err, &refused) {
		return err
	}
	a.Log.Warn("a sign-in with a provider was refused", "provider", p.Key, "reason", string(refused.Why))
	return ec.Redirect(http.StatusFound, "/sign-in?"+url.Values{"refused": {string(refused.Why)}}.Encode())
}
