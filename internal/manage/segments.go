package manage

import (
	"cmp"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/expr"
)

var _ = listed(
	op[segmentBody, savedSegment]("POST", atProject+"/segments", "Make a segment",
		(*call).addSegment).made().change().needs(app.Define),
	op[none, listOf[SegmentView]]("GET", atEnvironment+"/segments", "The segments in an environment",
		(*call).segments).needs(app.Read),
	op[segmentEdit, savedSegment]("PUT", atEnvironment+"/segments/:segment", "Save a segment's condition",
		(*call).putSegment).ifMatch().change().needs(app.Define),
	op[segmentTitle, segments.Titled]("PATCH", atProject+"/segments/:segment", "Change a segment's title",
		(*call).editSegment).change().needs(app.Define),
)

type segmentTitle struct {
	segments.Edit
	Reason string `json:"reason,omitempty"`
}

func (c *call) editSegment(in *segmentTitle) (any, error) {
	return c.apply(in.Reason, c.Param("segment"), &in.Edit)
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
