package stage

import (
	"slices"
	"testing"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
)

func sideBySide() Plan {
	return Plan{From: "timetable", To: "traffic-aware", Beside: []string{"learned", "asked"}, By: []string{"recipient"},
		Salt: "s", OldArm: true, Stages: []Stage{{Name: "2 %", Share: 20_000}, {Name: "7 %", Share: 70_001},
			{Name: "30 %", Share: 300_000}, {Name: "100 %", Share: bucket.Buckets}}}
}

// Several new variants share what each stage adds: each gets as much, none loses a unit to another one, and what
// comes of a unit is counted for the variant that it was given.
func TestNewVariantsSideBySide(t *testing.T) {
	p := sideBySide()
	if found := p.Check(); len(found) > 0 {
		t.Fatal(found)
	}
	p.Watches = []evidence.Watch{{Metric: evidence.Metric{Key: "a"}}, {Metric: evidence.Metric{Key: "b"}}}
	p.Look()
	if len(p.Watches) != 6 || p.Watches[1].Variant != "learned" || evidence.Asked(p.Watches, 5) != 1 {
		t.Fatalf("it watches %+v", p.Watches)
	}
	s := State{Plan: p, Run: 1}
	setup, had := s.Setup(), map[uint32]string{}
	for at := range p.Stages {
		group := p.Group("01a2b3c4d5e6", at, 1)
		parts := group[len(group)-1].Gives.Shares.Parts
		share, widths := p.Stages[at].Share, map[string]uint32{}
		for _, part := range parts {
			widths[part.Variant] += part.Share
		}
		for _, v := range p.News() {
			if w := widths[v]; w < share/3-2 || w > share/3+2 {
				t.Errorf("at %s %s gets %d of %d buckets", p.Stages[at].Name, v, w, share)
			}
		}
		for b := uint32(0); b < bucket.Buckets; b += 97 {
			given := ""
			for _, part := range parts {
				if part.Has(b) {
					if given != "" {
						t.Fatalf("bucket %d gets %s and %s", b, given, part.Variant)
					}
					given = part.Variant
				}
			}
			if was := had[b]; was != "" && was != p.From && was != given {
				t.Fatalf("at %s bucket %d goes from %s to %q", p.Stages[at].Name, b, was, given)
			}
			had[b] = given
			arm, _ := setup.Place(b, at)
			if new := slices.Contains(p.News(), given); new != (arm == evidence.New || arm == evidence.Alone) {
				t.Fatalf("at %s bucket %d gets %q and is on side %d", p.Stages[at].Name, b, given, arm)
			} else if new && p.News()[setup.Way(b)] != given {
				t.Fatalf("bucket %d gets %s and counts for %s", b, given, p.News()[setup.Way(b)])
			}
		}
	}
	for w := range p.Watches {
		if setup.Concerns(w, 0) != (p.Watches[w].Variant == "traffic-aware") || !setup.Concerns(w, bucket.Buckets-1) {
			t.Errorf("watch %d of %s", w, p.Watches[w].Variant)
		}
	}
}

// Who finishes it says which variant all get.
func TestOneOfSeveralIsChosen(t *testing.T) {
	s := State{Plan: sideBySide(), Is: Through, At: 3}
	if _, _, err := Step(s, Event{Do: Finish}, 1); err == nil {
		t.Error("nobody said which")
	}
	if _, _, err := Step(s, Event{Do: Finish, Give: "timetable"}, 1); err == nil {
		t.Error("the old one is none of them: that is a roll back")
	}
	next, effects, err := Step(s, Event{Do: Finish, Give: "learned"}, 1)
	if err != nil || !effects.Fold || next.Chosen != "learned" {
		t.Fatalf("%+v %v", next, err)
	}
	doc := &flag.Document{End: flag.Gives{Variant: "timetable"}, Rules: s.Plan.Group("01a2b3c4d5e6", 3, 1)}
	if got := next.End().Fold(doc, "01a2b3c4d5e6", nil); got.End.Variant != "learned" || len(got.Rules) != 0 {
		t.Errorf("it becomes %+v", got)
	}
	one := State{Plan: Plan{From: "off", To: "on"}, Is: Through}
	if next, _, err := Step(one, Event{Do: Finish}, 1); err != nil || next.Chosen != "" {
		t.Errorf("one of one: %+v %v", next, err)
	}
	for _, wrong := range [][]string{{"timetable"}, {"learned", "learned"}, {"traffic-aware"}} {
		p := sideBySide()
		if p.Beside = wrong; len(p.Check()) == 0 {
			t.Errorf("beside %v", wrong)
		}
	}
}
