package policy

import (
	"slices"

	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/expr"
)

// Documented is a flag's document as expressions read it; nil for none.
func Documented(d *flag.Document) *Document {
	if d == nil {
		return nil
	}
	out := &Document{Lever: string(d.Lever), Resting: d.Resting, Variants: d.VariantNames(), Visible: d.Visible,
		Needs: []string{}, Rules: make([]Rule, len(d.Rules)), End: given(&d.End)}
	for _, n := range d.Needs {
		out.Needs = append(out.Needs, n.Flag)
	}
	for i := range d.Rules {
		r := &d.Rules[i]
		text, _ := expr.Print(r.When)
		out.Rules[i] = Rule{ID: r.ID, Name: r.Name, When: text, Parked: r.Parked, Gives: given(&r.Gives)}
	}
	return out
}

func given(g *flag.Gives) Gives {
	out := Gives{Variant: g.Variant, By: []string{}, Shares: []Share{}}
	if g.Shares == nil {
		return out
	}
	out.By = append(out.By, g.Shares.By...)
	for _, p := range g.Shares.Parts {
		out.Shares = append(out.Shares, Share{p.Variant, percent(p.Share)})
	}
	return out
}

func percent(share uint32) float64 { return float64(share) / 10_000 }

// Step is by how many percentage points at most a place of a flag gives more of everybody something else than the
// resting variant: see [Difference]. What a release owns is judged with its plan.
func Step(before, after *flag.Document) (most float64) {
	was, is := reached(before), reached(after)
	for place, variants := range is {
		for v, p := range variants {
			most = max(most, p-was[place][v])
		}
	}
	return most
}

// reached says by place which part of everybody it gives a variant that is not the resting one, in percent.
func reached(d *flag.Document) map[string]map[string]float64 {
	out := map[string]map[string]float64{}
	if d == nil || d.Lever != flag.On {
		return out
	}
	add := func(place string, g *flag.Gives) {
		out[place] = map[string]float64{}
		if g.Variant != "" && g.Variant != d.Resting {
			out[place][g.Variant] = 100
		}
		if g.Shares != nil {
			for _, p := range g.Shares.Parts {
				if p.Variant != "" && p.Variant != d.Resting {
					out[place][p.Variant] += percent(p.Share)
				}
			}
		}
	}
	for i := range d.Rules {
		if r := &d.Rules[i]; r.When == nil && !r.Parked && r.Release == "" {
			add(r.ID, &r.Gives)
		}
	}
	add("", &d.End)
	return out
}

// Planned is a release's plan as expressions read it, and its largest step.
func Planned(p *stage.Plan) (out Release, step float64) {
	out = Release{Stages: int64(len(p.Stages)), Shares: []float64{}, Watches: int64(len(p.Watches))}
	last := 0.0
	for i := range p.Stages {
		s := &p.Stages[i]
		if len(s.SignOff) > 0 {
			out.SignOff++
		}
		if s.Who != nil {
			continue
		}
		share := percent(s.Share)
		out.Shares = append(out.Shares, share)
		step, last = max(step, share-last), share
	}
	slices.Sort(out.Shares)
	return out, step
}
