package manage

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/expr"
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

type newFlagBody struct {
	flags.Make
	Reason string `json:"reason,omitempty"`
}

// must names what cannot be left out.
func (newFlagBody) must() []string { return []string{"key", "goneBy"} }

func (c *call) addFlag(in *newFlagBody) (any, error) {
	return c.apply(in.Reason, "", &in.Make)
}

type definitionView struct{ *app.Definition }

func (d definitionView) version() int64 { return d.Version }

func (c *call) definition(*none) (any, error) {
	p := c.p
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	return definitionView{d}, nil
}

type definitionEdit struct {
	flags.Edit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editFlag(in *definitionEdit) (any, error) {
	return c.apply(in.Reason, c.Param("flag"), &in.Edit)
}

// FlagView is a flag in an environment.
type FlagView struct {
	Definition  *app.Definition  `json:"definition"`
	Environment *app.Environment `json:"environment"`
	Document    *flag.Document   `json:"document"`
	Version     int64            `json:"version"`
	Revision    int64            `json:"revision"` // that made this version
	Stops       []StopView       `json:"stops"`    // standing ones
	Sentence    words.Said       `json:"sentence"`
	Says        []words.Said     `json:"says"`            // each rule by itself, and the end
	Texts       []string         `json:"texts"`           // each rule's condition as text
	Asked       *app.Asked       `json:"asked,omitempty"` // since when code asks for it
	Changed     int64            `json:"changed"`         // when this version was made
}

func (f *FlagView) version() int64 { return f.Version }

func (c *call) flag(*none) (any, error) {
	p, e := c.p, c.e
	d, err := c.api.Records.Definition(c.ctx, p.ID, c.Param("flag"))
	if err != nil {
		return nil, err
	}
	rec, err := c.api.Records.Flag(c.ctx, e.ID, d.Key)
	if err != nil {
		return nil, err
	}
	all, err := c.standing(e, 0)
	if err != nil {
		return nil, err
	}
	names := c.api.Population.Names(c.ctx, e.ID)
	standing := slices.DeleteFunc(all, func(s StopView) bool {
		return s.LiftedAt != 0 || !slices.Contains(s.Flags, d.Key)
	})
	v := &FlagView{Definition: d, Environment: e, Document: rec.Document, Version: rec.Version, Revision: rec.Revision,
		Stops:    standing,
		Sentence: sentence.Of(rec.Document, len(standing) > 0, names), Says: sentence.Parts(rec.Document, names),
		Texts: texts(rec.Document)}
	asked, err := c.api.Records.Asked(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(asked, func(a app.Asked) bool { return a.Flag == d.Key }); i >= 0 {
		v.Asked = &asked[i]
	}
	times, err := c.api.Records.FlagTimes(c.ctx, e.ID)
	v.Changed = times[d.Key]
	return v, err
}

// texts are the rules' conditions as text; empty for everybody, and for what has none.
func texts(d *flag.Document) []string {
	out := make([]string, len(d.Rules))
	for i := range d.Rules {
		out[i], _ = expr.Print(d.Rules[i].When)
	}
	return out
}

type documentBody struct {
	flags.Put
	Reason string `json:"reason,omitempty"`
}

// savedFlag is the answer on saving a document; a dry run says what it would move.
type savedFlag struct {
	flags.Saved
	Preview *preview.Preview `json:"preview,omitempty"`
}

func (c *call) putFlag(in *documentBody) (any, error) {
	if in.Document.Key == "" {
		in.Document.Key = c.Param("flag")
	}
	if in.Document.Key != c.Param("flag") {
		return nil, app.InvalidField("document.key", "is %q, the address says %q", in.Document.Key, c.Param("flag"))
	}
	raw, err := c.apply(in.Reason, c.Param("flag"), &in.Put)
	if err != nil {
		return nil, err
	}
	return withPreview(c, raw, c.e, func(s *flags.Saved) preview.Edit {
		return preview.Edit{Flags: []*flag.Document{s.Document}}
	})
}

type segmentBody struct {
	segments.Make
	Reason string `json:"reason,omitempty"`
}

// savedSegment is the answer on saving a segment; a dry run says what it would move.
type savedSegment struct {
	segments.Saved
	Preview *preview.Preview `json:"preview,omitempty"`
}

func (c *call) addSegment(in *segmentBody) (any, error) {
	return c.apply(in.Reason, "", &in.Make)
}

// SegmentView is a segment in an environment.
type SegmentView struct {
	Key      string          `json:"key"`
	Title    string          `json:"title"`
	Version  int64           `json:"version"`
	When     *condition.Node `json:"when,omitempty"`
	Text     string          `json:"text"`            // the condition as text
	Lists    string          `json:"lists,omitempty"` // the attribute that the lists name
	In       *flag.List      `json:"in,omitempty"`
	Out      *flag.List      `json:"out,omitempty"`
	Sentence words.Said      `json:"sentence"`
	UsedBy   []string        `json:"usedBy"` // flags, and segments as "segment x", in this environment
	Units    shift.Estimate  `json:"units"`  // of the population, that it takes
}

func (c *call) segments(*none) (any, error) {
	p, e, rules, err := c.here()
	if err != nil {
		return nil, err
	}
	titles, err := c.api.Records.SegmentTitles(c.ctx, p.ID)
	if err != nil {
		return nil, err
	}
	units, err := c.api.Population.Units(c.ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	records, err := c.api.Records.Segments(c.ctx, e.ID)
	if err != nil {
		return nil, err
	}
	usedBy := map[string][]string{}
	for f := range rules.Flags {
		for _, key := range f.Document().Segments() {
			usedBy[key] = append(usedBy[key], f.Key)
		}
	}
	for other := range titles {
		if o := rules.Source.Segment(other); o != nil {
			for _, key := range o.Segments() {
				usedBy[key] = append(usedBy[key], "segment "+other)
			}
		}
	}
	now := c.api.Now().UnixMilli()
	names := c.api.Population.Names(c.ctx, e.ID)
	out := listOf[SegmentView]{[]SegmentView{}}
	for i := range records {
		rec := &records[i]
		key, d := rec.Key, rec.Document
		title, known := titles[key]
		if !known {
			continue
		}
		v := SegmentView{Key: key, Title: title, Version: rec.Version, When: d.When, Lists: d.Lists, In: d.In,
			Out: d.Out, Sentence: sentence.Segment(d, names),
			UsedBy: slices.Compact(slices.Sorted(slices.Values(usedBy[key])))}
		if v.UsedBy == nil {
			v.UsedBy = []string{}
		}
		v.Text, _ = expr.Print(d.When)
		n := 0
		takes, err := rules.Taking(&condition.Node{Test: condition.SegmentTest, Segment: key}, false)
		if err != nil {
			return nil, err
		}
		for _, unit := range units.Units {
			if takes(unit, now) {
				n++
			}
		}
		v.Units = units.Count(n)
		out.Items = append(out.Items, v)
	}
	slices.SortFunc(out.Items, func(a, b SegmentView) int { return cmp.Compare(a.Key, b.Key) })
	return out, nil
}

type segmentEdit struct {
	segments.Document
	Reason string `json:"reason,omitempty"`
}

func (c *call) putSegment(in *segmentEdit) (any, error) {
	raw, err := c.apply(in.Reason, c.Param("segment"), &segments.Put{Document: in.Document})
	if err != nil {
		return nil, err
	}
	return withPreview(c, raw, c.e, func(s *segments.Saved) preview.Edit {
		return preview.Edit{Segments: []*flag.Segment{s.Document}}
	})
}
