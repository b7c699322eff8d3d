package manage

import (
	"encoding/json"
	"slices"

	"greenlever.example/core/flag"
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
	op[startBody, startedRelease]("POST", atEnvironment+"/flags/:flag/releases",
		"Start a release; a dry run says what "+
			"each of its stages would do", (*call).startRelease).made().change().needs(app.ReleaseIt),
	op[none, ReleaseView]("GET", atEnvironment+"/releases/:release", "A release, what happened to it and around it",
		(*call).release).needs(app.Read),
	op[actBody, releases.Done]("POST", atEnvironment+"/releases/:release/signatures",
		"Sign that a release may go on, or "+
			"decline", (*call).signRelease).change().needs(app.Read),
	op[actBody, releases.Done]("POST", atEnvironment+"/releases/:release/acts",
		"Have a release go on, begin its next "+
			"stage, edit its stages to come, or finish it", (*call).actRelease).change().needs(app.ReleaseIt),
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
		Serves:   stage.Serves(&rel.State.Plan, rel.State.At, said), Texts: textsOf(&rel.State.Plan),
		Mine: c.maySign(rel)}
}

// maySign tells whether a release waits for the caller, or one of their roles, to sign.
func (c *call) maySign(rel *app.Release) bool {
	if rel.State.Is != stage.Asking {
		return false
	}
	roles, wanted := c.actor.Grants.Roles(c.p.ID, rel.Environment), rel.State.Stage().SignOff
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
	// Gives is what the flag gives now, in a sentence.
	Gives words.Said `json:"gives"`
	// Unneeded are the rules that decide nothing any more once it is finished.
	Unneeded []releases.Unneeded `json:"unneeded"`
	Variants []string            `json:"variants"` // of the flag, in their order
	Version  int64               `json:"version"`  // of the flag's document
	// Note is what is handed over to who comes next: who is affected, what they see, how to stop it.
	Note []words.Said `json:"note"`
	// Watched is what its watches have found; absent where it has none, or has not begun.
	Watched *WatchedView `json:"watched,omitempty"`
	// Beside are the changes of other flags in the environment while it went; of releases with watches alone.
	Beside []OtherChange `json:"beside"`
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
	Subject    string       `json:"subject"` // the flag's key, or what else was changed
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
		Unneeded: []releases.Unneeded{}, Variants: []string{}, Facts: facts, Beside: []OtherChange{}}
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
	v.Version, v.Gives = rec.Version, sentence.Of(rec.Document, stopped, said)
	for _, r := range rel.State.Plan.Unneeded(rec.Document, rel.ID) {
		v.Unneeded = append(v.Unneeded, releases.Unneeded{ID: r.ID, Name: r.Name})
	}
	v.Note = releases.Note(rel, c.e, def, rec.Document, said)
	steps, err := c.api.Records.ReleaseSteps(c.ctx, rel.ID)
	if err != nil {
		return nil, err
	}
	for _, st := range steps {
		v.Steps = append(v.Steps, ReleaseStepView{st, called(names, &st.Actor)})
	}
	if v.Others, err = c.others(rel, names); err != nil {
		return nil, err
	}
	if v.Watched, err = c.watched(rel); err != nil || len(rel.State.Plan.Watches) == 0 {
		return v, err
	}
	v.Beside, err = c.beside(rel, names)
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
			out = append(out, OtherChange{e.At, called(names, &e.Actor), e.Action, e.Subject, e.Reason,
				e.Revision, readAll(e.Difference)})
		}
	}
	slices.Reverse(out)
	return out, nil
}

type actBody struct {
	releases.Act
	Reason string `json:"reason,omitempty"`
}

func (c *call) actRelease(in *actBody) (any, error) {
	if signs(in.Do) {
		return nil, app.InvalidField("do", "stands below signatures, for who may sign: send it there")
	}
	return c.doRelease(in)
}

func signs(do stage.Do) bool { return do == stage.Sign || do == stage.Decline }

// signRelease is for everybody in the project: the stage says whose signature counts.
func (c *call) signRelease(in *actBody) (any, error) {
	if !signs(in.Do) {
		return nil, app.InvalidField("do", "must be sign or decline")
	}
	return c.doRelease(in)
}

func (c *call) doRelease(in *actBody) (any, error) {
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
