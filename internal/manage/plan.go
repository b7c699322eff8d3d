package manage

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/proposals"
	"greenlever.example/greenlever/internal/app/segments"
)

var _ = listed(
	op[planBody, Planned]("POST", atProject+"/changes", "Make changes that are given as data, in their order, all at "+
		"once or none: a plan", (*call).makePlan).change().needs(app.Read).long(),
)

// planBody is a list of changes, each as a proposal keeps it.
type planBody struct {
	Changes []json.RawMessage `json:"changes"`
	Units   confirmed         `json:"units,omitempty"`
	Commit  string            `json:"commit,omitempty"` // that they come from, in the version control of files
	Reason  string            `json:"reason,omitempty"`
}

func (planBody) must() []string { return []string{"changes"} }

// mostPlanned is how many changes are made at once. All that they touch is held meanwhile.
const mostPlanned = 5_000

// Planned is what changes come to, all together.
type Planned struct {
	Items    []PlannedItem `json:"items"` // those that change something
	Notes    []words.Said  `json:"notes"` // of the gate, as by a freeze
	Previews []PreviewIn   `json:"previews,omitempty"`
	// Left is what a plan that the service made leaves as it is, and why.
	Left []words.Said `json:"left,omitempty"`
}

// PlannedItem is one of the changes.
type PlannedItem struct {
	Do          string         `json:"do"`
	Environment string         `json:"environment,omitempty"`
	Of          string         `json:"of,omitempty"`
	Says        []app.ItemLine `json:"says"`
	Is          words.Said     `json:"is,omitempty"` // the sentence after it, of a flag
}

var commitID = regexp.MustCompile(`^[0-9A-Za-z._/-]{1,100}$`)

func (c *call) makePlan(in *planBody) (any, error) {
	if in.Commit != "" && !commitID.MatchString(in.Commit) {
		return nil, app.InvalidField("commit", "must be 1 to 100 letters, digits and ._/-, as the id of a commit")
	}
	if len(in.Changes) == 0 || len(in.Changes) > mostPlanned {
		return nil, app.InvalidField("changes", "takes 1 to %d", mostPlanned)
	}
	changes := make([]commit.Change, len(in.Changes))
	for i, raw := range in.Changes {
		change, err := c.api.Commit.Kinds.ReadShown(c.ctx, raw, c.api.Records.Place)
		if err == nil {
			err = c.planned(&change)
		}
		if put, is := change.Do.(*segments.Put); err == nil && is {
			err = longLists(put)
		}
		if err != nil {
			return nil, app.Below(fmt.Sprintf("changes[%d].", i), err)
		}
		changes[i] = change
	}
	in.Units.into(changes)
	cause := ""
	if in.Commit != "" {
		cause = "commit " + in.Commit
	}
	return c.plan(in.Reason, cause, changes, nil)
}

// longLists keeps lists outside of the document that are too long to stand in it.
func longLists(put *segments.Put) error {
	for _, list := range []**flag.List{&put.In, &put.Out} {
		if *list == nil || len((*list).Units) <= flag.MaxInline {
			continue
		}
		units := slices.Clone((*list).Units)
		slices.Sort(units)
		*list = nil
		body, err := makeList(list, slices.Compact(units))
		if err != nil {
			return err
		}
		put.NewLists = append(put.NewLists, body)
	}
	return nil
}

// planned tells whether a change may stand in a plan of this project.
func (c *call) planned(change *commit.Change) error {
	if change.In.Project == nil || change.In.Project.ID != c.p.ID {
		return app.InvalidField("project", "must be %s, the project of the address", c.p.Key)
	}
	return c.api.Commit.Kinds.Proposed(*change)
}

// plan makes changes together, proposes them, or says what they would come to. The audit keeps the cause.
func (c *call) plan(reason, cause string, changes []commit.Change, left []words.Said) (any, error) {
	r, _, err := c.request(reason)
	if err != nil {
		return nil, err
	}
	r.Actor.Cause = cause
	out := &Planned{Items: []PlannedItem{}, Notes: []words.Said{}, Left: left}
	if len(changes) == 0 {
		return out, nil
	}
	items := make([]PlannedItem, len(changes))
	for i := range changes {
		items[i] = PlannedItem{Do: c.api.Commit.Kinds.Name(changes[i]), Of: changes[i].Of}
		if changes[i].In.Environment != nil {
			items[i].Environment = changes[i].In.Environment.Key
		}
	}
	noted := map[string]bool{}
	r.Told = func(h commit.Heard) {
		items[h.Change].Says = append(items[h.Change].Says, proposals.Lines(h))
		for _, n := range diff.Said(h.Notes) {
			if !noted[n.String()] {
				noted[n.String()] = true
				out.Notes = append(out.Notes, n)
			}
		}
	}
	raw, err := c.make(r, changes...)
	if err != nil {
		return nil, whichOf(err, changes)
	}
	results := []json.RawMessage{raw}
	if len(changes) > 1 {
		if err := json.Unmarshal(raw, &results); err != nil {
			return nil, err
		}
	}
	return out, c.come(out, items, results, changes)
}

// whichOf says of a refusal of one of several changes which it is.
func whichOf(err error, changes []commit.Change) error {
	f := new(app.Fault)
	if !errors.As(err, &f) {
		return err
	}
	at, is := f.More["change"].(int)
	if !is && len(changes) > 1 {
		return err
	}
	of := changes[at].Of
	if env := changes[at].In.Environment; env != nil {
		of += " in " + env.Key
	}
	if of = strings.TrimSpace(of); of != "" {
		f.Detail = of + ": " + f.Detail
	}
	return app.Below(fmt.Sprintf("changes[%d].", at), f)
}

// come says of the changes what they came to, and of a dry run whom they would move.
func (c *call) come(out *Planned, items []PlannedItem, results []json.RawMessage,
	changes []commit.Change) error {
	edits := map[string]*preview.Edit{}
	for i := range items {
		item := &items[i]
		if len(item.Says) == 0 { // it changes nothing
			continue
		}
		is, err := edited(item.Do, item.Environment, results[i], edits)
		if err != nil {
			return err
		}
		item.Is = is
		if put, long := changes[i].Do.(*segments.Put); long && len(put.NewLists) > 0 {
			e := edits[item.Environment]
			if e.Lists == nil {
				e.Lists = map[string]flag.Hashes{}
			}
			for _, l := range put.NewLists {
				e.Lists[l.Digest] = l.Hashes
			}
		}
		out.Items = append(out.Items, *item)
	}
	if c.QueryParam("dryRun") != "true" {
		return nil
	}
	keys := []string{}
	for key := range edits {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		_, env, err := c.api.Records.Place(c.ctx, c.p.Key, key)
		if err != nil || env == nil {
			return err
		}
		shown, err := c.api.Preview.Of(c.ctx, env, *edits[key])
		if err != nil {
			return err
		}
		out.Previews = append(out.Previews, PreviewIn{key, shown})
	}
	return nil
}

// proposedTitle is what a proposal is called where its author says nothing.
func (c *call) proposedTitle(reason string, changes []commit.Change) string {
	title := strings.TrimSpace(c.QueryParam("title"))
	if title == "" {
		title, _, _ = strings.Cut(reason, "\n")
	}
	if title == "" && len(changes) == 1 {
		title = strings.TrimSpace(c.api.Commit.Kinds.Name(changes[0]) + " " + changes[0].Of)
	}
	if title == "" {
		title = fmt.Sprintf("%d changes", len(changes))
	}
	for len(title) > 200 {
		title = strings.ToValidUTF8(title[:200], "")
	}
	return title
}
