package manage

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/board"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/web"
)

// The page for whoever has nothing but a phone and a bad line: plain forms, no script, a few kilobytes. It and its own
// sign-in are the only addresses that take forms, so each form carries the session's token, and what comes from a page
// of another origin is refused.

//go:embed stop_page.html
var stopPageText string

//go:embed stop_page.css
var stopPageStyle string

var stopPages = template.Must(template.New("").Funcs(template.FuncMap{
	"time":  func(ms int64) string { return time.UnixMilli(ms).UTC().Format("2006-01-02 15:04:05") + " UTC" },
	"ago":   lasted,
	"since": func(now, at int64) int64 { return max(0, now-at) },
	"css":   func() template.CSS { return template.CSS(stopPageStyle) },
	"query": url.QueryEscape,
}).Parse(stopPageText))

// stopPolicy lets the page's own style apply, its forms go to this service, and nothing else.
var stopPolicy = func() string {
	sum := sha256.Sum256([]byte(stopPageStyle))
	return "default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) +
		"'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
}()

// stopPage is what the page shows.
type stopPage struct {
	Trouble string // what went wrong
	Name    string // of who is signed in; empty: nobody
	Token   string
	At      string // project/environment
	Places  []string
	Find    string
	Flags   []stopPageFlag
	More    int
	NoList  bool // the flags cannot be read: a key is enough
	Armed   *stopPageFlag
	Stands  []StopView
	Done    *StopStory
	Waits   bool // not all processes have it yet: it is looked at again
	May     bool
	Away    bool // the records are
	Order   string
	Taken   *orders.Taken
	LiftIt  string // the stop that is about to be lifted
	Now     int64
}

type stopPageFlag struct {
	Key, Title, Loses, Resting, Gist string
	Changed                          int64
}

// mostStopFlags is how many flags the page lists.
const mostStopFlags = 40

func (a *API) addStopPage(e *echo.Echo) {
	e.GET("/stop", a.forms((*call).stopForm))
	e.POST("/stop", a.forms((*call).stopByForm))
	e.POST("/stop/lift", a.forms((*call).liftByForm))
	e.POST("/stop/sign-in", a.forms((*call).signInByForm))
	e.POST("/stop/order", a.forms((*call).orderByForm))
}

// forms answers one of the page's addresses: what goes wrong stands on the page.
func (a *API) forms(do func(c *call, p *stopPage) (next string, err error)) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(ec *echo.Context) error {
		ctx, cancel := a.RequestContext(ec)
		defer cancel()
		c, p := &call{Context: ec, api: a, ctx: ctx}, &stopPage{Now: a.Now().UnixMilli()}
		if err := protection.Check(ec.Request()); err != nil {
			return app.Faultf(app.Forbidden, "the request comes from a page of another origin")
		}
		ec.Request().Body = http.MaxBytesReader(ec.Response(), ec.Request().Body, flag.MaxOrder+16<<10)
		next, err := do(c, p)
		if err == nil && next != "" {
			return ec.Redirect(http.StatusSeeOther, next)
		}
		status := http.StatusOK
		var f *app.Fault
		if asked := errors.As(err, &f) && f.Kind == app.Unauthorized; err != nil &&
			!(asked && ec.Request().Method == http.MethodGet) { // who only looks is asked to sign in
			status, p.Trouble = web.Said(err)
		}
		p.Away = p.Away || f != nil && f.Kind == app.Unavailable
		return c.showForm(status, p)
	}
}

// orderByForm takes an emergency order that somebody signed elsewhere. Nobody signs in for it: that needs the records.
func (c *call) orderByForm(p *stopPage) (_ string, err error) {
	p.Away, p.Order = true, strings.TrimSpace(c.FormValue("order"))
	if err := c.api.AllowOrder(c.RealIP()); err != nil {
		return "", err
	}
	p.Taken, err = c.api.Emergency.Take(c.ctx, p.Order)
	return "", err
}

func (c *call) showForm(status int, p *stopPage) error {
	var b bytes.Buffer
	if err := stopPages.Execute(&b, p); err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Security-Policy", stopPolicy)
	h.Set("Cache-Control", "no-store")
	return c.HTMLBlob(status, b.Bytes())
}

// stopForm shows what can be stopped, asks once more for one flag, or shows who has a stop.
func (c *call) stopForm(p *stopPage) (string, error) {
	if err := c.bySession(); err != nil {
		return "", err
	}
	if err := c.stopPlace(p, c.QueryParam("at")); err != nil {
		return "", err
	}
	p.LiftIt = c.QueryParam("lift")
	if id := c.QueryParam("done"); id != "" {
		story, err := c.storyOf(id)
		if err != nil {
			return "", err
		}
		p.Done, p.Waits = story, story.Wave != nil && story.Wave.Reached < story.Wave.Expected
		return "", nil
	}
	if key := c.QueryParam("flag"); key != "" {
		p.Armed = c.armed(key)
		return "", nil
	}
	p.Find = c.QueryParam("find")
	c.listForm(p)
	return "", nil
}

// listForm lists the flags that are on, what changed last on top, and the stops that stand. What cannot be read keeps
// nobody from stopping by a flag's key.
func (c *call) listForm(p *stopPage) {
	if standing, err := c.standing(c.e, 0); err == nil {
		p.Stands = standing
	}
	query, err := board.Parse("on:" + c.e.Key + " " + p.Find)
	if err != nil {
		_, p.Trouble = web.Said(err)
		return
	}
	found, err := c.rows(query, []string{c.e.Key})
	if err != nil {
		p.NoList = true
		return
	}
	all := board.Arrange(found.found, board.ByChanged, board.Ungrouped, nil, c.api.Now())
	for _, s := range all[:min(len(all), mostStopFlags)] {
		cell := found.cells[c.e.Key][s.Row.Definition.Key]
		p.Flags = append(p.Flags, stopPageFlag{Key: s.Row.Definition.Key, Title: s.Row.Definition.Title,
			Gist: plainly(cell.Gist), Changed: cell.Changed})
	}
	p.More = len(all) - len(p.Flags)
}

// armed says what comes of a stop, as far as it can be read: the key alone is enough.
func (c *call) armed(key string) *stopPageFlag {
	out := &stopPageFlag{Key: key}
	if def, err := c.api.Records.Definition(c.ctx, c.p.ID, key); err == nil {
		out.Title, out.Loses = def.Title, def.Loses
	}
	if v, err := c.api.Records.Flag(c.ctx, c.e.ID, key); err == nil {
		out.Resting = v.Document.Resting
	}
	return out
}

// stopPlace finds the environment that is meant: the one that is named, or else the first that asks first, as
// production does, or the last one of the first project.
func (c *call) stopPlace(p *stopPage, at string) error {
	projects, err := c.api.Records.Projects(c.ctx)
	if err != nil {
		return err
	}
	account, err := c.api.Records.Account(c.ctx, c.actor.ID)
	if err != nil {
		return err
	}
	p.Name, p.Token = account.Name, c.csrf
	for i := range projects {
		if admit.Allow(&c.actor, app.Read, projects[i].ID, 0) != nil {
			continue
		}
		envs, err := c.api.Records.Environments(c.ctx, projects[i].ID)
		if err != nil {
			return err
		}
		for j := range envs {
			place := projects[i].Key + "/" + envs[j].Key
			p.Places = append(p.Places, place)
			better := c.e == nil || !c.e.AskFirst && (envs[j].AskFirst || c.p.ID == projects[i].ID)
			if place == at || at == "" && better {
				c.p, c.e, p.At = &projects[i], &envs[j], place
			}
		}
	}
	switch {
	case c.e == nil && at != "":
		return app.Faultf(app.NotFound, "there is no such environment, or you may not look at it")
	case c.e == nil:
		return app.Faultf(app.Forbidden, "you have no role in any project")
	}
	p.May = admit.Allow(&c.actor, app.StopIt, c.p.ID, c.e.ID) == nil
	return nil
}

// byForm admits a form of the page: who sent it, from which session, and for which place.
func (c *call) byForm(p *stopPage, action app.Action) error {
	if err := c.bySession(); err != nil {
		return err
	}
	if subtle.ConstantTimeCompare([]byte(c.FormValue("token")), []byte(c.csrf)) != 1 {
		return app.Faultf(app.Forbidden, "the form is of another session: open the page again")
	}
	if err := c.stopPlace(p, c.FormValue("at")); err != nil {
		return err
	}
	if err := admit.Allow(&c.actor, action, c.p.ID, c.e.ID); err != nil {
		return err
	}
	c.body = []byte(c.Request().Form.Encode())
	return nil
}

func (c *call) stopByForm(p *stopPage) (string, error) {
	if err := c.byForm(p, app.StopIt); err != nil {
		return "", err
	}
	key := strings.TrimSpace(c.FormValue("flag"))
	p.Armed = c.armed(key) // where it fails one may try again
	raw, err := c.stopOrLift(c.FormValue("reason"), &stops.Stop{Flags: []string{key}})
	if err != nil {
		return "", err
	}
	var out stops.Stopped
	if err := json.Unmarshal(web.MustJSON(raw), &out); err != nil {
		return "", err
	}
	return "/stop?at=" + url.QueryEscape(p.At) + "&done=" + url.QueryEscape(out.Stop), nil
}

func (c *call) liftByForm(p *stopPage) (string, error) {
	if err := c.byForm(p, app.LiftIt); err != nil {
		return "", err
	}
	id := c.FormValue("stop")
	if story, err := c.storyOf(id); err == nil {
		p.Done, p.LiftIt = story, id
	}
	if _, err := c.stopOrLift(c.FormValue("reason"), &stops.Lift{Stops: []string{id}}); err != nil {
		return "", err
	}
	return "/stop?at=" + url.QueryEscape(p.At) + "&done=" + url.QueryEscape(id), nil
}

func (c *call) signInByForm(*stopPage) (string, error) {
	email := c.FormValue("email")
	if err := c.guesses(email); err != nil {
		return "", err
	}
	secret, _, a, err := c.api.People.SignIn(c.ctx, email, c.FormValue("password"), c.from())
	if err != nil {
		return "", err
	}
	c.api.rates.Know(a.Email + " " + c.RealIP())
	c.setCookie(secret, people.SessionLifetime)
	return "/stop", nil
}
