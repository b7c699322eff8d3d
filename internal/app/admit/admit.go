// Package admit is the one gate through which everything goes that somebody wants to do.
//
// Its noun is a [Case]: who wants to do what, where, and what would come of it. [Pass] holds it
// against the [Steps], in their order, and the first that refuses says who or what could help:
//
//	err := admit.Pass(ctx, &admit.Case{Actor: &actor, Action: app.ReleaseIt, Project: id, Environment: env})
//
// A case comes twice: when its environment is held and nothing of the change is known yet, and
// when what it would do is known and not written yet. A step that looks at what would come of
// it says nothing the first time.
package admit

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/greenlever/internal/app"
)

// Case is what somebody wants to do.
type Case struct {
	Actor       *app.Actor
	Action      app.Action       // in the project; empty: something of the whole installation
	Project     int64            // id
	Environment *app.Environment // held; nil: the project as a whole
	Reason      string
	DryRun      bool
	// Guarded cases are what an environment guards itself against: what moves its units. Stops,
	// access keys and the like are not.
	Guarded bool
	// Reopens marks what may be done to an environment that has ended: to bring it back, or to end
	// it for good; and what the project as a whole changes, which goes on there.
	Reopens bool

	Now int64 // Unix milliseconds
	// Flag is the key of the flag whose targeting it changes, and Owners those who answer for it.
	Flag   string
	Owners func() ([]string, error)

	// Moves are cases that may move units although no flag's document changes: a segment's, a release's next step.
	Moves bool

	// What would come of it, the second time: a flag's document as it stands and as it would be,
	// and how many units that moves. Nil where it is no edit of a flag.
	Before, After *flag.Document
	Shift         func(ctx context.Context) (*shift.Shift, error)
	Units         *int64 // how many units would move, as the actor was told

	// Had and Has are a flag's document before and after, where it is not a release that changes it.
	Had, Has *flag.Document

	// Signs are cases that take the signatures which an environment wants. Signers have signed the proposal that it is
	// of, and Proposing only looks what comes of it.
	Signs     bool
	Signers   []app.Actor
	Proposing bool

	// Policies rule on what would come of it, the second time.
	Policies func(ctx context.Context, c *Case) error
	Refused  string // what a policy says that would refuse it, where it is only looked at

	// Notes are lines that the entry in the audit takes besides: what was confirmed.
	Notes []diff.Line
}

// Step is one thing that is asked of every case.
type Step struct {
	Name    string
	Says    string // what it keeps from happening
	Example string // of a refusal
	Mend    string // who or what helps then
	refuse  func(ctx context.Context, c *Case) error
}

// Steps lists the steps in the order in which they are asked. Those that nothing stands behind
// yet have their place: what is built later is asked there, and nowhere else.
func Steps() []Step {
	return []Step{
		{"rights", "People do what their roles allow.", "an auditor sets a lever",
			"a keeper of the project gives the role", rights},
		{"ended", "What is archived stays as it was.", "a flag is edited in an archived environment",
			"greenlever environment bring-back, by a keeper", ended},
		{"behind", "Nothing is built on records that lost what followers had.", "an edit after a restored backup",
			"greenlever epoch new; stops are taken", behind},
		{"freeze", "Nothing moves units while the environment is frozen.", "an edit in the week of the fair",
			"a keeper takes the freeze away, or excepts the flag", frozen},
		{"ownership", "What a release works on is edited through the release.",
			"a share is widened beside its release",
			"the release's owner", owned},
		{"owners", "Where an environment says so, only those who own a flag change what it gives.",
			"a developer of another team edits a flag in production", "an owner edits it, or is made one", owners},
		{"asks first", "An environment that matters hears why, and how many, before it moves all of its units.",
			"production is edited without a reason", "say why in one sentence; confirm the number of units",
			asksFirst},
		{"policy", "What the project agreed on is kept.", "a step of more than the project takes", "a smaller step",
			Policies},
		{"signatures", "What needs a second person has one.", "production is edited by one person alone",
			"propose it, and those who may sign do", signed},
	}
}

var steps = Steps()

// Pass holds a case against all steps. The error is that of the first that refuses.
func Pass(ctx context.Context, c *Case) error {
	for i := range steps {
		if steps[i].refuse == nil {
			continue
		}
		if err := steps[i].refuse(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

func rights(_ context.Context, c *Case) error { return Rights(c) }

// Rights is the first step by itself, for who must know it before anything is told.
func Rights(c *Case) error {
	if c.Action == "" {
		return Installation(c.Actor)
	}
	environment := int64(0)
	if c.Environment != nil {
		environment = c.Environment.ID
	}
	err := Allow(c.Actor, c.Action, c.Project, environment)
	if err == nil || !c.Proposing && len(c.Signers) == 0 {
		return err
	}
	// A proposal is made in the right of its author, or of one who signed what the author may propose.
	if e := Allow(c.Actor, app.Propose, c.Project, environment); e != nil {
		return e
	}
	if c.Proposing || slices.ContainsFunc(c.Signers, func(s app.Actor) bool {
		return Allow(&s, c.Action, c.Project, environment) == nil
	}) {
		return nil
	}
	return err
}

// Policies is that step by itself, for what a project changes outside its environments.
func Policies(ctx context.Context, c *Case) error {
	if c.Policies == nil {
		return nil
	}
	return c.Policies(ctx, c)
}

func ended(_ context.Context, c *Case) error {
	if c.Reopens || c.Environment == nil || c.Environment.State == app.Active {
		return nil
	}
	return app.Faultf(app.Conflict, "environment %s is %s, and nobody follows it: bring it back first",
		c.Environment.Key, c.Environment.State)
}

func behind(_ context.Context, c *Case) error {
	if !c.Guarded || c.Environment == nil || c.Environment.Behind == 0 {
		return nil
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"behind": c.Environment.Behind,
		"revision": c.Environment.Revision},
		Detail: "a follower has had a revision that the records do not know, so they were restored from a backup: " +
			"run `greenlever epoch new`, until then only stops are taken"}
}

// owned keeps the rules that a release owns as the release has them: each of them as it is, together
// and in their order. All else of the flag may change around them.
func owned(_ context.Context, c *Case) error {
	if c.Had == nil && c.Has == nil {
		return nil
	}
	had, has, gap := group(c.Had), group(c.Has), apart(c.Has)
	if bytes.Equal(had.rules, has.rules) && !gap {
		return nil
	}
	id := cmp.Or(had.release, has.release)
	what := "can be edited only by it: hold it, roll it back, edit its stages to come, or leave them as they are"
	switch {
	case had.release == "":
		return app.InvalidField("document.rules", "a rule says that it is of release %s: only a release itself says "+
			"that, so leave it out", id)
	case gap:
		what = "stand together: put the other rules above or below them"
	}
	return &app.Fault{Kind: app.Conflict, More: map[string]any{"release": id},
		Detail: fmt.Sprintf("the rules of release %s, which runs on %s, %s", id, c.Had.Key, what)}
}

// owning is what releases own of a flag's rules.
type owning struct {
	release string
	rules   []byte
}

func group(d *flag.Document) (out owning) {
	var rules []flag.Rule
	if d == nil {
		d = &flag.Document{}
	}
	for _, r := range d.Rules {
		if r.Release != "" {
			rules, out.release = append(rules, r), r.Release
		}
	}
	out.rules, _ = json.Marshal(rules) // plain values
	return out
}

// apart tells whether other rules stand among those that a release owns.
func apart(d *flag.Document) bool {
	if d == nil {
		return false
	}
	began, ended := false, false
	for _, r := range d.Rules {
		mine := r.Release != ""
		if mine && ended {
			return true
		}
		ended, began = ended || began && !mine, began || mine
	}
	return false
}

func asksFirst(ctx context.Context, c *Case) error {
	if !c.Guarded || c.Environment == nil || !c.Environment.AskFirst {
		return nil
	}
	if strings.TrimSpace(c.Reason) == "" {
		return app.InvalidField("reason", "environment %s asks first: say why in one sentence", c.Environment.Key)
	}
	return confirmed(ctx, c)
}
