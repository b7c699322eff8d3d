package environments

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/keys"
)

// Bounds of short-lived environments.
const (
	mostLives   = 1_000
	shortest    = 10 * time.Minute
	longest     = 90 * 24 * time.Hour
	keptAfter   = 30 * 24 * time.Hour // for which one that ended can be prolonged
	followEvery = 3 * time.Second
)

// LivesTx is what changes of short-lived environments read.
type LivesTx interface {
	Life(environment int64) (*app.Life, error)
	Lives(project int64) (int, error)
	FamilyGives(project int64, family string) ([]app.FamilyGives, error)
	LockFamily(project int64, family string) ([]app.Environment, error)
}

// documentsTx reads what an environment has.
type documentsTx interface {
	Flags(environment int64) ([]app.FlagRecord, error)
	SegmentsIn(environment int64) ([]app.SegmentRecord, error)
	Definitions(project int64) ([]app.Definition, error)
	SegmentTitles(project int64) (map[string]string, error)
	AccessKeys(environment int64) ([]app.AccessKey, error)
}

type (
	// Branch makes a short-lived environment out of another one, with its flags and segments as they are there.
	Branch struct {
		Key   string `json:"key"`
		Title string `json:"title,omitempty"`
		For   int64  `json:"for"` // how long it lives, in milliseconds
	}
	// Prolong has a short-lived environment live on, from now; one that ended lately lives again, with new keys.
	Prolong struct {
		For int64 `json:"for"`
	}
	// Give says what a flag gives in all short-lived environments of a family, those to come included. Without a
	// variant nothing is said for those to come.
	Give struct {
		Family  string `json:"family"`
		Variant string `json:"variant,omitempty"`
	}
	// Over ends a short-lived environment: its keys are revoked, and what was sampled and counted is forgotten.
	Over struct{}
	// Away ends one for good whose documents were kept long enough.
	Away struct{}
	// Follow gives a short-lived environment the flags, variants and segments that came since it was made.
	Follow struct{}
)

func lives() []*commit.Kind {
	branching := commit.Kind{Name: "environment.branch", Says: "Makes a short-lived environment out of another one",
		Action: app.Document, Span: commit.Environment, Guarded: true, Queued: true, Alone: true}
	inner := func(name, says string) commit.Kind {
		return commit.Kind{Name: "environment." + name, Says: says, Span: commit.Environment, Queued: true,
			Inner:   true,
			Reopens: true}
	}
	return []*commit.Kind{
		commit.Taking(commit.Of(branching, branch), func(m *commit.Moment, _ *Branch) app.Action {
			if m.Environment.AskFirst {
				return app.Manage
			}
			return app.Document
		}),
		commit.Of(commit.Kind{Name: "environment.prolong", Says: "Has a short-lived environment live on",
			Action: app.Document, Span: commit.Environment, Queued: true, Alone: true, Reopens: true}, prolong),
		commit.Of(commit.Kind{Name: "flag.family", Says: "Says what a flag gives in all short-lived " +
			"environments of a " +
			"family", Action: app.Document, Span: commit.Project, Queued: true}, give),
		commit.Of(inner("over", "Ends a short-lived environment"), over),
		commit.Of(inner("away", "Ends a short-lived environment for good"), away),
		commit.Of(inner("follow", "Has a short-lived environment follow its project"), follow),
	}
}

func span(place string, ms int64) (time.Duration, error) {
	d := time.Duration(ms) * time.Millisecond
	if ms < shortest.Milliseconds() || ms > longest.Milliseconds() {
		return 0, app.InvalidField(place, "must be 10 minutes to 90 days, in milliseconds")
	}
	return d, nil
}

func until(at int64) string { return time.UnixMilli(at).UTC().Format("2006-01-02 15:04 UTC") }

func branch(_ context.Context, m *commit.Moment, in *Branch) (*commit.Effects, error) {
	from := m.Environment
	lasts, err := span("for", in.For)
	if err != nil {
		return nil, err
	}
	if from.State != app.Active {
		return nil, app.Faultf(app.Conflict, "environment %s is %s: bring it back first", from.Key, from.State)
	}
	env := &app.Environment{ProjectID: from.ProjectID, Key: in.Key, Title: in.Title, Created: m.At}
	if err := app.CheckTitled(env.Key, &env.Title); err != nil {
		return nil, err
	}
	n, err := commit.Narrow[LivesTx](m).Lives(from.ProjectID)
	if err != nil {
		return nil, err
	}
	if n >= mostLives {
		return nil, app.Faultf(app.Conflict, "%d short-lived environments live in this project: end some first", n)
	}
	life := &app.Life{ProjectID: from.ProjectID, Family: app.FamilyOf(env.Key), Source: from.Key,
		Until: m.At + lasts.Milliseconds(), By: m.Actor.ID}
	env.Until = life.Until
	inside, err := copied(m, from, env, life.Family)
	if err != nil {
		return nil, err
	}
	inside.Records = append(inside.Records, life)
	inside.Entries = []commit.Entry{commit.Said("environment.branched", env.Key, diff.Text(fmt.Sprintf(
		"environment %q made from %s, with %d flags as they are there, until %s", env.Title, from.Key,
		len(inside.Event.Flags), until(life.Until))))}
	beside := commit.Effect{Project: m.Project, Entries: []commit.Entry{commit.Said("environment.short-lived",
		env.Key,
		diff.Text(fmt.Sprintf("environment %s made from %s", env.Key, from.Key)))}}
	made := &Made{Environment: env, Keys: []keys.Made{}}
	return &commit.Effects{Result: made, In: []commit.Effect{inside, beside}, Stale: commit.Stale{Keys: true},
		Then: func() []commit.Effect { return newKeys(env, made, m.At) }}, nil
}

// newKeys gives an environment its first access keys.
func newKeys(env *app.Environment, made *Made, at int64) (out []commit.Effect) {
	for _, kind := range []app.KeyKind{app.ServiceKey, app.BrowserKey} {
		k := keys.New(env, kind, "default", at)
		made.Keys = append(made.Keys, *k)
		out = append(out, keys.Added(env, &k.AccessKey))
	}
	return out
}

// copied is what a new environment has of another one. Rules of releases that run there are plain rules here.
func copied(m *commit.Moment, from, env *app.Environment, family string) (e commit.Effect, err error) {
	tx := commit.Narrow[documentsTx](m)
	e = commit.Effect{Environment: env, Records: []commit.Record{env}, Event: &flag.Event{}}
	docs, err := tx.Flags(from.ID)
	if err != nil {
		return e, err
	}
	gives, err := commit.Narrow[LivesTx](m).FamilyGives(from.ProjectID, family)
	if err != nil {
		return e, err
	}
	for i := range docs {
		doc := *docs[i].Document
		doc.Rules = flag.Plain(doc.Rules)
		for _, g := range gives {
			if g.Flag == doc.Key {
				all(&doc, g.Variant)
			}
		}
		if err := put(&e, &app.FlagRecord{Key: doc.Key, Version: 1, Document: &doc}); err != nil {
			return e, err
		}
	}
	segs, err := tx.SegmentsIn(from.ID)
	if err != nil {
		return e, err
	}
	for i := range segs {
		raw, err := json.Marshal(segs[i].Document)
		if err != nil {
			return e, err
		}
		e.Event.Segments = append(e.Event.Segments, raw)
		e.Records = append(e.Records, &app.SegmentRecord{Key: segs[i].Key, Version: 1, Document: segs[i].Document})
	}
	return e, nil
}

func put(e *commit.Effect, rec *app.FlagRecord) error {
	raw, err := json.Marshal(rec.Document)
	if err != nil {
		return err
	}
	e.Event.Flags = append(e.Event.Flags, raw)
	e.Records = append(e.Records, rec)
	return nil
}

// all has a document give everybody one variant, if it has that.
func all(doc *flag.Document, variant string) {
	if _, is := doc.Variants[variant]; !is {
		return
	}
	doc.Lever, doc.Rules, doc.Needs, doc.End = flag.On, nil, nil, flag.Gives{Variant: variant}
}

func lived(m *commit.Moment) (*app.Life, error) {
	life, err := commit.Narrow[LivesTx](m).Life(m.Environment.ID)
	if err != nil {
		return nil, err
	}
	if life == nil {
		return nil, app.Faultf(app.Conflict, "environment %s does not end by itself", m.Environment.Key)
	}
	return life, nil
}

func prolong(_ context.Context, m *commit.Moment, in *Prolong) (*commit.Effects, error) {
	lasts, err := span("for", in.For)
	if err != nil {
		return nil, err
	}
	life, err := lived(m)
	if err != nil {
		return nil, err
	}
	env := *m.Environment
	life.Until = m.At + lasts.Milliseconds()
	env.Until = life.Until
	records, again := []commit.Record{life}, env.State == app.Archived
	if again {
		env.State = app.Active
		records = append(records, &app.StateRecord{EnvironmentID: env.ID, State: app.Active, At: m.At,
			By: m.Actor.ID},
			&app.SamplingRecord{EnvironmentID: env.ID, Days: 14})
	}
	made := &Made{Environment: &env, Keys: []keys.Made{}}
	out := &commit.Effects{Result: made, Stale: commit.Stale{Keys: true, Units: true}, In: []commit.Effect{{
		Environment: m.Environment, Records: records, Entries: []commit.Entry{commit.Said("environment.prolonged",
			env.Key,
			diff.Text("lives until "+until(life.Until)))}}}}
	if again {
		out.Then = func() []commit.Effect { return newKeys(&env, made, m.At) }
	}
	return out, nil
}

// Given is what came of saying what a flag gives in a family.
type Given struct {
	app.FamilyGives
	Environments int `json:"environments"` // that it gives it in now
}

func give(_ context.Context, m *commit.Moment, in *Give) (*commit.Effects, error) {
	tx := commit.Narrow[LivesTx](m)
	if mend := flag.CheckKey(in.Family); mend != "" {
		return nil, app.InvalidField("family", "%s", mend)
	}
	defs, err := commit.Narrow[documentsTx](m).Definitions(m.Project.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(defs, func(d app.Definition) bool { return d.Key == m.Of })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this project", m.Of)
	}
	if in.Variant != "" && !slices.ContainsFunc(defs[at].Variants, func(v app.Variant) bool {
		return v.Name == in.Variant
	}) {
		return nil, app.InvalidField("variant", "%q is no variant of this flag", in.Variant)
	}
	g := app.FamilyGives{ProjectID: m.Project.ID, Family: in.Family, Flag: m.Of, Variant: in.Variant}
	said := fmt.Sprintf("gives `%s` in all environments of family %s", in.Variant, in.Family)
	if in.Variant == "" {
		said = "nothing is said any more for environments of family " + in.Family
	}
	result := &Given{FamilyGives: g}
	out := &commit.Effects{Result: result, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{&g},
		Entries: []commit.Entry{commit.Said("flag.family", m.Of, diff.Text(said))}}}}
	if in.Variant == "" {
		return out, nil
	}
	envs, err := tx.LockFamily(m.Project.ID, in.Family)
	if err != nil {
		return nil, err
	}
	for i := range envs {
		rec, err := commit.Narrow[flags.Tx](m).Flag(envs[i].ID, m.Of)
		if err != nil {
			continue // it is too new for the environment, which follows within seconds
		}
		doc := *rec.Document
		all(&doc, in.Variant)
		lines := diff.Flags(rec.Document, &doc)
		result.Environments++
		if len(lines) == 0 {
			continue
		}
		e, err := commit.FlagPut(&envs[i], rec.Document, &app.FlagRecord{Key: m.Of, Version: rec.Version + 1,
			Document: &doc}, "flag.changed", lines)
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, e)
	}
	return out, nil
}

func over(_ context.Context, m *commit.Moment, _ *Over) (*commit.Effects, error) {
	life, err := lived(m)
	if err != nil || life.Until > m.At || m.Environment.State != app.Active {
		return commit.Nothing(m.Environment), err
	}
	out := state(m, app.Archived, "environment.over", fmt.Sprintf("environment %s has ended, as it was made to; "+
		"its keys "+
		"are revoked", m.Environment.Key))
	out.Stale.Units = true
	e := &out.In[0]
	e.Records = append(e.Records, &app.SamplingRecord{EnvironmentID: m.Environment.ID, Off: true, Days: 1},
		&app.Forgotten{EnvironmentID: m.Environment.ID})
	all, err := commit.Narrow[documentsTx](m).AccessKeys(m.Environment.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Revoked == 0 {
			all[i].Revoked = m.At
			out.In = append(out.In, keys.Revoked(m.Environment, &all[i]))
		}
	}
	return out, nil
}

func away(_ context.Context, m *commit.Moment, _ *Away) (*commit.Effects, error) {
	life, err := lived(m)
	if err != nil || life.Until+keptAfter.Milliseconds() > m.At || m.Environment.State != app.Archived {
		return commit.Nothing(m.Environment), err
	}
	return state(m, app.Gone, "environment.removed", fmt.Sprintf("environment %s is gone for good",
		m.Environment.Key)), nil
}

// follow gives an environment what its project has by now and it has not.
func follow(_ context.Context, m *commit.Moment, _ *Follow) (*commit.Effects, error) {
	tx := commit.Narrow[documentsTx](m)
	env := m.Environment
	defs, err := tx.Definitions(env.ProjectID)
	if err != nil {
		return nil, err
	}
	docs, err := tx.Flags(env.ID)
	if err != nil {
		return nil, err
	}
	gives, err := commit.Narrow[LivesTx](m).FamilyGives(env.ProjectID, app.FamilyOf(env.Key))
	if err != nil {
		return nil, err
	}
	e := commit.Effect{Environment: env, Event: &flag.Event{}}
	var lines []diff.Line
	for i := range defs {
		d := &defs[i]
		at := slices.IndexFunc(docs, func(r app.FlagRecord) bool { return r.Key == d.Key })
		doc, version := flags.FirstDocument(d), int64(1)
		if at >= 0 {
			if doc = followed(d, docs[at].Document); doc == nil {
				continue
			}
			version = docs[at].Version + 1
		}
		for _, g := range gives {
			if g.Flag == d.Key && at < 0 {
				all(doc, g.Variant)
			}
		}
		if err := put(&e, &app.FlagRecord{Key: d.Key, Version: version, Document: doc}); err != nil {
			return nil, err
		}
		lines = append(lines, diff.Text("flag "+d.Key+" as the project has it by now"))
	}
	for i := range docs {
		if !slices.ContainsFunc(defs, func(d app.Definition) bool { return d.Key == docs[i].Key }) {
			if e.Event.Gone == nil {
				e.Event.Gone = &flag.Gone{}
			}
			e.Event.Gone.Flags = append(e.Event.Gone.Flags, docs[i].Key)
			e.Records = append(e.Records, &app.FlagRecord{Key: docs[i].Key, Version: docs[i].Version + 1})
			lines = append(lines, diff.Text("flag "+docs[i].Key+" retired"))
		}
	}
	if err := newSegments(tx, env, &e, &lines); err != nil || len(lines) == 0 {
		return commit.Nothing(env), err
	}
	e.Entries = []commit.Entry{commit.Said("environment.followed", env.Key, lines...)}
	return &commit.Effects{Result: env, In: []commit.Effect{e}}, nil
}

func newSegments(tx documentsTx, env *app.Environment, e *commit.Effect, lines *[]diff.Line) error {
	titles, err := tx.SegmentTitles(env.ProjectID)
	if err != nil {
		return err
	}
	segs, err := tx.SegmentsIn(env.ID)
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(titles)) {
		if slices.ContainsFunc(segs, func(r app.SegmentRecord) bool { return r.Key == key }) {
			continue
		}
		doc := &flag.Segment{Key: key}
		raw, err := json.Marshal(doc)
		if err != nil {
			return err
		}
		e.Event.Segments = append(e.Event.Segments, raw)
		e.Records = append(e.Records, &app.SegmentRecord{Key: key, Version: 1, Document: doc})
		*lines = append(*lines, diff.Text("segment "+key+" as the project has it by now"))
	}
	return nil
}

// followed is a document with the variants and the visibility that the definition has by now; nil where it has them.
// A
// variant that is gone and that it still gives stays.
func followed(d *app.Definition, doc *flag.Document) *flag.Document {
	out := *doc
	out.Visible, out.Variants = d.Visible, maps.Clone(doc.Variants)
	changed := doc.Visible != d.Visible
	has := map[string]bool{}
	for _, v := range d.Variants {
		has[v.Name] = true
		if _, is := out.Variants[v.Name]; !is {
			out.Variants[v.Name], changed = v.Value, true
		}
	}
	for name := range doc.Variants {
		if _, used := doc.Uses(name); !has[name] && !used {
			delete(out.Variants, name)
			changed = true
		}
	}
	if !changed {
		return nil
	}
	return &out
}
