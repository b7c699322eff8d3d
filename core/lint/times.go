package lint

import (
	"slices"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
)

func windowEnds(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		if r.Gives.OnlyGives(p.doc.Resting) {
			return
		}
		p.leaves(r, func(l *condition.Node, segment string) {
			if (l.Test == "clock.between" || l.Test == "clock.before") && len(l.Text) > 0 {
				text := l.Text[len(l.Text)-1]
				if ms, ok := condition.ParseTime(text); ok && ms > p.Now && ms-p.Now < 60*day {
					p.add(r, words.Say("ends at %s%s and takes %s from its units then", words.Time(text),
						inSegment(segment), givesWords(r.Gives)), "write a window without an end, unless the end is "+
						"meant")
				}
			}
		})
	})
}

func windowOver(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		if r.When == nil {
			return
		}
		if text := p.over(r.When, nil); text != "" {
			p.add(r, words.Say("is over since %s", words.Time(text)), "take the rule out")
		}
	})
}

// over tells since when a condition cannot hold any more, whatever the unit; empty where it can.
func (p *pass) over(n *condition.Node, open []string) (since string) {
	earlier := func(a, b string) string {
		x, ok1 := condition.ParseTime(a)
		y, ok2 := condition.ParseTime(b)
		if !ok1 || ok2 && y < x {
			return b
		}
		return a
	}
	switch {
	case len(n.All) > 0:
		for i := range n.All {
			if one := p.over(&n.All[i], open); one != "" {
				since = earlier(since, one)
			}
		}
	case len(n.Any) > 0:
		for i := range n.Any {
			one := p.over(&n.Any[i], open)
			if one == "" {
				return ""
			}
			if since == "" || earlier(since, one) == since {
				since = one
			}
		}
	case n.Not != nil && n.Not.Test == "clock.at-or-after":
		return p.goneTime(n.Not.Text)
	case n.Test == "clock.between" || n.Test == "clock.before":
		return p.goneTime(n.Text)
	case n.Test == condition.SegmentTest && !slices.Contains(open, n.Segment):
		if s := p.Rules.Source.Segment(n.Segment); s != nil && s.When != nil && s.In.Len() == 0 {
			return p.over(s.When, append(slices.Clone(open), n.Segment))
		}
	}
	return since
}

// goneTime is the last of some instants, if it has gone by.
func (p *pass) goneTime(texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	last := texts[len(texts)-1]
	if ms, ok := condition.ParseTime(last); ok && ms <= p.Now {
		return last
	}
	return ""
}

func windowBegun(p *pass) {
	p.live(func(i int, r *flag.Rule) {
		p.leaves(r, func(l *condition.Node, segment string) {
			if l.Test != "clock.at-or-after" || len(l.Text) == 0 {
				return
			}
			if ms, ok := condition.ParseTime(l.Text[0]); ok && p.Now-ms > 30*day {
				p.add(r, words.Say("compares with %s%s, which has gone by for %s: it always holds",
					words.Time(l.Text[0]), inSegment(segment), words.Counted(int((p.Now-ms)/day), "day", "days")),
					"take the comparison out")
			}
		})
	})
}

func goneBy(p *pass) {
	if ms, ok := condition.ParseTime(p.GoneBy + "T00:00:00Z"); ok && p.Now >= ms+day {
		p.add(nil, words.Say("should be gone since %s", p.GoneBy), "take the flag out of the code, or give it "+
			"another date and say why")
	}
}
