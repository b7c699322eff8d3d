package manage

import (
	"cmp"
	"encoding/json"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/expr"
)

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
	Floors []Floor   `json:"floors,omitempty"`
	Texts  planTexts `json:"texts"`
	// Watches are what its watches will take until they find something.
	Watches []evidence.Ahead `json:"watches"`
	Says    []words.Said     `json:"says"` // what to know before it starts
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
	p, err := c.api.Preview.Ahead(c.ctx, c.e, rel, func(at int) *flag.Document { return releases.At(doc, rel, at) },
		others)
	if err != nil {
		return nil, err
	}
	out := &Ahead{Ahead: p, Texts: textsOf(&rel.State.Plan)}
	if out.Versions, err = c.asking(rel.Flag); err != nil {
		return nil, err
	}
	if rel.After != "" {
		was, err := c.api.Records.Release(c.ctx, rel.After)
		if err != nil {
			return nil, err
		}
		if was.State.Is == stage.RolledBack { // something was mended, it is to be hoped
			if out.Floors, err = c.floors(); err != nil {
				return nil, err
			}
		}
	}
	out.Watches = watchesAhead(rel, p.Daily, p.All)
	out.Says = out.says(rel, c.api.Population.Names(c.ctx, c.e.ID))
	return out, nil
}

// watchesAhead says what the watches of a release will take, by the level that they begin with.
func watchesAhead(rel *app.Release, daily, all int64) []evidence.Ahead {
	out := []evidence.Ahead{}
	setup := rel.State.Setup()
	for i := range setup.Watches {
		m := &setup.Watches[i].Metric
		base, from := m.Base, "guess" // as it was measured, or as somebody guessed
		if base == 0 {
			from = "none"
		}
		one := setup.Ahead(i, base, float64(daily), float64(all))
		one.From = from
		out = append(out, one)
	}
	return out
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
		i := slices.IndexFunc(out, func(v AskingVersion) bool {
			return v.Application == application && v.Version == version
		})
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
		if r.Application != wire.BulkUse { // which is how they asked, and none of them
			at(r.Application, r.Version).Asks += r.Count
		}
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
		if s.Drawn != nil && s.Drawn.Units.Units < 2_000 && i == 0 && len(p.Watches) == 0 {
			add("its shares are drawn over only about %s %s: that is too few to compare both sides, so it goes by "+
				"time and sign-off", words.Count(s.Drawn.Units.Units), names.Of(p.By))
		}
	}
	stages := make([]string, len(p.Stages))
	for i := range p.Stages {
		stages[i] = p.Stages[i].Name
	}
	for i := range a.Watches {
		out = append(out, a.Watches[i].Says(stages, names.Of(p.By), func(ms int64) string {
			return stage.Span(ms).Words()
		}))
	}
	if a.Taken.Counted > 0 {
		add("the old arm gives %s to %s units that get something else now", words.Variant(p.From),
			words.About(a.Taken.Units, a.Taken.Low, a.Taken.High))
	}
	others := int64(0)
	for i := range a.Stages {
		for _, m := range a.Stages[i].Shift.Moves {
			if m.From != p.From && !p.IsNew(m.From) && p.IsNew(m.To) {
				others += m.Moved.Units
			}
		}
	}
	if others > 0 {
		add("%s units get another variant than %s now, by rules below its group or by the end, and %s in the end: "+
			"below those rules the group would take it from none of them", words.Count(others), words.Variant(p.From),
			p.Gives())
	}
	if a.Caught.Counted > 0 {
		add("rules above it give something else to %s units, which it never reaches", words.About(a.Caught.Units,
			a.Caught.Low, a.Caught.High))
	}
	for _, o := range a.Overlaps {
		add("%s units are in the release of %s too", words.About(o.Units.Units, o.Units.Low, o.Units.High),
			words.Key(o.Flag))
	}
	silent := 0
	for _, v := range a.Versions {
		if v.Asks == 0 {
			silent += v.Instances
		}
	}
	if silent > 0 {
		add("%s a version that did not ask for this flag in the last day", words.Counted(silent, "process runs",
			"processes run"))
	}
	return out
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
