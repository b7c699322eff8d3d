// Package releases takes flags from one variant to another in stages: what people do with releases, the
// steps that they take by themselves, and what is looked at before each.
//
// Its noun is a [Service], whose [Service.Kinds] are what package commit makes, and whose [Service.Job] goes
// through the releases that run. What a release does next is decided by package core/stage; here is what it
// looks at, and what comes of it in the records. A step is one change: the release, the flag's rules, their
// revision and the entry in the audit are committed together or not at all.
package releases

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Records are what is read to look at releases.
type Records interface {
	Running(ctx context.Context) ([]app.Release, error)
	AllEnvironments(ctx context.Context) ([]app.Environment, int64, error)
	StopsAfter(ctx context.Context, environment, revision int64) ([]app.StopRecord, error)
	UnitsSince(ctx context.Context, environment int64, attribute string, since int64) ([]app.UnitRow, error)
}

// Service knows what releases rest on.
type Service struct {
	Records Records
	// Delivery says how a revision spread; nil where it is not known any more.
	Delivery func(ctx context.Context, environment, epoch, revision, newest int64) (*app.Delivery, error)
	Rules    func(ctx context.Context, environment int64) (*decide.Ruleset, error)
	Units    func(ctx context.Context, environment int64, attribute string) (shift.Population, error)
	Stand    Stands
	Names    func(ctx context.Context, environment int64) words.Names
	Apply    func(ctx context.Context, r commit.Request, changes ...commit.Change) (json.RawMessage, error)
	Now      func() time.Time
	Ledger   Ledger
	// Wake is told where a release was changed here, so that nobody waits for the next look.
	Wake chan struct{}

	mu     sync.Mutex
	counts map[string]counted // by release
}

// Ledger says what the watches of releases have found.
type Ledger interface {
	// Turn takes what is due. nil: nothing is known.
	Turn(ctx context.Context, rel *app.Release) (*evidence.Findings, error)
	// Peek takes nothing.
	Peek(ctx context.Context, rel *app.Release) (*evidence.Findings, error)
	// Blind names a metric that got no event since the present stage began; empty for none.
	Blind(ctx context.Context, rel *app.Release) (string, error)
}

// Stands refuses a flag's document that cannot stand in an environment.
type Stands func(ctx context.Context, tx Documents, env *app.Environment, old, now *flag.Document) error

// Documents are flags, and what they refer to.
type Documents interface {
	LockFlag(environment int64, key string) (*app.HeldFlag, error)
	Flag(environment int64, key string) (*app.FlagRecord, error)
	Flags(environment int64) ([]app.FlagRecord, error)
	Segment(environment int64, key string) (*app.SegmentRecord, error)
	Attributes(project int64) ([]app.Attribute, error)
}

// Own are releases, and what holds them.
type Own interface {
	Release(id string) (*app.Release, error)
	LastRelease(environment int64, flag string) (*app.Release, error)
	Ladders(project int64) ([]app.Ladder, error)
	Metrics(project int64) ([]evidence.Metric, error)
	// MeasuredSince sums up the events of a metric since a Unix minute, and those to which it happened.
	MeasuredSince(environment int64, metric string, from int64) (count, bad int64, err error)
	StopsSince(environment, revision int64) ([]app.StopRecord, error)
	Definition(project int64, key string) (*app.Definition, error)
	ActiveGrants(account string) (app.Grants, error)
}

// tx is the transaction as this package reads it.
type tx struct {
	Documents
	Own
}

func txOf(m *commit.Moment) tx { return tx{commit.Narrow[Documents](m), commit.Narrow[Own](m)} }

// Kinds are the changes of releases.
func (s *Service) Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "release.start", Says: "Starts a release of a flag, which begins at once or at " +
			"a time",
			Action: app.ReleaseIt, Span: commit.Environment, OfFlag: true, Guarded: true, Signs: true, Queued: true,
			Owns: true},
			s.start).Holding(holdFlag),
		commit.Taking(commit.Of(commit.Kind{Name: "release.act",
			Says: "Has a release go on, signs for it, edits its " +
				"stages to come or finishes it", Action: app.ReleaseIt, Span: commit.Environment, Guarded: true,
			Queued: true,
			Owns:   true}, s.act).Holding(holdRelease), takes),
		commit.Of(commit.Kind{Name: "release.halt", Says: "Holds a release or rolls it back", Action: app.StopIt,
			Span: commit.Environment, Insists: true, Owns: true}, s.halt).Holding(holdRelease),
		commit.Of(commit.Kind{Name: "release.step", Says: "A release takes a step by itself", Span: commit.Environment,
			Queued: true, Inner: true}, s.step).Holding(holdRelease),
	}
}

// holdFlag holds the environment, and reads the flag in one message with it.
func holdFlag(m *commit.Moment) (*app.Environment, error) {
	held, err := txOf(m).LockFlag(m.Environment.ID, m.Of)
	if err != nil {
		return nil, err
	}
	m.Held = &holding{HeldFlag: held}
	return held.Environment, nil
}

// holding is a release with its flag while they are held; of a new one there is only the flag.
type holding struct {
	*app.HeldFlag
	release *app.Release
}

// holdRelease holds the environment of a release, and reads it with its flag.
func holdRelease(m *commit.Moment) (*app.Environment, error) {
	t := txOf(m)
	at, err := t.Release(m.Of)
	if err != nil {
		return nil, err
	}
	if at.Environment != m.Environment.ID {
		return nil, app.Faultf(app.NotFound, "there is no such release in this environment")
	}
	held, err := t.LockFlag(at.Environment, at.Flag)
	if err != nil {
		return nil, err
	}
	release, err := t.Release(m.Of) // as it stands now that nobody else changes it
	if err != nil {
		return nil, err
	}
	m.Held = &holding{held, release}
	return held.Environment, nil
}

// Done is the result of a change of a release.
type Done struct {
	*app.Release
	EnvironmentKey string         `json:"environment"`
	Sentence       words.Said     `json:"sentence"`
	Difference     []words.Said   `json:"difference"` // of the flag's rules
	Document       *flag.Document `json:"document,omitempty"`
	// Unneeded are the rules that decide nothing any more once it is finished.
	Unneeded []Unneeded `json:"unneeded,omitempty"`
}

// Unneeded is a rule that decides nothing any more.
type Unneeded struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// refused says why an event was not taken.
func refused(err error) error {
	var r *stage.Refused
	if errors.As(err, &r) {
		return &app.Fault{Kind: app.Conflict, Detail: r.Says, More: map[string]any{"is": r.Is}}
	}
	return err
}
