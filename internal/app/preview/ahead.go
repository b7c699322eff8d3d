package preview

import (
	"context"
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/shift"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
)

// StageAhead is what a stage of a release would do.
type StageAhead struct {
	Name string `json:"name"`
	// Shift is whom it moves beyond the stage before it; of the first stage, beyond what stands.
	Shift *shift.Shift `json:"shift"`
	// Has is how many units have a new variant then, by whatever rule.
	Has shift.Estimate `json:"has"`
	// Drawn is what the shares are drawn by, such as sites, where that is not the key.
	Drawn *shift.Drawn `json:"drawn,omitempty"`
	// Takes is about how long it takes with the traffic of the last day, in milliseconds; -1: longer than
	// can be told, since too few units come.
	Takes int64 `json:"takes"`
	// OldArm is how many parts per million keep the old variant to compare with.
	OldArm uint32 `json:"oldArm,omitempty"`
}

// Overlap is another release that reaches some of the same units.
type Overlap struct {
	Release string         `json:"release"`
	Flag    string         `json:"flag"`
	Units   shift.Estimate `json:"units"` // that both give their new variant at the ends of their plans
}

// Ahead is what a release would do, before it starts.
type Ahead struct {
	At       int64        `json:"at"`
	Stages   []StageAhead `json:"stages"`
	Overlaps []Overlap    `json:"overlaps"`
	Takes    int64        `json:"takes"` // of all stages, in milliseconds; -1 where one of them cannot be told
	// Taken is whom the old arm takes another variant from, over all stages.
	Taken shift.Estimate `json:"taken"`
	// Caught is how many units a rule above gives something else, so that it never reaches them.
	Caught shift.Estimate `json:"caught"`
	Units  shift.Estimate `json:"units"` // all that were looked at
	// Daily is how many units of what the shares are drawn by came in the last day, All how many there are.
	Daily int64 `json:"daily"`
	All   int64 `json:"all"`
}

const dayMillis = 86_400_000

// Ahead computes what a release would do. doc is the flag as it stands, at gives it with the release at a
// stage; others are the releases that run, with their flags at the ends of their plans.
func (s *Service) Ahead(ctx context.Context, e *app.Environment, rel *app.Release,
	at func(stage int) *flag.Document, others map[*app.Release]*flag.Document) (*Ahead, error) {
	before, err := s.Rules(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	units, err := s.Population.Units(ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	p, now := &rel.State.Plan, s.Now().UnixMilli()
	drawn := units
	if p.By[0] != condition.KeyAttribute {
		if drawn, err = s.Population.Units(ctx, e.ID, p.By[0]); err != nil {
			return nil, err
		}
	}
	daily, err := s.Came(ctx, e.ID, p.By[0], now-dayMillis)
	if err != nil {
		return nil, err
	}
	out := &Ahead{At: now, Stages: []StageAhead{}, Overlaps: []Overlap{}, Units: units.Count(len(units.Units))}
	out.Daily, out.All = drawn.Count(daily).Units, drawn.Count(len(drawn.Units)).Units
	arms := stage.OldArms(p.Stages)
	taken, last := map[string]bool{}, before
	for i := p.First; i < len(p.Stages); i++ {
		doc := at(i)
		next, err := before.With([]*flag.Document{doc}, nil)
		if err != nil {
			return nil, err
		}
		sa := StageAhead{Name: p.Stages[i].Name, Shift: shift.Between(last, next, rel.Flag, units, now)}
		has := 0
		for _, v := range p.News() {
			has += sa.Shift.After[v].Counted
		}
		sa.Has = units.Count(has)
		group := stage.Owned(doc.Rules, rel.ID)
		if shares := group[len(group)-1].Gives.Shares; shares != nil && p.By[0] != condition.KeyAttribute {
			d := shift.Draw(shares, p.By[0], drawn, condition.Intern(p.By[0]))
			sa.Drawn = &d
		}
		if p.OldArm || len(p.Watches) > 0 {
			sa.OldArm = arms[i]
		}
		sa.Takes = takes(&p.Stages[i], p, i, drawn.Count(daily).Units)
		if out.Takes >= 0 && sa.Takes >= 0 {
			out.Takes += sa.Takes
		} else {
			out.Takes = -1
		}
		out.Stages = append(out.Stages, sa)
		loses(last, next, rel, units, now, taken)
		last = next
	}
	out.Taken = units.Count(len(taken))
	out.Caught = units.Count(caught(last, rel, units, now))
	for other, doc := range others {
		both, err := last.With([]*flag.Document{doc}, nil)
		if err != nil {
			return nil, err
		}
		n := 0
		for _, c := range units.Units {
			if given(both, rel, c, now) && given(both, other, c, now) {
				n++
			}
		}
		if n > 0 {
			out.Overlaps = append(out.Overlaps, Overlap{other.ID, other.Flag, units.Count(n)})
		}
	}
	slices.SortFunc(out.Overlaps, func(a, b Overlap) int { return b.Units.Counted - a.Units.Counted })
	return out, nil
}

// takes is about how long a stage takes where so many units come in a day.
func takes(s *stage.Stage, p *stage.Plan, at int, daily int64) int64 {
	if s.Units == 0 {
		return int64(s.Least)
	}
	share := uint64(p.Reaches(at))
	if share == 0 { // of an audience it is not known how often it comes
		return max(int64(s.Least), 0)
	}
	come := uint64(daily) * share / 1_000_000 // a day
	if come < uint64(s.Units) {               // the same units come again: more than come in a day may never be
		return -1
	}
	return max(int64(s.Least), int64(uint64(s.Units)*dayMillis/come))
}

// given tells whether a unit gets the new variant by a release's rules.
func given(rs *decide.Ruleset, rel *app.Release, c *condition.Context, now int64) bool {
	f := rs.Flag(rel.Flag)
	if f == nil {
		return false
	}
	o := f.Decide(rs, c, now)
	v := f.Variant(o.Variant)
	return v != nil && o.Rule >= 0 && f.Document().Rules[o.Rule].Release == rel.ID && rel.State.Plan.IsNew(v.Name)
}

// loses notes the units that the old arm gives the old variant in place of another one.
func loses(a, b *decide.Ruleset, rel *app.Release, units shift.Population, now int64, taken map[string]bool) {
	for _, c := range units.Units {
		if was, is := gives(a, rel.Flag, c, now), gives(b, rel.Flag, c, now); was != is && !rel.State.Plan.IsNew(is) {
			taken[c.Key()] = true
		}
	}
}

// caught counts the units that rules above the group give something, and not the new variant.
func caught(rs *decide.Ruleset, rel *app.Release, units shift.Population, now int64) (n int) {
	f := rs.Flag(rel.Flag)
	group := slices.IndexFunc(f.Document().Rules, func(r flag.Rule) bool { return r.Release == rel.ID })
	for _, c := range units.Units {
		o := f.Decide(rs, c, now)
		if v := f.Variant(o.Variant); o.Rule >= 0 && int(o.Rule) < group && v != nil && !rel.State.Plan.IsNew(v.Name) {
			n++
		}
	}
	return n
}
