package manage

import (
	"cmp"
	"encoding/json"
	"strings"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/proposals"
)

// comes adds to a proposal what would come of it now.
func (c *call) comes(p *app.Proposal, v *ProposalView) error {
	ahead, err := c.api.Proposals.Ahead(c.ctx, p)
	if err != nil {
		return err
	}
	if f, is := ahead.Blocked.(*app.Fault); is {
		v.Blocked, v.Problems = f.Error(), f.Fields
	}
	for i, carried := range ahead.Items {
		item := &v.Items[i]
		item.Moved, item.Changed, item.Conflicts = carried.Moved, carried.Moved && !carried.Same, carried.Conflicts
		if carried.Moved && len(carried.Conflicts) == 0 {
			item.With = carried.Item.Change
		}
	}
	said := map[string]bool{}
	for _, h := range ahead.Heard {
		v.Blocked = cmp.Or(v.Blocked, h.Refused)
		for _, n := range diff.Said(h.Notes) {
			wants := h.Environment != nil && strings.HasPrefix(n.String(), "environment "+h.Environment.Key+" wants ")
			if n.String() != h.Refused && !wants && !said[n.String()] {
				v.Notes = append(v.Notes, n)
			}
			said[n.String()] = true
		}
		if item := &v.Items[h.Change]; item.Moved {
			item.Says = []app.ItemLine{proposals.Lines(h)}
		}
	}
	v.Could["apply"] = v.Could["apply"] && v.Blocked == ""
	edits := map[string]*preview.Edit{}
	for i, raw := range ahead.Results {
		if err := c.sentences(&p.Items[i], &v.Items[i], raw, edits); err != nil {
			return err
		}
	}
	for _, e := range v.Environments {
		edit := edits[e]
		if edit == nil {
			continue
		}
		_, env, err := c.api.Records.Place(c.ctx, c.p.Key, e)
		if err != nil || env == nil {
			return err
		}
		shown, err := c.api.Preview.Of(c.ctx, env, *edit)
		if err != nil {
			return err
		}
		v.Previews = append(v.Previews, PreviewIn{e, shown})
	}
	return nil
}

// sentences reads of an item what a flag said and would say, and what there is to preview.
func (c *call) sentences(item *app.Item, v *ItemView, result json.RawMessage,
	edits map[string]*preview.Edit) (err error) {
	if v.Is, err = edited(item.Do, item.Environment, result, edits); err != nil || item.Do != "flag.put" {
		return err
	}
	var was struct {
		Document *flag.Document
		Sentence words.Said
	}
	if err := json.Unmarshal(item.Base, &was); err != nil {
		return err
	}
	v.Was = was.Sentence
	if was.Document != nil && len(v.Was) == 0 {
		v.Was = sentence.Of(was.Document, false, nil)
	}
	return nil
}

// edited adds what a change saves to the edits that are previewed, by environment, and gives what a flag says then.
func edited(do, environment string, result json.RawMessage, edits map[string]*preview.Edit) (words.Said, error) {
	of := func() *preview.Edit {
		if edits[environment] == nil {
			edits[environment] = &preview.Edit{}
		}
		return edits[environment]
	}
	switch do {
	case "flag.put":
		var is struct {
			Document *flag.Document
			Sentence words.Said
		}
		if err := json.Unmarshal(result, &is); err != nil {
			return nil, err
		}
		e := of()
		e.Flags = append(e.Flags, is.Document)
		return is.Sentence, nil
	case "segment.put":
		var is struct{ Document *flag.Segment }
		if err := json.Unmarshal(result, &is); err != nil {
			return nil, err
		}
		e := of()
		e.Segments = append(e.Segments, is.Document)
	}
	return nil, nil
}
