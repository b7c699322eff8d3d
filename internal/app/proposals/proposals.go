// Package proposals holds changes that are made later: written down as values, talked about, signed, and made all at
// once or not at all, in the right of who proposed them or of one who signed, as it is at that moment.
//
// Its noun is a [Service]:
//
//	made, err := s.Propose(ctx, request, "", change)   // looks what would come of it, and writes it down
//	done, err := s.Apply(ctx, project, id, actor)      // one transaction
//
// What a proposal stands on may move: see [Service.Carried].
package proposals

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/merge"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Records are what this package reads.
type Records interface {
	Proposal(ctx context.Context, project int64, id string) (*app.Proposal, error)
	DueProposals(ctx context.Context, now int64) ([]app.Proposal, error)
	ProjectOf(ctx context.Context, id int64) (*app.Project, error)
	Place(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error)
	CallerByAccount(ctx context.Context, account string) (*app.Caller, error)
}

// Service makes proposals, and what they propose.
type Service struct {
	Records Records
	Commit  *commit.Service
	Now     func() time.Time
}

// completer are changes that a dry run makes complete, so that what was signed is what is made.
type completer interface {
	Complete(result json.RawMessage) (any, error)
}

// Digest is of what items change: two items that do the same, each of another version, have one digest.
func Digest(items []app.Item) string {
	type signed struct {
		Do, Environment, Of string
		Edits               json.RawMessage
	}
	all := make([]signed, len(items))
	for i, item := range items {
		all[i] = signed{item.Do, item.Environment, item.Of, item.Edits}
	}
	raw, err := json.Marshal(all)
	if err != nil {
		panic(fmt.Sprintf("items cannot be written: %v", err)) // they were read from JSON
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// ActorOf is somebody as they are now. One whose account is disabled has no rights.
func (s *Service) ActorOf(ctx context.Context, account, through string) (*app.Actor, error) {
	c, err := s.Records.CallerByAccount(ctx, account)
	if err != nil {
		return nil, err
	}
	a := &app.Actor{Kind: "person", ID: account, Through: through}
	if c == nil || c.Account.Disabled > 0 {
		return a, nil
	}
	if c.Account.IsRobot() {
		a.Kind = "robot"
	}
	a.Keeper, a.Grants, a.Is = c.Account.Keeper, c.Grants, append(c.Teams, c.Account.Email)
	return a, nil
}

// author is in whose right a proposal is made: its author's as it is now, with no more than it was proposed with.
func (s *Service) author(ctx context.Context, p *app.Proposal, through string) (*app.Actor, error) {
	a, err := s.ActorOf(ctx, p.Author, through)
	if err != nil {
		return nil, err
	}
	a.Grants = a.Grants.Within(p.Narrow)
	return a, nil
}

// Signers are those who signed what a proposal is now, as they are now. Its author is never one.
func (s *Service) Signers(ctx context.Context, p *app.Proposal) (out []app.Actor, err error) {
	for _, one := range p.Valid() {
		if one.By == p.Author {
			continue
		}
		a, err := s.ActorOf(ctx, one.By, "")
		if err != nil {
			return nil, err
		}
		if len(a.Grants) > 0 {
			out = append(out, *a)
		}
	}
	return out, nil
}

// Propose adds changes to a proposal, or makes one: of several that change the same thing, the last counts.
// seen is the version of the proposal that the author has seen, where it is said.
func (s *Service) Propose(ctx context.Context, r commit.Request, project *app.Project, into string, p app.Proposal,
	changes ...commit.Change) (json.RawMessage, error) {
	items, err := s.Look(ctx, r, changes)
	if err != nil {
		return nil, err
	}
	in := commit.In{Project: project}
	if into == "" {
		p.Items, p.Reason = items, r.Reason
		return s.Commit.Apply(ctx, r, commit.Change{In: in, Do: &Make{Proposal: p}})
	}
	for {
		stands, err := s.Records.Proposal(ctx, project.ID, into)
		if err != nil {
			return nil, err
		}
		all := slices.Clone(stands.Items)
		for i := range items {
			all = slices.DeleteFunc(all, func(o app.Item) bool { return o.Same(&items[i]) })
		}
		r := r
		r.Reason = ""
		raw, err := s.Commit.Apply(ctx, r, commit.Change{In: in, Of: into, Versions: []int64{stands.Version},
			Do: &Put{Items: append(all, items...)}})
		f := new(app.Fault)
		if errors.As(err, &f) && f.Kind == app.Stale && ctx.Err() == nil {
			continue // somebody commented or signed meanwhile
		}
		return raw, err
	}
}

// Take takes an item out of a proposal.
func (s *Service) Take(ctx context.Context, r commit.Request, project *app.Project, id string, item int,
	versions []int64) (json.RawMessage, error) {
	stands, err := s.Records.Proposal(ctx, project.ID, id)
	if err != nil {
		return nil, err
	}
	if item < 1 || item > len(stands.Items) {
		return nil, app.Faultf(app.NotFound, "the proposal has no item %d", item)
	}
	return s.Commit.Apply(ctx, r, commit.Change{In: commit.In{Project: project}, Of: id, Versions: versions,
		Do: &Put{Items: slices.Delete(slices.Clone(stands.Items), item-1, item)}})
}

// Look makes items of changes: what would come of them is found out through the use cases themselves, as the author.
func (s *Service) Look(ctx context.Context, r commit.Request, changes []commit.Change) ([]app.Item, error) {
	r.DryRun, r.Proposing, r.ID = true, true, ""
	items := make([]app.Item, len(changes))
	for i := range changes {
		c := &changes[i]
		if err := s.Commit.Kinds.Proposed(*c); err != nil {
			return nil, err
		}
		if len(c.Versions) == 0 {
			continue
		}
		r := r
		version, base, err := s.Commit.Present(ctx, r, *c)
		if err != nil {
			return nil, err
		}
		if base != nil && slices.Contains(c.Versions, version) {
			c.Versions, items[i].Base = []int64{version}, base
		} // else the dry run below says that it moved
	}
	heard, results, err := s.try(ctx, r, changes)
	if err != nil {
		return nil, err
	}
	for i := range changes {
		c, item := &changes[i], &items[i]
		if full, is := c.Do.(completer); is {
			if c.Do, err = full.Complete(results[i]); err != nil {
				return nil, err
			}
		}
		item.Says, item.Takes = []app.ItemLine{}, []app.Take{}
		for _, h := range heard {
			if h.Change == i {
				hear(item, h)
			}
		}
		if len(item.Says) == 0 {
			return nil, app.InvalidField("propose", "the change changes nothing: there is nothing to propose")
		}
		if err := s.write(c, item); err != nil {
			return nil, err
		}
	}
	return items, nil
}

// write writes a change down as an item.
func (s *Service) write(c *commit.Change, item *app.Item) (err error) {
	if item.Change, err = s.Commit.Kinds.Write(*c); err != nil {
		return err
	}
	item.Do, item.Of = s.Commit.Kinds.Name(*c), c.Of
	if c.In.Environment != nil {
		item.Environment = c.In.Environment.Key
	}
	item.Edits = item.Change // with its versions: it counts for these alone
	if carrier, is := c.Do.(commit.Carrier); is && item.Base != nil {
		edits, err := carrier.Edits(item.Base)
		if err != nil {
			return err
		}
		item.Edits, err = json.Marshal(edits)
		return err
	}
	return nil
}

// try looks what would come of changes together.
func (s *Service) try(ctx context.Context, r commit.Request, changes []commit.Change) (heard []commit.Heard,
	results []json.RawMessage, err error) {
	r.Told = func(h commit.Heard) { heard = append(heard, h) }
	raw, err := s.Commit.Apply(ctx, r, changes...)
	if err != nil {
		return nil, nil, err
	}
	if len(changes) == 1 {
		return heard, []json.RawMessage{raw}, nil
	}
	return heard, results, json.Unmarshal(raw, &results)
}

// Carried is an item upon what stands now.
type Carried struct {
	Item      app.Item
	Moved     bool             // what it stood on has moved
	Same      bool             // and it changes the same
	Conflicts []merge.Conflict // it cannot be carried over
	change    commit.Change
}

// Carried lays the items of a proposal upon what stands now.
func (s *Service) Carried(ctx context.Context, r commit.Request, p *app.Proposal) ([]Carried, error) {
	r.Proposing = true
	out := make([]Carried, len(p.Items))
	for i := range p.Items {
		one := &out[i]
		one.Item, one.Same = p.Items[i], true
		var err error
		if one.change, err = s.Commit.Kinds.Read(ctx, one.Item.Change, s.Records.Place); err != nil {
			return nil, err
		}
		if len(one.change.Versions) == 0 || one.Item.Base == nil {
			continue
		}
		version, present, err := s.Commit.Present(ctx, r, one.change)
		if err != nil {
			return nil, err
		}
		if present == nil || slices.Contains(one.change.Versions, version) {
			continue
		}
		if err := s.lay(one, version, present); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Service) lay(one *Carried, version int64, present json.RawMessage) error {
	one.Moved = true
	carrier, is := one.change.Do.(commit.Carrier)
	if !is {
		one.Same = false
		one.Conflicts = []merge.Conflict{{Place: "all of it", Base: one.Item.Base, Theirs: present,
			Ours: one.Item.Change}}
		return nil
	}
	next, conflicts, err := carrier.Carry(one.Item.Base, present)
	if err != nil {
		return err
	}
	one.Conflicts = conflicts
	if len(conflicts) > 0 {
		one.Same = false
		return nil
	}
	one.change.Do, one.change.Versions = next, []int64{version}
	was := one.Item.Edits
	one.Item.Base = present
	if err := s.write(&one.change, &one.Item); err != nil {
		return err
	}
	one.Same = string(was) == string(one.Item.Edits)
	return nil
}

// Ahead is what would come of a proposal now.
type Ahead struct {
	Items   []Carried
	Heard   []commit.Heard
	Results []json.RawMessage
	Blocked error // why it could not be made
}

// Ahead looks what would come of a proposal now, in the right of those who would make it.
func (s *Service) Ahead(ctx context.Context, p *app.Proposal) (*Ahead, error) {
	author, err := s.author(ctx, p, "proposal")
	if err != nil {
		return nil, err
	}
	signers, err := s.Signers(ctx, p)
	if err != nil {
		return nil, err
	}
	r := commit.Request{Actor: *author, Reason: p.Reason, Signers: signers, DryRun: true, Proposing: true}
	out := &Ahead{}
	if out.Items, err = s.Carried(ctx, r, p); err != nil {
		return out, blocked(out, err)
	}
	changes := make([]commit.Change, len(out.Items))
	for i := range out.Items {
		if len(out.Items[i].Conflicts) > 0 {
			out.Blocked = conflict(out.Items)
			return out, nil
		}
		changes[i] = out.Items[i].change
	}
	out.Heard, out.Results, err = s.try(ctx, r, changes)
	return out, blocked(out, err)
}

// blocked keeps why something cannot be, and gives what is not of that kind.
func blocked(out *Ahead, err error) error {
	if f := new(app.Fault); errors.As(err, &f) && f.Kind != app.Unavailable {
		out.Blocked = err
		return nil
	}
	return err
}

func conflict(items []Carried) error {
	var places []string
	for i, c := range items {
		for _, f := range c.Conflicts {
			places = append(places, fmt.Sprintf("%s of item %d", f.Place, i+1))
		}
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"conflicts": places},
		Detail: "somebody else changed the same meanwhile (" + strings.Join(places, ", ") + "): look at both sides " +
			"and propose it again into this proposal"}
}

// tries is how often something may happen to a proposal while it is made.
const tries = 5

// Apply makes what a proposal proposes, now. by is who asks for it.
func (s *Service) Apply(ctx context.Context, project *app.Project, id string, by app.Actor) (out json.RawMessage,
	err error) {
	for range tries {
		p, err := s.Records.Proposal(ctx, project.ID, id)
		if err != nil {
			return nil, err
		}
		if out, err = s.apply(ctx, project, p, by); err == nil {
			return out, nil
		}
		now, failed := s.Records.Proposal(ctx, project.ID, id)
		if failed != nil || now.Version == p.Version || now.Over() || strings.Contains(err.Error(), movedSays) {
			return nil, err
		}
	}
	return nil, app.Faultf(app.Conflict, "the proposal is changed again and again: try once more")
}

// movedSays is why a proposal that was carried over is not made at once.
const movedSays = "what the proposal stands on has moved"

func (s *Service) apply(ctx context.Context, project *app.Project, p *app.Proposal,
	by app.Actor) (json.RawMessage, error) {
	if p.Over() {
		return nil, app.Faultf(app.Conflict, "the proposal is %s", p.State)
	}
	author, err := s.author(ctx, p, by.Through)
	if err != nil {
		return nil, err
	}
	signers, err := s.Signers(ctx, p)
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(signers))
	for i := range signers {
		ids[i] = signers[i].ID
	}
	author.OnBehalfOf, author.Cause = strings.Join(ids, ","), "proposal "+p.ID
	r := commit.Request{Actor: *author, Reason: cmp.Or(p.Reason, p.Title), Signers: signers}
	carried, err := s.Carried(ctx, r, p)
	if err != nil {
		return nil, err
	}
	changes, items, same := []commit.Change{}, []app.Item{}, true
	for _, c := range carried {
		if len(c.Conflicts) > 0 {
			return nil, conflict(carried)
		}
		same = same && c.Same
		changes, items = append(changes, c.change), append(items, c.Item)
	}
	in := commit.In{Project: project}
	if !same {
		return nil, s.carry(ctx, in, p, carried)
	}
	changes = append(changes, commit.Change{In: in, Of: p.ID, Aside: true, Do: &Done{Version: p.Version, Items: items,
		By: by}})
	r.ID = fmt.Sprintf("proposal %s %d", p.ID, p.Version)
	return s.Commit.Apply(ctx, r, changes...)
}

// carry writes down what a proposal has become, which is to be looked at and signed again.
func (s *Service) carry(ctx context.Context, in commit.In, p *app.Proposal, carried []Carried) error {
	items := make([]app.Item, len(carried))
	for i := range carried {
		items[i] = carried[i].Item
	}
	r := commit.Request{Actor: app.Actor{Kind: "service", Through: "service", Cause: "proposal " + p.ID}}
	if _, err := s.Commit.Apply(ctx, r, commit.Change{In: in, Of: p.ID, Versions: []int64{p.Version},
		Do: &Carry{Put{Items: items, Because: movedSays}}}); err != nil {
		return err
	}
	return app.Faultf(app.Conflict, "%s, and it was carried over: look at what it changes now, it takes new "+
		"signatures", movedSays)
}

// Lines are what an item changes, in words.
func Lines(h commit.Heard) app.ItemLine {
	lines := slices.Clone(h.Entry.Lines)
	for _, n := range h.Notes { // what the gate says of it is no part of it
		lines = slices.DeleteFunc(lines, func(l diff.Line) bool { return l.Text == n.Text && n.Text != "" })
	}
	l := app.ItemLine{Action: h.Entry.Action, Subject: h.Entry.Subject, Lines: diff.Said(lines)}
	if h.Environment != nil {
		l.Environment = h.Environment.Key
	}
	return l
}

func hear(item *app.Item, h commit.Heard) {
	l := Lines(h)
	item.Says = append(item.Says, l)
	item.Refused = cmp.Or(item.Refused, h.Refused)
	t := app.Take{Environment: l.Environment, Action: h.Action, Signs: h.Signs, Lever: h.Lever}
	if !slices.Contains(item.Takes, t) {
		item.Takes = append(item.Takes, t)
	}
}
