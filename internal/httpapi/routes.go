package httpapi

import (
	"bytes"
	"errors"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/change"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/radar"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/strictjson"
)

// none is the body of requests that have none.
type none struct{}

// route is one entry of the management API's table.
type route struct {
	method, path string
	says         string
	in, out      reflect.Type
	status       int
	open         bool // to those who are not signed in
	versioned    bool // takes If-Match
	query        []string
	handle       func(c *call) (any, error)
}

// get, post and the like make an entry; Out is what a success answers with.
func op[In, Out any](method, path, says string, handle func(c *call, in *In) (any, error)) route {
	return route{method: method, path: path, says: says, in: reflect.TypeFor[In](), out: reflect.TypeFor[Out](), status: http.StatusOK,
		handle: func(c *call) (any, error) {
			var in In
			if problems := strictjson.Decode(c.body, &in); problems != nil {
				return nil, app.InvalidFields(problems)
			}
			return handle(c, &in)
		}}
}

func (r route) made() route                 { r.status = http.StatusCreated; return r }
func (r route) public() route               { r.open = true; return r }
func (r route) ifMatch() route              { r.versioned = true; return r }
func (r route) takes(query ...string) route { r.query = query; return r }

// routes is the management API.
func (a *API) routes() []route {
	const project, env = "/projects/:project", "/projects/:project/environments/:environment"
	return []route{
		op[signInBody, Me]("POST", "/sign-in", "Start a session; its cookie is set, its CSRF token answered", (*call).signIn).public(),
		op[setUpBody, app.Account]("POST", "/set-up", "Make the first account, with the code that the service printed", (*call).setUp).public().made(),
		op[none, none]("POST", "/sign-out", "End this session", (*call).signOut),
		op[none, Me]("GET", "/me", "Who am I, and what may I do", (*call).getMe),
		op[passwordBody, none]("POST", "/me/password", "Change my password; my other sessions end", (*call).changePassword),
		op[none, listOf[app.Token]]("GET", "/me/tokens", "My personal tokens", (*call).tokens),
		op[tokenBody, madeToken]("POST", "/me/tokens", "Make a personal token; its secret is answered once", (*call).addToken).made(),
		op[none, none]("DELETE", "/me/tokens/:token", "Remove one of my personal tokens", (*call).removeToken),

		op[none, listOf[app.Account]]("GET", "/accounts", "All accounts", (*call).accounts),
		op[accountBody, app.Account]("POST", "/accounts", "Make an account", (*call).addAccount).made(),
		op[resetBody, none]("POST", "/accounts/:account/password", "Give somebody a new password", (*call).resetPassword),
		op[reasonBody, epochBody]("POST", "/epoch", "Start a new epoch, after the records were restored from a backup", (*call).newEpoch),
		op[none, historyPage]("GET", "/history", "The access chain, newest first", (*call).history).takes("person", "from", "to", "cursor", "limit"),
		op[none, audit.Report]("GET", "/verify", "Verify the access chain", (*call).verify),

		op[none, listOf[app.Project]]("GET", "/projects", "The projects in which I have a role", (*call).projects),
		op[projectBody, app.Project]("POST", "/projects", "Make a project", (*call).addProject).made(),
		op[none, Board]("GET", project+"/board", "All flags in all environments", (*call).board),
		op[none, listOf[Person]]("GET", project+"/people", "Who has which roles", (*call).people),
		op[rolesBody, rolesBody]("PUT", project+"/people/:account", "Replace somebody's roles; the account's id or e-mail address", (*call).setRoles),
		op[none, historyPage]("GET", project+"/history", "Who changed what, newest first", (*call).history).takes("environment", "flag", "person", "from", "to", "cursor", "limit"),
		op[none, audit.Report]("GET", project+"/verify", "Verify the project's chains and its environments'", (*call).verify),

		op[none, listOf[app.Environment]]("GET", project+"/environments", "The environments", (*call).environments),
		op[environmentBody, change.MadeEnvironment]("POST", project+"/environments", "Make an environment; the secrets of its first access keys are answered once", (*call).addEnvironment).made(),
		op[environmentEdit, app.Environment]("PATCH", env, "Change an environment's title, or whether it asks first", (*call).editEnvironment),
		op[none, listOf[app.AccessKey]]("GET", env+"/keys", "The access keys", (*call).keys),
		op[keyBody, change.MadeKey]("POST", env+"/keys", "Make an access key; its secret is answered once", (*call).addKey).made(),
		op[none, app.AccessKey]("DELETE", env+"/keys/:key", "Revoke an access key; its streams end within seconds", (*call).revokeKey),

		op[app.Definition, app.Definition]("POST", project+"/flags", "Make a flag, in every environment with its lever off", (*call).addFlag).made().takes("dryRun"),
		op[none, app.Definition]("GET", project+"/flags/:flag", "A flag's definition", (*call).definition),
		op[definitionEdit, app.Definition]("PATCH", project+"/flags/:flag", "Change a definition; variants and visibility change in all environments at once", (*call).editFlag).ifMatch().takes("dryRun"),
		op[none, FlagView]("GET", env+"/flags/:flag", "A flag in an environment", (*call).flag),
		op[documentBody, savedFlag]("PUT", env+"/flags/:flag", "Save a flag's document", (*call).putFlag).ifMatch().takes("dryRun"),
		op[whyBody, Why]("POST", env+"/flags/:flag/why", "Why does a unit get what it gets, now or at a time in the past", (*call).why),

		op[segmentBody, savedSegment]("POST", project+"/segments", "Make a segment", (*call).addSegment).made().takes("dryRun"),
		op[none, listOf[SegmentView]]("GET", env+"/segments", "The segments in an environment", (*call).segments),
		op[segmentEdit, savedSegment]("PUT", env+"/segments/:segment", "Save a segment's condition", (*call).putSegment).ifMatch().takes("dryRun"),

		op[conditionText, ConditionView]("POST", "/conditions/read", "Read a condition from its text", (*call).readCondition),
		op[conditionTree, ConditionView]("POST", "/conditions/write", "Write a condition as text", (*call).writeCondition),
		op[none, listOf[string]]("GET", "/conditions/functions", "The functions of the text form, each as an example", (*call).conditionFunctions),
		op[none, listOf[lint.Check]]("GET", "/checks", "What is looked for in flags", (*call).checks),
		op[none, listOf[lint.Finding]]("GET", env+"/lint", "What the checks find in an environment", (*call).lint),
		op[none, listOf[lint.Finding]]("GET", env+"/flags/:flag/lint", "What the checks find in a flag", (*call).lint),
		op[none, preview.Preview]("GET", env+"/flags/:flag/track", "Who is on which branch of a flag now", (*call).track),
		op[none, listOf[snippet.Snippet]]("GET", env+"/flags/:flag/snippets", "Code that asks for a flag", (*call).snippets),

		op[none, AttributesView]("GET", env+"/attributes", "Attributes as they are declared and as they are seen", (*call).attributes),
		op[attributeBody, app.Attribute]("PUT", project+"/attributes/:attribute", "Declare an attribute, or change what is declared", (*call).putAttribute).ifMatch().takes("dryRun"),
		op[none, app.Attribute]("DELETE", project+"/attributes/:attribute", "Take an attribute out of the catalogue", (*call).removeAttribute),

		op[none, PopulationView]("GET", env+"/population", "What is kept of the units that were seen", (*call).population),
		op[samplingBody, app.Sampling]("PUT", env+"/population", "Say how units are sampled, or that they are not", (*call).setSampling),
		op[eraseBody, erased]("POST", env+"/population/erase", "Take a unit out of the population", (*call).eraseUnit),
		op[none, listOf[SampledUnit]]("GET", env+"/population/units", "Units that were seen, at most 200", (*call).sampledUnits).takes("of", "has", "flag", "at"),
		op[unitBody, UnitView]("POST", env+"/unit", "What a unit gets of every flag", (*call).unit),
		op[none, listOf[app.TestUnit]]("GET", project+"/test-units", "The test units", (*call).testUnits),
		op[testUnitsBody, savedUnits]("PUT", project+"/test-units", "Save test units", (*call).putTestUnits),
		op[none, removedUnit]("DELETE", project+"/test-units/:unit", "Take a test unit away", (*call).removeTestUnit),
		op[none, Roster]("GET", env+"/roster", "What each test unit gets, against what is expected and what chance says", (*call).roster),
		op[seeAsBody, change.IssuedSeeAs]("POST", env+"/see-as", "Get a signed override for one's own session; it touches no rule", (*call).seeAs).made(),

		op[none, listOf[StopView]]("GET", env+"/stops", "The stops, standing ones first", (*call).stops),
		op[stopBody, savedStop]("POST", env+"/stops", "Stop flags at once", (*call).stop).made().takes("dryRun"),
		op[liftBody, savedStop]("POST", env+"/lifts", "Take stops back", (*call).lift).made().takes("dryRun"),

		op[none, Instances]("GET", env+"/instances", "Which process has which revision", (*call).instances),
		op[reasonBody, app.Instance]("POST", env+"/instances/:instance/gone", "Vouch for an instance that fell silent: it decides no more", (*call).accountFor),
		op[none, Usage]("GET", env+"/usage", "What was decided, of all flags or of one, against the window before", (*call).usage).takes("flag", "span"),
		op[none, radar.Radar]("GET", env+"/radar", "Where decisions do not do what somebody thinks they do", (*call).radar),
	}
}

// listOf is the answer of a route that lists things.
type listOf[T any] struct {
	Items []T `json:"items"`
}

// serve answers one route: body, caller, handler, answer.
func (a *API) serve(r route) echo.HandlerFunc {
	return func(ec *echo.Context) error {
		ctx, cancel := a.requestContext(ec)
		defer cancel()
		c := &call{Context: ec, api: a, ctx: ctx}
		c.Response().Header().Set("Cache-Control", "no-store")
		if !r.open {
			if err := c.identify(); err != nil {
				return err
			}
		}
		var err error
		if c.body, err = readBody(ec, a.Limits.Body); err != nil {
			return err
		}
		out, err := r.handle(c)
		if err != nil {
			return err
		}
		if v, ok := out.(versioned); ok {
			c.Response().Header().Set("ETag", `"`+strconv.FormatInt(v.version(), 10)+`"`)
		}
		return c.JSON(r.status, out)
	}
}

// versioned answers carry their version in ETag.
type versioned interface{ version() int64 }

func readBody(c *echo.Context, limit int64) ([]byte, error) {
	var raw bytes.Buffer
	if size := c.Request().ContentLength; size > 0 && size < 64<<10 { // what is claimed is believed as far as it costs little
		raw.Grow(int(size) + bytes.MinRead)
	}
	_, err := raw.ReadFrom(http.MaxBytesReader(c.Response(), c.Request().Body, limit))
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		return nil, echo.NewHTTPError(http.StatusRequestEntityTooLarge, "the body is too large: at most "+strconv.FormatInt(limit, 10)+" bytes are taken")
	}
	if err != nil {
		return nil, app.InvalidField("body", "could not be read to its end")
	}
	return raw.Bytes(), nil
}

// request gathers what every change needs to know of the call.
func (c *call) request(reason string) (change.Request, error) {
	r := change.Request{Actor: c.actor, Reason: strings.TrimSpace(reason), ID: c.Request().Header.Get("Idempotency-Key")}
	if len(r.ID) > 100 {
		return r, app.InvalidField("Idempotency-Key", "takes at most 100 bytes")
	}
	r.Digest = audit.Digest([]byte(c.Request().Method + " " + c.Request().URL.RequestURI() + " " + c.Request().Header.Get("If-Match") + "\n" + string(c.body)))
	switch v := c.QueryParam("dryRun"); v {
	case "", "false":
	case "true":
		r.DryRun, r.ID = true, ""
	default:
		return r, app.InvalidField("dryRun", "must be true or false")
	}
	if m := c.Request().Header.Get("If-Match"); m != "" {
		v, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(m, "W/"), `"`), 10, 64)
		if err != nil {
			return r, app.InvalidField("If-Match", `must be a version such as "3"`)
		}
		r.Version = &v
	}
	return r, nil
}
