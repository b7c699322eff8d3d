package manage

import (
	"context"
	"crypto/subtle"
	"net/http"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/web"
)

var _ = listed(
	op[signInBody, Me]("POST", "/sign-in", "Start a session; its cookie is set, its CSRF token answered",
		(*call).signIn).public(),
	op[setUpBody, people.FirstAccount]("POST", "/set-up", "Make the first account, with the code that the service "+
		"printed",
		(*call).setUp).public().made(),
	op[none, none]("POST", "/sign-out", "End this session", (*call).signOut),
	op[none, Me]("GET", "/me", "Who am I, and what may I do", (*call).getMe),
)

const (
	cookieName = "greenlever"
	// Over TLS the browser itself sees to it that the cookie is this host's alone.
	secureCookieName = "__Host-greenlever"
	csrfHeader       = "X-Greenlever-CSRF"
)

// identify finds out who calls: a personal token, or a session's cookie with its CSRF
// token for everything that is not a plain read.
func (c *call) identify() error {
	secret := web.Bearer(c.Request())
	switch {
	case strings.HasPrefix(secret, "gls_"), strings.HasPrefix(secret, "glb_"):
		return app.Faultf(app.Forbidden, "access keys are for software that follows or evaluates: the management "+
			"API takes a personal token")
	case secret != "":
		return c.byToken(secret)
	}
	if err := c.bySession(); err != nil {
		return err
	}
	if m := c.Request().Method; m != http.MethodGet && m != http.MethodHead {
		if subtle.ConstantTimeCompare([]byte(c.Request().Header.Get(csrfHeader)), []byte(c.csrf)) != 1 {
			return app.Faultf(app.Forbidden, "the request lacks the session's %s header", csrfHeader)
		}
	}
	return nil
}

// bySession finds out who calls by the session's cookie. Whoever takes a change by it asks for its token besides.
func (c *call) bySession() error {
	cookie, err := c.Cookie(c.api.cookieName())
	if err != nil || cookie.Value == "" {
		return app.Faultf(app.Unauthorized, "sign in, or send a personal token: Authorization: Bearer glt_...")
	}
	c.session = people.Digest(cookie.Value)
	s, err := c.api.Records.CallerBySession(c.ctx, c.session, c.api.Now().UnixMilli())
	if err != nil {
		return err
	}
	if s == nil {
		return app.Faultf(app.Unauthorized, "the session has ended: sign in again")
	}
	c.csrf = s.CSRF
	c.signedIn = true
	return c.person(s, "session", "console")
}

func (c *call) byToken(secret string) error {
	t, err := c.api.Records.CallerByToken(c.ctx, people.TokenDigest(secret))
	if err != nil {
		return err
	}
	switch {
	case t == nil:
		return app.Faultf(app.Unauthorized, "the personal token is not known: it was removed, or mistyped")
	case t.Expires <= c.api.Now().UnixMilli():
		return app.Faultf(app.Unauthorized, "the personal token %q expired at %s: make a new one", t.Label,
			time.UnixMilli(t.Expires).UTC().Format(time.RFC3339))
	}
	through := "api"
	if strings.HasPrefix(c.Request().UserAgent(), "greenlever-cli") {
		through = "cli"
	}
	return c.person(t, "token "+t.Credential, through)
}

func (c *call) person(who *app.Caller, credential, through string) error {
	if who.Account.Disabled > 0 {
		return app.Faultf(app.Unauthorized, "this account is disabled: ask a keeper of the installation")
	}
	c.actor = app.Actor{Kind: "person", ID: who.Account.ID, Credential: credential, Through: through,
		Keeper: who.Account.Keeper, Grants: who.Grants, Is: append(who.Teams, who.Account.Email)}
	if who.Account.IsRobot() {
		c.actor.Kind = "robot"
	}
	if n := who.Narrow; n != nil {
		c.actor.OnBehalfOf, c.actor.Narrow = n.By, n
		c.actor.Keeper = c.actor.Keeper && len(n.Only) == 0
	}
	c.api.notice(c.ctx, who.Account.ID)
	if !c.api.rates.Allow("person "+who.Account.ID, c.api.Limits.Rate, 2*c.api.Limits.Rate) {
		return app.Faultf(app.TooMany, "too many requests: at most %.0f a second", c.api.Limits.Rate)
	}
	return nil
}

// seenEvery is how often is kept that somebody was seen.
const seenEvery = 5 * time.Minute

// notice keeps when somebody was seen last, now and then. That it cannot be kept keeps nobody from working.
func (a *API) notice(ctx context.Context, account string) {
	now := a.Now().UnixMilli()
	if last, is := a.seen.Load(account); a.See == nil || is && now-last.(int64) < seenEvery.Milliseconds() {
		return
	}
	a.seen.Store(account, now)
	if err := a.See(ctx, account, now); err != nil {
		a.seen.Delete(account)
	}
}

// setCookie keeps the session in the browser, out of reach of scripts. Other sites can make
// a browser send it with a link that is followed, such as one in an alert, and no more;
// everything that changes something wants the CSRF token besides.
func (c *call) setCookie(secret string, life time.Duration) {
	c.SetCookie(&http.Cookie{Name: c.api.cookieName(), Value: secret, Path: "/", HttpOnly: true, Secure: c.api.Secure,
		SameSite: http.SameSiteLaxMode, MaxAge: int(life.Seconds())})
}

func (a *API) cookieName() string {
	if a.Secure {
		return secureCookieName
	}
	return cookieName
}

// from is where the request comes from.
func (c *call) from() people.From {
	return people.From{Address: c.RealIP(), Agent: c.Request().UserAgent()}
}

// guesses bounds how often a password may be guessed. Whoever is right from an address is
// known there, and no guessing from elsewhere locks them out.
func (c *call) guesses(account string) error {
	limits, address, perMinute := &c.api.rates, c.RealIP(), c.api.Limits.SignIns
	account = people.Address(account)
	ok := limits.Allow("guess from "+address, perMinute*3/60, perMinute*3) && limits.Allow("guess "+account+" from "+
		address, perMinute/60, perMinute) &&
		(limits.Known(account+" "+address) || limits.Allow("guess "+account, perMinute*6/60, perMinute*6))
	if !ok {
		return app.Faultf(app.TooMany, "too many tries: wait a minute")
	}
	return nil
}

type signInBody struct {
	Email    string `json:"email"`
	Password string `json:"password" shown:"no"`
}

// Me is who is signed in.
type Me struct {
	Account app.Account           `json:"account"`
	Roles   map[string][]app.Role `json:"roles"` // by project, in all of its environments
	// In are roles that count in one environment alone, by project and environment.
	In map[string]map[string][]app.Role `json:"in,omitempty"`
	// Takes says which roles may do what: one of them is enough.
	Takes map[app.Action][]app.Role `json:"takes"`
	CSRF  string                    `json:"csrf,omitempty"`
}

func (c *call) signIn(in *signInBody) (any, error) {
	if err := c.guesses(in.Email); err != nil {
		return nil, err
	}
	secret, session, a, err := c.api.People.SignIn(c.ctx, in.Email, in.Password, c.from())
	if err != nil {
		return nil, err
	}
	c.api.rates.Know(a.Email + " " + c.RealIP())
	c.setCookie(secret, people.SessionLifetime)
	return c.me(a, session.CSRF)
}

func (c *call) me(a *app.Account, csrf string) (*Me, error) {
	grants := c.actor.Grants // of a token they may be fewer than its account's
	if c.actor.ID != a.ID {
		var err error
		if grants, err = c.api.Records.GrantsOf(c.ctx, a.ID); err != nil {
			return nil, err
		}
	}
	projects, err := c.api.Records.Projects(c.ctx)
	if err != nil {
		return nil, err
	}
	roles, in := map[string][]app.Role{}, map[string]map[string][]app.Role{}
	for _, p := range projects {
		if _, reads := grants.Allows(app.Read, p.ID, 0); !reads {
			continue
		}
		if roles[p.Key] = grants.Roles(p.ID, 0); roles[p.Key] == nil {
			roles[p.Key] = []app.Role{}
		}
		here, err := c.rolesByPlace(&p, grants)
		if err != nil {
			return nil, err
		}
		if here != nil {
			in[p.Key] = here
		}
	}
	takes := map[app.Action][]app.Role{}
	for _, action := range app.Actions() {
		takes[action] = action.Takes()
	}
	return &Me{Account: *a, Roles: roles, In: in, Takes: takes, CSRF: csrf}, nil
}

func (c *call) getMe(*none) (any, error) {
	a, err := c.api.Records.Account(c.ctx, c.actor.ID)
	if err != nil {
		return nil, err
	}
	return c.me(a, c.csrf)
}

func (c *call) signOut(*none) (any, error) {
	c.setCookie("", -time.Second)
	if !c.signedIn {
		return nil, app.Faultf(app.Conflict, "a personal token has no session to end: remove the token")
	}
	return struct{}{}, c.api.People.SignOut(c.ctx, c.actor, c.session, c.from())
}

type setUpBody struct {
	Code     string `json:"code"`
	Email    string `json:"email"`
	Name     string `json:"name"`
	Password string `json:"password" shown:"no"`
}

func (c *call) setUp(in *setUpBody) (any, error) {
	if !c.api.rates.Allow("set-up", 1, 10) {
		return nil, app.Faultf(app.TooMany, "too many tries: wait a moment")
	}
	return c.api.People.SetUp(c.ctx, in.Code, in.Email, in.Name, in.Password, "api")
}
