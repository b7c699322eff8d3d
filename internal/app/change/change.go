// Package change holds everything that edits a project: definitions, flag documents,
// segments, environments, access keys, roles, and stops.
//
// Its noun is a [Service] whose methods each are one transaction: the change, the
// revision that brings it to followers, and the entry in the audit chain are committed
// together or not at all. The smallest use:
//
//	raw, err := s.PutFlag(ctx, request, env, doc) // the result as JSON
//
// Every method can be tried as a dry run, which does all of it and commits nothing, and
// takes an idempotency key, under which a repeated request gets the result of the first.
package change

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/feed"
)

// memory keeps the results of requests by idempotency key.
type memory interface {
	Remembered(scope, id string) (request string, result []byte, err error)
	Claim(scope, id, request string, at int64) error
	Remember(scope, id string, result []byte) error
}

// chain appends to the audit.
type chain interface {
	Append(chain string, e audit.Entry, personal []string) (digest string, err error)
	AppendAll(chain string, entries []audit.Entry, personal [][]string) (digest string, err error)
}

// environments reads and writes environments under their locks.
type environments interface {
	Epoch() (int64, error)
	RaiseEpoch(at int64) (int64, error)
	LockProject(id int64) error
	LockEnvironment(id int64) (*app.Environment, error)
	LockEnvironments(project int64) ([]app.Environment, error)
	AddProject(*app.Project) error
	AddEnvironment(*app.Environment) error
	UpdateEnvironment(*app.Environment) error
	NoteRevision(environment int64, e *flag.Event, change string) error
	AddRevision(environment int64, e *flag.Event, change string) error
}

// flags reads and writes definitions and documents.
type flags interface {
	Definitions(project int64) ([]app.Definition, error)
	LockDefinition(project int64, key string) (*app.Definition, error)
	AddDefinition(*app.Definition) error
	UpdateDefinition(*app.Definition) error
	LockFlag(environment int64, key string) (*app.HeldFlag, error)
	Flag(environment int64, key string) (*app.FlagRecord, error)
	Flags(environment int64) ([]app.FlagRecord, error)
	PutFlag(*app.FlagRecord) error
}

// segments reads and writes segments.
type segments interface {
	SegmentTitles(project int64) (map[string]string, error)
	AddSegmentDefinition(project int64, key, title string, at int64) error
	Segment(environment int64, key string) (*app.SegmentRecord, error)
	PutSegment(*app.SegmentRecord) error
}

// stops reads and writes stops.
type stops interface {
	StandingStops(environment int64, ids []string) ([]app.StopRecord, error)
	StopsLike(environment int64, flags []string) ([]app.StopRecord, error)
	UnknownFlags(environment int64, keys []string) ([]string, error)
	AddStop(*app.StopRecord) error
	LiftStops(ids []string, by string, at, revision int64) error
}

// credentials reads and writes access keys and roles.
type credentials interface {
	AccessKeys(environment int64) ([]app.AccessKey, error)
	AddAccessKey(*app.AccessKey) error
	RevokeAccessKey(id string, at int64) error
	RolesIn(project int64) (map[string][]app.Role, error)
	SetRoles(project int64, account string, roles []app.Role) error
}

// targeting reads and writes what conditions and previews rest on.
type targeting interface {
	Attributes(project int64) ([]app.Attribute, error)
	PutAttribute(project int64, a *app.Attribute) error
	RemoveAttribute(project int64, name string) error
	PutList(project int64, l, base *app.ListBody, at int64) error
	SetSampling(environment int64, off bool, days int) error
	EraseUnit(environment int64, unit string) (int64, error)
	PutTestUnit(project int64, u *app.TestUnit) error
	RemoveTestUnit(project int64, unit string) (bool, error)
}

// instances reads and writes the processes that decide.
type instances interface {
	AccountFor(environment int64, instance string, silentSince, at int64) ([]app.Instance, error)
}

// Tx is the transaction that a change runs in.
type Tx interface {
	memory
	chain
	environments
	flags
	segments
	stops
	credentials
	targeting
	instances
}

// Service makes changes.
type Service struct {
	// Write runs fn in one transaction, again if it lost against another one.
	Write func(ctx context.Context, fn func(Tx) error) error
	// Insist is Write for what must arrive: it tries again until the caller's deadline,
	// whatever breaks.
	Insist func(ctx context.Context, fn func(Tx) error) error
	// Now is the clock.
	Now func() time.Time
	// Committed is called after a commit and before its answer, so that who asks next sees
	// what was committed.
	Committed func(ctx context.Context, m Moved)

	// Judge says what is declared and seen of attributes in an environment, for comparisons
	// that cannot fit. Without it none is refused.
	Judge func(ctx context.Context, environment int64) (map[string]lint.Attribute, error)
	// Overflows finds the other flags that an edit would push over a limit. Without it none is
	// looked for.
	Overflows func(ctx context.Context, environment int64, flags []*flag.Document, segments []*flag.Segment) ([]flag.Problem, error)
	// Names tells how the project's catalogue says attributes. Without it by their names.
	Names func(ctx context.Context, environment int64) words.Names
	// Shift computes what an edit would move. Without it nobody is asked before everybody goes
	// from the resting variant at once.
	Shift func(ctx context.Context, env *app.Environment, doc *flag.Document) (*shift.Shift, error)

	gates gates
}

// Moved is what a commit touched of what is kept in memory.
type Moved struct {
	Steps map[int64][]feed.Step // new revisions by environment, in order
	All   bool                  // nobody knows what, or everything
	Keys  bool                  // access keys were made or revoked
	Units bool                  // what is sampled, or declared of attributes
}

// Request is who asks for a change, and how.
type Request struct {
	Actor    app.Actor
	ID       string // the caller's idempotency key, or empty
	Digest   string // of what is asked for, to tell apart requests that share an ID
	Reason   string
	DryRun   bool
	Versions []int64 // that the caller has seen, of which one must be the present one
	Units    *int64  // how many units the caller was told would move, where that is asked for
}

// sealed results hold secrets, which are shown once, never kept, and not given for a dry run.
type sealed interface{ withoutSecrets() any }

var errDryRun = errors.New("dry run")

// do runs one change in a transaction and gives its result as JSON.
func (s *Service) do(ctx context.Context, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	return s.by(ctx, s.Write, r, fn)
}

// insist is do for what must arrive. A request without an id of its own gets one, so that a
// try of which nobody knows whether it was committed can be repeated.
func (s *Service) insist(ctx context.Context, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	if r.ID == "" && !r.DryRun {
		r.ID = "own " + newID()
	}
	return s.by(ctx, s.Insist, r, fn)
}

func (s *Service) by(ctx context.Context, write func(context.Context, func(Tx) error) error, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	var out json.RawMessage
	var moved Moved
	err := write(ctx, func(tx Tx) error {
		if r.ID != "" {
			request, result, err := tx.Remembered(r.Actor.ID, r.ID)
			if err != nil {
				return err
			}
			if result != nil {
				// It was committed by another try, on this node or elsewhere.
				out, moved = result, Moved{All: true, Keys: true, Units: true}
				if request != r.Digest {
					return app.InvalidField("Idempotency-Key", "was used for another request: choose a new one for each change")
				}
				return nil
			}
			// Of two requests with one id at a time, the second waits here and gets the first's result.
			if err := tx.Claim(r.Actor.ID, r.ID, r.Digest, s.Now().UnixMilli()); err != nil {
				return err
			}
		}
		moved = Moved{}
		c := &commit{tx: tx, request: r, at: s.Now().UnixMilli(), change: newID()}
		result, err := fn(tx, c)
		if err != nil {
			return err
		}
		moved = c.moved
		lasting := result
		if sealed, ok := result.(sealed); ok {
			lasting = sealed.withoutSecrets()
		}
		kept, err := json.Marshal(lasting)
		if err != nil {
			return err
		}
		if r.DryRun {
			out = kept
			return errDryRun
		}
		if out, err = json.Marshal(result); err != nil || r.ID == "" {
			return err
		}
		return tx.Remember(r.Actor.ID, r.ID, kept)
	})
	if errors.Is(err, errDryRun) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if s.Committed != nil {
		s.Committed(ctx, moved)
	}
	return out, nil
}

// commit is one change while it is being made.
type commit struct {
	tx      Tx
	request Request
	at      int64
	change  string
	moved   Moved
}

// entry starts an entry of the audit.
func (c *commit) entry(action string, project int64) audit.Entry {
	return audit.Entry{At: c.at, Actor: c.request.Actor, Action: action, Project: project, Change: c.change, Reason: c.request.Reason}
}

// project appends an entry to the project's chain.
func (c *commit) project(e audit.Entry, lines ...diff.Line) error {
	var personal []string
	e.Difference, personal = audit.Differences(lines)
	_, err := c.tx.Append(audit.ProjectChain(e.Project), e, personal)
	return err
}

// revise gives the environment its next revision and appends the entry that belongs to it.
func (c *commit) revise(env *app.Environment, e *flag.Event, entry audit.Entry, lines []diff.Line) error {
	return c.reviseAll(env, e, []audit.Entry{entry}, [][]diff.Line{lines})
}

// reviseAll is revise with several entries. The digest of the first is the revision's identity.
func (c *commit) reviseAll(env *app.Environment, e *flag.Event, entries []audit.Entry, lines [][]diff.Line) error {
	epoch, err := c.tx.Epoch()
	if err != nil {
		return err
	}
	env.Revision++
	e.Format, e.Epoch, e.Revision, e.At = flag.Format, epoch, env.Revision, c.at
	if c.moved.Steps == nil {
		c.moved.Steps = map[int64][]feed.Step{}
	}
	c.moved.Steps[env.ID] = append(c.moved.Steps[env.ID], feed.Step{Event: e, After: env.Digest})
	personal := make([][]string, len(entries))
	for i := range entries {
		entries[i].Environment, entries[i].Project, entries[i].Revision = env.ID, env.ProjectID, env.Revision
		entries[i].Difference, personal[i] = audit.Differences(lines[i])
	}
	if err := c.tx.NoteRevision(env.ID, e, c.change); err != nil {
		return err
	}
	if e.Digest, err = c.tx.AppendAll(audit.EnvironmentChain(env.ID), entries, personal); err != nil {
		return err
	}
	env.Digest = e.Digest
	return c.tx.AddRevision(env.ID, e, c.change)
}

// environment appends an entry to the environment's chain.
func (c *commit) environment(env *app.Environment, e audit.Entry, lines []diff.Line) error {
	e.Environment, e.Project, e.Revision = env.ID, env.ProjectID, env.Revision
	var personal []string
	e.Difference, personal = audit.Differences(lines)
	_, err := c.tx.Append(audit.EnvironmentChain(env.ID), e, personal)
	return err
}

// access appends an entry to the access chain.
func (c *commit) access(e audit.Entry) error {
	_, err := c.tx.Append(audit.Access, e, nil)
	return err
}

// open checks that the environment takes changes from this request.
func (c *commit) open(env *app.Environment) error {
	if env.Behind > 0 {
		return &app.Fault{Kind: app.Conflict, More: map[string]any{"behind": env.Behind, "revision": env.Revision},
			Detail: "a follower has had a revision that the records do not know, so they were restored from a backup: run `greenlever epoch new`, until then only stops are taken"}
	}
	if env.AskFirst && strings.TrimSpace(c.request.Reason) == "" {
		return app.InvalidField("reason", "environment %s asks first: say why in one sentence", env.Key)
	}
	return c.checkReason()
}

// enter asks for the right, holds the environment and checks that it takes changes.
func (c *commit) enter(action app.Action, env *app.Environment) (*app.Environment, error) {
	if err := app.Allow(&c.request.Actor, action, env.ProjectID, env.ID); err != nil {
		return nil, err
	}
	env, err := c.tx.LockEnvironment(env.ID)
	if err != nil {
		return nil, err
	}
	return env, c.open(env)
}

// enterAll asks for the right and holds the project with all of its environments.
func (c *commit) enterAll(action app.Action, project *app.Project) ([]app.Environment, error) {
	if err := app.Allow(&c.request.Actor, action, project.ID, 0); err != nil {
		return nil, err
	}
	if err := c.tx.LockProject(project.ID); err != nil {
		return nil, err
	}
	return c.tx.LockEnvironments(project.ID)
}

// overflows refuses an edit that would switch off other flags by pushing them over a limit.
func (s *Service) overflows(ctx context.Context, environment int64, flags []*flag.Document, segments []*flag.Segment) error {
	if s.Overflows == nil {
		return nil
	}
	found, err := s.Overflows(ctx, environment, flags, segments)
	if err != nil {
		return err
	}
	return app.InvalidFields(found)
}

// names tells how sentences say attributes.
func (s *Service) names(ctx context.Context, environment int64) words.Names {
	if s.Names == nil {
		return nil
	}
	return s.Names(ctx, environment)
}

// catalogue tells of an attribute whether the project declares it personal: then what it is
// compared with stands in the chain as a digest. It is read once it is asked, which most edits
// do not; an error stands in err then, and what was made of the answers is of no use.
type catalogue struct {
	tx      Tx
	project int64
	is      map[string]bool
	err     error
}

func (k *catalogue) personal(attribute string) bool {
	if k.is == nil && k.err == nil {
		var all []app.Attribute
		all, k.err = k.tx.Attributes(k.project)
		k.is = map[string]bool{}
		for _, a := range all {
			k.is[a.Name] = a.Personal
		}
	}
	return k.is[attribute]
}

// maxReason is in bytes.
const maxReason = 2_000

func (c *commit) checkReason() error {
	if len(c.request.Reason) > maxReason {
		return app.InvalidField("reason", "takes at most %d bytes", maxReason)
	}
	return nil
}

// seen checks the version that the caller has seen against the present one. present is
// shown to a caller who has seen another, so that both sides can be laid beside each other.
func (c *commit) seen(version int64, present any) error {
	if len(c.request.Versions) == 0 {
		return app.Faultf(app.NeedsVersion, "say which version you have seen: send its number in If-Match")
	}
	if !slices.Contains(c.request.Versions, version) {
		return &app.Fault{Kind: app.Stale, More: map[string]any{"version": version, "present": present},
			Detail: "it was changed meanwhile: look at both sides and save again with the present version"}
	}
	return nil
}

func newID() string { return uuid.Must(uuid.NewV7()).String() }

func newSalt() string {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}
