package manage

import (
	"context"
	"maps"
	"sync"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed(
	op[none, Board]("GET", atProject+"/board", "All flags in all environments", (*call).board).needs(app.Read),
)

// Cell is a flag in an environment, as the Board shows it.
type Cell struct {
	Lever    flag.Lever `json:"lever"`
	Stops    []string   `json:"stops"`
	Sentence words.Said `json:"sentence"`
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
	p := c.p
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
		cells, err := c.api.columns.of(c.ctx, c.api.Records, e.ID, place.Rules(), c.api.Population.Names(c.ctx, e.ID))
		if err != nil {
			return nil, err
		}
		for i := range b.Flags {
			if cell, is := cells[b.Flags[i].Key]; is {
				b.Flags[i].In[e.Key] = cell.Cell
			}
		}
		d, err := c.summary(&e)
		if err != nil {
			return nil, err
		}
		b.Environments = append(b.Environments, BoardEnvironment{e, d.Alive, d.Delivered, len(d.Lost)})
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
	of *decide.Flag
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
	versions, err := records.FlagVersions(ctx, environment)
	if err != nil {
		return nil, err
	}
	cells := make(map[string]madeCell, len(versions))
	for key, version := range versions {
		f := rules.Flag(key)
		if f == nil {
			continue
		}
		cell := last.cells[key]
		if cell.of != f || !same {
			cell = madeCell{Cell{f.Document().Lever, append([]string{}, f.Stops()...), sentence.Of(f.Document(),
				len(f.Stops()) > 0, names), version}, f}
		}
		cell.Version = version
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
