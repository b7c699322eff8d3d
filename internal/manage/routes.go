package manage

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/strictjson"
	"greenlever.example/greenlever/internal/web"
)

// none is the body of requests that have none.
type none struct{}

// route is one entry of the management API's table. What a caller must be for it stands here,
// so that it is asked before anything of the request is read: see [API.serve].
type route struct {
	method, path string
	says         string
	in, out      reflect.Type
	status       int
	open         bool       // to those who are not signed in
	keeper       bool       // for keepers of the installation
	keepers      bool       // for keepers of the installation or of any project
	action       app.Action // in the project or environment of the address
	changes      bool       // takes dryRun and Idempotency-Key
	versioned    bool       // takes If-Match
	large        bool       // takes bodies that are as long as those of plans are
	located      bool       // what it makes has an address below its own, by key or id
	query        []string
	handle       func(c *call) (any, error)
	raw          func(c *call) error // reads the body and writes the answer by itself
}

// op makes an entry; Out is what a success answers with.
func op[In, Out any](method, path, says string, handle func(c *call, in *In) (any, error)) route {
	return route{method: method, path: path, says: says, in: reflect.TypeFor[In](), out: reflect.TypeFor[Out](),
		status: http.StatusOK,
		handle: func(c *call) (any, error) {
			var in In
			if problems := strictjson.DecodeShown(c.body, &in, app.CheckShown); problems != nil {
				return nil, app.InvalidFields(problems)
			}
			return handle(c, &in)
		}}
}

// raw makes an entry for what is no JSON: files and streams.
func raw(method, path string, handle func(c *call) error) route {
	return route{method: method, path: path, raw: handle}
}

func (r route) made() route              { r.status = http.StatusCreated; return r }
func (r route) below() route             { r.located = true; return r.made() }
func (r route) public() route            { r.open = true; return r }
func (r route) installation() route      { r.keeper = true; return r }
func (r route) ofKeepers() route         { r.keepers = true; return r }
func (r route) needs(a app.Action) route { r.action = a; return r }
func (r route) long() route              { r.large = true; return r }
func (r route) ifMatch() route           { r.versioned = true; return r }
func (r route) change() route {
	r.changes = true
	return r.takes("dryRun", "propose", "title", "force")
}
func (r route) takes(query ...string) route {
	r.query = append(slices.Clone(r.query), query...)
	return r
}

// Addresses that others stand below.
const (
	atProject     = "/projects/:project"
	atEnvironment = "/projects/:project/environments/:environment"
)

// table is the management API. Each file lists the routes of its noun in it, beside what answers them.
var table []route

// listed adds routes to the table.
func listed(routes ...route) struct{} {
	table = append(table, routes...)
	return struct{}{}
}

// listOf is the answer of a route that lists things.
type listOf[T any] struct {
	Items []T `json:"items"`
}

// serve answers one route. Who calls, whether they may, and whether the request is one of
// this route is settled before a byte of its body is read.
func (a *API) serve(r route) echo.HandlerFunc {
	return func(ec *echo.Context) error {
		ctx, cancel := a.RequestContext(ec)
		defer cancel()
		c := &call{Context: ec, api: a, ctx: ctx}
		c.Response().Header().Set("Cache-Control", "no-store")
		if err := c.admit(&r); err != nil {
			return err
		}
		if r.raw != nil {
			return r.raw(c)
		}
		var err error
		limit := a.Limits.Body
		if r.large {
			limit *= 32
		}
		if c.body, err = web.ReadBody(ec, limit); err != nil {
			return err
		}
		out, err := r.handle(c)
		if a := (proposedAnswer{}); errors.As(err, &a) {
			return c.proposed(a)
		}
		if err != nil {
			environment := int64(0)
			if c.e != nil {
				environment = c.e.ID
			}
			return c.named(err, environment)
		}
		c.name(&r, out)
		if r.method == http.MethodGet && c.p != nil && c.Response().Header().Get("ETag") == "" {
			return c.unlessHad(out)
		}
		return c.JSON(r.status, out)
	}
}

// unlessHad answers what was read, or that the caller has it already. A browser may keep it, and asks
// each time whether it still stands: so the rights of who asks are judged each time as well.
func (c *call) unlessHad(out any) error {
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, no-cache")
	c.Response().Header().Set("Vary", "Cookie, Authorization")
	if web.Tagged(c.Context, raw) {
		return c.NoContent(http.StatusNotModified)
	}
	return c.JSONBlob(http.StatusOK, raw)
}

// admit is the one way in to the management API: credentials, limits, rights, and what the
// route takes, in this order.
func (c *call) admit(r *route) error {
	if r.open {
		if !c.api.rates.Allow("open "+c.RealIP(), c.api.Limits.SignIns, 10*c.api.Limits.SignIns) {
			return app.Faultf(app.TooMany, "too many requests from this address: wait a moment")
		}
	} else if err := c.identify(); err != nil {
		return err
	}
	if r.keeper {
		if err := admit.Installation(&c.actor); err != nil {
			return err
		}
	}
	if r.keepers && !c.keepsAny() {
		return app.Faultf(app.Forbidden, "only keepers of a project or of the installation may do this")
	}
	if err := c.place(r); err != nil {
		return err
	}
	for name := range c.QueryParams() {
		if !slices.Contains(r.query, name) {
			return app.InvalidField(name, "is no parameter of this address: it takes %s", orNone(r.query))
		}
	}
	h := c.Request().Header
	if !r.changes && h.Get("Idempotency-Key") != "" && (r.open || r.mutates()) {
		return app.InvalidField("Idempotency-Key", "is not taken here: nothing is done twice that was answered, so "+
			"look before you repeat it")
	}
	if c.Request().ContentLength != 0 && r.raw == nil {
		kind, _, err := mime.ParseMediaType(h.Get("Content-Type"))
		if err != nil || kind != "application/json" {
			return echo.NewHTTPError(http.StatusUnsupportedMediaType, "send the body as application/json")
		}
	}
	return nil
}

// mutates tells whether a route that is no change of the project's changes something all the
// same, such as an account.
func (r *route) mutates() bool {
	return r.method != http.MethodGet && r.action == "" && !strings.HasPrefix(r.path, "/conditions/")
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// place finds the project and the environment of the address, for those who may do there
// what the route does.
func (c *call) place(r *route) (err error) {
	if !strings.HasPrefix(r.path, "/projects/:project") {
		return nil
	}
	inEnvironment := strings.Contains(r.path, "/:environment")
	if c.p, c.e, err = c.api.Records.Place(c.ctx, c.Param("project"), c.Param("environment")); err != nil {
		return err
	}
	if err := admit.Allow(&c.actor, app.Read, c.p.ID, 0); err != nil {
		return err
	}
	environment := int64(0)
	if inEnvironment {
		if c.e == nil {
			return app.Faultf(app.NotFound, "there is no environment %s in this project", c.Param("environment"))
		}
		environment = c.e.ID
	}
	if r.changes && c.proposing() != "" {
		return c.allow(app.Propose, environment)
	}
	return c.allow(r.action, environment)
}

// allow says also who could, where the caller may not.
func (c *call) allow(action app.Action, environment int64) error {
	return c.named(admit.Allow(&c.actor, action, c.p.ID, environment), environment)
}

// named adds to a refusal who could do what was asked.
func (c *call) named(err error, environment int64) error {
	fault := new(app.Fault)
	if !errors.As(err, &fault) || fault.Kind != app.Forbidden || c.p == nil || fault.More["could"] != nil {
		return err
	}
	action, is := fault.More["action"].(app.Action)
	if !is {
		return err
	}
	names, failed := c.whoCould(action, environment)
	if failed != nil || len(names) == 0 {
		return err // the refusal stands by itself
	}
	fault.More["could"] = names
	if more := len(names) - 3; more > 0 {
		names = append(names[:3:3], fmt.Sprintf("%d more", more))
	}
	fault.Detail += "; " + strings.Join(names, ", ") + " could"
	return err
}

// versioned answers carry their version in ETag.
type versioned interface{ version() int64 }

// name puts the version of what is answered into ETag, also where it was just saved, and the
// address of what was made into Location.
func (c *call) name(r *route, out any) {
	h := c.Response().Header()
	if v, ok := out.(versioned); ok {
		h.Set("ETag", `"`+strconv.FormatInt(v.version(), 10)+`"`)
	}
	raw, ok := out.(json.RawMessage)
	if !ok || c.QueryParam("dryRun") == "true" {
		return
	}
	var saved struct {
		Version *int64
		Key, ID string
	}
	if json.Unmarshal(raw, &saved) != nil {
		return
	}
	if r.versioned && saved.Version != nil {
		h.Set("ETag", `"`+strconv.FormatInt(*saved.Version, 10)+`"`)
	}
	if last := cmp.Or(saved.Key, saved.ID); r.located && last != "" {
		h.Set("Location", c.Request().URL.Path+"/"+last)
	}
}

// apply makes a change in the place of the address.
func (c *call) apply(reason, of string, do any) (json.RawMessage, error) {
	r, versions, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	return c.make(r, commit.Change{In: commit.In{Project: c.p, Environment: c.e}, Of: of, Versions: versions, Do: do})
}

// request gathers what every change needs to know of the call, with the versions that the caller
// has seen.
func (c *call) request(reason string) (r commit.Request, seen []int64, err error) {
	r = commit.Request{Actor: c.actor, Reason: strings.TrimSpace(reason),
		ID: c.Request().Header.Get("Idempotency-Key")}
	if mend := app.CheckText(r.ID, 0, 100); mend != "" {
		return r, nil, app.InvalidField("Idempotency-Key", "%s", mend)
	}
	r.Digest = audit.Digest([]byte(c.Request().Method + " " + c.Request().URL.RequestURI() + " " +
		c.Request().Header.Get("If-Match") + "\n" + string(c.body)))
	switch v := c.QueryParam("dryRun"); v {
	case "", "false":
	case "true":
		r.DryRun, r.ID = true, ""
	default:
		return r, nil, app.InvalidField("dryRun", "must be true or false")
	}
	switch c.QueryParam("force") {
	case "":
	case "true":
		if !c.actor.Keeper {
			return r, nil, app.Faultf(app.Forbidden, "only a keeper of the installation has policies overruled")
		}
		if r.Reason == "" {
			return r, nil, app.InvalidField("reason", "say why the policies are overruled")
		}
		r.Force = true
	default:
		return r, nil, app.InvalidField("force", "must be true, or left out")
	}
	seen, err = web.Versions(c.Context)
	return r, seen, err
}
