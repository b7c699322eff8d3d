package sentence

import (
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

func TestGistIsShort(t *testing.T) {
	named := flag.Rule{Name: "Just me", When: &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute,
		Text: []string{"a", "b", "c"}}, Gives: flag.Gives{Variant: "on"}}
	segment := flag.Rule{Name: "Pilots", When: &condition.Node{Test: condition.SegmentTest, Segment: "pilot-sites"},
		Gives: flag.Gives{Variant: "on"}}
	share := flag.Rule{Name: "Everybody", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
		Parts: []flag.Part{{Variant: "on", Share: 80_000}, {GoesOn: true, Share: 920_000}}}}}
	north := flag.Rule{Name: "North", When: &condition.Node{Test: "string.equals", Attribute: "site.region",
		Text: []string{"north"}}, Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"}, Parts: []flag.Part{
		{Variant: "on", Share: 20_000}, {Variant: "late", Share: 30_000}, {GoesOn: true, Share: 950_000}}}}}
	parked := share
	parked.Parked = true
	empty := flag.Rule{Name: "Empty", Gives: flag.Gives{Shares: &flag.Shares{Parts: []flag.Part{
		{Variant: "on"}, {GoesOn: true, Share: 1_000_000}}}}}
	off := flag.Gives{Variant: "off"}
	for _, c := range []struct {
		doc     flag.Document
		stopped bool
		want    string
	}{
		{flag.Document{Lever: flag.Off, Resting: "off", End: flag.Gives{Variant: "on"}}, false, "all `off`"},
		{flag.Document{Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "on"}}, true, "all `off`"},
		{flag.Document{Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "on"}}, false, "all `on`"},
		{flag.Document{Lever: flag.On, End: off, Rules: []flag.Rule{parked, named, segment, share}}, false,
			"3 named `on`, pilot-sites `on`, 8 % `on`, else `off`"},
		{flag.Document{Lever: flag.On, End: off, Rules: []flag.Rule{north, empty},
			Needs: []flag.Need{{Flag: "one-touch-open", Variant: "on"}}}, false,
			"\"North\" 2 % `on` 3 % `late`, 0 %, else `off`, if one-touch-open"},
		{flag.Document{Lever: flag.On, End: off, Rules: []flag.Rule{named, segment, share, north, empty}}, false,
			"3 named `on`, pilot-sites `on`, 8 % `on`, 2 more, else `off`"},
	} {
		if got := Gist(&c.doc, c.stopped).String(); got != c.want {
			t.Errorf("says %s, want %s", got, c.want)
		}
	}
}
