package manage

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/bundles"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/conditions"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/releases"
)

const atBundle = atProject + "/bundles/:bundle"

var _ = listed(
	op[none, listOf[app.Bundle]]("GET", atProject+"/bundles", "Flags that ship together, by key",
		(*call).bundles).needs(app.Read),
	op[none, BundleView]("GET", atBundle, "A bundle, and how its flags stand in each environment",
		(*call).bundle).needs(app.Read),
	op[bundleBody, app.Bundle]("PUT", atBundle, "Save a bundle", (*call).putBundle).change().needs(app.Define),
	op[reasonBody, app.Bundle]("POST", atBundle+"/remove", "Take a bundle away; its flags stay",
		(*call).removeBundle).change().needs(app.Define),
	op[bundleReleaseBody, Planned]("POST", atBundle+"/release", "Start a release of each of a bundle's flags in an "+
		"environment, which go in step: one that is held holds the others", (*call).releaseBundle).change().needs(
		app.Read),
	op[turnBody, Planned]("POST", atBundle+"/turn", "Turn the levers of a bundle's flags in an environment, in one "+
		"change", (*call).turnBundle).change().needs(app.Read),
)

// BundleView is a bundle with how its flags stand.
type BundleView struct {
	app.Bundle
	In []BundleIn `json:"in"` // by environment
}

func (b *BundleView) version() int64 { return b.Version }

// BundleIn is how the flags of a bundle stand in an environment.
type BundleIn struct {
	Environment string     `json:"environment"`
	AskFirst    bool       `json:"askFirst"`
	Flags       []BundleOf `json:"flags"`
	// Levers says on, off or stopped where all of them are alike, else mixed.
	Levers string `json:"levers"`
}

// BundleOf is how one flag of a bundle stands in an environment.
type BundleOf struct {
	Key      string     `json:"key"`
	Title    string     `json:"title"`
	Lever    flag.Lever `json:"lever"`
	Stops    []string   `json:"stops,omitempty"` // ids of those that stand
	Release  string     `json:"release,omitempty"`
	Sentence words.Said `json:"sentence"`
	// Differs says that it gives something else than most of the others do: to whom, or what.
	Differs bool `json:"differs,omitempty"`
}

func (c *call) bundles(*none) (any, error) {
	all, err := c.api.Records.Bundles(c.ctx, c.p.ID)
	return listOf[app.Bundle]{all}, err
}

func (c *call) theBundle() (*app.Bundle, error) {
	all, err := c.api.Records.Bundles(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(b app.Bundle) bool { return b.Key == c.Param("bundle") })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no bundle %s in this project", c.Param("bundle"))
	}
	return &all[at], nil
}

func (c *call) bundle(*none) (any, error) {
	b, err := c.theBundle()
	if err != nil {
		return nil, err
	}
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	titles := map[string]string{}
	for i := range defs {
		titles[defs[i].Key] = defs[i].Title
	}
	out := &BundleView{Bundle: *b, In: []BundleIn{}}
	for i := range envs {
		in, err := c.bundleIn(b, &envs[i], titles)
		if err != nil {
			return nil, err
		}
		out.In = append(out.In, *in)
	}
	return out, nil
}

func (c *call) bundleIn(b *app.Bundle, env *app.Environment, titles map[string]string) (*BundleIn, error) {
	place, err := c.api.Hub.Place(c.ctx, env.ID)
	if err != nil {
		return nil, err
	}
	rules, names := place.Rules(), c.api.Population.Names(c.ctx, env.ID)
	in := &BundleIn{Environment: env.Key, AskFirst: env.AskFirst, Flags: []BundleOf{}}
	shapes, levers := map[string]int{}, map[string]bool{}
	var of []string
	for _, key := range b.Flags {
		f := rules.Flag(key)
		if f == nil {
			continue
		}
		doc := f.Document()
		one := BundleOf{Key: key, Title: titles[key], Lever: doc.Lever,
			Sentence: sentence.Of(doc, len(f.Stops()) > 0, names)}
		one.Stops = f.Stops()
		for _, r := range doc.Rules {
			one.Release = cmp.Or(one.Release, r.Release)
		}
		state := string(doc.Lever)
		if len(one.Stops) > 0 {
			state = "stopped"
		}
		levers[state] = true
		in.Levers = state
		shape := shapeOf(doc)
		shapes[shape]++
		of = append(of, shape)
		in.Flags = append(in.Flags, one)
	}
	if len(levers) > 1 {
		in.Levers = "mixed"
	}
	usual := ""
	for _, shape := range of {
		if shapes[shape] > shapes[usual] {
			usual = shape
		}
	}
	for i := range in.Flags {
		in.Flags[i].Differs = of[i] != usual
	}
	return in, nil
}

// shapeOf is what a flag gives to whom, without what is its own: salts, buckets and ids.
func shapeOf(d *flag.Document) string {
	plain := *d
	plain.Key, plain.Variants, plain.Visible, plain.Needs = "", nil, false, nil
	gives := func(g flag.Gives) flag.Gives {
		if g.Shares == nil {
			return g
		}
		s := *g.Shares
		s.Salt, s.Like, s.Parts = "", nil, slices.Clone(s.Parts)
		for i := range s.Parts {
			s.Parts[i].Ranges = nil
		}
		return flag.Gives{Shares: &s}
	}
	plain.Rules, plain.End = slices.Clone(d.Rules), gives(d.End)
	for i := range plain.Rules {
		r := &plain.Rules[i]
		r.ID, r.Name, r.Release, r.Evidence, r.Gives = "", "", "", nil, gives(r.Gives)
	}
	raw, err := json.Marshal(&plain)
	if err != nil {
		return ""
	}
	return string(bytes.TrimSpace(raw))
}

type bundleBody struct {
	bundles.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) putBundle(in *bundleBody) (any, error) {
	return c.apply(in.Reason, c.Param("bundle"), &in.Put)
}

func (c *call) removeBundle(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("bundle"), &bundles.Remove{})
}

type turnBody struct {
	Environment string     `json:"environment"`
	Lever       flag.Lever `json:"lever"`
	Units       confirmed  `json:"units,omitempty"`
	Reason      string     `json:"reason,omitempty"`
}

func (turnBody) must() []string { return []string{"environment", "lever"} }

func (c *call) turnBundle(in *turnBody) (any, error) {
	b, err := c.theBundle()
	if err != nil {
		return nil, err
	}
	if in.Lever != flag.On && in.Lever != flag.Off {
		return nil, app.InvalidField("lever", "must be on or off")
	}
	_, env, err := c.api.Records.Place(c.ctx, c.p.Key, in.Environment)
	if err != nil {
		return nil, err
	}
	if env == nil {
		return nil, app.InvalidField("environment", "there is no environment %q in this project", in.Environment)
	}
	var changes []commit.Change
	for _, key := range b.Flags {
		rec, err := c.api.Records.Flag(c.ctx, env.ID, key)
		if err != nil {
			return nil, err
		}
		if rec.Document.Lever == in.Lever {
			continue
		}
		doc := *rec.Document
		doc.Lever, doc.Requires = in.Lever, nil
		changes = append(changes, commit.Change{In: commit.In{Project: c.p, Environment: env}, Of: key,
			Versions: []int64{rec.Version}, Do: &flags.Put{Document: doc}})
	}
	in.Units.into(changes)
	return c.plan(in.Reason, fmt.Sprintf("bundle %s", b.Key), changes, nil)
}

type bundleReleaseBody struct {
	Environment string         `json:"environment"`
	Start       releases.Start `json:"start"`
	Reason      string         `json:"reason,omitempty"`
}

func (bundleReleaseBody) must() []string { return []string{"environment", "start"} }

// releaseBundle starts a release of each flag that gives the same units all of them: they have one salt.
func (c *call) releaseBundle(in *bundleReleaseBody) (any, error) {
	b, err := c.theBundle()
	if err != nil {
		return nil, err
	}
	_, env, err := c.api.Records.Place(c.ctx, c.p.Key, in.Environment)
	if err != nil {
		return nil, err
	}
	if env == nil {
		return nil, app.InvalidField("environment", "there is no environment %q in this project", in.Environment)
	}
	if in.Start.Salt == "" {
		in.Start.Salt = conditions.NewSalt()
	}
	in.Start.Bundle = b.Key
	var changes []commit.Change
	for _, key := range b.Flags {
		rec, err := c.api.Records.Flag(c.ctx, env.ID, key)
		if err != nil {
			return nil, err
		}
		start := in.Start
		changes = append(changes, commit.Change{In: commit.In{Project: c.p, Environment: env}, Of: key,
			Versions: []int64{rec.Version}, Do: &start})
	}
	return c.plan(in.Reason, "bundle "+b.Key, changes, nil)
}
