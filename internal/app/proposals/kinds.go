package proposals

import (
	"context"
	"fmt"
	"slices"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// Bounds of a proposal.
const (
	maxItems    = 100
	maxComments = 500
	maxComment  = 4_000
	maxSize     = 4 << 20                  // of all items, in bytes
	longestWait = 366 * 24 * time.Hour     // until its time
	keepFor     = 7 * 24 * time.Hour       // after its time, where its author says nothing
	maxOpen     = 1_000                    // in a project
	latestHelp  = "must be after its time" // said of Latest
)

// Tx is what these changes read.
type Tx interface {
	Proposal(project int64, id string) (*app.Proposal, error)
	OpenProposals(project int64) (int, error)
}

// What is done with a proposal. None of it can be proposed.
type (
	// Make makes one of changes that were looked at.
	Make struct{ Proposal app.Proposal }
	// Put puts other items in place of those that there are, or of those that others stand on by now.
	Put struct {
		Items   []app.Item
		Because string // where the service puts them
	}
	// Carry is Put by the service.
	Carry struct{ Put }
	// Edit changes what is said of it; nil fields stay. Take makes who does so its author.
	Edit struct {
		Title  *string `json:"title,omitempty"`
		Reason *string `json:"reason,omitempty"`
		At     *int64  `json:"at,omitempty"` // when it is to be made, in Unix milliseconds; 0: by hand
		// Latest is when it is not made any more; without it a week after its time.
		Latest *int64 `json:"latest,omitempty"`
		Take   bool   `json:"take,omitempty"`
	}
	// Sign signs it as it was seen, or takes one's signature back.
	Sign struct {
		Digest string `json:"digest"`
		Back   bool   `json:"back,omitempty"`
	}
	// Say comments on it.
	Say struct {
		Text string `json:"text"`
	}
	// Withdraw gives it up.
	Withdraw struct{}
	// Done marks it as made, in the transaction that makes it.
	Done struct {
		Version int64
		Items   []app.Item
		By      app.Actor
	}
	// Wait says why it could not be made when it was time; Expire, that it is too late.
	Wait   struct{ Why string }
	Expire struct{}
)

// Kinds are the changes of proposals themselves.
func (s *Service) Kinds() []*commit.Kind {
	kind := func(name, says string, action app.Action) commit.Kind {
		return commit.Kind{Name: "proposal." + name, Says: says, Action: action, Span: commit.Project, Queued: true,
			Alone: true}
	}
	inner := func(name, says string) commit.Kind {
		k := kind(name, says, "")
		k.Inner = true
		return k
	}
	return []*commit.Kind{
		commit.Of(kind("make", "Proposes changes", app.Propose), propose),
		commit.Of(kind("put", "Proposes other changes in their place", app.Propose), put),
		commit.Of(kind("edit", "Changes what is said of a proposal, or when it is to be made", app.Propose), edit),
		commit.Of(kind("sign", "Signs a proposal", app.Read), sign),
		commit.Of(kind("say", "Comments on a proposal", app.Read), say),
		commit.Of(kind("withdraw", "Gives a proposal up", app.Read), withdraw),
		commit.Of(inner("done", "Marks a proposal as made"), done),
		commit.Of(inner("carry", "Carries a proposal over to what stands now"), carry),
		commit.Of(inner("wait", "Says why a proposal waits although it is due"), wait),
		commit.Of(inner("expire", "Ends a proposal that came too late"), expire),
	}
}

// held reads the proposal that a change is of, while its project is held. It must be open.
func held(m *commit.Moment) (*app.Proposal, error) {
	p, err := commit.Narrow[Tx](m).Proposal(m.Project.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if p.Over() {
		return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"state": p.State},
			Detail: "the proposal is " + string(p.State) + ": nothing more happens to it"}
	}
	return p, nil
}

// mine is held, for its author alone.
func mine(m *commit.Moment) (*app.Proposal, error) {
	p, err := held(m)
	if err == nil && p.Author != m.Actor.ID {
		err = app.Faultf(app.Forbidden, "only its author edits a proposal: comment on it, or take it over")
	}
	return p, err
}

// wrote is the effect of a proposal as it will stand.
func wrote(m *commit.Moment, p *app.Proposal, action string, lines ...diff.Line) (*commit.Effects, error) {
	p.Version++
	return &commit.Effects{Result: p, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{p},
		Entries: []commit.Entry{{Action: action, Subject: p.ID, Version: p.Version, Lines: append([]diff.Line{
			diff.Text(fmt.Sprintf("%q", p.Title))}, lines...)}}}}}, nil
}

func propose(_ context.Context, m *commit.Moment, in *Make) (*commit.Effects, error) {
	open, err := commit.Narrow[Tx](m).OpenProposals(m.Project.ID)
	if err != nil {
		return nil, err
	}
	if open >= maxOpen {
		return nil, app.Faultf(app.Conflict, "%d proposals are open in this project: withdraw what nobody wants", open)
	}
	p := in.Proposal
	p.ID, p.ProjectID, p.Author, p.Made, p.State = commit.NewID(), m.Project.ID, m.Actor.ID, m.At, app.ProposalOpen
	p.Version, p.Digest, p.Narrow = 0, Digest(p.Items), m.Actor.Narrow
	if err := check(&p, m.At); err != nil {
		return nil, err
	}
	return wrote(m, &p, "proposal.made", listed(p.Items)...)
}

func check(p *app.Proposal, now int64) error {
	var found []flag.Problem
	add := func(place, mend string) { found = append(found, flag.Problem{Place: place, Mend: mend}) }
	if mend := app.CheckText(p.Title, 1, 200); mend != "" {
		add("title", mend)
	}
	if mend := app.CheckText(p.Reason, 0, 2_000); mend != "" {
		add("reason", mend)
	}
	size := 0
	for _, i := range p.Items {
		size += len(i.Change) + len(i.Base)
	}
	switch {
	case len(p.Items) == 0:
		add("items", "there are none: propose a change, or withdraw the proposal")
	case len(p.Items) > maxItems || size > maxSize:
		add("items", fmt.Sprintf("are too many: a proposal has %d at most, of %d MB together", maxItems, maxSize>>20))
	}
	if p.At != 0 && p.At-now > longestWait.Milliseconds() {
		add("at", "must be within a year")
	}
	if p.At == 0 {
		p.Latest = 0
	} else if p.Latest == 0 {
		p.Latest = p.At + keepFor.Milliseconds()
	}
	if p.Latest != 0 && p.Latest <= max(p.At, now) {
		add("latest", latestHelp)
	}
	return app.InvalidFields(found)
}

// listed says in a line each what items change.
func listed(items []app.Item) (lines []diff.Line) {
	for i := range items {
		where := ""
		if items[i].Environment != "" {
			where = " in " + items[i].Environment
		}
		lines = append(lines, diff.Text(fmt.Sprintf("%s of %s%s", items[i].Do, items[i].Of, where)))
	}
	return lines
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	p, err := mine(m)
	if err != nil {
		return nil, err
	}
	if err := m.Seen(p.Version, p); err != nil {
		return nil, err
	}
	if m.Actor.Narrow != nil {
		p.Narrow = m.Actor.Narrow
	}
	return replace(m, p, in, "proposal.edited")
}

func carry(_ context.Context, m *commit.Moment, in *Carry) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	if err := m.Seen(p.Version, p); err != nil {
		return nil, err
	}
	return replace(m, p, &in.Put, "proposal.carried")
}

func replace(m *commit.Moment, p *app.Proposal, in *Put, action string) (*commit.Effects, error) {
	p.Items, p.Waits = in.Items, ""
	was := p.Digest
	p.Digest = Digest(p.Items)
	if err := check(p, m.At); err != nil {
		return nil, err
	}
	lines := listed(p.Items)
	if in.Because != "" {
		lines = append(lines, diff.Text(in.Because))
	}
	if p.Digest != was && len(p.Signatures) > 0 {
		lines = append(lines, diff.Text(fmt.Sprintf("%d signatures fell, since it changes something else now",
			len(p.Signatures))))
		p.Signatures = nil
	}
	return wrote(m, p, action, lines...)
}

func edit(_ context.Context, m *commit.Moment, in *Edit) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	if err := m.Seen(p.Version, p); err != nil {
		return nil, err
	}
	var lines []diff.Line
	if in.Take && p.Author != m.Actor.ID {
		lines = append(lines, diff.Text(fmt.Sprintf("taken over, %d signatures fell", len(p.Signatures))))
		p.Author, p.Signatures, p.Narrow = m.Actor.ID, nil, m.Actor.Narrow
	}
	if p.Author != m.Actor.ID {
		return nil, app.Faultf(app.Forbidden, "only its author edits a proposal: comment on it, or take it over")
	}
	text := func(what string, field, to *string) {
		if to != nil && *to != *field {
			lines = append(lines, diff.Text(fmt.Sprintf("%s %q → %q", what, *field, *to)))
			*field = *to
		}
	}
	text("title", &p.Title, in.Title)
	text("reason", &p.Reason, in.Reason)
	if in.At != nil && *in.At != p.At {
		p.At, p.Latest, p.Waits = *in.At, 0, ""
		lines = append(lines, diff.Text(timed(p.At)))
		if p.At != 0 && p.At <= m.At {
			return nil, app.InvalidField("at", "must be in the future: apply the proposal to have it made now")
		}
	}
	if in.Latest != nil {
		p.Latest = *in.Latest
	}
	if err := check(p, m.At); err != nil {
		return nil, err
	}
	if len(lines) == 0 && in.Latest == nil {
		return commit.Nothing(p), nil
	}
	return wrote(m, p, "proposal.edited", lines...)
}

func timed(at int64) string {
	if at == 0 {
		return "to be made by hand"
	}
	return "to be made at " + time.UnixMilli(at).UTC().Format("2006-01-02 15:04 UTC")
}

func sign(_ context.Context, m *commit.Moment, in *Sign) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(p.Signatures, func(s app.Signature) bool { return s.By == m.Actor.ID })
	if in.Back {
		if at < 0 {
			return nil, app.InvalidField("back", "you have not signed")
		}
		p.Signatures = slices.Delete(p.Signatures, at, at+1)
		return wrote(m, p, "proposal.unsigned")
	}
	switch {
	case in.Digest != p.Digest:
		return nil, &app.Fault{Kind: app.Stale, More: map[string]any{"version": p.Version, "present": p},
			Detail: "the proposal changes something else by now: look at it again and sign what it is"}
	case p.Author == m.Actor.ID:
		return nil, app.Faultf(app.Forbidden, "nobody signs their own proposal")
	case m.Actor.Kind != "person":
		return nil, app.Faultf(app.Forbidden, "a robot does not sign: a person does")
	case at >= 0:
		return commit.Nothing(p), nil
	}
	p.Signatures = append(p.Signatures, app.Signature{By: m.Actor.ID, At: m.At, Digest: p.Digest})
	return wrote(m, p, "proposal.signed", diff.Text("of "+p.Digest))
}

func say(_ context.Context, m *commit.Moment, in *Say) (*commit.Effects, error) {
	p, err := commit.Narrow[Tx](m).Proposal(m.Project.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if mend := app.CheckText(in.Text, 1, maxComment); mend != "" {
		return nil, app.InvalidField("text", "%s", mend)
	}
	if len(p.Comments) >= maxComments {
		return nil, app.InvalidField("text", "a proposal takes %d comments: begin another one", maxComments)
	}
	p.Comments = append(p.Comments, app.Comment{By: m.Actor.ID, At: m.At, Text: in.Text})
	return wrote(m, p, "proposal.commented", diff.Text(in.Text))
}

func withdraw(_ context.Context, m *commit.Moment, _ *Withdraw) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	if _, keeps := m.Actor.Grants.Allows(app.Manage, m.Project.ID, 0); p.Author != m.Actor.ID && !keeps {
		return nil, app.Faultf(app.Forbidden, "its author withdraws a proposal, or a keeper of the project")
	}
	p.State, p.Ended, p.EndedBy = app.ProposalWithdrawn, m.At, m.Actor.ID
	return wrote(m, p, "proposal.withdrawn")
}

// done stands in the transaction that makes the proposal, so it is made once or not at all.
func done(_ context.Context, m *commit.Moment, in *Done) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	if p.Version != in.Version {
		return nil, &app.Fault{Kind: app.Stale, More: map[string]any{"version": p.Version}, Detail: "something " +
			"happened to the proposal meanwhile: look at it again"}
	}
	p.State, p.Ended, p.EndedBy, p.Change, p.Waits = app.ProposalDone, m.At, in.By.ID, m.Change, ""
	p.Items = in.Items
	return wrote(m, p, "proposal.applied", diff.Text(fmt.Sprintf("%d signatures, version %d", len(p.Valid()),
		in.Version)))
}

func wait(_ context.Context, m *commit.Moment, in *Wait) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil || p.Waits == in.Why {
		return commit.Nothing(p), err
	}
	p.Waits = in.Why
	return wrote(m, p, "proposal.waits", diff.Text(in.Why))
}

func expire(_ context.Context, m *commit.Moment, _ *Expire) (*commit.Effects, error) {
	p, err := held(m)
	if err != nil {
		return nil, err
	}
	p.State, p.Ended = app.ProposalExpired, m.At
	return wrote(m, p, "proposal.expired", diff.Text("it could not be made before "+
		time.UnixMilli(p.Latest).UTC().Format("2006-01-02 15:04 UTC")))
}
