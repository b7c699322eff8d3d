package manage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/stops"
)

var _ = listed(
	op[none, StopStory]("GET", atEnvironment+"/stops/:stop", "A stop from its cause to its end: what changed "+
		"before it, who has it since when, what is given since, and what changed after it",
		(*call).stopStory).needs(app.Read),
	op[reasonBody, app.StopRecord]("POST", atEnvironment+"/stops/:stop/reason", "Say why, after the stop",
		(*call).sayWhy).made().change().needs(app.StopIt),
)

// StopStory is a stop from its cause to its end.
type StopStory struct {
	StopView
	Flags []StoppedFlag `json:"flags"`
	// Wave is how it arrived; nil where the records do not know it any more.
	Wave *app.Delivery `json:"wave,omitempty"`
	// Lift is how the lift arrived.
	Lift    *app.Delivery `json:"lift,omitempty"`
	Streams int64         `json:"streams"` // pages in browsers that are told to ask again, about
	Pollers int64         `json:"pollers"` // units for which was asked over HTTP of late
	// Given is what its flags gave in the minutes around it, as processes have told so far.
	Given []GivenAround `json:"given"`
	// Before are the newest changes of its flags before it, and Since those after it that are in force once it is
	// lifted; both newest first.
	Before []Changed `json:"before"`
	Since  []Changed `json:"since"`
	// Untold is of how many more flags, stopped with these, neither changes nor counts are told here.
	Untold int `json:"untold,omitempty"`
	// Line is the shortest of it: what changed, what turned out badly, who saw it, the stop, and when all had it.
	Line []ToldMoment `json:"line"`
	// InLine is the line as text.
	InLine string `json:"inLine"`
	// Told is all of it as a list of what happened, in order.
	Told     []ToldMoment `json:"told"`
	Markdown string       `json:"markdown"`
}

// StoppedFlag is a flag that was stopped.
type StoppedFlag struct {
	Key     string `json:"key"`
	Title   string `json:"title"`
	Loses   string `json:"loses,omitempty"` // what users lose
	Resting string `json:"resting"`
}

// GivenAround is how often a flag gave something in a minute.
type GivenAround struct {
	Flag    string `json:"flag"`
	Minute  int64  `json:"minute"` // Unix minutes
	Variant string `json:"variant,omitempty"`
	Resting bool   `json:"resting"` // given because it is off or stopped
	Count   uint64 `json:"count"`
}

// ToldMoment is one thing that happened.
type ToldMoment struct {
	At   int64  `json:"at"`
	What string `json:"what"` // change, bad, seen, stop, delivered, reason, lift
	Says string `json:"says"`
}

// How far a stop's story goes back, how many changes it shows, and how many minutes of what was given.
const (
	storyBack    = 24 * time.Hour
	storyChanges = 20
	storyFlags   = 20 // of which changes and counts are told
	givenBefore  = 3
	givenAfter   = 10
)

func (c *call) stopStory(*none) (any, error) { return c.storyOf(c.Param("stop")) }

func (c *call) storyOf(id string) (*StopStory, error) {
	stop, err := c.api.Records.Stop(c.ctx, c.e.ID, id)
	if err != nil {
		return nil, err
	}
	names, err := c.stoppers(c.e)
	if err != nil {
		return nil, err
	}
	out := &StopStory{StopView: StopView{*stop, names[stop.By], names[stop.LiftedBy]}, Flags: []StoppedFlag{},
		Given: []GivenAround{}, Before: []Changed{}, Since: []Changed{}, Line: []ToldMoment{}, Told: []ToldMoment{}}
	if err := c.storyFlags(out); err != nil {
		return nil, err
	}
	if out.Wave, err = c.wave(stop.Revision); err != nil {
		return nil, err
	}
	if stop.LiftedRevision > 0 {
		if out.Lift, err = c.wave(stop.LiftedRevision); err != nil {
			return nil, err
		}
	}
	summary, err := c.summary(c.e)
	if err != nil {
		return nil, err
	}
	if err := c.nodes(c.e, summary); err != nil {
		return nil, err
	}
	out.Streams, out.Pollers = summary.Streams, summary.Pollers
	if err := c.storyGiven(out); err != nil {
		return nil, err
	}
	after, err := c.storyChanges(out)
	if err != nil {
		return nil, err
	}
	out.Untold = len(stop.Flags) - len(out.told())
	if err := c.storyLine(out); err != nil {
		return nil, err
	}
	out.tell(after, names)
	return out, nil
}

// storyFlags says of what was stopped what its users lose. Of many flags all definitions are read at once.
func (c *call) storyFlags(out *StopStory) error {
	place, err := c.api.Hub.Place(c.ctx, c.e.ID)
	if err != nil {
		return err
	}
	rules, defs := place.Rules(), map[string]*app.Definition{}
	if len(out.StopRecord.Flags) > storyFlags {
		all, err := c.api.Records.Definitions(c.ctx, c.p.ID)
		if err != nil {
			return err
		}
		for i := range all {
			defs[all[i].Key] = &all[i]
		}
	}
	for _, key := range out.StopRecord.Flags {
		def := defs[key]
		if def == nil {
			if def, err = c.api.Records.Definition(c.ctx, c.p.ID, key); err != nil {
				return err
			}
		}
		one := StoppedFlag{Key: key, Title: def.Title, Loses: def.Loses}
		if f := rules.Flag(key); f != nil {
			one.Resting = f.Document().Resting
		}
		out.Flags = append(out.Flags, one)
	}
	return nil
}

// wave is how a revision arrived: as it goes, or as it was kept.
func (c *call) wave(revision int64) (*app.Delivery, error) {
	kept, err := c.api.Records.DeliveriesOf(c.ctx, c.e.ID, []int64{revision})
	if err != nil {
		return nil, err
	}
	if d, is := kept[revision]; is {
		return &d, nil
	}
	place, err := c.api.Hub.Place(c.ctx, c.e.ID)
	if err != nil {
		return nil, err
	}
	src := place.Rules().Source
	return c.api.Delivery.Wave(c.ctx, c.e.ID, src.Epoch, revision, src.Revision)
}

func (c *call) storyGiven(out *StopStory) error {
	at := out.At / 60_000
	for _, key := range out.told() {
		rows, err := c.api.Records.Uses(c.ctx, c.e.ID, key, at-givenBefore, at+givenAfter, 1)
		if err != nil {
			return err
		}
		for _, r := range rows {
			one := GivenAround{Flag: key, Minute: r.Minute, Variant: r.Variant, Resting: r.Reason == "DISABLED",
				Count: r.Count}
			i := slices.IndexFunc(out.Given, func(g GivenAround) bool {
				g.Count = one.Count
				return g == one
			})
			if i < 0 {
				out.Given = append(out.Given, one)
			} else {
				out.Given[i].Count += one.Count
			}
		}
	}
	return nil
}

// storyChanges finds what changed of the flags before the stop, and all that came after it.
func (c *call) storyChanges(out *StopStory) (after []Changed, err error) {
	envs, err := c.api.Records.Ever(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	f := &changeFilter{environments: map[int64]string{}}
	for _, e := range envs {
		f.environments[e.ID] = e.Key
	}
	if f.accounts, err = c.stoppers(c.e); err != nil {
		return nil, err
	}
	for _, key := range out.told() {
		for _, part := range []struct {
			from, to int64
			into     *[]Changed
		}{{out.At - storyBack.Milliseconds(), out.At + 1, &out.Before}, {out.At + 1, 0, &after}} {
			f.Query = &audit.Query{Project: c.p.ID, Environment: c.e.ID, Subject: key, Limit: storyChanges,
				From: part.from, To: part.to}
			page, err := c.changesOf(f)
			if err != nil {
				return nil, err
			}
			*part.into = append(*part.into, slices.DeleteFunc(page.Items, func(ch Changed) bool {
				return ch.Action == "drill.held" || slices.ContainsFunc(ch.In,
					func(t Touched) bool { return t.Revision == out.Revision })
			})...)
		}
	}
	out.Before, after = newestFirst(out.Before), newestFirst(after)
	for _, ch := range after {
		if !slices.Contains([]string{"flag.stop-reason", "flag.stopped", "flag.lifted"}, ch.Action) {
			out.Since = append(out.Since, ch)
		}
	}
	return after, nil
}

// newestFirst has each change once, in order, and not too many.
func newestFirst(all []Changed) []Changed {
	slices.SortFunc(all, func(a, b Changed) int {
		return cmp.Or(cmp.Compare(b.At, a.At), cmp.Compare(b.Change, a.Change))
	})
	all = slices.CompactFunc(all, func(a, b Changed) bool { return a.Change == b.Change })
	return all[:min(len(all), storyChanges)]
}

// told are the flags whose changes and counts are told: of a stop of very many the first ones.
func (s *StopStory) told() []string {
	return s.StopRecord.Flags[:min(len(s.StopRecord.Flags), storyFlags)]
}

// tell puts the story into a list of what happened, and into Markdown, to be pasted where the incident is kept.
func (s *StopStory) tell(after []Changed, names map[string]string) {
	add := func(at int64, what, format string, args ...any) {
		s.Told = append(s.Told, ToldMoment{at, what, fmt.Sprintf(format, args...)})
	}
	for i := range s.Before {
		b := &s.Before[i]
		add(b.At, "change", "%s%s", plainly(b.Says), because(b.Reason))
	}
	keys := make([]string, len(s.Flags))
	for i, f := range s.Flags {
		keys[i] = f.Key
	}
	add(s.At, "stop", "%s stopped %s%s", cmp.Or(s.ByName, "somebody"), strings.Join(keys, ", "), because(s.Reason))
	s.arrived("the stop", s.Wave)
	if s.LaterAt > 0 {
		add(s.LaterAt, "reason", "%s said why: %s", cmp.Or(names[s.LaterBy], "somebody"), s.Later)
	}
	for i := range after {
		a, what := &after[i], "change"
		switch a.Action {
		case "flag.stop-reason":
			continue // it is told with who said it
		case "flag.lifted":
			what = "lift"
		}
		add(a.At, what, "%s%s", plainly(a.Says), because(a.Reason))
	}
	s.arrived("the lift", s.Lift)
	slices.SortStableFunc(s.Told, func(a, b ToldMoment) int { return cmp.Compare(a.At, b.At) })
	var md strings.Builder
	s.InLine = s.inLine()
	fmt.Fprintf(&md, "## Stop of %s\n\n%s\n\n", strings.Join(keys, ", "), s.InLine)
	for _, f := range s.Flags {
		if f.Loses != "" {
			fmt.Fprintf(&md, "While it stands, users lose this (%s): %s\n\n", f.Key, f.Loses)
		}
	}
	if s.Untold > 0 {
		fmt.Fprintf(&md, "Of %d more flags that it stopped nothing is told here.\n\n", s.Untold)
	}
	md.WriteString("| when (UTC) | after the stop | what |\n| --- | --- | --- |\n")
	for _, t := range s.Told {
		fmt.Fprintf(&md, "| %s | %s | %s |\n", time.UnixMilli(t.At).UTC().Format(time.DateTime), offset(t.At-s.At),
			strings.NewReplacer("|", "\\|", "\n", " ").Replace(t.Says))
	}
	s.Markdown = md.String()
}

// arrived says when half, nearly all and all processes had it, and whom it has not reached.
func (s *StopStory) arrived(what string, d *app.Delivery) {
	if d == nil || d.Expected == 0 {
		return
	}
	says := fmt.Sprintf("%d of %d processes have %s", d.Reached, d.Expected, what)
	at := d.At
	for _, w := range d.Wave {
		at = max(at, d.At+w.After)
	}
	for _, t := range []struct {
		what  string
		after int64
	}{{"half", d.Half}, {"99 %", d.Most}, {"all", d.All}} {
		if t.after >= 0 {
			says += fmt.Sprintf(", %s after %s", t.what, lasted(t.after))
			at = max(at, d.At+t.after)
		}
	}
	for i := range d.Lost {
		says += "; " + delivery.Name(&d.Lost[i]) + " fell silent without it"
	}
	s.Told = append(s.Told, ToldMoment{at, "delivered", says})
}

// plainly is what is said without quotes around names.
func plainly(s words.Said) string { return s.Print(func(t words.Token) string { return t.Text }) }

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ", because " + reason
}

// offset says when something was, before or after the stop.
func offset(ms int64) string {
	switch {
	case ms < 0:
		return "-" + lasted(-ms)
	case ms == 0:
		return ""
	}
	return "+" + lasted(ms)
}

func (c *call) sayWhy(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("stop"), &stops.Because{})
}
