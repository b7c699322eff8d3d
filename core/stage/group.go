package stage

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
)

// oldPerNew is how many times as wide as the new arm the old one is at most.
const oldPerNew = 4

// OldArms lays out how wide the old arm is at each stage, in buckets, before the plan begins.
//
// It lies at the upper end of the buckets and takes only those that no planned shared stage but
// the one of 100 % converts, so nobody goes from the old arm to the new one while they are compared.
// Each shared stage below 100 % adds newcomers to both arms: what room there is, is divided evenly
// over the stages that are left, and a stage gets at most four times its new arm. An audience and
// 100 % have nothing to compare with, and no old arm.
//
// begun are the widths of the stages that have begun, which stay as they are.
func OldArms(stages []Stage, begun ...uint32) []uint32 {
	out, room, shared := make([]uint32, len(stages)), uint32(bucket.Buckets), 0
	width := uint32(0)
	for i, s := range stages {
		switch {
		case s.Share == 0 || s.Share == bucket.Buckets:
		case i < len(begun):
			room, width = bucket.Buckets-s.Share, max(width, begun[i])
		default:
			room, shared = bucket.Buckets-s.Share, shared+1
		}
	}
	room = max(room, width) // what is there stays
	for i, s := range stages {
		if i < len(begun) {
			out[i] = begun[i]
			continue
		}
		if s.Share == 0 || s.Share == bucket.Buckets {
			continue
		}
		width = min(width+(room-width)/uint32(shared), uint32(min(uint64(oldPerNew)*uint64(s.Share), bucket.Buckets)))
		out[i], shared = width, shared-1
	}
	return out
}

// Group is what a release has among a flag's rules at a stage: a rule for each audience so far, and
// one for the share. No other rule gives anything of it. id marks the rules; at -1 there are none. run is the
// number of its evidence run, which is told to clients where it has watches.
func (p *Plan) Group(id string, at, run int) (rules []flag.Rule) {
	var watched *flag.Evidence
	if len(p.Watches) > 0 {
		watched = &flag.Evidence{Run: run, Stage: at, By: p.By, With: p.BreakDown}
	}
	share, stage := uint32(0), 0
	for i := 0; i <= at && i < len(p.Stages); i++ {
		s := &p.Stages[i]
		if s.Share > 0 {
			share, stage = s.Share, i
			continue
		}
		rules = append(rules, flag.Rule{ID: ruleID(id, fmt.Sprint(i)), Name: "Release: " + s.Name, Release: id,
			When: both(p.Where, s.Who), Gives: flag.Gives{Variant: p.To}, Evidence: watched})
	}
	if share == 0 {
		return rules
	}
	old := uint32(0)
	if p.OldArm || len(p.Watches) > 0 {
		old = OldArms(p.Stages, p.Arms...)[stage]
	}
	parts := p.newParts(stage, share)
	if old > 0 {
		parts = append(parts, part(flag.Part{Variant: p.From}, bucket.Buckets-old, bucket.Buckets))
	}
	if rest := bucket.Buckets - share - old; rest > 0 {
		parts = append(parts, part(flag.Part{GoesOn: true}, share, share+rest))
	}
	return append(rules, flag.Rule{ID: ruleID(id, "s"), Name: "Release: " + p.Stages[stage].Name, Release: id,
		When: both(p.Where, nil), Evidence: watched, Gives: flag.Gives{Shares: &flag.Shares{By: slices.Clone(p.By),
			Salt: p.Salt, Hash: bucket.Scheme, Parts: parts}}})
}

// newParts are the parts of the new variants at a stage: of what each stage adds, every one gets as much.
func (p *Plan) newParts(at int, share uint32) (parts []flag.Part) {
	if len(p.Beside) == 0 {
		return []flag.Part{part(flag.Part{Variant: p.To}, 0, share)}
	}
	news := p.News()
	for way, v := range news {
		one, before := flag.Part{Variant: v}, uint32(0)
		for i := 0; i <= at; i++ {
			after := p.Stages[i].Share
			if after <= before {
				continue
			}
			from, to := evidence.Block(before, after, way, len(news))
			if from < to {
				one.Share, one.Ranges = one.Share+to-from, append(one.Ranges, flag.Ranges{from, to})
			}
			before = after
		}
		if one.Share > 0 {
			parts = append(parts, one)
		}
	}
	return parts
}

// Widths are how wide both arms are at each stage.
func (p *Plan) Widths() []evidence.Width {
	out, arms := make([]evidence.Width, len(p.Stages)), OldArms(p.Stages, p.Arms...)
	for i := range p.Stages {
		out[i] = evidence.Width{New: p.Stages[i].Share, Old: arms[i]}
	}
	return out
}

// Compared is how many of the stages from the first one on have both arms.
func (p *Plan) Compared() (n int) {
	for i, w := range p.Widths() {
		if i >= p.First && w.Compares() {
			n++
		}
	}
	return n
}

// Setup is what the present evidence run goes by.
func (s *State) Setup() evidence.Setup {
	alpha := s.Plan.Alpha
	if alpha == 0 {
		alpha = evidence.Alpha
	}
	out := evidence.Setup{Watches: s.Plan.Watches, Widths: s.Plan.Widths(), Parts: s.Plan.BreakDown, Alpha: alpha,
		Run: s.Run, Planned: s.Compared, Converted: s.Converted}
	if len(s.Plan.Beside) > 0 {
		out.News = s.Plan.News()
	}
	return out
}

func part(p flag.Part, from, to uint32) flag.Part {
	p.Share, p.Ranges = to-from, []flag.Ranges{{from, to}}
	return p
}

// ruleID names a rule of a release: the same at all of its stages.
func ruleID(id, what string) string { return "r" + id[max(0, len(id)-12):] + "-" + what }

// Owns tells whether a rule, by its id, is one of a release.
func Owns(id, rule string) bool { return strings.HasPrefix(rule, ruleID(id, "")) }

// ByShare tells whether a release's rule, by its id, is the one for its share.
func ByShare(rule string) bool { return strings.HasSuffix(rule, "-s") }

func both(a, b *condition.Node) *condition.Node {
	switch {
	case a == nil && b == nil:
		return nil
	case a == nil:
		return b.Clone()
	case b == nil:
		return a.Clone()
	}
	return (&condition.Node{All: []condition.Node{*a.Clone(), *b.Clone()}}).Canonical()
}

// Owned gives the rules that a release owns, in their order.
func Owned(rules []flag.Rule, id string) (group []flag.Rule) {
	for _, r := range rules {
		if r.Release == id {
			group = append(group, r)
		}
	}
	return group
}

// Put puts a release's group among rules: where it stands already, else above a rule by its id, or
// below all.
func Put(rules []flag.Rule, id string, group []flag.Rule, above string) []flag.Rule {
	at := slices.IndexFunc(rules, func(r flag.Rule) bool { return r.Release == id })
	if at < 0 && above != "" {
		at = slices.IndexFunc(rules, func(r flag.Rule) bool { return r.ID == above })
	}
	if at < 0 {
		at = len(rules)
	}
	return slices.Concat(rules[:at:at], group, Take(rules[at:], id))
}

// Take takes a release's group out of rules, and nothing else.
func Take(rules []flag.Rule, id string) []flag.Rule {
	return slices.DeleteFunc(slices.Clone(rules), func(r flag.Rule) bool { return r.Release == id })
}

// Fold gives the flag as it stands once the release is finished: everybody of its condition gets the
// new variant; of several, the one that To names then. Where it has no condition and no rule is left below its
// group, the new variant becomes the end; else a plain rule stands in the place of the group. Rules whose ids
// stand in drop go too.
func (p *Plan) Fold(d *flag.Document, id string, drop []string) *flag.Document {
	out := *d
	at := slices.IndexFunc(d.Rules, func(r flag.Rule) bool { return r.Release == id })
	if at < 0 {
		at = len(d.Rules)
	}
	left := func(rules []flag.Rule) []flag.Rule {
		return slices.DeleteFunc(Take(rules, id), func(r flag.Rule) bool { return slices.Contains(drop, r.ID) })
	}
	above, below := left(d.Rules[:at]), left(d.Rules[at:])
	if p.Where == nil && !slices.ContainsFunc(below, func(r flag.Rule) bool { return !r.Parked }) {
		out.Rules, out.End = slices.Concat(above, below), flag.Gives{Variant: p.To}
		return &out
	}
	kept := flag.Rule{ID: ruleID(id, "f"), Name: "Released", When: both(p.Where, nil),
		Gives: flag.Gives{Variant: p.To}}
	out.Rules = slices.Concat(above, []flag.Rule{kept}, below)
	return &out
}

// End is the plan of a release that is finished: of several new variants, the chosen one is the new one.
func (s *State) End() *Plan {
	p := s.Plan
	if s.Chosen != "" {
		p.To, p.Beside = s.Chosen, nil
	}
	return &p
}

// Unneeded lists the rules that decide nothing any more once the release is finished: those right
// above its group that give the new variant, and, without a condition, all that stand below it.
func (p *Plan) Unneeded(d *flag.Document, id string) (rules []flag.Rule) {
	at := slices.IndexFunc(d.Rules, func(r flag.Rule) bool { return r.Release == id })
	if at < 0 {
		return nil
	}
	if p.Where == nil {
		for i := at - 1; i >= 0 && (d.Rules[i].Parked || d.Rules[i].Gives.OnlyGives(p.To)); i-- {
			if !d.Rules[i].Parked {
				rules = append([]flag.Rule{d.Rules[i]}, rules...)
			}
		}
		for _, r := range d.Rules[at:] {
			if r.Release != id && !r.Parked {
				rules = append(rules, r)
			}
		}
	}
	return rules
}
