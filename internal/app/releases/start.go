package releases

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/diff"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
	"greenlever.example/greenlever/internal/app/metrics"
)

// Start starts a release of a flag. What is left open is taken from the release that it follows, if it
// names one, else from the ladder, else from the flag.
type Start struct {
	From string `json:"from,omitempty"` // variant; empty: what the flag gives now where no rule applies
	To   string `json:"to,omitempty"`   // empty: the one other variant of a flag with two
	// Beside are further variants that are new: each gets an equal part of every share.
	Beside []string        `json:"beside,omitempty"`
	By     []string        `json:"by,omitempty"` // what shares are drawn by; empty: the key
	Where  *condition.Node `json:"where,omitempty"`
	Stages []stage.Stage   `json:"stages,omitempty"`
	Ladder string          `json:"ladder,omitempty"` // a saved order of stages, in place of them
	// Named are the keys of the units for those stages of the ladder that ask.
	Named    []string          `json:"named,omitempty"`
	First    int               `json:"first,omitempty"` // the stage to begin with; those before it are in it
	Begin    int64             `json:"begin,omitempty"` // Unix milliseconds; 0: at once
	Hours    *condition.Weekly `json:"hours,omitempty"`
	Delivery stage.Delivery    `json:"delivery,omitempty"`
	OldArm   bool              `json:"oldArm,omitempty"`
	// Watches are what it looks at while it goes; absent: those metrics that belong to the flag, and none if empty.
	Watches *[]Watching `json:"watches,omitempty"`
	// BreakDown are attributes by which what the watches find is broken down, in numbers alone.
	BreakDown []string `json:"breakDown,omitempty"`
	// Alpha is the chance of a false verdict, 0.001 to 0.2; 0: 0.05.
	Alpha    float64 `json:"alpha,omitempty"`
	Above    string  `json:"above,omitempty"`    // id of the rule that it stands above; empty: below all
	Expected string  `json:"expected,omitempty"` // the effect that is hoped for, in one's own words
	// Salt is that of the shares as a dry run gave it, so that what was shown is what happens.
	Salt  string `json:"salt,omitempty"`
	After string `json:"after,omitempty"` // id of the release of this flag that it follows
	// Bundle is one whose flags are released in step: none begins a stage while another is further behind, or is
	// held.
	Bundle string `json:"bundle,omitempty"`
}

const maxExpected = 2_000

func (s *Service) start(ctx context.Context, m *commit.Moment, in *Start) (*commit.Effects, error) {
	t, env, held := txOf(m), m.Environment, m.Held.(*holding)
	doc := held.Flag.Document
	last, err := t.LastRelease(env.ID, m.Of)
	if err != nil {
		return nil, err
	}
	if last != nil && last.Running() {
		return nil, &app.Fault{Kind: app.Conflict, More: map[string]any{"release": last.ID},
			Detail: "release " + last.ID + " of this flag runs here already: finish it or roll it back first"}
	}
	p, after, err := in.plan(t, m, doc, last)
	if err != nil {
		return nil, err
	}
	rel := &app.Release{ID: commit.NewID(), Project: env.ProjectID, Environment: env.ID, Flag: m.Of,
		Owner: m.Actor.ID,
		Made:  m.At, Expected: strings.TrimSpace(in.Expected), Reason: m.Reason, Ladder: in.Ladder, After: after,
		Bundle: in.Bundle,
		State:  stage.Begin(*p, "", env.Revision, m.At)}
	if err := s.watchable(ctx, t, env, p); err != nil {
		return nil, err
	}
	if err := s.stands(ctx, t, env, doc, rel); err != nil {
		return nil, err
	}
	names := s.names(ctx, env.ID)
	lines := planned(rel, names)
	done := &Done{Release: rel, EnvironmentKey: env.Key, Sentence: stage.Says(&rel.State, nil, names, m.At),
		Difference: diff.Said(lines), Document: doc}
	step := &app.ReleaseStep{Release: rel.ID, Sequence: rel.State.Sequence, At: m.At, Actor: m.Actor,
		Event: stage.Event{Do: stage.Started, Because: m.Reason}, Tell: stage.Planned,
		Is: rel.State.Is, Stage: -1, Change: m.Change}
	return changed(done, commit.Effect{Environment: env,
		Records: []commit.Record{&app.ReleaseRecord{Release: rel}, step},
		Entries: []commit.Entry{commit.Said("release.planned", rel.Flag, lines...)}}), nil
}

func (s *Service) names(ctx context.Context, environment int64) words.Names {
	if s.Names == nil {
		return nil
	}
	return s.Names(ctx, environment)
}

// plan fills in what was left open, and refuses what cannot be.
func (in *Start) plan(t tx, m *commit.Moment, doc *flag.Document, last *app.Release) (p *stage.Plan, after string,
	err error) {
	p = &stage.Plan{From: in.From, To: in.To, Beside: in.Beside, By: in.By, Where: in.Where, Above: in.Above,
		Stages: in.Stages, First: in.First, Begin: in.Begin, Hours: in.Hours, Delivery: in.Delivery,
		OldArm: in.OldArm, Alpha: in.Alpha, BreakDown: in.BreakDown}
	if mend := flag.CheckKey(in.Bundle); mend != "" && in.Bundle != "" {
		return nil, "", app.InvalidField("bundle", "%s", mend)
	}
	if mend := app.CheckText(in.Expected, 0, maxExpected); mend != "" {
		return nil, "", app.InvalidField("expected", "%s", mend)
	}
	if in.After != "" {
		was, err := t.Release(in.After)
		if err != nil || was.Environment != m.Environment.ID || was.Flag != m.Of {
			return nil, "", app.InvalidField("after", "there is no such release of %s in this environment", m.Of)
		}
		after = was.ID
		carry(p, &was.State.Plan)
	}
	if in.Ladder != "" {
		if len(in.Stages) > 0 {
			return nil, "", app.InvalidField("ladder", "stands in place of stages: give one of them")
		}
		if p.Stages, err = in.climb(t, m.Project.ID); err != nil {
			return nil, "", err
		}
	}
	in.usual(p, doc)
	if in.Watches != nil || len(p.Watches) == 0 {
		if p.Watches, err = watches(t, m, in.Watches); err != nil {
			return nil, "", err
		}
		if err := guess(t, m, p.Watches); err != nil {
			return nil, "", err
		}
	}
	p.Look()
	if p.Salt = in.Salt; p.Salt == "" {
		p.Salt = conditions.NewSalt()
	}
	if mend := app.CheckText(p.Salt, 1, 64); mend != "" {
		return nil, "", app.InvalidField("salt", "%s", mend)
	}
	if last != nil && slices.Equal(last.State.Plan.By, p.By) { // the same units come first
		p.Salt, after = last.State.Plan.Salt, last.ID
	}
	return p, after, settle(p, doc, m.At)
}

// usual fills in what nobody said.
func (in *Start) usual(p *stage.Plan, doc *flag.Document) {
	if p.From == "" {
		if p.From = doc.End.Variant; p.From == "" || p.From == p.To {
			p.From = doc.Resting
		}
	}
	if p.To == "" && len(doc.Variants) == 2 {
		p.To = slices.DeleteFunc(doc.VariantNames(), func(v string) bool { return v == p.From })[0]
	}
	if len(p.By) == 0 {
		p.By = []string{condition.KeyAttribute}
	}
}

// carry takes over what a plan leaves open.
func carry(p, was *stage.Plan) {
	if p.From == "" && p.To == "" {
		p.From, p.To = was.From, was.To
		if len(p.Beside) == 0 {
			p.Beside = was.Beside
		}
	}
	if len(p.By) == 0 {
		p.By = was.By
	}
	if p.Where == nil {
		p.Where = was.Where
	}
	if len(p.Stages) == 0 {
		p.Stages = was.Stages
	}
	if len(p.BreakDown) == 0 {
		p.BreakDown = was.BreakDown
	}
	p.Watches = was.Watches
	if p.Alpha == 0 {
		p.Alpha = was.Alpha
	}
	if p.Hours == nil {
		p.Hours = was.Hours
	}
	if p.Delivery == (stage.Delivery{}) {
		p.Delivery = was.Delivery
	}
	p.OldArm = p.OldArm || was.OldArm
	if p.Above == "" {
		p.Above = was.Above
	}
}

// climb gives the stages of a ladder.
func (in *Start) climb(t tx, project int64) ([]stage.Stage, error) {
	all, err := t.Ladders(project)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(l app.Ladder) bool { return l.Key == in.Ladder })
	if i < 0 {
		return nil, app.InvalidField("ladder", "there is no ladder %q in this project", in.Ladder)
	}
	var stages []stage.Stage
	asks := false
	for _, one := range all[i].Stages {
		if one.Asks {
			asks = true
			if len(in.Named) == 0 {
				return nil, app.InvalidField("named", "stage %q is for units that are named at the start: say "+
					"their keys",
					one.Name)
			}
			one.Who = &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute, Text: in.Named}
		}
		stages = append(stages, one.Stage)
	}
	if !asks && len(in.Named) > 0 {
		return nil, app.InvalidField("named", "no stage of ladder %s is for units that are named", in.Ladder)
	}
	return stages, nil
}

// settle puts the plan's conditions into their canonical form, and refuses a plan that cannot be.
func settle(p *stage.Plan, doc *flag.Document, now int64) error {
	var found []flag.Problem
	add := func(n **condition.Node, place string) {
		settled, problems := conditions.Settle(place, *n)
		*n, found = settled, append(found, problems...)
	}
	p.Stages = slices.Clone(p.Stages)
	add(&p.Where, "where")
	for i := range p.Stages {
		add(&p.Stages[i].Who, fmt.Sprintf("stages[%d].who", i))
		for j, role := range p.Stages[i].SignOff {
			if !slices.Contains(app.Roles(), app.Role(role)) {
				found = append(found, flag.Problem{Place: fmt.Sprintf("stages[%d].signOff[%d]", i, j),
					Mend: fmt.Sprintf("%q is no role: use some of auditor, developer, releaser, on-call, keeper",
						role)})
			}
		}
	}
	if len(found) == 0 {
		found = p.Check()
	}
	for i := range p.Watches {
		if mend := p.Watches[i].Metric.Suits(p.By[0]); mend != "" {
			found = append(found, flag.Problem{Mend: mend,
				Place: fmt.Sprintf("watches[%d].metric", evidence.Asked(p.Watches, i))})
		}
	}
	named := map[string]string{"from": p.From, "to": p.To}
	for i, v := range p.Beside {
		named[fmt.Sprintf("beside[%d]", i)] = v
	}
	for place, v := range named {
		if _, is := doc.Variants[v]; !is && v != "" {
			found = append(found, flag.Problem{Place: place,
				Mend: fmt.Sprintf("%q is no variant of this flag: use one of %s",
					v, strings.Join(doc.VariantNames(), ", "))})
		}
	}
	if p.Above != "" && doc.Rule(p.Above) == nil {
		found = append(found, flag.Problem{Place: "above", Mend: "is the id of no rule of this flag"})
	}
	if doc.Lever == flag.Off {
		found = append(found, flag.Problem{Place: "flag", Mend: "is off here, so that nobody would get anything " +
			"of " +
			"the release: turn its lever on first"})
	}
	if p.Begin != 0 && p.Begin < now-60_000 {
		found = append(found, flag.Problem{Place: "begin", Mend: "has passed: leave it out to begin at once"})
	}
	if p.Hours != nil {
		_, problems := conditions.Settle("hours", &condition.Node{Test: condition.WeeklyTest, Weekly: p.Hours})
		found = append(found, problems...)
	}
	slices.SortFunc(found, func(a, b flag.Problem) int { return strings.Compare(a.Place, b.Place) })
	return app.InvalidFields(found)
}

// stands refuses a release whose rules could not stand at one of its stages.
func (s *Service) stands(ctx context.Context, t tx, env *app.Environment, doc *flag.Document,
	rel *app.Release) error {
	for _, at := range []int{rel.State.Plan.First, len(rel.State.Plan.Stages) - 1} {
		if err := s.Stand(ctx, t, env, doc, At(doc, rel, at)); err != nil {
			return err
		}
	}
	return nil
}

// At gives a flag's document with a release at one of its stages; at -1 without it.
func At(doc *flag.Document, rel *app.Release, at int) *flag.Document {
	out := *doc
	out.Rules = stage.Put(doc.Rules, rel.ID, rel.State.Plan.Group(rel.ID, at, rel.State.Run), rel.State.Plan.Above)
	return &out
}

// planned says what a release intends. Whom its stages name stands in the release alone.
func planned(rel *app.Release, names words.Names) []diff.Line {
	p := &rel.State.Plan
	said := words.Say("release from %s to %s by %s", words.Variant(p.From), p.Gives(), names.Either(p.By))
	if p.Where != nil {
		said = words.Say("%s, for a part of all by a condition", said)
	}
	lines := []diff.Line{diff.Text(said.String())}
	var stages []words.Said
	for i := range p.Stages {
		stages = append(stages, words.Said{words.Name(p.Stages[i].Name)})
	}
	lines = append(lines, diff.Text(words.Say("stages: %s", words.Join(stages, ", ")).String()))
	for _, w := range evidence.Each(p.Watches, nil) {
		lines = append(lines, diff.Text(words.Say("watches %s, tolerated %s; on harm: %s", words.Key(w.Metric.Key),
			words.Plain(metrics.Tolerated(&w.Metric)), words.Plain(reacts[w.OnHarm])).String()))
	}
	if p.Begin > 0 {
		lines = append(lines, diff.Text(stage.Says(&rel.State, nil, names, rel.Made).String()))
	}
	if rel.Expected != "" {
		lines = append(lines, diff.Text(words.Say("expected: %s", words.Name(rel.Expected)).String()))
	}
	if rel.After != "" {
		lines = append(lines, diff.Text("takes the units of release "+rel.After+" first"))
	}
	return lines
}
