package commit

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/feed"
)

// task is a change with its kind.
type task struct {
	Change
	kind *Kind
	at   int // its place among the changes
}

// Moment is where and when a change is prepared.
type Moment struct {
	Change      string // id that all entries of the transaction bear
	At          int64  // Unix milliseconds
	Actor       app.Actor
	Reason      string
	DryRun      bool
	Project     *app.Project     // where there is one
	Environment *app.Environment // held
	Of          string
	Held        any // what the kind read while it held the environment

	tx       Tx
	versions []int64
	raised   int64
}

// Narrow gives the methods of the transaction that a kind of change needs, which is an interface
// of its own. The service's wiring checks that the store has them all.
func Narrow[T any](m *Moment) T {
	t, ok := m.tx.(T)
	if !ok {
		panic(fmt.Sprintf("%T lacks methods of %T", m.tx, *new(T)))
	}
	return t
}

// Entire holds all environments of the project, in order of their ids.
func (m *Moment) Entire() ([]app.Environment, error) { return m.tx.LockEnvironments(m.Project.ID) }

// Seen checks the version that the caller has seen against the present one. present is
// shown to a caller who has seen another, so that both sides can be laid beside each other.
func (m *Moment) Seen(version int64, present any) error {
	return m.seen(version, func() any { return present })
}

func (m *Moment) seen(version int64, present func() any) error {
	if len(m.versions) == 0 {
		return app.Faultf(app.NeedsVersion, "say which version you have seen: send its number in If-Match")
	}
	if !slices.Contains(m.versions, version) {
		return &app.Fault{Kind: app.Stale, More: map[string]any{"version": version, "present": present()},
			Detail: "it was changed meanwhile: look at both sides and save again with the present version"}
	}
	return nil
}

// Raised is the epoch that began in this transaction, before this change; 0 for none.
func (m *Moment) Raised() int64 { return m.raised }

// Lets asks the gate whether somebody else than the actor may do something here, for a reason: what goes on by
// itself goes on in the right of who began it.
func (m *Moment) Lets(ctx context.Context, who *app.Actor, action app.Action, reason string) error {
	return admit.Pass(ctx, &admit.Case{Actor: who, Action: action, Project: m.Environment.ProjectID,
		Environment: m.Environment, Reason: reason, Guarded: true, Now: m.At, Moves: true})
}

// Anew tells whether the author has seen no version, as of something that is new.
func (m *Moment) Anew() bool { return len(m.versions) == 0 }

// transaction is changes while they are made.
type transaction struct {
	service *Service
	tx      Tx
	request Request
	at      int64
	change  string
	chains  []*pending     // in the order in which they were first written to
	unsaid  []audit.Record // of rows that were written, and that no entry speaks of yet
	moved   Moved
	raised  int64 // the epoch that began in it
	stood   map[int64]app.Environment
	posted  int                         // notices so far
	back    map[int64][]json.RawMessage // what takes the changes back, by project, the last change first
	rulings *app.Rulings
}

// pending is what one chain gets at the end of the transaction.
type pending struct {
	chain    string
	env      *app.Environment
	event    *flag.Event // of the one revision that the environment gets
	revising []told      // entries of the revision
	others   []told
}

type told struct {
	entry   Entry
	project int64
	notes   []audit.Record // of the rows that it speaks of
}

// run prepares, admits and writes the changes one after the other, and enters them in the audit.
func (t *transaction) run(ctx context.Context, todo []task) ([]any, error) {
	if err := t.hold(todo); err != nil {
		return nil, err
	}
	var results []any
	for _, c := range todo {
		e, err := t.one(ctx, c)
		if err != nil {
			return nil, which(err, c, len(todo))
		}
		if !c.Aside {
			results = append(results, e.Result)
		}
		if err := t.reversible(e.Back); err != nil {
			return nil, err
		}
		t.moved.All = t.moved.All || e.Stale.All
		t.moved.Keys = t.moved.Keys || e.Stale.Keys
		t.moved.Units = t.moved.Units || e.Stale.Units
		t.moved.Releases = t.moved.Releases || e.Stale.Releases
		t.moved.Tripwires = t.moved.Tripwires || e.Stale.Tripwires
	}
	if t.rulings != nil && !t.request.DryRun {
		if _, err := t.tx.Write(t.rulings); err != nil {
			return nil, err
		}
	}
	if err := t.keepBack(); err != nil {
		return nil, err
	}
	return results, t.enter()
}

// hold takes the rows of several changes before the first of them is made, in one order for
// everybody: projects before environments, each by their ids.
func (t *transaction) hold(todo []task) error {
	if len(todo) < 2 {
		return nil // it holds its own
	}
	projects, entire, envs := map[int64]bool{}, map[int64]bool{}, map[int64]bool{}
	for _, c := range todo {
		if c.kind.Span == Project || c.kind.Span == Environments {
			projects[c.In.Project.ID] = true
		}
		if c.kind.Span == Environments {
			entire[c.In.Project.ID] = true
		}
		if c.kind.Span == Environment {
			envs[c.In.Environment.ID] = true
		}
	}
	for _, id := range sorted(projects) {
		if err := t.tx.LockProject(id); err != nil {
			return err
		}
	}
	for _, id := range sorted(entire) { // of one project, mostly: all of its environments, in order of their ids
		all, err := t.tx.LockEnvironments(id)
		if err != nil {
			return err
		}
		for i := range all {
			delete(envs, all[i].ID)
		}
	}
	for _, id := range sorted(envs) {
		if _, err := t.tx.LockEnvironment(id); err != nil {
			return err
		}
	}
	return nil
}

// one makes one change, but for the entries.
func (t *transaction) one(ctx context.Context, c task) (*Effects, error) {
	m := &Moment{Change: t.change, At: t.at, Actor: t.request.Actor, Reason: t.request.Reason,
		DryRun:  t.request.DryRun,
		Project: c.In.Project, Of: c.Of, tx: t.tx, versions: c.Versions, raised: t.raised}
	if err := t.open(ctx, c, m); err != nil {
		return nil, err
	}
	e, err := c.kind.prepare(ctx, m, c.Do)
	if err != nil {
		return nil, err
	}
	if err := t.have(ctx, c, e.In); err != nil || e.Then == nil {
		return e, err
	}
	return e, t.have(ctx, c, e.Then())
}

// have asks the gate about all effects, and writes them.
func (t *transaction) have(ctx context.Context, c task, effects []Effect) error {
	for i := range effects {
		if err := t.pass(ctx, c, &effects[i]); err != nil {
			return err
		}
	}
	for i := range effects {
		if t.request.Told != nil {
			for _, entry := range effects[i].Entries {
				h := effects[i].heard
				h.Change, h.Environment, h.Entry = c.at, effects[i].Environment, entry
				t.request.Told(h)
			}
		}
		if err := t.write(&effects[i]); err != nil {
			return err
		}
	}
	return nil
}

// open holds what the change is made in, and asks the gate who wants to.
func (t *transaction) open(ctx context.Context, c task, m *Moment) (err error) {
	switch {
	case c.kind.Span == Environment && c.kind.hold != nil:
		m.Environment = c.In.Environment
		m.Environment, err = c.kind.hold(m)
	case c.kind.Span == Environment:
		m.Environment, err = t.tx.LockEnvironment(c.In.Environment.ID)
	case c.kind.Span != Installation:
		err = t.tx.LockProject(c.In.Project.ID)
	}
	if err != nil {
		return err
	}
	if m.Environment != nil {
		t.stand(*m.Environment)
	}
	if c.kind.Inner {
		return nil
	}
	a := t.asks(c, m.Environment)
	if c.kind.takes != nil {
		a.Action = c.kind.takes(m, c.Do)
	}
	if c.kind.stands != nil {
		if err := admit.Rights(a); err != nil {
			return err
		}
		version, present, err := c.kind.stands(ctx, m)
		if err != nil {
			return err
		}
		if err := m.seen(version, present); err != nil {
			return err
		}
	}
	return admit.Pass(ctx, a)
}

// stand keeps how an environment stands before a change, which is what the gate looks at: a change
// may be of the environment itself.
func (t *transaction) stand(env app.Environment) {
	if t.stood == nil {
		t.stood = map[int64]app.Environment{}
	}
	t.stood[env.ID] = env
}

// ownership is what the gate asks for where only owners change flags.
type ownership interface {
	Owners(project int64, flag string) ([]string, error)
}

// asks is the gate's case of a change.
func (t *transaction) asks(c task, env *app.Environment) *admit.Case {
	a := &admit.Case{Signers: t.request.Signers, Proposing: t.request.Proposing, Actor: &t.request.Actor,
		Action: c.kind.Action, Environment: env, Reason: t.request.Reason,
		DryRun: t.request.DryRun, Now: t.at, Moves: c.kind.Moves, Guarded: c.kind.Guarded, Reopens: c.kind.Reopens ||
			c.kind.Span != Environment}
	if c.In.Project != nil {
		a.Project = c.In.Project.ID
	}
	if c.kind.OfFlag && c.In.Project != nil {
		a.Flag = c.Of
		a.Owners = func() ([]string, error) {
			from, ok := t.tx.(ownership)
			if !ok {
				return nil, fmt.Errorf("%T knows no owners of flags", t.tx)
			}
			return from.Owners(c.In.Project.ID, c.Of)
		}
	}
	if env != nil && env.ProjectID != 0 {
		a.Project = env.ProjectID
	}
	return a
}

// pass asks the gate what would come of it, in one place.
func (t *transaction) pass(ctx context.Context, c task, e *Effect) error {
	e.heard.Action = c.kind.Action
	if c.kind.Inner {
		return nil
	}
	if e.Environment == nil || e.Environment.ID == 0 { // the rest was asked of the project as a whole
		a := t.asks(c, nil)
		a.Policies = func(ctx context.Context, a *admit.Case) error { return t.ruled(ctx, c, e, a) }
		return t.noted(e, a, admit.Policies(ctx, a))
	}
	env := e.Environment
	if stood, is := t.stood[env.ID]; is {
		env = &stood
	}
	a := t.asks(c, env)
	a.Action = cmp.Or(e.Action, a.Action)
	a.Before, a.After, a.Units = e.Judge.Before, e.Judge.After, e.Judge.Units
	if e.Rules != nil && !c.kind.Owns {
		a.Had, a.Has = e.Rules.Before, e.Rules.After
	}
	if a.After != nil && t.service.Shift != nil {
		a.Shift = func(ctx context.Context) (*shift.Shift, error) { return t.service.Shift(ctx, env, a.After) }
	}
	a.Signs = c.kind.Signs || e.Judge.Signs
	a.Policies = func(ctx context.Context, a *admit.Case) error { return t.ruled(ctx, c, e, a) }
	return t.noted(e, a, admit.Pass(ctx, a))
}

// noted keeps with an effect what the gate found.
func (t *transaction) noted(e *Effect, a *admit.Case, err error) error {
	if err != nil {
		return err
	}
	e.heard = Heard{Notes: a.Notes, Action: a.Action, Signs: a.Signs, Lever: admit.LeverAlone(a.Before, a.After),
		Refused: a.Refused}
	if len(a.Notes) > 0 && len(e.Entries) > 0 {
		e.Entries[0].Lines = append(e.Entries[0].Lines, a.Notes...)
		if e.Judge.Noted != nil {
			e.Judge.Noted(a.Notes)
		}
	}
	return nil
}

// write writes the rows of an effect, and notes what its chain gets.
func (t *transaction) write(e *Effect) error {
	for _, r := range e.Records {
		if p, ok := r.(Placed); ok && e.Environment != nil {
			p.Stand(e.Environment.ID, e.Environment.Revision+1)
		}
		some, err := t.tx.Write(r)
		if err != nil {
			return err
		}
		t.unsaid = append(t.unsaid, some...)
		if epoch, is := r.(*app.EpochRecord); is {
			t.raised = epoch.Epoch
		}
	}
	if len(e.Entries) == 0 {
		return nil // what is said of it comes with the next
	}
	project := int64(0)
	chain := audit.Access
	switch {
	case e.Environment != nil:
		chain, project = audit.EnvironmentChain(e.Environment.ID), e.Environment.ProjectID
	case e.Project != nil:
		chain, project = audit.ProjectChain(e.Project.ID), e.Project.ID
	}
	p := t.pending(chain, e.Environment)
	for i, entry := range e.Entries {
		said := told{entry: entry, project: project}
		if i == 0 {
			said.notes, t.unsaid = t.unsaid, nil
		}
		if e.Event != nil {
			p.revising = append(p.revising, said)
		} else {
			p.others = append(p.others, said)
		}
	}
	if e.Event != nil {
		return p.revise(e.Event)
	}
	return nil
}

func (t *transaction) pending(chain string, env *app.Environment) *pending {
	for _, p := range t.chains {
		if p.chain == chain {
			return p
		}
	}
	t.chains = append(t.chains, &pending{chain: chain, env: env})
	return t.chains[len(t.chains)-1]
}

// revise adds an event to that of the revision which the environment gets. Of a flag or a segment
// that comes twice, the last document counts.
func (p *pending) revise(e *flag.Event) (err error) {
	if p.event == nil {
		p.event = e
		return nil
	}
	sum := *p.event
	if sum.Flags, err = latest(slices.Concat(sum.Flags, e.Flags)); err != nil {
		return err
	}
	if sum.Segments, err = latest(slices.Concat(sum.Segments, e.Segments)); err != nil {
		return err
	}
	if e.Gone != nil {
		gone := flag.Gone{Flags: slices.Clone(e.Gone.Flags), Segments: slices.Clone(e.Gone.Segments)}
		if sum.Gone != nil {
			gone.Flags = slices.Concat(sum.Gone.Flags, gone.Flags)
			gone.Segments = slices.Concat(sum.Gone.Segments, gone.Segments)
		}
		sum.Gone = &gone
	}
	sum.Stops, sum.Lifted = slices.Concat(sum.Stops, e.Stops), slices.Concat(sum.Lifted, e.Lifted)
	sum.Settled = slices.Concat(sum.Settled, e.Settled)
	p.event = &sum
	return nil
}

// enter gives the environments their revisions, and the chains their entries.
func (t *transaction) enter() error {
	if len(t.unsaid) > 0 {
		return fmt.Errorf("rows were written without an entry in the audit: %v", t.unsaid)
	}
	for _, p := range t.chains {
		if p.event != nil {
			p.env.Revision++
			p.event.Format, p.event.Revision, p.event.At = flag.Format, p.env.Revision, t.at
			if t.moved.Steps == nil {
				t.moved.Steps = map[int64][]feed.Step{}
			}
			t.moved.Steps[p.env.ID] = append(t.moved.Steps[p.env.ID], feed.Step{Event: p.event, After: p.env.Digest})
			if err := t.add(p, p.revising, p.event); err != nil {
				return err
			}
			p.env.Digest = p.event.Digest
		}
		if err := t.add(p, p.others, nil); err != nil {
			return err
		}
	}
	return nil
}

func (t *transaction) add(p *pending, all []told, event *flag.Event) error {
	if len(all) == 0 {
		return nil
	}
	m := &Moment{Change: t.change, At: t.at, Actor: t.request.Actor, Reason: t.request.Reason}
	entries, personal := make([]audit.Entry, len(all)), make([][]string, len(all))
	for i, one := range all {
		entries[i], personal[i] = m.entry(one.entry, one.project, p.env)
		entries[i].Records = one.notes
	}
	w := &audit.Written{Chain: p.chain, Entries: entries, Personal: personal, Event: event}
	for i := range entries {
		if entries[i].Project == 0 {
			break // what is of the installation is told to nobody
		}
		n, err := notice(&entries[i], all[i].entry.Told, t.posted)
		if err != nil {
			return err
		}
		t.posted++
		w.Notices = append(w.Notices, n)
	}
	return t.tx.Enter(w)
}
