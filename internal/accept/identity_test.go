package accept

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/identity/standin"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

// company is a service whose people sign in with a provider.
type company struct {
	*gltest.Service
	provider *standin.Provider
	log      *logged
}

// logged is a log that can be read while it is written.
type logged struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *logged) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func companyOf(t *testing.T, change ...func(*server.Config)) *company {
	t.Helper()
	c := &company{log: &logged{}, provider: &standin.Provider{Client: "greenlever", Now: time.Now, People: []standin.Person{
		{Subject: "s-per", Email: "per.lund@pinecrest.example", Name: "Per Lund", Groups: []string{"door-crew", "choir"}},
		{Subject: "s-ida", Email: gltest.KeeperEmail, Name: "Ida Holm", Groups: []string{"door-crew"}}}}}
	there := httptest.NewServer(c.provider)
	t.Cleanup(there.Close)
	c.provider.Issuer = there.URL
	c.Service = gltest.Start(t, append(change, func(conf *server.Config) {
		conf.Log = slog.New(slog.NewTextHandler(c.log, nil))
		conf.Identity.Providers = []identity.Settings{{Key: "company", Title: "Pinecrest", Issuer: there.URL, Client: "greenlever",
			Groups: "groups", Teams: map[string]string{"door-crew": "doors"}}}
	})...)
	c.Keeper.Do(t, "PUT", "/teams/doors", object{"title": "Doors", "members": []string{}}, 200, nil)
	c.Keeper.Do(t, "PUT", "/projects/pinecrest/teams/doors", object{"roles": []string{"releaser"}}, 200, nil)
	return c
}

// signIn is a browser that signs in as a subject; it gives the page that it ends on, and who is signed in then.
func (c *company) signIn(t *testing.T, subject string, back ...func(*url.URL)) (page string, me *manage.Me, browser *http.Client) {
	t.Helper()
	jar, _ := cookiejar.New(nil)
	browser = &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if strings.HasPrefix(r.URL.Path, "/sign-in/back/") {
			for _, twist := range back {
				twist(r.URL)
			}
		}
		if r.URL.Path == "/authorize" {
			q := r.URL.Query()
			q.Set("as", subject)
			r.URL.RawQuery = q.Encode()
		}
		return nil
	}}
	res, err := browser.Get(c.URL() + "/sign-in/with/company?to=/p/pinecrest/releases")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	page = res.Request.URL.RequestURI()
	res, err = browser.Get(c.URL() + "/api/v1/me")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if res.StatusCode == 200 {
		me = &manage.Me{}
		raw, _ := io.ReadAll(res.Body)
		if err := json.Unmarshal(raw, me); err != nil {
			t.Fatal(err)
		}
	}
	return page, me, browser
}

// Who comes from the company's provider gets an account, and the roles of the teams that its groups mean; an account
// that was there is bound once somebody says so; who is disabled or removed stays out.
func TestSignInWithAProvider(t *testing.T) {
	t.Parallel()
	c := companyOf(t)
	page, per, _ := c.signIn(t, "s-per")
	if page != "/p/pinecrest/releases" || per == nil || per.Account.Name != "Per Lund" || len(per.Roles["pinecrest"]) != 1 ||
		per.Roles["pinecrest"][0] != app.Releaser {
		t.Fatalf("%s %+v", page, per)
	}
	// Groups are read at each sign-in.
	c.provider.People[0].Groups = []string{"choir"}
	if _, again, _ := c.signIn(t, "s-per"); again == nil || again.Account.ID != per.Account.ID || len(again.Roles) != 0 {
		t.Errorf("%+v", again)
	}
	// The address alone binds nothing.
	page, ida, _ := c.signIn(t, "s-ida")
	if page != "/sign-in?refused=unbound" || ida != nil {
		t.Errorf("%s %+v", page, ida)
	}
	var asks struct{ Items []app.Identity }
	c.Keeper.Do(t, "GET", "/me/identities", nil, 200, &asks)
	if len(asks.Items) != 1 || asks.Items[0].Confirmed != 0 {
		t.Fatalf("%+v", asks)
	}
	c.Keeper.Do(t, "POST", "/me/identities/"+asks.Items[0].ID, object{"is": true}, 403, nil) // a token cannot
	c.Session(t, gltest.KeeperEmail).Do(t, "POST", "/me/identities/"+asks.Items[0].ID, object{"is": true}, 200, nil)
	if _, ida, _ = c.signIn(t, "s-ida"); ida == nil || !ida.Account.Keeper {
		t.Errorf("%+v", ida)
	}
	var all struct{ Items []manage.AccountView }
	c.Keeper.Do(t, "GET", "/accounts", nil, 200, &all)
	for _, a := range all.Items {
		if a.Seen == 0 {
			t.Errorf("%s was never seen", a.Email)
		}
	}
	// Nobody signs in to it by a password that it does not have.
	gltest.Caller{URL: c.URL()}.Do(t, "POST", "/sign-in", object{"email": "per.lund@pinecrest.example", "password": ""}, 401, nil)
	c.Keeper.Do(t, "PATCH", "/accounts/"+per.Account.ID, object{"disabled": true}, 200, nil)
	if page, gone, _ := c.signIn(t, "s-per"); gone != nil || page != "/sign-in?refused=disabled" {
		t.Errorf("%s %+v", page, gone)
	}
	c.Keeper.Do(t, "DELETE", "/accounts/"+per.Account.ID, nil, 200, nil)
	c.Keeper.Do(t, "GET", "/accounts", nil, 200, &all)
	for _, a := range all.Items {
		if strings.Contains(a.Name+a.Email, "per.lund") || strings.Contains(a.Name, "Per Lund") {
			t.Errorf("%+v is still there", a)
		}
	}
	if _, anew, _ := c.signIn(t, "s-per"); anew == nil || anew.Account.ID == per.Account.ID {
		t.Errorf("%+v", anew)
	}
	if r := verify(t, c.Service); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// Every token that is not as it should be is refused with its reason, and nothing of it is in the log.
func TestWrongTokens(t *testing.T) {
	t.Parallel()
	c := companyOf(t)
	ahead := func(d time.Duration) int64 { return time.Now().Add(d).Unix() }
	for name, w := range map[string]struct {
		twist func(claims map[string]any) bool
		back  func(*url.URL)
		why   identity.Why
	}{
		"another issuer":   {twist: func(c map[string]any) bool { c["iss"] = "https://elsewhere.example"; return false }, why: identity.Issuer},
		"another audience": {twist: func(c map[string]any) bool { c["aud"] = "another"; return false }, why: identity.Audience},
		"of several, another": {twist: func(c map[string]any) bool {
			c["aud"], c["azp"] = []string{"greenlever", "another"}, "another"
			return false
		}, why: identity.Audience},
		"too old":              {twist: func(c map[string]any) bool { c["exp"] = ahead(-2 * time.Minute); return false }, why: identity.Expired},
		"a little too old":     {twist: func(c map[string]any) bool { c["exp"] = ahead(-30 * time.Second); return false }},
		"of the future":        {twist: func(c map[string]any) bool { c["iat"] = ahead(2 * time.Minute); return false }, why: identity.Clock},
		"a little ahead":       {twist: func(c map[string]any) bool { c["iat"] = ahead(30 * time.Second); return false }},
		"not yet":              {twist: func(c map[string]any) bool { c["nbf"] = ahead(2 * time.Minute); return false }, why: identity.Clock},
		"without a nonce":      {twist: func(c map[string]any) bool { delete(c, "nonce"); return false }, why: identity.Nonce},
		"another nonce":        {twist: func(c map[string]any) bool { c["nonce"] = "another"; return false }, why: identity.Nonce},
		"a key of nobody":      {twist: func(map[string]any) bool { return true }, why: identity.Key},
		"without groups":       {twist: func(c map[string]any) bool { delete(c, "groups"); return false }, why: identity.Groups},
		"an unchecked address": {twist: func(c map[string]any) bool { c["email_verified"] = false; return false }, why: identity.Address},
		"a code of nobody":     {back: func(u *url.URL) { set(u, "code", "another") }, why: identity.Replayed},
		"no code":              {back: func(u *url.URL) { set(u, "code", "") }, why: identity.Denied},
		"another state":        {back: func(u *url.URL) { set(u, "state", "another") }, why: identity.State},
	} {
		c.provider.Twist = w.twist
		var back []func(*url.URL)
		if w.back != nil {
			back = append(back, w.back)
		}
		page, me, _ := c.signIn(t, "s-per", back...)
		want := "/sign-in?refused=" + string(w.why)
		if w.why == "" {
			want = "/p/pinecrest/releases"
		}
		if page != want || (me != nil) != (w.why == "") {
			t.Errorf("%s: %s, %+v", name, page, me)
		}
	}
	c.provider.Twist = nil
	// A code that was used once: the browser goes back to where it came from a second time.
	var address string
	_, me, browser := c.signIn(t, "s-per", func(u *url.URL) { address = u.String() })
	if me == nil {
		t.Fatal("nobody is signed in")
	}
	res, err := browser.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if page := res.Request.URL.RequestURI(); page != "/sign-in?refused=state" {
		t.Errorf("a code twice: %s", page)
	}
	for _, secret := range []string{"per.lund", "s-per", "nonce=", "code=", "eyJ"} {
		if strings.Contains(c.log.String(), secret) {
			t.Errorf("the log has %s: %s", secret, c.log.String())
		}
	}
}

func set(u *url.URL, name, value string) {
	q := u.Query()
	q.Set(name, value)
	u.RawQuery = q.Encode()
}

// Passwords can be for keepers of the installation alone.
func TestPasswordsOff(t *testing.T) {
	t.Parallel()
	c := companyOf(t, func(c *server.Config) { c.Identity.LocalOff = true })
	c.Keeper.Do(t, "POST", "/accounts", object{"email": "noor.berg@pinecrest.example", "name": "Noor", "password": gltest.Password}, 201, nil)
	guest := gltest.Caller{URL: c.URL()}
	guest.Do(t, "POST", "/sign-in", object{"email": "noor.berg@pinecrest.example", "password": gltest.Password}, 403, nil)
	guest.Do(t, "POST", "/sign-in", object{"email": gltest.KeeperEmail, "password": gltest.Password}, 200, nil)
	var ways manage.SignInWays
	guest.Do(t, "GET", "/sign-in/ways", nil, 200, &ways)
	if ways.Passwords || len(ways.Providers) != 1 || ways.Providers[0].Title != "Pinecrest" {
		t.Errorf("%+v", ways)
	}
}
