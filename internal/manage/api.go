// Package manage is the management API over HTTP, and the console's files.
//
// Its noun is an [API] upon a [web.Surface]. Every route of the management API is one entry of a table, from
// which the OpenAPI document is made too; every error becomes a problem document in one place.
package manage

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/drills"
	"greenlever.example/greenlever/internal/app/emergency"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/plans"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/proposals"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/web"
)

// PlaceReader reads projects and environments.
type PlaceReader interface {
	Projects(ctx context.Context) ([]app.Project, error)
	Project(ctx context.Context, key string) (*app.Project, error)
	Environments(ctx context.Context, project int64) ([]app.Environment, error)
	Archived(ctx context.Context, project int64) ([]app.Environment, error)
	Ever(ctx context.Context, project int64) ([]app.Environment, error)
	Place(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error)
	Environment(ctx context.Context, project int64, key string) (*app.Environment, error)
	AccessKeys(ctx context.Context, environment int64) ([]app.AccessKey, error)
}

// FlagReader reads flags: what the project owns of them, and their documents in an environment.
type FlagReader interface {
	Definitions(ctx context.Context, project int64) ([]app.Definition, error)
	Definition(ctx context.Context, project int64, key string) (*app.Definition, error)
	Flag(ctx context.Context, environment int64, key string) (*app.FlagRecord, error)
	FlagsIn(ctx context.Context, environment int64) ([]app.FlagRecord, error)
	FlagStands(ctx context.Context, environment int64) (map[string]app.FlagStand, error)
	Asked(ctx context.Context, environment int64) ([]app.Asked, error)
	Stops(ctx context.Context, environment int64, lifted int) ([]app.StopRecord, error)
	Stop(ctx context.Context, environment int64, id string) (*app.StopRecord, error)
}

// CodeReader reads where code asks for flags, and which were retired.
type CodeReader interface {
	Scans(ctx context.Context, project int64) ([]app.Scan, error)
	RetiredFlags(ctx context.Context, project int64) ([]app.Definition, error)
}

// SegmentReader reads segments and their lists.
type SegmentReader interface {
	SegmentTitles(ctx context.Context, project int64) (map[string]string, error)
	Segment(ctx context.Context, environment int64, key string) (*app.SegmentRecord, error)
	Segments(ctx context.Context, environment int64) ([]app.SegmentRecord, error)
	List(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
	ListUnits(ctx context.Context, environment int64, digest string) ([]byte, error)
}

// AccountReader reads people and what they may do.
type AccountReader interface {
	Accounts(ctx context.Context) ([]app.Account, error)
	Account(ctx context.Context, id string) (*app.Account, error)
	AccountByEmail(ctx context.Context, email string) (*app.Account, error)
	GrantsOf(ctx context.Context, account string) (app.Grants, error)
	GrantsIn(ctx context.Context, project int64) (map[string]app.Grants, error)
	Teams(ctx context.Context) ([]app.Team, error)
}

// CallerReader reads who stands behind a credential.
type CallerReader interface {
	Sessions(ctx context.Context, account string, now int64) ([]app.Session, error)
	Tokens(ctx context.Context, account string) ([]app.Token, error)
	CallerByToken(ctx context.Context, digest []byte) (*app.Caller, error)
	CallerBySession(ctx context.Context, digest []byte, now int64) (*app.Caller, error)
}

// PastReader reads the history.
type PastReader interface {
	History(ctx context.Context, q audit.Query) ([]audit.Row, error)
	Chains(ctx context.Context, project int64) ([]audit.Head, error)
	Rows(ctx context.Context, chain string, after, upTo int64, visit func(*audit.Row) error) error
	Comparing(ctx context.Context, head audit.Head) (audit.Comparison, error)
	SignedHeads(ctx context.Context, chain string) ([]audit.SignedHead, error)
	SigningKeys(ctx context.Context) (map[string]int64, error)
	RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error)
	RevisionAt(ctx context.Context, environment, at int64) (int64, error)
}

// InstanceReader reads what clients and nodes reported.
type InstanceReader interface {
	Instances(ctx context.Context, environment, since int64) ([]app.Instance, error)
	Nodes(ctx context.Context) ([]app.Node, error)
	Deliveries(ctx context.Context, environment int64, limit int) ([]app.Delivery, error)
	Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error)
	DeliveriesOf(ctx context.Context, environment int64, revisions []int64) (map[int64]app.Delivery, error)
}

// UnitReader reads what conditions and previews rest on.
type UnitReader interface {
	Attributes(ctx context.Context, project int64) ([]app.Attribute, error)
	TestUnits(ctx context.Context, project int64) ([]app.TestUnit, error)
	Recipes(ctx context.Context, project int64) ([]app.Recipe, error)
	Population(ctx context.Context, environment int64, attribute string) ([]app.UnitRow, sample.Cover, error)
	Unit(ctx context.Context, environment int64, attribute, unit string, hash uint64) (*app.UnitRow, error)
}

// ReleaseReader reads releases, and what they begin with.
type ReleaseReader interface {
	Release(ctx context.Context, id string) (*app.Release, error)
	Releases(ctx context.Context, project int64, over int) ([]app.Release, error)
	ReleasesOf(ctx context.Context, environment int64, flag string, most int) ([]app.Release, error)
	ReleaseSteps(ctx context.Context, id string) ([]app.ReleaseStep, error)
	Ladders(ctx context.Context, project int64) ([]app.Ladder, error)
}

// ProposalReader reads what is proposed.
type ProposalReader interface {
	Proposal(ctx context.Context, project int64, id string) (*app.Proposal, error)
	Proposals(ctx context.Context, project int64, over int) ([]app.Proposal, error)
}

// LifeReader reads environments that end by themselves.
type LifeReader interface {
	ShortLived(ctx context.Context, project int64) ([]app.Environment, map[int64]app.Life, error)
	FamilyGives(ctx context.Context, project int64) ([]app.FamilyGives, error)
}

// BundleReader reads flags that ship together.
type BundleReader interface {
	Bundles(ctx context.Context, project int64) ([]app.Bundle, error)
}

// PolicyReader reads policies, and how they ruled.
type PolicyReader interface {
	Policies(ctx context.Context, project int64) ([]app.Policy, error)
	RulingsOf(ctx context.Context, project int64, policy string, since int64, most int) ([]app.Ruling, error)
	PastRevisions(ctx context.Context, environment, since int64, most int) ([]app.PastRevision, error)
}

// CalendarReader reads at which addresses calendars are read.
type CalendarReader interface {
	CalendarAddresses(ctx context.Context, account string, project int64) ([]app.CalendarAddress, error)
	CalendarAddress(ctx context.Context, digest []byte) (*app.CalendarAddress, error)
	ProjectOf(ctx context.Context, id int64) (*app.Project, error)
}

// IdentityReader reads whom providers know, and who was seen.
type IdentityReader interface {
	Identities(ctx context.Context, account string) ([]app.Identity, error)
	Seen(ctx context.Context) (map[string]int64, error)
}

// EvidenceReader reads what is measured, and what watches found.
type EvidenceReader interface {
	Metrics(ctx context.Context, project int64) ([]evidence.Metric, error)
	BadUnits(ctx context.Context, release string, run int) ([]app.BadUnit, error)
	EvidencePoints(ctx context.Context, release string, most int) ([]app.EvidencePoint, error)
	Missed(ctx context.Context, release string, run int) (map[string]int64, error)
	FirstBad(ctx context.Context, environment int64, metrics, flags []string, from, to int64) ([]app.BadMinute, error)
	Measured(ctx context.Context, environment int64, metric string, from, to int64) ([]app.MeasureRow, error)
}

// WebhookReader reads webhooks and what they are told.
type WebhookReader interface {
	Webhooks(ctx context.Context, project int64) ([]app.Webhook, error)
	NoticeCounts(ctx context.Context, project int64) (map[string]map[app.NoticeState]int, error)
	NoticesOf(ctx context.Context, webhook string, most int) ([]app.Notice, error)
}

// TripwireReader reads tripwires and what they stopped for.
type TripwireReader interface {
	Tripwires(ctx context.Context, environment int64) ([]app.Tripwire, error)
	TripwireNames(ctx context.Context, environment int64) (map[string]string, error)
	TripwireAlerts(ctx context.Context, environment int64, most int) ([]app.TripwireAlert, error)
}

// StateReader tells how the records are.
type StateReader interface {
	Ping(ctx context.Context) error
	Behind(ctx context.Context) ([]string, error)
	Written(ctx context.Context, chain string) (int64, error)
	EmergencyKey(ctx context.Context) (string, error)
	Drills(ctx context.Context, environment int64, most int) ([]app.Drill, error)
	Drill(ctx context.Context, environment int64, id string) (*app.Drill, error)
}

// Records are what this package reads.
type Records struct {
	PlaceReader
	FlagReader
	CodeReader
	SegmentReader
	AccountReader
	CallerReader
	PastReader
	InstanceReader
	UnitReader
	ReleaseReader
	EvidenceReader
	ProposalReader
	PolicyReader
	BundleReader
	LifeReader
	CalendarReader
	IdentityReader
	WebhookReader
	TripwireReader
	StateReader
}

// API is the management API and the console.
type API struct {
	*web.Surface
	Records    Records
	Hub        *feed.Hub
	Population *population.Service
	Commit     *commit.Service
	People     *people.Service
	Preview    *preview.Service
	Delivery   *delivery.Service
	Releases   *releases.Service
	// Providers are those with which people sign in. With PasswordsOff nobody but keepers of the installation signs
	// in with a password.
	Providers    []*identity.Provider
	PasswordsOff bool
	See          func(ctx context.Context, account string, at int64) error
	// Stale is for how long a process may decide by what stood, while the records can be reached: others
	// decide by more then. Where nobody reaches the records all go on deciding.
	Stale  time.Duration
	Drills *drills.Service
	// Settled tells whether flags can be retired.
	Settled *Settled
	// Plans makes lists of changes of what is wished.
	Plans *plans.Service
	// Proposals makes what others signed.
	Proposals *proposals.Service
	// Emergency takes emergency orders.
	Emergency *emergency.Desk
	Reported  func(envs []app.Environment) []int64 // counts the reports that came of each environment
	Sign      func(ctx context.Context) error      // signs the heads of chains that moved
	Heads     func() ([]audit.SignedHead, error)   // that this node keeps outside the records
	Forgets   func(of string, at int64) bool       // see audit.Verifier.Forgets

	verifying verifications
	columns   columns
	looks     sync.Map // proposal: what a policy said of it last
	seen      sync.Map // account: when that was kept last, in Unix milliseconds
	rates     web.Rates
}

// Add adds the routes to a surface that has begun. Those of the console take every address that
// nobody else has.
func (a *API) Add(e *echo.Echo) {
	e.Use(a.ownPages)
	packed := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024})
	for _, r := range table {
		if r.raw != nil { // streams, and files that pack themselves
			e.Add(r.method, "/api/v1"+r.path, a.serve(r))
			continue
		}
		e.Add(r.method, "/api/v1"+r.path, a.serve(r), packed)
	}
	e.GET("/api/v1/openapi.json", a.openAPI)
	e.GET("/readyz", a.ready)
	e.GET("/schema/v1/:kind", a.schema)
	e.GET(web.CalendarSecrets+":secret", a.subscribed)
	a.addIdentity(e)
	a.addStopPage(e)
	a.addDevices(e)
	addConsole(e)
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
	if is, err := a.Leaving(c); is {
		return err
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), 3*time.Second)
	defer cancel()
	if stale := a.Hub.Stale(); stale > a.Stale && a.Records.Ping(ctx) == nil {
		return c.String(http.StatusServiceUnavailable,
			fmt.Sprintf("not ready: for %s revisions could not be read, although the records can be reached\n",
				stale.Round(time.Second)))
	}
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
		return c.String(http.StatusServiceUnavailable, "not ready for changes: "+strings.Join(behind, ", ")+
			" was restored from a backup; run `greenlever epoch new`\n")
	}
	return c.String(http.StatusOK, "ready for changes\n"+a.asides())
}

// asides names what cannot be read and is left out.
func (a *API) asides() string {
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
