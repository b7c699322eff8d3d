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
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// memory keeps the results of requests by idempotency key.
type memory interface {
	Remembered(scope, id string) (request string, result []byte, err error)
	Remember(scope, id, request string, result []byte, at int64) error
}

// chain appends to the audit.
type chain interface {
	Append(chain string, e audit.Entry, personal []string) error
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
	AddRevision(environment int64, e *flag.Event, change string) error
}

// flags reads and writes definitions and documents.
type flags interface {
	Definitions(project int64) ([]app.Definition, error)
	LockDefinition(project int64, key string) (*app.Definition, error)
	AddDefinition(*app.Definition) error
	UpdateDefinition(*app.Definition) error
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
	StandingStops(environment int64) ([]app.StopRecord, error)
	AddStop(*app.StopRecord) error
	LiftStop(id, by string, at, revision int64) error
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
	PutList(*app.ListBody) error
	SetSampling(environment int64, off bool, days int) error
	EraseUnit(environment int64, unit string) (int64, error)
	PutTestUnit(project int64, u *app.TestUnit) error
	RemoveTestUnit(project int64, unit string) (bool, error)
}

// instances reads and writes the processes that decide.
type instances interface {
	AccountFor(environment int64, instance string, at int64) (*app.Instance, error)
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
	// Now is the clock.
	Now func() time.Time
	// Committed is called after a commit and before its answer, so that who asks next sees
	// what was committed; keys tells whether access keys are among it.
	Committed func(ctx context.Context, keys bool)

	// Judge says what is declared and seen of attributes in an environment, for comparisons
	// that cannot fit. Without it none is refused.
	Judge func(ctx context.Context, environment int64) (map[string]lint.Attribute, error)
	// Sweep tells whether an edit takes everybody from the resting variant at once, and how
	// many units that is. Without it nobody is asked.
	Sweep func(ctx context.Context, env *app.Environment, doc *flag.Document) (units int64, sweeps bool, err error)

	gates gates
}

// Request is who asks for a change, and how.
type Request struct {
	Actor   app.Actor
	ID      string // the caller's idempotency key, or empty
	Digest  string // of what is asked for, to tell apart requests that share an ID
	Reason  string
	DryRun  bool
	Version *int64 // that the caller has seen; nil where none was given
	Units   *int64 // how many units the caller was told would move, where that is asked for
}

// sealed results hold secrets, which are shown once and never kept.
type sealed interface{ withoutSecrets() any }

var errDryRun = errors.New("dry run")

// do runs one change in a transaction and gives its result as JSON.
func (s *Service) do(ctx context.Context, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	var out json.RawMessage
	keys := false
	err := s.Write(ctx, func(tx Tx) error {
		if r.ID != "" {
			request, result, err := tx.Remembered(r.Actor.ID, r.ID)
			if err != nil {
				return err
			}
			if request != "" {
				out = result
				if request != r.Digest {
					return app.InvalidField("Idempotency-Key", "was used for another request: choose a new one for each change")
				}
				return nil
			}
		}
		c := &commit{tx: tx, request: r, at: s.Now().UnixMilli(), change: newID()}
		result, err := fn(tx, c)
		if err != nil {
			return err
		}
		keys = c.keys
		if out, err = json.Marshal(result); err != nil {
			return err
		}
		if r.DryRun {
			return errDryRun
		}
		if r.ID == "" {
			return nil
		}
		kept := []byte(out)
		if sealed, ok := result.(sealed); ok {
			if kept, err = json.Marshal(sealed.withoutSecrets()); err != nil {
				return err
			}
		}
		return tx.Remember(r.Actor.ID, r.ID, r.Digest, kept, c.at)
	})
	if errors.Is(err, errDryRun) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if s.Committed != nil {
		s.Committed(ctx, keys)
	}
	return out, nil
}

// commit is one change while it is being made.
type commit struct {
	tx      Tx
	request Request
	at      int64
	change  string
	keys    bool // access keys were made or revoked
}

// entry starts an entry of the audit.
func (c *commit) entry(action string, project int64) audit.Entry {
	return audit.Entry{At: c.at, Actor: c.request.Actor, Action: action, Project: project, Change: c.change, Reason: c.request.Reason}
}

// project appends an entry to the project's chain.
func (c *commit) project(e audit.Entry, lines ...diff.Line) error {
	var personal []string
	e.Difference, personal = audit.Differences(lines)
	return c.tx.Append(audit.ProjectChain(e.Project), e, personal)
}

// revise gives the environment its next revision and appends the entry that belongs to it.
func (c *commit) revise(env *app.Environment, e *flag.Event, entry audit.Entry, lines []diff.Line) error {
	epoch, err := c.tx.Epoch()
	if err != nil {
		return err
	}
	env.Revision++
	e.Format, e.Epoch, e.Revision, e.At = flag.Format, epoch, env.Revision, c.at
	if err := c.tx.AddRevision(env.ID, e, c.change); err != nil {
		return err
	}
	return c.environment(env, entry, lines)
}

// environment appends an entry to the environment's chain.
func (c *commit) environment(env *app.Environment, e audit.Entry, lines []diff.Line) error {
	e.Environment, e.Project, e.Revision = env.ID, env.ProjectID, env.Revision
	var personal []string
	e.Difference, personal = audit.Differences(lines)
	return c.tx.Append(audit.EnvironmentChain(env.ID), e, personal)
}

// open checks that the environment takes changes from this request.
func (c *commit) open(env *app.Environment) error {
	if env.Behind > env.Revision {
		return &app.Fault{Kind: app.Conflict, More: map[string]any{"behind": env.Behind, "revision": env.Revision},
			Detail: "a follower has had a higher revision than the records know, so they were restored from a backup: run `greenlever epoch new`, until then only stops are taken"}
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
	if c.request.Version == nil {
		return app.Faultf(app.NeedsVersion, "say which version you have seen: send its number in If-Match")
	}
	if *c.request.Version != version {
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

// gates let few ordinary changes of an environment wait for its lock at a time, so that a
// stop, which passes no gate, is never behind a long queue.
type gates struct {
	mu   sync.Mutex
	open map[int64]chan struct{}
}

const gateWidth = 2

func (g *gates) pass(ctx context.Context, project int64) (leave func(), err error) {
	g.mu.Lock()
	if g.open == nil {
		g.open = map[int64]chan struct{}{}
	}
	gate := g.open[project]
	if gate == nil {
		gate = make(chan struct{}, gateWidth)
		g.open[project] = gate
	}
	g.mu.Unlock()
	select {
	case gate <- struct{}{}:
		return func() { <-gate }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// queue is do behind the project's gate.
func (s *Service) queue(ctx context.Context, project int64, r Request, fn func(tx Tx, c *commit) (any, error)) (json.RawMessage, error) {
	leave, err := s.gates.pass(ctx, project)
	if err != nil {
		return nil, err
	}
	defer leave()
	return s.do(ctx, r, fn)
}
