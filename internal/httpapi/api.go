// Package httpapi is the service's HTTP surface: the management API, remote evaluation,
// the feed that clients follow, the console's files, and what operators watch.
//
// Its noun is an [API]. Every route of the management API is one entry of a table, from
// which the OpenAPI document is made too; every error becomes a problem document in one place.
package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/preview"
)

// places reads what the pages show.
type places interface {
	Projects(ctx context.Context) ([]app.Project, error)
	Project(ctx context.Context, key string) (*app.Project, error)
	Environments(ctx context.Context, project int64) ([]app.Environment, error)
	Place(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error)
	Environment(ctx context.Context, project int64, key string) (*app.Environment, error)
	Definitions(ctx context.Context, project int64) ([]app.Definition, error)
	Definition(ctx context.Context, project int64, key string) (*app.Definition, error)
	Flag(ctx context.Context, environment int64, key string) (*app.FlagRecord, error)
	FlagVersions(ctx context.Context, environment int64) (map[string]int64, error)
	SegmentTitles(ctx context.Context, project int64) (map[string]string, error)
	Segment(ctx context.Context, environment int64, key string) (*app.SegmentRecord, error)
	Segments(ctx context.Context, environment int64) ([]app.SegmentRecord, error)
	Stops(ctx context.Context, environment int64, lifted int) ([]app.StopRecord, error)
	AccessKeys(ctx context.Context, environment int64) ([]app.AccessKey, error)
}

// persons reads who somebody is.
type persons interface {
	Accounts(ctx context.Context) ([]app.Account, error)
	Account(ctx context.Context, id string) (*app.Account, error)
	AccountByEmail(ctx context.Context, email string) (*app.Account, error)
	RolesOf(ctx context.Context, account string) (map[int64][]app.Role, error)
	RolesIn(ctx context.Context, project int64) (map[string][]app.Role, error)
	Sessions(ctx context.Context, account string, now int64) ([]app.Session, error)
	Tokens(ctx context.Context, account string) ([]app.Token, error)
	CallerByToken(ctx context.Context, digest []byte) (*app.Caller, error)
	CallerBySession(ctx context.Context, digest []byte, now int64) (*app.Caller, error)
}

// past reads the history.
type past interface {
	History(ctx context.Context, q audit.Query) ([]audit.Row, error)
	Chains(ctx context.Context, project int64) ([]audit.Head, error)
	Rows(ctx context.Context, chain string, after, upTo int64, visit func(*audit.Row) error) error
	Comparing(ctx context.Context, head audit.Head) (audit.Comparison, error)
	SignedHeads(ctx context.Context, chain string) ([]audit.SignedHead, error)
	SigningKeys(ctx context.Context) (map[string]int64, error)
	RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error)
	RevisionAt(ctx context.Context, environment, at int64) (int64, error)
}

// followers reads what clients reported.
type followers interface {
	Instances(ctx context.Context, environment, since int64) ([]app.Instance, error)
	Nodes(ctx context.Context) ([]app.Node, error)
	Deliveries(ctx context.Context, environment int64, limit int) ([]app.Delivery, error)
	Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error)
	Ping(ctx context.Context) error
	Behind(ctx context.Context) ([]string, error)
}

// targeting reads what conditions and previews rest on.
type targeting interface {
	Attributes(ctx context.Context, project int64) ([]app.Attribute, error)
	Asked(ctx context.Context, environment int64) ([]app.Asked, error)
	TestUnits(ctx context.Context, project int64) ([]app.TestUnit, error)
	Population(ctx context.Context, environment int64, attribute string) ([]app.UnitRow, sample.Cover, error)
	Unit(ctx context.Context, environment int64, attribute, unit string, hash uint64) (*app.UnitRow, error)
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
	ListUnits(ctx context.Context, environment int64, digest string) ([]byte, error)
	FlagTimes(ctx context.Context, environment int64) (map[string]int64, error)
}

// Records are what this package reads and writes.
type Records interface {
	places
	persons
	past
	followers
	targeting
}

// Limits bound what callers may ask for.
type Limits struct {
	Body       int64         // bytes of a request's body
	ReportBody int64         // bytes of a client's report
	ListBody   int64         // bytes of a list of units
	Time       time.Duration // of a request that is no stream
	Streams    int           // at once
	Browsers   int           // streams of browsers at once, which services do not share
	KeyStreams int           // streams with one browser key at once
	Address    int           // streams of browsers from one address at once
	Rate       float64       // requests a second of one person
	KeyRate    float64       // remote evaluations a second with one access key
	SignIns    float64       // tries a minute for one address
}

// DefaultLimits suit a service on two processors.
func DefaultLimits() Limits {
	return Limits{Body: 1 << 20, ReportBody: 8 << 20, ListBody: 256 << 20, Time: 30 * time.Second, Streams: 20_000, Browsers: 10_000, KeyStreams: 5_000, Address: 500, Rate: 400, KeyRate: 50_000, SignIns: 10}
}

// API is the HTTP surface.
type API struct {
	Edge
	Records  Records
	Commit   *commit.Service
	People   *people.Service
	Preview  *preview.Service
	Delivery *delivery.Service
	Sign     func(ctx context.Context) error    // signs the heads of chains that moved
	Heads    func() ([]audit.SignedHead, error) // that this node keeps outside the records
	Forgets  func(of string, at int64) bool     // see audit.Verifier.Forgets

	verifying verifications
	columns   columns

	limits limiters
}

// Handler builds the whole surface.
func (a *API) Handler() http.Handler {
	e := a.begin()
	e.Use(a.ownPages)
	for _, r := range a.routes() {
		e.Add(r.method, "/api/v1"+r.path, a.serve(r))
	}
	e.GET("/api/v1/openapi.json", a.openAPI)
	a.add(e)
	e.GET("/readyz", a.ready)
	addConsole(e)
	return e
}

// ownPages refuses what pages of other origins send to the management API with a browser's
// cookies, by what the browser itself says of them.
func (a *API) ownPages(next echo.HandlerFunc) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			if err := protection.Check(c.Request()); err != nil {
				return app.Faultf(app.Forbidden, "the request comes from a page of another origin")
			}
		}
		return next(c)
	}
}

// ready answers whether the service can decide, and with ?for=changes whether it takes changes.
func (a *API) ready(c *echo.Context) error {
	if a.leaving.Load() {
		return c.String(http.StatusServiceUnavailable, isLeaving)
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), 3*time.Second)
	defer cancel()
	if c.QueryParam("for") != "changes" {
		return c.String(http.StatusOK, "ready for decisions\n"+a.asides())
	}
	if err := a.Records.Ping(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "not ready for changes: the records cannot be reached\n")
	}
	behind, err := a.Records.Behind(ctx)
	if err != nil {
		return c.String(http.StatusServiceUnavailable, "not ready for changes: the records cannot be read\n")
	}
	if len(behind) > 0 {
		return c.String(http.StatusServiceUnavailable, "not ready for changes: "+strings.Join(behind, ", ")+" was restored from a backup; run `greenlever epoch new`\n")
	}
	return c.String(http.StatusOK, "ready for changes\n"+a.asides())
}

// asides names what cannot be read and is left out.
func (a *Edge) asides() string {
	var b strings.Builder
	for id, p := range a.Hub.Places() {
		for _, one := range p.Aside() {
			fmt.Fprintf(&b, "left out in environment %d: %s %s, %s\n", id, one.Kind, one.Key, one.Why)
		}
	}
	return b.String()
}

// call is one request of the management API while it is answered.
type call struct {
	*echo.Context
	api      *API
	ctx      context.Context
	actor    app.Actor
	session  []byte // digest of the session's secret, if it is one
	csrf     string
	signedIn bool // with a session, not a token
	body     []byte
	p        *app.Project     // of the address
	e        *app.Environment // of the address
}

func (c *call) names() (map[string]string, error) {
	all, err := c.api.Records.Accounts(c.ctx)
	out := make(map[string]string, len(all))
	for _, a := range all {
		out[a.ID] = a.Name
	}
	return out, err
}

func mustJSON(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values of ours
	}
	return raw
}
