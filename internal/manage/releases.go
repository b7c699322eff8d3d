package manage

import (
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sentence"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/expr"
)

var _ = listed(
	op[none, listOf[ReleaseLine]]("GET", atProject+"/releases", "The releases that run in a project, and those that "+
		"ended last", (*call).releases).needs(app.Read),
	op[none, listOf[ReleaseLine]]("GET", atEnvironment+"/flags/:flag/releases", "The releases of a flag, newest first",
		(*call).releasesOf).needs(app.Read),
	op[startBody, startedRelease]("POST", atEnvironment+"/flags/:flag/releases", "Start a release; a dry run says what "+
		"each of its stages would do", (*call).startRelease).made().change().needs(app.ReleaseIt),
	op[none, ReleaseView]("GET", atEnvironment+"/releases/:release", "A release, what happened to it and around it",
		(*call).release).needs(app.Read),
	op[actBody, releases.Done]("POST", atEnvironment+"/releases/:release/acts", "Have a release go on, begin its next "+
		"stage, sign or decline, edit its stages to come, or finish it", (*call).actRelease).change().needs(app.Read),
	op[haltBody, releases.Done]("POST", atEnvironment+"/releases/:release/halts", "Hold a release, or roll it back",
		(*call).haltRelease).change().needs(app.StopIt),
)

// ReleaseLine is a release in a list.
type ReleaseLine struct {
	*app.Release
	EnvironmentKey string     `json:"environment"`
	Title          string     `json:"title"` // of the flag
	OwnerName      string     `json:"ownerName"`
	Sentence       words.Said `json:"sentence"`
	Serves         words.Said `json:"serves"`
	Texts          planTexts  `json:"texts"`
	// Mine tells that it waits for somebody to sign, and that the caller may.
	Mine bool `json:"mine,omitempty"`
}

// planTexts are the conditions of a plan as text.
type planTexts struct {
	Where  string   `json:"where,omitempty"`
	Stages []string `json:"stages"` // empty for shares
}

func textsOf(p *stage.Plan) planTexts {
	out := planTexts{Stages: make([]string, len(p.Stages))}
	out.Where, _ = expr.Print(p.Where)
	for i := range p.Stages {
		out.Stages[i], _ = expr.Print(p.Stages[i].Who)
	}
	return out
}

// overShown is how many releases that are over are listed.
const overShown = 50

func (c *call) releases(*none) (any, error) {
	all, err := c.api.Records.Releases(c.ctx, c.p.ID, overShown)
	if err != nil {
		return nil, err
	}
	return c.lines(all)
}

func (c *call) releasesOf(*none) (any, error) {
	if _, err := c.api.Records.Definition(c.ctx, c.p.ID, c.Param("flag")); err != nil {
		return nil, err
	}
	all, err := c.api.Records.ReleasesOf(c.ctx, c.e.ID, c.Param("flag"), overShown)
	if err != nil {
		return nil, err
	}
	return c.lines(all)
}

func (c *call) lines(all []app.Release) (any, error) {
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	out := listOf[ReleaseLine]{Items: []ReleaseLine{}}
	for i := range all {
		at := slices.IndexFunc(envs, func(e app.Environment) bool { return e.ID == all[i].Environment })
		if at < 0 {
			continue
		}
		var facts *stage.Facts
		if all[i].Running() {
			if facts, err = c.facts(&all[i], &envs[at]); err != nil {
				return nil, err
			}
		}
		line := c.line(&all[i], &envs[at], facts, names)
		if d := slices.IndexFunc(defs, func(d app.Definition) bool { return d.Key == all[i].Flag }); d >= 0 {
			line.Title = defs[d].Title
		}
		out.Items = append(out.Items, line)
	}
	return out, nil
}

func (c *call) line(rel *app.Release, e *app.Environment, facts *stage.Facts, names map[string]string) ReleaseLine {
	said := c.api.Population.Names(c.ctx, e.ID)
	return ReleaseLine{Release: rel, EnvironmentKey: e.Key, OwnerName: names[rel.Owner],
		Sentence: stage.Says(&rel.State, facts, said, c.api.Now().UnixMilli()),
		Serves:   stage.Serves(&rel.State.Plan, rel.State.At, said), Texts: textsOf(&rel.State.Plan), Mine: c.maySign(rel)}
}

// maySign tells whether a release waits for the caller, or one of their roles, to sign.
func (c *call) maySign(rel *app.Release) bool {
	if rel.State.Is != stage.Asking {
		return false
	}
	roles, wanted := c.actor.Roles[c.p.ID], rel.State.Stage().SignOff
	return slices.ContainsFunc(roles, func(r app.Role) bool {
		if len(wanted) == 0 {
			return r == app.Releaser || r == app.Developer || r == app.Keeper
		}
		return slices.Contains(wanted, string(r))
	})
}

// facts is what a release goes by now.
func (c *call) facts(rel *app.Release, e *app.Environment) (*stage.Facts, error) {
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	return c.api.Releases.Facts(c.ctx, rel, e, place.Rules().Source.Epoch)
}

// ReleaseView is a release with what happened to it, and around it.
type ReleaseView struct {
	ReleaseLine
	Facts *stage.Facts      `json:"facts,omitempty"`
	Steps []ReleaseStepView `json:"steps"`
	// Others are the changes of the flag by others since it was made, and its stops and lifts.
	Others []OtherChange `json:"others"`
	// Flag is what the flag gives now, in a sentence.
	Flag words.Said `json:"flagSentence"`
	// Unneeded are the rules that decide nothing any more once it is finished.
	Unneeded []releases.Unneeded `json:"unneeded"`
	Variants []string            `json:"variants"` // of the flag, in their order
	Version  int64               `json:"version"`  // of the flag's document
	// Note is what is handed over to who comes next: who is affected, what they see, how to stop it.
	Note []words.Said `json:"note"`
}

// ReleaseStepView is a step with the name of who took it.
type ReleaseStepView struct {
	app.ReleaseStep
	Name string `json:"name"`
}

// OtherChange is a change of a release's flag that the release did not make.
type OtherChange struct {
	At         int64        `json:"at"`
	Name       string       `json:"name"`
	Action     string       `json:"action"`
	Reason     string       `json:"reason,omitempty"`
	Revision   int64        `json:"revision,omitempty"`
	Difference []words.Said `json:"difference"`
}

func (c *call) release(*none) (any, error) {
	rel, err := c.api.Records.Release(c.ctx, c.Param("release"))
	if err != nil {
		return nil, err
	}
	if rel.Environment != c.e.ID {
		return nil, app.Faultf(app.NotFound, "there is no such release in this environment")
	}
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	facts, err := c.facts(rel, c.e)
	if err != nil {
		return nil, err
	}
	v := &ReleaseView{ReleaseLine: c.line(rel, c.e, facts, names), Steps: []ReleaseStepView{}, Others: []OtherChange{},
		Unneeded: []releases.Unneeded{}, Variants: []string{}, Facts: facts}
	def, err := c.api.Records.Definition(c.ctx, c.p.ID, rel.Flag)
	if err != nil {
		return nil, err
	}
	v.Title = def.Title
	for _, one := range def.Variants {
		v.Variants = append(v.Variants, one.Name)
	}
	rec, err := c.api.Records.Flag(c.ctx, c.e.ID, rel.Flag)
	if err != nil {
		return nil, err
	}
	stops, err := c.standing(c.e, 0)
	if err != nil {
		return nil, err
	}
	stopped := slices.ContainsFunc(stops, func(s StopView) bool { return slices.Contains(s.Flags, rel.Flag) })
	said := c.api.Population.Names(c.ctx, c.e.ID)
	v.Version, v.Flag = rec.Version, sentence.Of(rec.Document, stopped, said)
	for _, r := range rel.State.Plan.Unneeded(rec.Document, rel.ID) {
		v.Unneeded = append(v.Unneeded, releases.Unneeded{ID: r.ID, Name: r.Name})
	}
	v.Note = releases.Note(rel, c.e, def, rec.Document, said)
	steps, err := c.api.Records.ReleaseSteps(c.ctx, rel.ID)
	if err != nil {
		return nil, err
	}
	for _, st := range steps {
		v.Steps = append(v.Steps, ReleaseStepView{st, cmp.Or(names[st.Actor.ID], "the release")})
	}
	v.Others, err = c.others(rel, names)
	return v, err
}

// mostOthers is how many changes around a release are shown.
const mostOthers = 200

// others are the changes of its flag that a release did not make.
func (c *call) others(rel *app.Release, names map[string]string) ([]OtherChange, error) {
	out := []OtherChange{}
	q := audit.Query{Project: c.p.ID, Environment: c.e.ID, Subject: rel.Flag, From: rel.Made, To: rel.Ended,
		Limit: mostOthers}
	rows, err := c.api.Records.History(c.ctx, q)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		e, err := rows[i].Read()
		if err != nil {
			return nil, err
		}
		switch e.Action {
		case "flag.changed", "flag.stopped", "flag.lifted":
			out = append(out, OtherChange{e.At, cmp.Or(names[e.Actor.ID], e.Actor.Kind), e.Action, e.Reason, e.Revision,
				readAll(e.Difference)})
		}
	}
	slices.Reverse(out)
	return out, nil
}

type startBody struct {
	releases.Start
	Reason string `json:"reason,omitempty"`
}

// startedRelease is the answer on starting a release; a dry run says what its stages would do.
type startedRelease struct {
	releases.Done
	Ahead *Ahead `json:"ahead,omitempty"`
}

// Ahead is what a release would do, and who could take part in it.
type Ahead struct {
	*preview.Ahead
	// Versions are the applications that decide in the environment, and whether their code asks for the flag.
	Versions []AskingVersion `json:"versions"`
	// Floors are the newest versions that units were seen with, by attribute: after a repair its release may ask
	// for one.
	Floors []Floor      `json:"floors,omitempty"`
	Texts  planTexts    `json:"texts"`
	Says   []words.Said `json:"says"` // what to know before it starts
}

// AskingVersion is a version of an application, and whether its code asks for a flag.
type AskingVersion struct {
	Application string `json:"application"`
	Version     string `json:"version"`
	Instances   int    `json:"instances"`
	Asks        uint64 `json:"asks"` // how often in the last day
}

func (c *call) startRelease(in *startBody) (any, error) {
	raw, err := c.apply(in.Reason, c.Param("flag"), &in.Start)
	if err != nil || c.QueryParam("dryRun") != "true" {
		return raw, err
	}
	var out startedRelease
	if err := json.Unmarshal(raw, &out.Done); err != nil {
		return nil, err
	}
	out.Environment, out.Project = c.e.ID, c.p.ID
	out.Ahead, err = c.ahead(out.Release, out.Document)
	return out, err
}

func (c *call) ahead(rel *app.Release, doc *flag.Document) (*Ahead, error) {
	running, err := c.api.Records.Releases(c.ctx, c.p.ID, 0)
	if err != nil {
		return nil, err
	}
	others := map[*app.Release]*flag.Document{}
	for i := range running {
		o := &running[i]
		if o.Environment != c.e.ID || o.Flag == rel.Flag {
			continue
		}
		rec, err := c.api.Records.Flag(c.ctx, c.e.ID, o.Flag)
		if err != nil {
			return nil, err
		}
		others[o] = releases.At(rec.Document, o, len(o.State.Plan.Stages)-1)
	}
	p, err := c.api.Preview.Ahead(c.ctx, c.e, rel, func(at int) *flag.Document { return releases.At(doc, rel, at) }, others)
	if err != nil {
		return nil, err
	}
	out := &Ahead{Ahead: p, Texts: textsOf(&rel.State.Plan)}
	if out.Versions, err = c.asking(rel.Flag); err != nil {
		return nil, err
	}
	if rel.After != "" {
		if out.Floors, err = c.floors(); err != nil {
			return nil, err
		}
	}
	out.Says = out.says(rel, c.api.Population.Names(c.ctx, c.e.ID))
	return out, nil
}

// asking tells of the applications that decide here whether their code asks for a flag.
func (c *call) asking(key string) ([]AskingVersion, error) {
	sum, err := c.summary(c.e)
	if err != nil {
		return nil, err
	}
	to := c.api.Now().UnixMilli()/60_000 + 1
	rows, err := c.api.Records.Uses(c.ctx, c.e.ID, key, to-1440, to, 1440)
	if err != nil {
		return nil, err
	}
	out := []AskingVersion{}
	at := func(application, version string) *AskingVersion {
		i := slices.IndexFunc(out, func(v AskingVersion) bool { return v.Application == application && v.Version == version })
		if i < 0 {
			out = append(out, AskingVersion{Application: application, Version: version})
			i = len(out) - 1
		}
		return &out[i]
	}
	for _, i := range sum.Instances {
		at(i.Application, i.Version).Instances++
	}
	for _, r := range rows {
		at(r.Application, r.Version).Asks += r.Count
	}
	slices.SortFunc(out, func(a, b AskingVersion) int {
		return cmp.Or(cmp.Compare(a.Application, b.Application), cmp.Compare(a.Version, b.Version))
	})
	return out, nil
}

// Floor is the newest version that units were seen with.
type Floor struct {
	Attribute string  `json:"attribute"`
	Newest    string  `json:"newest"`
	Share     float64 `json:"share"` // of those that say a version, how many have it or a newer one
	Text      string  `json:"text"`  // the condition
}

// says is what to know before a release starts.
func (a *Ahead) says(rel *app.Release, names words.Names) []words.Said {
	p := &rel.State.Plan
	out := []words.Said{}
	add := func(format string, args ...any) { out = append(out, words.Say(format, args...)) }
	if a.Units.Counted == 0 {
		add("nobody was seen here yet, so whom it reaches cannot be counted")
	}
	for i := range a.Stages {
		s := &a.Stages[i]
		if s.Shift.Perhaps.Counted > 0 {
			add("stage %s: of %s units it cannot be counted whom it moves", words.Name(s.Name),
				words.About(s.Shift.Perhaps.Units, s.Shift.Perhaps.Low, s.Shift.Perhaps.High))
		}
		if s.Takes < 0 {
			add("stage %s waits for more units than come in a day: it may never go on by itself", words.Name(s.Name))
		}
		if s.Drawn != nil && s.Drawn.Units.Units < 2_000 && i == 0 {
			add("its shares are drawn over only about %s %s: that is too few to compare both sides, so it goes by time "+
				"and sign-off", words.Count(s.Drawn.Units.Units), names.Of(p.By))
		}
	}
	if a.Taken.Counted > 0 {
		add("the old arm gives %s to about %s units that get something else now", words.Variant(p.From),
			words.About(a.Taken.Units, a.Taken.Low, a.Taken.High))
	}
	if a.Caught.Counted > 0 {
		add("rules above it give something else to about %s units, which it never reaches", words.About(a.Caught.Units,
			a.Caught.Low, a.Caught.High))
	}
	for _, o := range a.Overlaps {
		add("about %s units are in the release of %s too", words.About(o.Units.Units, o.Units.Low, o.Units.High),
			words.Key(o.Flag))
	}
	silent := 0
	for _, v := range a.Versions {
		if v.Asks == 0 {
			silent += v.Instances
		}
	}
	if silent > 0 {
		add("%s run a version that did not ask for this flag in the last day", words.Counted(silent, "process",
			"processes"))
	}
	return out
}

type actBody struct {
	releases.Act
	Reason string `json:"reason,omitempty"`
}

type actedRelease struct {
	releases.Done
	Preview *preview.Preview `json:"preview,omitempty"`
}

func (c *call) actRelease(in *actBody) (any, error) {
	raw, err := c.apply(in.Reason, c.Param("release"), &in.Act)
	if err != nil {
		return nil, err
	}
	return c.acted(raw)
}

// acted adds to a dry run whom it would move.
func (c *call) acted(raw json.RawMessage) (any, error) {
	if c.QueryParam("dryRun") != "true" {
		return raw, nil
	}
	return withPreview(c, raw, c.e, func(d *releases.Done) preview.Edit {
		return preview.Edit{Flags: []*flag.Document{d.Document}}
	})
}

type haltBody struct {
	releases.Halt
	Reason string `json:"reason,omitempty"`
}

func (c *call) haltRelease(in *haltBody) (any, error) {
	raw, err := c.apply(in.Reason, c.Param("release"), &in.Halt)
	if err != nil {
		return nil, err
	}
	return c.acted(raw)
}

// floors finds the newest versions that units were seen with.
func (c *call) floors() ([]Floor, error) {
	known, err := c.api.Population.Fresh(c.ctx, c.e.ID)
	if err != nil {
		return nil, err
	}
	seen, _, err := c.api.Population.Seen(c.ctx, c.e.ID)
	if err != nil {
		return nil, err
	}
	var out []Floor
	for _, a := range known.Attributes {
		s := seen[a.Name]
		if a.Type != lint.Version || s == nil || a.Personal {
			continue
		}
		newest, all, have := "", uint64(0), uint64(0)
		for _, v := range s.Values {
			if all += v.Count; newest == "" || older(newest, v.Value) {
				newest = v.Value
			}
		}
		for _, v := range s.Values {
			if !older(v.Value, newest) {
				have += v.Count
			}
		}
		if newest == "" {
			continue
		}
		text, err := expr.Print(&condition.Node{Test: "version.at-least", Attribute: a.Name, Text: []string{newest},
			Loose: a.Loose})
		if err == nil {
			out = append(out, Floor{a.Name, newest, float64(have) / float64(all), text})
		}
	}
	return out, nil
}

// older tells whether a version comes before another, by the precedence of SemVer 2.0.0.
func older(a, than string) bool {
	n := &condition.Node{Test: "version.less", Attribute: "v", Text: []string{than}, Loose: true}
	return n.Match(condition.NewContext("", condition.Attribute{Name: condition.Intern("v"),
		Value: condition.TextValue(a)}), condition.Around{}) == condition.True
}
