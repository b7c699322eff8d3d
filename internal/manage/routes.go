package manage

import (
	"cmp"
	"encoding/json"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/radar"
	"greenlever.example/greenlever/internal/app/seeas"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/app/testunits"
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
			if problems := strictjson.Decode(c.body, &in); problems != nil {
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
func (r route) ifMatch() route           { r.versioned = true; return r }
func (r route) change() route            { r.changes = true; return r.takes("dryRun") }
func (r route) takes(query ...string) route {
	r.query = append(slices.Clone(r.query), query...)
	return r
}

// routes is the management API.
func (a *API) routes() []route {
	const project, env = "/projects/:project", "/projects/:project/environments/:environment"
	return []route{
		op[signInBody, Me]("POST", "/sign-in", "Start a session; its cookie is set, its CSRF token answered",
			(*call).signIn).public(),
		op[setUpBody, app.Account]("POST", "/set-up", "Make the first account, with the code that the service printed",
			(*call).setUp).public().made(),
		op[none, none]("POST", "/sign-out", "End this session", (*call).signOut),
		op[none, Me]("GET", "/me", "Who am I, and what may I do", (*call).getMe),
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
		op[none, listOf[app.Account]]("GET", "/accounts", "All accounts", (*call).accounts).installation(),
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
		op[resetBody, none]("POST", "/accounts/:account/password", "Give somebody a new password",
			(*call).resetPassword).installation(),
		op[reasonBody, epochBody]("POST", "/epoch", "Start a new epoch, after the records were restored from a backup",
			(*call).newEpoch).installation().change(),
		op[none, historyPage]("GET", "/history", "The access chain, newest first", (*call).history).takes("person",
			"from", "to", "cursor", "limit").installation(),
		op[none, audit.Report]("GET", "/verify", "Verify the access chain, a portion at a time",
			(*call).verify).takes("cursor").installation(),

		op[none, listOf[app.Project]]("GET", "/projects", "The projects in which I have a role", (*call).projects),
		op[environments.MakeProject, app.Project]("POST", "/projects", "Make a project",
			(*call).addProject).made().installation().change(),
		op[none, Board]("GET", project+"/board", "All flags in all environments", (*call).board).needs(app.Read),
		op[none, listOf[Person]]("GET", project+"/people", "Who has which roles", (*call).people).needs(app.Read),
		op[rolesBody, rolesBody]("PUT", project+"/people/:account", "Replace somebody's roles in a project",
			(*call).setRoles).change().needs(app.Manage),
		op[none, historyPage]("GET", project+"/history", "Who changed what, newest first",
			(*call).history).takes("environment", "flag", "person", "from", "to", "cursor", "limit").needs(app.Read),
		op[none, audit.Report]("GET", project+"/verify", "Verify the project's chains and its environments', a "+
			"portion at a time", (*call).verify).takes("cursor").needs(app.Read),

		op[none, listOf[app.Environment]]("GET", project+"/environments",
			"The environments, or those that are archived", (*call).environments).takes("archived").needs(app.Read),
		op[environmentBody, environments.Made]("POST", project+"/environments",
			"Make an environment; the secrets of its first access keys are answered once",
			(*call).addEnvironment).below().change().needs(app.Manage),
		op[environmentEdit, app.Environment]("PATCH", env, "Change an environment's title, or whether it asks first",
			(*call).editEnvironment).change().needs(app.Manage),
		op[reasonBody, app.Environment]("POST", env+"/archive", "Archive an environment that nobody follows; its "+
			"access keys are not taken then", (*call).archiveEnvironment).change().needs(app.Manage),
		op[reasonBody, app.Environment]("POST", env+"/bring-back", "Have an archived environment live again",
			(*call).bringBackEnvironment).change().needs(app.Manage),
		op[reasonBody, app.Environment]("POST", env+"/remove", "End an archived environment for good",
			(*call).removeEnvironment).change().needs(app.Manage),
		op[none, listOf[app.AccessKey]]("GET", env+"/keys", "The access keys", (*call).keys).needs(app.Manage),
		op[keys.Make, keys.Made]("POST", env+"/keys", "Make an access key; its secret is answered once",
			(*call).addKey).below().change().needs(app.Manage),
		op[none, app.AccessKey]("DELETE", env+"/keys/:key", "Revoke an access key; its streams end within seconds",
			(*call).revokeKey).change().needs(app.Manage),

		op[newFlagBody, app.Definition]("POST", project+"/flags", "Make a flag, in every environment with its "+
			"lever off", (*call).addFlag).below().change().needs(app.Define),
		op[none, app.Definition]("GET", project+"/flags/:flag", "A flag's definition",
			(*call).definition).needs(app.Read),
		op[definitionEdit, app.Definition]("PATCH", project+"/flags/:flag",
			"Change a definition; variants and visibility change in all environments at once",
			(*call).editFlag).ifMatch().change().needs(app.Define),
		op[none, FlagView]("GET", env+"/flags/:flag", "A flag in an environment", (*call).flag).needs(app.Read),
		op[documentBody, savedFlag]("PUT", env+"/flags/:flag", "Save a flag's document",
			(*call).putFlag).ifMatch().change().needs(app.Release),
		op[whyBody, Why]("POST", env+"/flags/:flag/why", "Why does a unit get what it gets, now or at a time in "+
			"the past", (*call).why).needs(app.Read),

		op[segmentBody, savedSegment]("POST", project+"/segments", "Make a segment",
			(*call).addSegment).made().change().needs(app.Define),
		op[none, listOf[SegmentView]]("GET", env+"/segments", "The segments in an environment",
			(*call).segments).needs(app.Read),
		op[segmentEdit, savedSegment]("PUT", env+"/segments/:segment", "Save a segment's condition",
			(*call).putSegment).ifMatch().change().needs(app.Define),

		op[conditionText, ConditionView]("POST", "/conditions/read", "Read a condition from its text",
			(*call).readCondition),
		op[conditionTree, ConditionView]("POST", "/conditions/write", "Write a condition as text",
			(*call).writeCondition),
		op[none, listOf[string]]("GET", "/conditions/functions", "The functions of the text form, each as an example",
			(*call).conditionFunctions),
		op[none, listOf[lint.Check]]("GET", "/checks", "What is looked for in flags", (*call).checks),
		op[none, listOf[lint.Finding]]("GET", env+"/lint", "What the checks find in an environment",
			(*call).lint).needs(app.Read),
		op[none, listOf[lint.Finding]]("GET", env+"/flags/:flag/lint", "What the checks find in a flag",
			(*call).lint).needs(app.Read),
		op[none, preview.Preview]("GET", env+"/flags/:flag/track", "Who is on which branch of a flag now",
			(*call).track).needs(app.Read),
		op[none, listOf[snippet.Snippet]]("GET", env+"/flags/:flag/snippets", "Code that asks for a flag",
			(*call).snippets).needs(app.Read),

		op[none, AttributesView]("GET", env+"/attributes", "Attributes as they are declared and as they are seen",
			(*call).attributes).needs(app.Read),
		op[attributeBody, app.Attribute]("PUT", project+"/attributes/:attribute",
			"Declare an attribute, or change what is declared", (*call).putAttribute).ifMatch().change().needs(
			app.Define),
		op[none, app.Attribute]("DELETE", project+"/attributes/:attribute", "Take an attribute out of the catalogue",
			(*call).removeAttribute).change().needs(app.Define),

		op[none, PopulationView]("GET", env+"/population", "What is kept of the units that were seen",
			(*call).population).needs(app.Read),
		op[samplingBody, app.Sampling]("PUT", env+"/population", "Say how units are sampled, or that they are not",
			(*call).setSampling).change().needs(app.Manage),
		op[eraseBody, erased]("POST", env+"/population/erase", "Take a unit out of the population",
			(*call).eraseUnit).change().needs(app.Manage),
		op[unitsBody, listOf[SampledUnit]]("POST", env+"/population/units", "Units that were seen, at most 200",
			(*call).sampledUnits).needs(app.Read),
		op[unitBody, UnitView]("POST", env+"/unit", "What a unit gets of every flag", (*call).unit).needs(app.Read),
		op[none, listOf[app.TestUnit]]("GET", project+"/test-units", "The test units",
			(*call).testUnits).needs(app.Read),
		op[testUnitsBody, savedUnits]("PUT", project+"/test-units", "Save test units",
			(*call).putTestUnits).change().needs(app.Define),
		op[testunits.Remove, removedUnit]("POST", project+"/test-units/remove", "Take a test unit away",
			(*call).removeTestUnit).change().needs(app.Define),
		op[none, Roster]("GET", env+"/roster", "What each test unit gets, against what is expected and what "+
			"chance says", (*call).roster).needs(app.Read),
		op[seeAsBody, seeas.Issued]("POST", env+"/see-as", "Get a signed override for one's own session; it touches "+
			"no rule", (*call).seeAs).made().change().needs(app.SeeIt),

		op[none, listOf[StopView]]("GET", env+"/stops", "The stops, standing ones first",
			(*call).stops).needs(app.Read),
		op[stopBody, savedStop]("POST", env+"/stops", "Stop flags at once",
			(*call).stop).made().change().needs(app.StopIt),
		op[liftBody, savedStop]("POST", env+"/lifts", "Take stops back",
			(*call).lift).made().change().needs(app.LiftIt),

		op[none, Instances]("GET", env+"/instances", "Which process has which revision",
			(*call).instances).needs(app.Read),
		op[reasonBody, delivery.AccountedFor]("POST", env+"/instances/:instance/gone",
			"Vouch for an instance that fell silent: it decides no more",
			(*call).accountFor).change().needs(app.StopIt),
		op[reasonBody, delivery.AccountedFor]("POST", env+"/instances/gone",
			"Vouch for all instances that fell silent: they decide no more",
			(*call).accountFor).change().needs(app.StopIt),
		op[none, Usage]("GET", env+"/usage", "What was decided, of all flags or of one, against the window before",
			(*call).usage).takes("flag", "span").needs(app.Read),
		op[none, radar.Radar]("GET", env+"/radar", "Where decisions do not do what somebody thinks they do",
			(*call).radar).needs(app.Read),
		raw("GET", "/export", (*call).export).installation(),
		raw("GET", project+"/export", (*call).export).needs(app.Read),
		raw("GET", project+"/live", (*call).live).needs(app.Read),
		raw("PUT", env+"/segments/:segment/lists/:list", (*call).putList).needs(app.Define).change().takes("mode"),
		raw("GET", env+"/segments/:segment/lists/:list", (*call).getList).needs(app.Read),
	}
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
		if c.body, err = web.ReadBody(ec, a.Limits.Body); err != nil {
			return err
		}
		out, err := r.handle(c)
		if err != nil {
			return err
		}
		c.name(&r, out)
		return c.JSON(r.status, out)
	}
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
	return admit.Allow(&c.actor, r.action, c.p.ID, environment)
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
	return c.api.Commit.Apply(c.ctx, r, commit.Change{In: commit.In{Project: c.p, Environment: c.e}, Of: of,
		Versions: versions, Do: do})
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
	seen, err = web.Versions(c.Context)
	return r, seen, err
}
