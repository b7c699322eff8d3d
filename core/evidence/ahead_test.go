package evidence

import (
	"fmt"
	"strings"
	"testing"
)

// What a watch will take is said before it starts: the figures of a rare rate with a tight tolerance, which takes
// very many units, and with an absolute one.
func TestAhead(t *testing.T) {
	widths := []Width{{20_000, 80_000}}
	lasts := func(ms int64) string { return fmt.Sprint(ms/3_600_000, " h") }
	say := func(m Metric, base, daily, all float64) (Ahead, string) {
		s := Setup{Watches: []Watch{{Metric: m}}, Widths: widths, Alpha: Alpha, Run: 1, Planned: 1}
		a := s.Ahead(0, base, daily, all)
		return a, a.Says([]string{"2 %"}, names("recipients"), lasts).String()
	}
	tight, said := say(rateOf(Tolerance{Relative: .1}, false), .03, 1e8, 1e9)
	if n := tight.Stages[0]; n.Clear.Units < 15_000 || n.Clear.Units > 35_000 || n.Harm.Units > 2_000 ||
		n.Added.Units > n.Clear.Units/5 || n.ClearMost.Units < 2*n.Clear.Units {
		t.Errorf("%+v", n)
	}
	if !strings.Contains(said, `twice as bad is found within about 0 h at "2 %"`) || !strings.Contains(said,
		"clear takes") {
		t.Error(said)
	}
	few, said := say(rateOf(Tolerance{Relative: .1}, false), .03, 20_000, 20_000)
	if few.Stages[0].Clear.Units >= 0 || few.Stages[0].ClearMost.Millis >= 0 || !strings.Contains(said,
		"clear is out of reach with this traffic") {
		t.Errorf("%+v %s", few, said)
	}
	if tight.Earliest < least || tight.Earliest > 30 {
		t.Errorf("harm can be found after %d units at the earliest", tight.Earliest)
	}
	higher := rateOf(Tolerance{Relative: .05}, true)
	higher.Better = Higher
	if a, _ := say(higher, .9, 1e6, 1e7); a.Stages[0].Harm.Units < 10 || a.Stages[0].Clear.Units < 0 {
		t.Errorf("%+v", a.Stages[0])
	}
	if _, said := say(valueOf(Typical), 0, 1e6, 1e7); !strings.Contains(said,
		"cannot be known before there are data") {
		t.Error(said)
	}
}
