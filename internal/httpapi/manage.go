package httpapi

import (
	"cmp"
	"encoding/json"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/change"
)

type reasonBody struct {
	Reason string `json:"reason,omitempty"`
}

type epochBody struct {
	Epoch int64 `json:"epoch"`
}

type passwordBody struct {
	Old      string `json:"old"`
	Password string `json:"password"`
}

func (c *call) changePassword(in *passwordBody) (any, error) {
	return none{}, c.api.People.ChangePassword(c.ctx, c.actor, c.session, in.Old, in.Password)
}

func (c *call) tokens(*none) (any, error) {
	items, err := c.api.Records.Tokens(c.ctx, c.actor.ID)
	return listOf[app.Token]{items}, err
}

type tokenBody struct {
	Name string `json:"name"`
	Days int    `json:"days"`
}

type madeToken struct {
	app.Token
	Secret string `json:"secret"`
}

func (c *call) addToken(in *tokenBody) (any, error) {
	t, secret, err := c.api.People.AddToken(c.ctx, c.actor, in.Name, in.Days)
	if err != nil {
		return nil, err
	}
	return madeToken{*t, secret}, nil
}

func (c *call) removeToken(*none) (any, error) {
	return none{}, c.api.People.RemoveToken(c.ctx, c.actor, c.Param("token"))
}

func (c *call) accounts(*none) (any, error) {
	if err := app.AllowInstallation(&c.actor); err != nil {
		return nil, err
	}
	items, err := c.api.Records.Accounts(c.ctx)
	return listOf[app.Account]{items}, err
}

type accountBody struct {
	Email    string `json:"email"`
	Name     string `json:"name"`
	Password string `json:"password"`
	Keeper   bool   `json:"keeper,omitempty"`
}

func (c *call) addAccount(in *accountBody) (any, error) {
	return c.api.People.AddAccount(c.ctx, c.actor, in.Email, in.Name, in.Password, in.Keeper)
}

type resetBody struct {
	Password string `json:"password"`
}

func (c *call) resetPassword(in *resetBody) (any, error) {
	if err := app.AllowInstallation(&c.actor); err != nil {
		return nil, err
	}
	a, err := c.account()
	if err != nil {
		return nil, err
	}
	return none{}, c.api.People.ResetPassword(c.ctx, c.actor, a.ID, in.Password)
}

// account is the account of the address: by its id or its e-mail address.
func (c *call) account() (*app.Account, error) {
	who := c.Param("account")
	if raw, err := url.PathUnescape(who); err == nil {
		who = raw
	}
	if strings.Contains(who, "@") {
		return c.api.Records.AccountByEmail(c.ctx, who)
	}
	return c.api.Records.Account(c.ctx, who)
}

func (c *call) newEpoch(in *reasonBody) (any, error) {
	r, err := c.request(in.Reason)
	if err != nil {
		return nil, err
	}
	return c.api.Change.NewEpoch(c.ctx, r)
}

func (c *call) projects(*none) (any, error) {
	all, err := c.api.Records.Projects(c.ctx)
	mine := slices.DeleteFunc(all, func(p app.Project) bool { return app.Allow(&c.actor, app.Read, p.ID, 0) != nil })
	return listOf[app.Project]{mine}, err
}

type projectBody struct {
	Key   string `json:"key"`
	Title string `json:"title,omitempty"`
}

func (c *call) addProject(in *projectBody) (any, error) {
	r, err := c.request("")
	if err != nil {
		return nil, err
	}
	return c.api.Change.AddProject(c.ctx, r, &app.Project{Key: in.Key, Title: in.Title})
}

// Person is somebody with roles in a project.
type Person struct {
	Account string     `json:"account"`
	Name    string     `json:"name"`
	Email   string     `json:"email"`
	Roles   []app.Role `json:"roles"`
}

func (c *call) people(*none) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	roles, err := c.api.Records.RolesIn(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	all, err := c.api.Records.Accounts(c.ctx)
	out := listOf[Person]{[]Person{}}
	for _, a := range all {
		if r := roles[a.ID]; len(r) > 0 {
			out.Items = append(out.Items, Person{a.ID, a.Name, a.Email, r})
		}
	}
	return out, err
}

type rolesBody struct {
	Account string     `json:"account,omitempty"`
	Roles   []app.Role `json:"roles"`
}

func (c *call) setRoles(in *rolesBody) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	r, err := c.request("")
	if err != nil {
		return nil, err
	}
	a, err := c.account()
	if err != nil {
		return nil, err
	}
	return c.api.Change.SetRoles(c.ctx, r, p, a.ID, in.Roles)
}

func (c *call) environments(*none) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	items, err := c.api.Records.Environments(c.ctx, p.ID)
	return listOf[app.Environment]{items}, err
}

type environmentBody struct {
	Key      string `json:"key"`
	Title    string `json:"title,omitempty"`
	AskFirst bool   `json:"askFirst,omitempty"`
	Reason   string `json:"reason,omitempty"`
}

func (c *call) addEnvironment(in *environmentBody) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	r, err := c.request(in.Reason)
	if err != nil {
		return nil, err
	}
	return c.api.Change.AddEnvironment(c.ctx, r, p, &app.Environment{Key: in.Key, Title: in.Title, AskFirst: in.AskFirst})
}

type environmentEdit struct {
	change.EnvironmentEdit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editEnvironment(in *environmentEdit) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.EditEnvironment(c.ctx, r, e, &in.EnvironmentEdit)
	})
}

// inEnvironment makes a change in the environment of the address.
func (c *call) inEnvironment(reason string, do func(r change.Request, e *app.Environment) (json.RawMessage, error)) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	r, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	return do(r, e)
}

func (c *call) keys(*none) (any, error) {
	p, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	if err := app.Allow(&c.actor, app.Manage, p.ID, e.ID); err != nil {
		return nil, err
	}
	items, err := c.api.Records.AccessKeys(c.ctx, e.ID)
	return listOf[app.AccessKey]{items}, err
}

type keyBody struct {
	Kind    app.KeyKind `json:"kind"`
	Purpose string      `json:"purpose,omitempty"`
}

func (c *call) addKey(in *keyBody) (any, error) {
	return c.inEnvironment("", func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.AddKey(c.ctx, r, e, in.Kind, in.Purpose)
	})
}

func (c *call) revokeKey(*none) (any, error) {
	return c.inEnvironment("", func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.RevokeKey(c.ctx, r, e, c.Param("key"))
	})
}

// Cell is a flag in an environment, as the Board shows it.
type Cell struct {
	Lever    flag.Lever `json:"lever"`
	Stops    []string   `json:"stops"`
	Sentence string     `json:"sentence"`
	Version  int64      `json:"version"`
}

// BoardFlag is one row of the Board.
type BoardFlag struct {
	app.Definition
	In map[string]Cell `json:"in"` // by environment
}

// BoardEnvironment is one column of the Board.
type BoardEnvironment struct {
	app.Environment
	Instances int `json:"instances"` // alive
	Delivered int `json:"delivered"` // of these, how many have the newest revision
	Lost      int `json:"lost"`
}

// Board is all flags in all environments.
type Board struct {
	Project      app.Project        `json:"project"`
	Environments []BoardEnvironment `json:"environments"`
	Flags        []BoardFlag        `json:"flags"`
}

func (c *call) board(*none) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	envs, err := c.api.Records.Environments(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	defs, err := c.api.Records.Definitions(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	b := &Board{Project: *p, Environments: []BoardEnvironment{}, Flags: make([]BoardFlag, len(defs))}
	for i, d := range defs {
		b.Flags[i] = BoardFlag{d, map[string]Cell{}}
	}
	for _, e := range envs {
		place, err := c.api.Hub.Place(c.ctx, e.ID)
		if err != nil {
			return nil, err
		}
		versions, err := c.api.Records.FlagVersions(c.ctx, e.ID)
		if err != nil {
			return nil, err
		}
		rules := place.Rules()
		for i := range b.Flags {
			if f := rules.Flag(b.Flags[i].Key); f != nil {
				b.Flags[i].In[e.Key] = Cell{f.Document().Lever, append([]string{}, f.Stops()...), sentence.Of(f.Document(), len(f.Stops()) > 0), versions[f.Key]}
			}
		}
		d, err := c.delivery(&e)
		if err != nil {
			return nil, err
		}
		b.Environments = append(b.Environments, BoardEnvironment{e, d.Alive, d.Delivered, len(d.Lost)})
	}
	return b, nil
}

func (c *call) addFlag(in *app.Definition) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	r, err := c.request(c.QueryParam("reason"))
	if err != nil {
		return nil, err
	}
	return c.api.Change.AddFlag(c.ctx, r, p, in)
}

type definitionView struct{ *app.Definition }

func (d definitionView) version() int64 { return d.Version }

func (c *call) definition(*none) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	return definitionView{d}, nil
}

type definitionEdit struct {
	change.DefinitionEdit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editFlag(in *definitionEdit) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	r, err := c.request(in.Reason)
	if err != nil {
		return nil, err
	}
	return c.api.Change.EditFlag(c.ctx, r, p, c.Param("flag"), &in.DefinitionEdit)
}

// FlagView is a flag in an environment.
type FlagView struct {
	Definition  *app.Definition  `json:"definition"`
	Environment *app.Environment `json:"environment"`
	Document    *flag.Document   `json:"document"`
	Version     int64            `json:"version"`
	Revision    int64            `json:"revision"` // that made this version
	Stops       []StopView       `json:"stops"`    // standing ones
	Sentence    string           `json:"sentence"`
	Says        []string         `json:"says"` // each rule by itself, and the end
}

func (f *FlagView) version() int64 { return f.Version }

func (c *call) flag(*none) (any, error) {
	p, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	rec, err := c.api.Records.Flag(c.ctx, e.ID, d.Key)
	if err != nil {
		return nil, err
	}
	all, err := c.standing(e)
	if err != nil {
		return nil, err
	}
	standing := slices.DeleteFunc(all, func(s StopView) bool { return s.LiftedAt != 0 || !slices.Contains(s.Flags, d.Key) })
	return &FlagView{d, e, rec.Document, rec.Version, rec.Revision, standing, sentence.Of(rec.Document, len(standing) > 0), sentence.Parts(rec.Document)}, nil
}

type documentBody struct {
	Document flag.Document `json:"document"`
	Reason   string        `json:"reason,omitempty"`
}

func (c *call) putFlag(in *documentBody) (any, error) {
	if in.Document.Key == "" {
		in.Document.Key = c.Param("flag")
	}
	if in.Document.Key != c.Param("flag") {
		return nil, app.InvalidField("document.key", "is %q, the address says %q", in.Document.Key, c.Param("flag"))
	}
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.PutFlag(c.ctx, r, e, &in.Document)
	})
}

type segmentBody struct {
	Key    string          `json:"key"`
	Title  string          `json:"title,omitempty"`
	When   *condition.Node `json:"when,omitempty"`
	Reason string          `json:"reason,omitempty"`
}

func (c *call) addSegment(in *segmentBody) (any, error) {
	p, err := c.project()
	if err != nil {
		return nil, err
	}
	r, err := c.request(in.Reason)
	if err != nil {
		return nil, err
	}
	return c.api.Change.AddSegment(c.ctx, r, p, in.Title, &flag.Segment{Key: in.Key, When: in.When})
}

// SegmentView is a segment in an environment.
type SegmentView struct {
	Key      string          `json:"key"`
	Title    string          `json:"title"`
	Version  int64           `json:"version"`
	When     *condition.Node `json:"when,omitempty"`
	Sentence string          `json:"sentence"`
	UsedBy   []string        `json:"usedBy"` // flags, in this environment
}

func (c *call) segments(*none) (any, error) {
	p, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	titles, err := c.api.Records.SegmentTitles(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	out := listOf[SegmentView]{[]SegmentView{}}
	for key, title := range titles {
		rec, err := c.api.Records.Segment(c.ctx, e.ID, key)
		if err != nil {
			return nil, err
		}
		if rec == nil {
			continue
		}
		v := SegmentView{Key: key, Title: title, Version: rec.Version, When: rec.Document.When, Sentence: "nobody", UsedBy: []string{}}
		if v.When != nil {
			v.Sentence = v.When.Words()
		}
		for f := range place.Rules().Flags {
			if slices.Contains(f.Document().Segments(), key) {
				v.UsedBy = append(v.UsedBy, f.Key)
			}
		}
		slices.Sort(v.UsedBy)
		out.Items = append(out.Items, v)
	}
	slices.SortFunc(out.Items, func(a, b SegmentView) int { return cmp.Compare(a.Key, b.Key) })
	return out, nil
}

type segmentEdit struct {
	When   *condition.Node `json:"when,omitempty"`
	Reason string          `json:"reason,omitempty"`
}

func (c *call) putSegment(in *segmentEdit) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.PutSegment(c.ctx, r, e, &flag.Segment{Key: c.Param("segment"), When: in.When})
	})
}

// StopView is a stop with the names of those who set and lifted it.
type StopView struct {
	app.StopRecord
	ByName       string `json:"byName"`
	LiftedByName string `json:"liftedByName,omitempty"`
}

func (c *call) standing(e *app.Environment) ([]StopView, error) {
	all, err := c.api.Records.Stops(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	out := make([]StopView, len(all))
	for i, s := range all {
		out[i] = StopView{s, names[s.By], names[s.LiftedBy]}
	}
	return out, err
}

func (c *call) stops(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	items, err := c.standing(e)
	return listOf[StopView]{items}, err
}

type stopBody struct {
	Flags  []string `json:"flags"`
	Reason string   `json:"reason,omitempty"`
}

func (c *call) stop(in *stopBody) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.Stop(c.ctx, r, e, in.Flags)
	})
}

type liftBody struct {
	Stops  []string `json:"stops"`
	Reason string   `json:"reason,omitempty"`
}

func (c *call) lift(in *liftBody) (any, error) {
	return c.inEnvironment(in.Reason, func(r change.Request, e *app.Environment) (json.RawMessage, error) {
		return c.api.Change.Lift(c.ctx, r, e, in.Stops)
	})
}

// silentAfter is how long an instance may say nothing before it counts as lost.
const silentAfter = 45 * time.Second

// keptInstances is how long lost and left instances are shown.
const keptInstances = 24 * time.Hour

// Delivery says which process has which revision.
type Delivery struct {
	Epoch     int64          `json:"epoch"`
	Revision  int64          `json:"revision"`
	Alive     int            `json:"alive"`
	Delivered int            `json:"delivered"` // of those alive, how many have this revision
	Instances []app.Instance `json:"instances"` // alive
	Lost      []app.Instance `json:"lost"`      // silent: they may still decide the old way
}

func (c *call) delivery(e *app.Environment) (*Delivery, error) {
	now := c.api.Now()
	all, err := c.api.Records.Instances(c.ctx, e.ID, now.Add(-keptInstances).UnixMilli())
	if err != nil {
		return nil, err
	}
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	src := place.Rules().Source
	d := &Delivery{Epoch: src.Epoch, Revision: src.Revision, Instances: []app.Instance{}, Lost: []app.Instance{}}
	for _, i := range all {
		switch {
		case i.Left:
		case i.Seen < now.Add(-silentAfter).UnixMilli():
			d.Lost = append(d.Lost, i)
		default:
			d.Alive++
			d.Instances = append(d.Instances, i)
			if i.Epoch == src.Epoch && i.Revision >= src.Revision {
				d.Delivered++
			}
		}
	}
	return d, nil
}

func (c *call) instances(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	return c.delivery(e)
}

func (c *call) counts(*none) (any, error) {
	_, e, err := c.environment()
	if err != nil {
		return nil, err
	}
	items, err := c.api.Records.Counts(c.ctx, e.ID, c.api.Now().Add(-time.Hour).UnixMilli())
	return listOf[app.CountLine]{items}, err
}

type whyBody struct {
	Context  json.RawMessage `json:"context"`
	At       int64           `json:"at,omitempty"`       // Unix milliseconds in the past
	Revision int64           `json:"revision,omitempty"` // of the past
}

// Why is one decision step by step.
type Why struct {
	decide.Explanation
	Value    json.RawMessage `json:"value,omitempty"`
	Sentence string          `json:"sentence"`
	At       int64           `json:"at"`    // when the revision was made
	Asked    int64           `json:"asked"` // the moment that was asked for
}

func (c *call) why(in *whyBody) (any, error) {
	e, place, err := c.place()
	if err != nil {
		return nil, err
	}
	unit, err := condition.ParseContext(in.Context)
	if err != nil {
		return nil, contextFault(err)
	}
	rules, asked := place.Rules(), c.api.Now().UnixMilli()
	if in.At != 0 || in.Revision != 0 {
		if rules, err = c.rulesThen(e, in); err != nil {
			return nil, err
		}
		if in.At != 0 {
			asked = in.At
		}
	}
	f := rules.Flag(c.Param("flag"))
	if f == nil {
		return nil, app.Faultf(app.NotFound, "there is no flag %s in this environment at revision %d", c.Param("flag"), rules.Source.Revision)
	}
	w := &Why{Explanation: f.Explain(rules, unit), Sentence: sentence.Of(f.Document(), len(f.Stops()) > 0), At: rules.Source.At, Asked: asked}
	if v := f.Variant(w.Outcome.Variant); v != nil {
		w.Value = v.Raw
	}
	return w, nil
}

func (c *call) rulesThen(e *app.Environment, in *whyBody) (*decide.Ruleset, error) {
	revision := in.Revision
	if in.At != 0 {
		if in.Revision != 0 {
			return nil, app.InvalidField("at", "give either a time or a revision")
		}
		var err error
		if revision, err = c.api.Records.RevisionAt(c.ctx, e.ID, in.At); err != nil {
			return nil, err
		}
		if revision == 0 {
			return nil, app.InvalidField("at", "is before the environment's first revision")
		}
	}
	src, err := c.api.Records.RulesetAt(c.ctx, e.ID, revision)
	if err != nil {
		return nil, err
	}
	return decide.Compile(src), nil
}

func contextFault(err error) error {
	var bad *condition.ContextError
	if errors.As(err, &bad) {
		return app.InvalidField(bad.Place, "%s", bad.Mend)
	}
	return err
}
