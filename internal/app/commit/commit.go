// Package commit makes changes: each is a value, and any number of them are one transaction.
//
// Its nouns are a [Change], the [Kind] that it is of, the [Effects] that it would have, and a
// [Service] that has them. The smallest use:
//
//	done, err := s.Apply(ctx, request, commit.Change{In: place, Of: "one-touch-open", Do: &flags.Put{...}})
//
// A change, the revision that brings it to followers, and the entry in the audit chain are
// committed together or not at all. However many changes there are, each environment gets one
// revision at most, and all entries bear one change id. A dry run does all of it and commits
// nothing; under an idempotency key a repeated request gets the result of the first.
package commit

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/stage"
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

// Tx is the transaction that changes are made in. What a kind of change reads besides, it asks
// the same transaction for with [Narrow].
type Tx interface {
	memory
	LockProject(id int64) error
	LockEnvironment(id int64) (*app.Environment, error)
	LockEnvironments(project int64) ([]app.Environment, error)
	// Write writes a record and gives what the audit says of the rows.
	Write(record any) ([]audit.Record, error)
	// Enter appends entries to a chain, in order.
	Enter(w *audit.Written) error
}

// Service makes changes.
type Service struct {
	Kinds *Kinds
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
	// Shift computes what an edit would move. Without it nobody is asked before everybody goes
	// from the resting variant at once.
	Shift func(ctx context.Context, env *app.Environment, doc *flag.Document) (*shift.Shift, error)

	// Policies rules on changes by what projects wrote down. Without it nothing is ruled on.
	Policies Policies

	queues queues
}

// Policies rules on changes: one ruling for each policy that bites, or cannot be judged, beside the policy.
type Policies interface {
	Rule(ctx context.Context, in *Judged) ([]app.Ruling, []*app.Policy, error)
}

// Judged is a change in one place as policies judge it: what will really be committed.
type Judged struct {
	Tx            Tx
	Kind, Of      string
	Change        string // id
	Project       int64
	Environment   *app.Environment // nil: the project
	Actor         *app.Actor
	Signers       []app.Actor
	Proposed      bool
	Reason        string
	Now           int64
	Shift         func(ctx context.Context) (*shift.Shift, error) // nil: nothing is known of it
	Before, After *flag.Document                                  // of a flag; nil where it is of none
	Definition    *app.Definition
	Plan          *stage.Plan // of a release that begins, or is edited
	Lines         []string
}

// Moved is what a commit touched of what is kept in memory.
type Moved struct {
	Stale
	Steps map[int64][]feed.Step // new revisions by environment, in order
}

// Request is who asks for changes, and how.
type Request struct {
	Actor  app.Actor
	ID     string // the caller's idempotency key, or empty
	Digest string // of what is asked for, to tell apart requests that share an ID
	Reason string
	DryRun bool
	// Signers have signed the proposal that the changes are of; Proposing, with DryRun, looks what would come of one.
	Signers   []app.Actor
	Proposing bool
	// Force has policies note what they would refuse. It is for keepers of the installation, and for a reason.
	Force bool
	// Told hears what the changes come to.
	Told func(Heard)
}

// Heard is what a change comes to in one place.
type Heard struct {
	Change      int              // its place among the changes
	Environment *app.Environment // nil: the project
	Entry       Entry
	Notes       []diff.Line // of the gate
	Action      app.Action  // that it takes there
	Signs       bool        // it takes the signatures that the environment wants
	Lever       bool        // it turns a lever and does nothing else
	Refused     string      // what a policy says that would refuse it
}

// maxReason is in bytes.
const maxReason = 2_000

// Sealed results hold secrets, which are shown once, never kept, and not given for a dry run.
type Sealed interface{ WithoutSecrets() any }

var errDryRun = errors.New("dry run")

// NewID makes the id of something new. Later ones are greater.
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// Apply makes changes in one transaction, in their order: each sees what those before it did. It
// gives the result of the one that is not aside, or a list of the results where there are several.
func (s *Service) Apply(ctx context.Context, r Request, changes ...Change) (json.RawMessage, error) {
	todo := make([]task, len(changes))
	insists := false
	for i, c := range changes {
		kind, err := s.Kinds.of(c)
		if err != nil {
			return nil, err
		}
		todo[i] = task{c, kind, i}
		insists = insists || kind.Insists
	}
	if len(r.Reason) > maxReason {
		return nil, app.InvalidField("reason", "takes at most %d bytes", maxReason)
	}
	leave, err := s.queues.wait(ctx, todo)
	if err != nil {
		return nil, err
	}
	defer leave()
	write := s.Write
	if insists {
		write = s.Insist
		if r.ID == "" && !r.DryRun {
			r.ID = "own " + NewID() // so that a try of which nobody knows whether it was committed can be repeated
		}
	}
	var out json.RawMessage
	var moved Moved
	err = write(ctx, func(tx Tx) (err error) {
		out, moved, err = s.try(ctx, tx, r, todo)
		return err
	})
	if errors.Is(err, errDryRun) {
		return out, nil
	}
	if refused := new(refusal); errors.As(err, &refused) {
		return nil, errors.Join(s.keep(ctx, refused.rulings), refused.error)
	}
	if err != nil {
		return nil, err
	}
	if s.Committed != nil {
		s.Committed(ctx, moved)
	}
	return out, nil
}

// try makes the changes in a transaction, unless it was done before.
func (s *Service) try(ctx context.Context, tx Tx, r Request,
	todo []task) (out json.RawMessage, moved Moved, err error) {
	now := s.Now().UnixMilli()
	if r.ID != "" {
		request, result, err := tx.Remembered(r.Actor.ID, r.ID)
		if err != nil {
			return nil, moved, err
		}
		if result != nil { // it was committed by another try, on this node or elsewhere
			if len(result) == 0 {
				return nil, moved, app.InvalidField("Idempotency-Key", "was taken by a try of which nobody knows "+
					"the end: look what stands, and choose a new one")
			}
			if request != r.Digest {
				return nil, moved, app.InvalidField("Idempotency-Key", "was used for another request: choose a new "+
					"one for each change")
			}
			return result, Moved{Stale: Stale{All: true, Keys: true, Units: true, Tripwires: true}}, nil
		}
		// Of two requests with one id at a time, the second waits here and gets the first's result.
		if err := tx.Claim(r.Actor.ID, r.ID, r.Digest, now); err != nil {
			return nil, moved, err
		}
	}
	t := &transaction{service: s, tx: tx, request: r, at: now, change: NewID()}
	results, err := t.run(ctx, todo)
	if err != nil {
		return nil, moved, err
	}
	kept, err := encode(results, true)
	if err != nil {
		return nil, moved, err
	}
	if r.DryRun {
		return kept, moved, errDryRun
	}
	if out, err = encode(results, false); err != nil || r.ID == "" {
		return out, t.moved, err
	}
	return out, t.moved, tx.Remember(r.Actor.ID, r.ID, kept)
}

// encode writes the one result, or the list of them; sealed ones without their secrets where that
// is asked.
func encode(results []any, sealed bool) (json.RawMessage, error) {
	results = slices.Clone(results)
	for i, r := range results {
		if s, ok := r.(Sealed); ok && sealed {
			results[i] = s.WithoutSecrets()
		}
	}
	if len(results) == 1 {
		return json.Marshal(results[0])
	}
	return json.Marshal(results)
}

// Present gives the version of what a change is of, and what stands there; 0 where changes of its kind need no
// version.
func (s *Service) Present(ctx context.Context, r Request, c Change) (version int64, stands json.RawMessage,
	err error) {
	r.DryRun, r.ID = true, ""
	c.Versions = []int64{-1} // nobody has seen that
	_, err = s.Apply(ctx, r, c)
	f := new(app.Fault)
	if !errors.As(err, &f) || f.Kind != app.Stale {
		return 0, nil, err
	}
	version, _ = f.More["version"].(int64)
	stands, err = json.Marshal(f.More["present"])
	return version, stands, err
}
