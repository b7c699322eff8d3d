// Package policies holds the changes of policies, and judges other changes by them.
//
// Its nouns are the kinds of changes ([Kinds]) and a [Judge], which keeps policies compiled:
//
//	rulings, err := judge.Rule(ctx, tx, &policies.Case{...})
package policies

import (
	"context"
	"fmt"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/policy"
)

// most is how many policies a project keeps.
const most = 250

// Tx is what changes of policies read.
type Tx interface {
	Policies(project int64) ([]app.Policy, error)
	// PolicyVersion is the last one that there was of a policy, also of one that was taken away; 0: none.
	PolicyVersion(project int64, key string) (int64, error)
}

// Put saves a policy, a new one or in place of the one with its key.
type Put struct {
	Policy app.Policy `json:"policy"`
}

// Remove takes a policy away. How it ruled stays.
type Remove struct{}

// Kinds are the changes of policies.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "policy.put", Says: "Saves a policy", Action: app.Manage, Span: commit.Project,
			Queued: true}, put),
		commit.Of(commit.Kind{Name: "policy.remove", Says: "Takes a policy away; how it ruled stays",
			Action: app.Manage, Span: commit.Project, Queued: true}, remove),
	}
}

// Check tells what is wrong with a policy.
func Check(p *app.Policy) (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: "policy." + place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := flag.CheckKey(p.Key); mend != "" {
		add("key", "%s", mend)
	}
	if mend := app.CheckText(p.Title, 1, 200); mend != "" {
		add("title", "%s", mend)
	}
	if mend := app.CheckText(p.Reason, 0, 1_000); mend != "" {
		add("reason", "%s", mend)
	}
	if mend := app.CheckText(p.Mend, 1, 500); mend != "" {
		add("mend", "%s: say what to do instead", mend)
	}
	if !slices.Contains(app.Outcomes(), p.Outcome) {
		add("outcome", "must be refuse, warn or note")
	}
	if len(p.Nouns) == 0 {
		add("nouns", "name what it judges: flag, definition, segment, release, environment")
	}
	for i, n := range p.Nouns {
		if !slices.Contains(policy.Nouns(), n) || slices.Contains(p.Nouns[:i], n) {
			add(fmt.Sprintf("nouns[%d]", i), "must be one of flag, definition, segment, release, environment, "+
				"each once")
		}
	}
	for place, all := range map[string][]string{"environments": p.Environments, "tags": p.Tags} {
		for i, one := range all {
			if mend := app.CheckText(one, 1, 100); mend != "" || i >= 50 {
				add(fmt.Sprintf("%s[%d]", place, i), "takes 50 names of at most 100 bytes")
			}
		}
	}
	if _, err := policy.Compile(p.When); err != nil {
		add("when", "%v", err)
	}
	return found
}

func put(_ context.Context, m *commit.Moment, in *Put) (*commit.Effects, error) {
	p := in.Policy
	p.Key, p.At, p.By = m.Of, m.At, m.Actor.ID
	p.Environments, p.Tags = append([]string{}, p.Environments...), append([]string{}, p.Tags...)
	if err := app.InvalidFields(Check(&p)); err != nil {
		return nil, err
	}
	all, err := commit.Narrow[Tx](m).Policies(m.Project.ID)
	if err != nil {
		return nil, err
	}
	was := app.Policy{}
	if at := slices.IndexFunc(all, func(o app.Policy) bool { return o.Key == p.Key }); at >= 0 {
		was = all[at]
		if !m.Anew() { // one's own eyes, where a version is said
			if err := m.Seen(was.Version, was); err != nil {
				return nil, err
			}
		}
	} else if len(all) >= most {
		return nil, app.InvalidField("policy", "a project keeps at most %d: take one away first", most)
	}
	last, err := commit.Narrow[Tx](m).PolicyVersion(m.Project.ID, p.Key)
	if err != nil {
		return nil, err
	}
	p.Version = last + 1
	out := effects(m, "policy.saved", &app.PolicyRecord{ProjectID: m.Project.ID, Policy: &p}, differ(&was, &p))
	out.Back = m.Back(&Remove{})
	if was.Key != "" {
		out.Back = m.Back(&Put{Policy: was}, p.Version)
	}
	return out, nil
}

// differ says what is other.
func differ(was, is *app.Policy) (lines []diff.Line) {
	add := func(what string, a, b any) {
		if fmt.Sprint(a) != fmt.Sprint(b) {
			lines = append(lines, diff.Text(fmt.Sprintf("%s %v → %v", what, a, b)))
		}
	}
	add("title", was.Title, is.Title)
	add("when", was.When, is.When)
	add("outcome", was.Outcome, is.Outcome)
	add("dry", was.Dry, is.Dry)
	add("judges", was.Nouns, is.Nouns)
	add("environments", was.Environments, is.Environments)
	add("tags", was.Tags, is.Tags)
	add("reason", was.Reason, is.Reason)
	add("mend", was.Mend, is.Mend)
	return lines
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	all, err := commit.Narrow[Tx](m).Policies(m.Project.ID)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.Key == m.Of {
			out := effects(m, "policy.removed", &app.PolicyRecord{ProjectID: m.Project.ID, Policy: &p, Gone: true},
				[]diff.Line{diff.Text(fmt.Sprintf("policy %q taken away", p.Title))})
			out.Back = m.Back(&Put{Policy: p})
			return out, nil
		}
	}
	return nil, app.Faultf(app.NotFound, "there is no policy %s in this project", m.Of)
}

func effects(m *commit.Moment, action string, r *app.PolicyRecord, lines []diff.Line) *commit.Effects {
	return &commit.Effects{Result: r.Policy, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{r},
		Entries: []commit.Entry{{Action: action, Subject: r.Key, Version: r.Version, Lines: lines}}}}}
}
