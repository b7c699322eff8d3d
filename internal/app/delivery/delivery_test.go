package delivery

import (
	"fmt"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/app"
)

// Who was alive at the commit is expected; who left cleanly is not; who fell silent is named.
func TestOf(t *testing.T) {
	const at, now = int64(1_000_000), int64(1_100_000)
	alive := func(id string, change ...func(*app.Instance)) app.Instance {
		i := app.Instance{ID: id, Application: "door", Version: "2.3.1", Epoch: 1, Revision: 6, Started: 1, Seen: now}
		for _, f := range change {
			f(&i)
		}
		return i
	}
	instances := []app.Instance{
		alive("quick"), alive("slow"), alive("waiting"),
		alive("silent", func(i *app.Instance) { i.Seen = at + 10 }),
		alive("left with it", func(i *app.Instance) { i.Left, i.LeftAt = true, at+50 }),
		alive("left without it", func(i *app.Instance) { i.Left, i.LeftAt = true, at+50 }),
		alive("left before", func(i *app.Instance) { i.Left, i.LeftAt = true, at-1 }),
		alive("started after", func(i *app.Instance) { i.Started = at + 1 }),
		alive("silent long before", func(i *app.Instance) { i.Seen = at - app.SilentAfter - 1 }),
		alive("a node", func(i *app.Instance) { i.Kind = app.ANode }),
		alive("summed up", func(i *app.Instance) { i.Revision, i.Seen = 9, at+700 }),
	}
	applied := map[string][]app.Applied{
		"quick":        {{Epoch: 1, Revision: 7, At: at + 3}, {Epoch: 1, Revision: 8, At: at + 90}},
		"slow":         {{Epoch: 1, Revision: 9, At: at + 400}}, // it skipped 7
		"left with it": {{Epoch: 1, Revision: 7, At: at - 2}},   // a clock that is behind
		"waiting":      {{Epoch: 1, Revision: 6, At: at - 9}, {Epoch: 0, Revision: 99, At: at}},
	}
	d := Of(1, 7, at, instances, applied, now)
	if d.Expected != 6 || d.Reached != 4 || d.Half != 400 || d.Most != -1 || d.All != -1 {
		t.Errorf("%+v", d)
	}
	if len(d.Waiting) != 1 || d.Waiting[0].ID != "waiting" || len(d.Lost) != 1 || d.Lost[0].ID != "silent" {
		t.Errorf("waiting %+v, lost %+v", d.Waiting, d.Lost)
	}
	said := strings.Join(Words([]app.Delivery{d, {Revision: 8}}), "\n")
	for _, want := range []string{"revision 7: 4 of 6 instances", "door 2.3.1 waiting waits with revision 6", "door 2.3.1 silent is lost with revision 6"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q lacks %q", said, want)
		}
	}
	if strings.Contains(said, "revision 8") {
		t.Error("a revision without anybody to reach has a line")
	}
	all := Of(1, 7, at, instances[:2], applied, now)
	if fmt.Sprint(all.Reached, all.Expected, all.Half, all.Most, all.All) != "2 2 3 400 400" || !over(&all, at+500) {
		t.Errorf("%+v", all)
	}
	if over(&d, at+500) || !over(&d, at+patience+1) {
		t.Error("a delivery that is waited for is over at the wrong time")
	}
	if none := Of(1, 7, at, nil, nil, now); none.Half != -1 || over(&none, at+1) {
		t.Errorf("%+v", none)
	}
}
