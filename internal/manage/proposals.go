package manage

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/proposals"
)

const atProposal = atProject + "/proposals/:proposal"

var _ = listed(
	op[none, listOf[ProposalLine]]("GET", atProject+"/proposals", "What is proposed, the newest first, and what "+
		"became of the last hundred", (*call).proposals).needs(app.Read),
	op[none, ProposalView]("GET", atProposal, "A proposal, and what would come of it now",
		(*call).proposal).needs(app.Read),
	op[proposals.Edit, app.Proposal]("PATCH", atProposal, "Change what is said of a proposal or when it is to be "+
		"made, "+
		"or take it over", (*call).editProposal).ifMatch().change().needs(app.Propose),
	op[proposals.Sign, app.Proposal]("POST", atProposal+"/signatures", "Sign a proposal as it was seen, or take "+
		"one's "+
		"signature back", (*call).signProposal).change().needs(app.Read),
	op[proposals.Say, app.Proposal]("POST", atProposal+"/comments", "Comment on a proposal",
		(*call).sayOfProposal).change().needs(app.Read),
	op[none, app.Proposal]("POST", atProposal+"/items/:item/remove", "Take a change out of a proposal, by its number "+
		"from 1", (*call).takeItem).ifMatch().change().needs(app.Propose),
	op[none, app.Proposal]("POST", atProposal+"/withdraw", "Give a proposal up",
		(*call).withdrawProposal).change().needs(app.Read),
	op[none, AppliedProposal]("POST", atProposal+"/apply", "Make what is proposed, all at once, if it has what it "+
		"wants", (*call).applyProposal).needs(app.Propose),
)

// ProposalLine is a proposal in a list.
type ProposalLine struct {
	ID           string            `json:"id"`
	Title        string            `json:"title"`
	State        app.ProposalState `json:"state"`
	Author       string            `json:"author"` // name
	Made         int64             `json:"made"`
	At           int64             `json:"at,omitempty"`
	Latest       int64             `json:"latest,omitempty"`
	Ended        int64             `json:"ended,omitempty"`
	Waits        string            `json:"waits,omitempty"`
	Changes      int               `json:"changes"` // how many
	Environments []string          `json:"environments"`
	Of           []string          `json:"of"` // what they are of: keys of flags and the like
	Wants        []proposals.Want  `json:"wants"`
	Mine         bool              `json:"mine,omitempty"`
	ForMe        bool              `json:"forMe,omitempty"`   // it waits for one's signature
	Refused      string            `json:"refused,omitempty"` // what a policy says that refuses it as it is signed now
}

// Signed is a signature, with the name of who gave it.
type Signed struct {
	Name string `json:"name"`
	At   int64  `json:"at"`
	Me   bool   `json:"me,omitempty"`
}

// Commented is a comment, with the name of who made it.
type Commented struct {
	Name string `json:"name"`
	At   int64  `json:"at"`
	Text string `json:"text"`
}

// ProposalView is a proposal with what would come of it now.
type ProposalView struct {
	ProposalLine
	Version    int64       `json:"version"`
	Reason     string      `json:"reason,omitempty"`
	Digest     string      `json:"digest"`
	EndedBy    string      `json:"endedBy,omitempty"` // name
	Change     string      `json:"change,omitempty"`
	Signatures []Signed    `json:"signatures"`
	Comments   []Commented `json:"comments"`
	Items      []ItemView  `json:"items"`
	// Blocked is why it could not be made now, besides what it wants; empty where nothing is in the way.
	Blocked  string          `json:"blocked,omitempty"`
	Problems []flag.Problem  `json:"problems,omitempty"` // with Blocked: where and how to mend it
	Notes    []words.Said    `json:"notes"`              // what is said of it besides, as by a freeze
	Previews []PreviewIn     `json:"previews"`
	Could    map[string]bool `json:"could"`   // what one may do: sign, unsign, apply, edit, take, withdraw
	Signers  []string        `json:"signers"` // names of those for whose signature it waits
}

func (p *ProposalView) version() int64 { return p.Version }

// PreviewIn is what a proposal would move in an environment.
type PreviewIn struct {
	Environment string           `json:"environment"`
	Preview     *preview.Preview `json:"preview"`
}

// ItemView is a change of a proposal.
type ItemView struct {
	Do          string           `json:"do"`
	What        string           `json:"what"` // says what is done
	Environment string           `json:"environment,omitempty"`
	Of          string           `json:"of,omitempty"`
	Says        []app.ItemLine   `json:"says"`
	Was         words.Said       `json:"was,omitempty"`     // the sentence before, of a flag
	Is          words.Said       `json:"is,omitempty"`      // and after
	Moved       bool             `json:"moved,omitempty"`   // what it stands on was changed by others
	Changed     bool             `json:"changed,omitempty"` // and it changes something else by that
	Conflicts   []merge.Conflict `json:"conflicts,omitempty"`
	With        json.RawMessage  `json:"with,omitempty"` // the change as it is made
}

// AppliedProposal is what came of making a proposal.
type AppliedProposal struct {
	Proposal *app.Proposal   `json:"proposal"`
	Results  json.RawMessage `json:"results"`
}

// proposedAnswer is answered in place of the result of a change that is proposed.
type proposedAnswer struct{ proposal json.RawMessage }

func (proposedAnswer) Error() string { return "proposed" }

// proposing is the proposal that a change is to go into: "new", an id, or empty where it is to be made.
func (c *call) proposing() string { return c.QueryParam("propose") }

// make makes changes all at once, or proposes them.
func (c *call) make(r commit.Request, changes ...commit.Change) (json.RawMessage, error) {
	into := c.proposing()
	if into == "" {
		return c.api.Commit.Apply(c.ctx, r, changes...)
	}
	for _, change := range changes {
		if err := c.api.Commit.Kinds.Proposed(change); err != nil {
			return nil, err
		}
	}
	r.Proposing = true
	if r.DryRun {
		return c.api.Commit.Apply(c.ctx, r, changes...)
	}
	p := app.Proposal{Title: c.proposedTitle(r.Reason, changes)}
	if into == "new" {
		into = ""
	}
	raw, err := c.api.Proposals.Propose(c.ctx, r, c.p, into, p, changes...)
	if err != nil {
		return nil, err
	}
	return nil, proposedAnswer{raw}
}

// proposed answers with the proposal.
func (c *call) proposed(a proposedAnswer) error {
	var p struct{ ID string }
	if err := json.Unmarshal(a.proposal, &p); err != nil {
		return err
	}
	c.Response().Header().Set("Location", "/api/v1/projects/"+c.p.Key+"/proposals/"+p.ID)
	return c.JSON(http.StatusAccepted, a.proposal)
}

// crowd is who has roles in the project, as they are now.
type crowd struct {
	people map[string]*app.Actor
	names  map[string]string
	envs   []app.Environment
}

func (c *call) crowd() (*crowd, error) {
	all, err := c.holders()
	if err != nil {
		return nil, err
	}
	out := &crowd{people: map[string]*app.Actor{}}
	if out.names, err = c.names(); err != nil {
		return nil, err
	}
	for _, h := range all {
		a := &app.Actor{Kind: "person", ID: h.ID, Is: append(h.teams, h.Email)}
		if h.IsRobot() {
			a.Kind = "robot"
		}
		if h.Disabled == 0 {
			a.Grants = h.all
		}
		out.people[h.ID] = a
	}
	out.envs, err = c.api.Records.Environments(c.ctx, c.p.ID)
	return out, err
}

func (w *crowd) of(account string) *app.Actor {
	if a := w.people[account]; a != nil {
		return a
	}
	return &app.Actor{ID: account}
}

func (w *crowd) wants(p *app.Proposal) []proposals.Want {
	var signers []app.Actor
	for _, s := range p.Valid() {
		if a := w.of(s.By); s.By != p.Author && len(a.Grants) > 0 {
			signers = append(signers, *a)
		}
	}
	author := *w.of(p.Author)
	author.Grants = author.Grants.Within(p.Narrow)
	return proposals.Wants(p, w.envs, &author, signers)
}

func (c *call) lineOf(p *app.Proposal, w *crowd) ProposalLine {
	l := ProposalLine{ID: p.ID, Title: p.Title, Author: w.names[p.Author], Made: p.Made, At: p.At, Latest: p.Latest,
		Ended: p.Ended, Waits: p.Waits, Changes: len(p.Items), Environments: []string{}, Of: []string{},
		Wants: []proposals.Want{}, State: p.State, Mine: p.Author == c.actor.ID}
	for i := range p.Items {
		for _, t := range p.Items[i].Takes {
			if t.Environment != "" && !slices.Contains(l.Environments, t.Environment) {
				l.Environments = append(l.Environments, t.Environment)
			}
		}
		if of := p.Items[i].Of; of != "" && !slices.Contains(l.Of, of) {
			l.Of = append(l.Of, of)
		}
	}
	if !p.Over() {
		wants := w.wants(p)
		l.Wants = append(l.Wants, wants...)
		l.State = proposals.State(p, wants)
		l.ForMe = proposals.Waiting(p, wants, &c.actor)
	}
	return l
}

// underPolicies looks at a proposal anew that a policy would have refused when it was made: signatures may be what it
// asks for, and an environment's own are not all then.
func (c *call) underPolicies(p *app.Proposal, l *ProposalLine) error {
	refused := slices.ContainsFunc(p.Items, func(i app.Item) bool { return i.Refused != "" })
	if p.Over() || l.State == app.ProposalOpen || !refused {
		return nil
	}
	refusal, err := c.api.refusedAsItIs(c.ctx, p)
	if err == nil && refusal != "" {
		l.State, l.Refused = app.ProposalOpen, refusal
		l.ForMe = c.maySignFor(p)
	}
	return err
}

// lookedFor is how long what a policy says of a proposal counts in lists: every open page asks for them, and each look
// holds the environment for a moment.
const lookedFor = 10 * time.Second

// looked is what a policy said of a version of a proposal.
type looked struct {
	version, at int64
	refusal     string
}

// refusedAsItIs is what a policy says that refuses a proposal as it is signed now; empty where none does.
func (a *API) refusedAsItIs(ctx context.Context, p *app.Proposal) (string, error) {
	now := a.Now().UnixMilli()
	if had, is := a.looks.Load(p.ID); is {
		if l := had.(looked); l.version == p.Version && now-l.at < lookedFor.Milliseconds() {
			return l.refusal, nil
		}
	}
	ahead, err := a.Proposals.Ahead(ctx, p)
	if err != nil {
		return "", err
	}
	l := looked{version: p.Version, at: now}
	for _, h := range ahead.Heard {
		l.refusal = cmp.Or(l.refusal, h.Refused)
	}
	a.looks.Store(p.ID, l)
	return l.refusal, nil
}

// maySignFor tells whether the caller may sign for a policy that asks who signed.
func (c *call) maySignFor(p *app.Proposal) bool {
	return !p.Over() && p.Author != c.actor.ID && c.actor.Kind == "person" && admit.Allow(&c.actor, app.Propose,
		c.p.ID,
		0) == nil && !slices.ContainsFunc(p.Valid(), func(s app.Signature) bool { return s.By == c.actor.ID })
}

const pastProposals = 100

func (c *call) proposals(*none) (any, error) {
	w, err := c.crowd()
	if err != nil {
		return nil, err
	}
	all, err := c.api.Records.Proposals(c.ctx, c.p.ID, pastProposals)
	out := listOf[ProposalLine]{[]ProposalLine{}}
	for i := range all {
		l := c.lineOf(&all[i], w)
		if err := c.underPolicies(&all[i], &l); err != nil {
			return nil, err
		}
		out.Items = append(out.Items, l)
	}
	return out, err
}

func (c *call) proposal(*none) (any, error) {
	p, err := c.api.Records.Proposal(c.ctx, c.p.ID, c.Param("proposal"))
	if err != nil {
		return nil, err
	}
	w, err := c.crowd()
	if err != nil {
		return nil, err
	}
	v := &ProposalView{ProposalLine: c.lineOf(p, w), Version: p.Version, Reason: p.Reason, Digest: p.Digest,
		EndedBy: w.names[p.EndedBy], Change: p.Change, Signatures: []Signed{}, Comments: []Commented{},
		Items: []ItemView{}, Notes: []words.Said{}, Previews: []PreviewIn{}, Signers: []string{}}
	if err := c.underPolicies(p, &v.ProposalLine); err != nil {
		return nil, err
	}
	signed := false
	for _, s := range p.Valid() {
		v.Signatures = append(v.Signatures, Signed{w.names[s.By], s.At, s.By == c.actor.ID})
		signed = signed || s.By == c.actor.ID
	}
	for _, s := range p.Comments {
		v.Comments = append(v.Comments, Commented{w.names[s.By], s.At, s.Text})
	}
	for i := range p.Items {
		item := &p.Items[i]
		v.Items = append(v.Items, ItemView{Do: item.Do, What: c.api.Commit.Kinds.Says(item.Do),
			Environment: item.Environment, Of: item.Of, Says: item.Says, With: item.Change})
	}
	may := func(a app.Action) bool { return admit.Allow(&c.actor, a, c.p.ID, 0) == nil }
	open, mine := !p.Over(), p.Author == c.actor.ID
	v.Could = map[string]bool{"sign": v.ForMe, "unsign": open && signed, "apply": open && may(app.Propose) &&
		v.State != app.ProposalOpen, "edit": open && mine, "take": open && !mine && may(app.Propose),
		"withdraw": open && (mine || may(app.Manage))}
	if !open {
		return v, nil
	}
	for id, who := range w.people {
		if proposals.Waiting(p, v.Wants, who) {
			v.Signers = append(v.Signers, w.names[id])
		}
	}
	slices.Sort(v.Signers)
	return v, c.comes(p, v)
}

func (c *call) editProposal(in *proposals.Edit) (any, error) {
	return c.apply("", c.Param("proposal"), in)
}

func (c *call) signProposal(in *proposals.Sign) (any, error) {
	if asks, err := c.policiesAskWhoSigned(); err != nil {
		return nil, err
	} else if !in.Back && !asks {
		w, err := c.crowd()
		if err != nil {
			return nil, err
		}
		p, err := c.api.Records.Proposal(c.ctx, c.p.ID, c.Param("proposal"))
		if err != nil {
			return nil, err
		}
		// A signature that counts for nothing would look like one that does.
		if wants := w.wants(p); !p.Over() && len(wants) > 0 && p.Author != c.actor.ID && c.actor.Kind == "person" &&
			!slices.ContainsFunc(wants, func(w proposals.Want) bool { return w.Counts(&c.actor, c.p.ID) }) {
			return nil, app.Faultf(app.Forbidden, "your signature does not count for this proposal: %s", wanted(wants))
		}
	}
	return c.apply("", c.Param("proposal"), in)
}

// policiesAskWhoSigned tells whether a signature may count for a policy although it counts for no environment.
func (c *call) policiesAskWhoSigned() (bool, error) {
	all, err := c.api.Records.Policies(c.ctx, c.p.ID)
	return slices.ContainsFunc(all, func(p app.Policy) bool { return strings.Contains(p.When, "signed") }), err
}

// wanted says what a proposal wants.
func wanted(wants []proposals.Want) string {
	var says []string
	for _, w := range wants {
		where := w.Environment
		if where == "" {
			where = "the project"
		}
		if w.Signing != nil {
			says = append(says, where+" wants "+w.Signing.String())
		} else {
			says = append(says, where+" wants one of those who may "+string(w.Action))
		}
	}
	if len(says) == 0 {
		return "it wants none"
	}
	return strings.Join(says, "; ")
}

func (c *call) sayOfProposal(in *proposals.Say) (any, error) {
	return c.apply("", c.Param("proposal"), in)
}

func (c *call) withdrawProposal(*none) (any, error) {
	return c.apply("", c.Param("proposal"), &proposals.Withdraw{})
}

func (c *call) takeItem(*none) (any, error) {
	n, err := strconv.Atoi(c.Param("item"))
	if err != nil {
		return nil, app.Faultf(app.NotFound, "%q is no number of an item", c.Param("item"))
	}
	r, versions, err := c.request("")
	if err != nil {
		return nil, err
	}
	return c.api.Proposals.Take(c.ctx, r, c.p, c.Param("proposal"), n, versions)
}

func (c *call) applyProposal(*none) (any, error) {
	results, err := c.api.Proposals.Apply(c.ctx, c.p, c.Param("proposal"), c.actor)
	if err != nil {
		return nil, err
	}
	p, err := c.api.Records.Proposal(c.ctx, c.p.ID, c.Param("proposal"))
	return &AppliedProposal{p, results}, err
}
