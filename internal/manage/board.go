package manage

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/board"
)

var _ = listed(
	op[none, Board]("GET", atProject+"/board", "Flags in environments: found, ordered and a page at a time",
		(*call).board).takes("find", "environments", "sort", "group", "pinned", "from", "limit").needs(app.Read),
	op[none, FlagIndex]("GET", atProject+"/flags", "The flags by key, found and a page at a time",
		(*call).flagIndex).takes("find", "keys", "from", "limit").needs(app.Read),
	op[none, listOf[Word]]("GET", "/words", "The words with which flags are found", (*call).words),
)

// Cell is a flag in an environment, as the Board shows it.
type Cell struct {
	Lever    flag.Lever `json:"lever"`
	Stops    []string   `json:"stops"`
	Gist     words.Said `json:"gist"`     // the sentence, short enough for a cell
	Sentence words.Said `json:"sentence"` // who gets what
	Version  int64      `json:"version"`
	Changed  int64      `json:"changed"`          // when, in Unix milliseconds
	Moving   bool       `json:"moving,omitempty"` // not every process has this version
}

// BoardFlag is one row of the Board.
type BoardFlag struct {
	FlagName
	GoneBy string          `json:"goneBy"`
	Loses  string          `json:"loses,omitempty"` // what users lose while it rests
	Owners []string        `json:"owners"`
	Tags   []string        `json:"tags"`
	Group  string          `json:"group,omitempty"` // that it stands in
	In     map[string]Cell `json:"in"`              // by environment
}

// FlagName is what a list says of a flag.
type FlagName struct {
	Key      string    `json:"key"`
	Title    string    `json:"title"`
	Type     flag.Type `json:"type"`
	Variants []string  `json:"variants"`
}

// BoardEnvironment is one column of the Board.
type BoardEnvironment struct {
	app.Environment
	Instances int `json:"instances"` // alive
	Delivered int `json:"delivered"` // of these, how many have the newest revision
	Lost      int `json:"lost"`
}

// Board is a page of flags in environments.
type Board struct {
	Project      app.Project        `json:"project"`
	Environments []BoardEnvironment `json:"environments"`
	Flags        []BoardFlag        `json:"flags"`
	Total        int                `json:"total"` // rows that were found, on all pages
	All          int                `json:"all"`   // flags of the project
}

// FlagIndex is a page of the project's flags.
type FlagIndex struct {
	Flags []FlagName `json:"flags"`
	Total int        `json:"total"`
}

// Word is a word with which flags are found.
type Word struct {
	Word string `json:"word"`
	Says string `json:"says"`
}

func (c *call) words(*none) (any, error) {
	all := board.Words()
	out := make([]Word, len(all))
	for i, w := range all {
		out[i] = Word{w[0], w[1]}
	}
	return listOf[Word]{out}, nil
}

const maxBoard = 500

// page reads which part of a list is asked for.
func (c *call) page() (from, limit int, err error) {
	limit = maxBoard
	for name, into := range map[string]*int{"from": &from, "limit": &limit} {
		v := c.QueryParam(name)
		if v == "" {
			continue
		}
		if *into, err = strconv.Atoi(v); err != nil || *into < 0 || name == "limit" &&
			(*into < 1 || *into > maxBoard) {
			return 0, 0, app.InvalidField(name, "must be a number, and a limit 1 to %d", maxBoard)
		}
	}
	return from, limit, nil
}

// looked reads what flags are looked for, and which part of them is asked for.
func (c *call) looked() (query *board.Query, from, limit int, err error) {
	if query, err = board.Parse(c.QueryParam("find")); err != nil {
		return nil, 0, 0, err
	}
	query.Me = c.actor.Is
	from, limit, err = c.page()
	return query, from, limit, err
}

// bundlesOf are the bundles that flags are in, by the flags' keys.
func (c *call) bundlesOf() (map[string][]string, error) {
	all, err := c.api.Records.Bundles(c.ctx, c.p.ID)
	out := map[string][]string{}
	for i := range all {
		for _, key := range all[i].Flags {
			out[key] = append(out[key], all[i].Key)
		}
	}
	return out, err
}

func list(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

func one[T ~string](c *call, name string, of []T) (T, error) {
	v := T(c.QueryParam(name))
	if slices.Contains(of, v) {
		return v, nil
	}
	if v == "" {
		return of[0], nil
	}
	all := make([]string, 0, len(of))
	for _, o := range of {
		if o != "" {
			all = append(all, string(o))
		}
	}
	return "", app.InvalidField(name, "must be one of %s", strings.Join(all, ", "))
}

func nameOf(d *app.Definition) FlagName {
	n := FlagName{d.Key, d.Title, d.Type, make([]string, len(d.Variants))}
	for i, v := range d.Variants {
		n.Variants[i] = v.Name
	}
	return n
}

// variants gives the names of flags' variants, in their order.
func (c *call) variants(shown func(flag string) bool) (map[string][]string, error) {
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	out := map[string][]string{}
	for i := range defs {
		if shown(defs[i].Key) {
			out[defs[i].Key] = nameOf(&defs[i]).Variants
		}
	}
	return out, err
}

func anyFlag(string) bool { return true }

func (c *call) flagIndex(*none) (any, error) {
	query, from, limit, err := c.looked()
	if err != nil {
		return nil, err
	}
	r, err := c.rows(query, nil)
	if err != nil {
		return nil, err
	}
	if keys := list(c.QueryParam("keys")); keys != nil {
		r.found = slices.DeleteFunc(r.found, func(o board.Row) bool {
			return !slices.Contains(keys, o.Definition.Key)
		})
	}
	out := &FlagIndex{Flags: []FlagName{}, Total: len(r.found)}
	for i := min(from, len(r.found)); i < min(from+limit, len(r.found)); i++ {
		out.Flags = append(out.Flags, nameOf(r.found[i].Definition))
	}
	return out, nil
}

// found is what a query finds, and the environments that it was looked for in.
type found struct {
	found        []board.Row
	all          int
	environments []BoardEnvironment
	cells        map[string]map[string]madeCell // by environment and key
}

// rows finds flags, and says how they stand in the environments that are shown and in those that the
// query names.
func (c *call) rows(query *board.Query, shown []string) (*found, error) {
	envs, err := c.lookedIn(query, shown)
	if err != nil {
		return nil, err
	}
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	out := &found{all: len(defs), cells: map[string]map[string]madeCell{}, environments: []BoardEnvironment{}}
	bundles, err := c.bundlesOf()
	if err != nil {
		return nil, err
	}
	rows := make([]board.Row, len(defs))
	for i := range defs {
		rows[i] = board.Row{Definition: &defs[i], Bundles: bundles[defs[i].Key], In: map[string]board.In{}}
	}
	for _, e := range envs {
		if !slices.Contains(shown, e.Key) && !slices.Contains(query.Environments, e.Key) {
			continue
		}
		if err := c.stand(&e, query, rows, out); err != nil {
			return nil, err
		}
	}
	now := c.api.Now()
	out.found = slices.DeleteFunc(rows, func(r board.Row) bool { return !query.Match(&r, now) })
	return out, nil
}

// lookedIn are the lasting environments, and the short-lived ones that are named.
func (c *call) lookedIn(query *board.Query, shown []string) ([]app.Environment, error) {
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	look := func(place string, keys []string) error {
		for _, key := range keys {
			if slices.ContainsFunc(envs, func(e app.Environment) bool { return e.Key == key }) {
				continue
			}
			_, env, err := c.api.Records.Place(c.ctx, c.p.Key, key)
			if err != nil {
				return err
			}
			if env == nil || env.State != app.Active {
				return app.InvalidField(place, "%q: there is no environment with this key in this project", key)
			}
			envs = append(envs, *env)
		}
		return nil
	}
	if err := look("find", query.Environments); err != nil {
		return nil, err
	}
	return envs, look("environments", shown)
}

// stand says how flags stand in an environment.
func (c *call) stand(e *app.Environment, query *board.Query, rows []board.Row, out *found) error {
	place, err := c.api.Hub.Place(c.ctx, e.ID)
	if err != nil {
		return err
	}
	names := c.api.Population.Names(c.ctx, e.ID)
	cells, err := c.api.columns.of(c.ctx, c.api.Records, e.ID, place.Rules(), names)
	if err != nil {
		return err
	}
	d, err := c.summary(e)
	if err != nil {
		return err
	}
	asked := map[string]int64{}
	if query.Asked {
		all, err := c.api.Records.Asked(c.ctx, e.ID)
		if err != nil {
			return err
		}
		for _, a := range all {
			asked[a.Flag] = a.Last
		}
	}
	behind := d.Revision
	for _, i := range d.Instances {
		if i.Epoch == d.Epoch && !i.Other {
			behind = min(behind, i.Revision)
		}
	}
	for i := range rows {
		key := rows[i].Definition.Key
		if cell, is := cells[key]; is {
			rows[i].In[e.Key] = board.In{Lever: cell.Lever, Stopped: len(cell.Stops) > 0, Changed: cell.Changed,
				Moving: cell.revision > behind, Asked: asked[key]}
		}
	}
	out.cells[e.Key] = cells
	out.environments = append(out.environments, BoardEnvironment{*e, d.Alive, d.Delivered, len(d.Lost)})
	return nil
}

func (c *call) board(*none) (any, error) {
	query, from, limit, err := c.looked()
	if err != nil {
		return nil, err
	}
	by, err := one(c, "sort", board.Sorts())
	if err != nil {
		return nil, err
	}
	group, err := one(c, "group", board.Groups())
	if err != nil {
		return nil, err
	}
	shown := list(c.QueryParam("environments"))
	if shown == nil {
		envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
		if err != nil {
			return nil, err
		}
		for _, e := range envs {
			shown = append(shown, e.Key)
		}
	}
	r, err := c.rows(query, shown)
	if err != nil {
		return nil, err
	}
	places := board.Arrange(r.found, by, group, list(c.QueryParam("pinned")), c.api.Now())
	b := &Board{Project: *c.p, Flags: []BoardFlag{}, Total: len(places), All: r.all,
		Environments: slices.DeleteFunc(r.environments, func(e BoardEnvironment) bool {
			return !slices.Contains(shown, e.Key)
		})}
	for _, s := range places[min(from, len(places)):min(from+limit, len(places))] {
		d := s.Row.Definition
		f := BoardFlag{nameOf(d), d.GoneBy, d.Loses, d.Owners, d.Tags, s.Group, map[string]Cell{}}
		for _, e := range b.Environments {
			if cell, is := r.cells[e.Key][d.Key]; is {
				cell.Moving = s.Row.In[e.Key].Moving
				f.In[e.Key] = cell.Cell
			}
		}
		b.Flags = append(b.Flags, f)
	}
	return b, nil
}

// columns are environments as the Board showed them last. What did not change since is not made
// anew: of many flags, mostly all but one.
type columns struct {
	mu  sync.Mutex
	all map[int64]column
}

type column struct {
	rules *decide.Ruleset
	names words.Names
	cells map[string]madeCell
	at    time.Time // when the versions were read
}

// columnLife is how long versions are believed: on a cluster, those that were read first may have
// been behind what is decided by.
const columnLife = 10 * time.Second

type madeCell struct {
	Cell
	of       *decide.Flag
	revision int64 // that made its version
}

func (k *columns) of(ctx context.Context, records FlagReader, environment int64, rules *decide.Ruleset,
	names words.Names) (map[string]madeCell, error) {
	k.mu.Lock()
	last := k.all[environment]
	k.mu.Unlock()
	same := maps.Equal(last.names, names)
	if same && last.rules == rules && time.Since(last.at) < columnLife {
		return last.cells, nil
	}
	stands, err := records.FlagStands(ctx, environment)
	if err != nil {
		return nil, err
	}
	cells := make(map[string]madeCell, len(stands))
	for key, stand := range stands {
		f := rules.Flag(key)
		if f == nil {
			continue
		}
		cell := last.cells[key]
		if cell.of != f || !same {
			stopped := len(f.Stops()) > 0
			cell = madeCell{Cell: Cell{Lever: f.Document().Lever, Stops: append([]string{}, f.Stops()...),
				Gist: sentence.Gist(f.Document(), stopped), Sentence: sentence.Of(f.Document(), stopped, names)},
				of: f}
		}
		cell.Version, cell.Changed, cell.revision = stand.Version, stand.Changed, stand.Revision
		cells[key] = cell
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.all == nil {
		k.all = map[int64]column{}
	}
	k.all[environment] = column{rules, names, cells, time.Now()}
	return cells, nil
}
