package delivery

import (
	"strings"
	"testing"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Who is expected, who has it and who is lost.
func TestOf(t *testing.T) {
	const at, now = int64(1_000_000), int64(1_100_000)
	fresh := func(i app.Instance) app.Instance {
		if i.Seen == 0 {
			i.Seen = now - 1_000
		}
		i.Application, i.Epoch = "door", 2
		return i
	}
	all := []app.Instance{
		{ID: "has-it", Revision: 7},
		{ID: "has-more", Revision: 9},
		{ID: "has-it-and-fell-silent", Revision: 7, Seen: at + 5_000},
		{ID: "waits", Revision: 6},
		{ID: "lost", Revision: 6, Seen: at + 10_000},
		{ID: "left-with-it", Revision: 7, Left: true, LeftAt: at + 9_000},
		{ID: "left-without-it", Revision: 6, Left: true, LeftAt: at + 9_000},
		{ID: "left-before", Revision: 6, Left: true, LeftAt: at - 1, Seen: at - 1},
		{ID: "began-later", Revision: 7, Started: at + 1},
		{ID: "lost-long-before", Revision: 5, Seen: at - app.SilentAfter - 1},
		{ID: "node", Revision: 6, Kind: wire.ANode},
		{ID: "outpost", Revision: 7, Kind: wire.AnOutpost},
	}
	for i := range all {
		all[i] = fresh(all[i])
	}
	applied := map[string][]wire.Applied{
		"has-it":                 {{Epoch: 1, Revision: 7, At: at - 9}, {Epoch: 2, Revision: 7, At: at + 100}},
		"has-more":               {{Epoch: 2, Revision: 9, At: at + 400}, {Epoch: 2, Revision: 7, At: at + 50}},
		"has-it-and-fell-silent": {{Epoch: 2, Revision: 8, At: at + 200}}, // which came in one with 7
		"left-with-it":           {{Epoch: 2, Revision: 7, At: at + 300}},
		"outpost":                {{Epoch: 2, Revision: 7, At: at - 5}}, // by a clock that is a little off
		"waits":                  {{Epoch: 2, Revision: 6, At: at + 20}},
	}
	d := Of(2, 7, 1_000, at, all, applied, now)
	if d.Expected != 7 || d.Reached != 5 || len(d.Waiting) != 1 || d.Waiting[0].ID != "waits" || len(d.Lost) != 1 ||
		d.Lost[0].ID != "lost" {
		t.Errorf("%+v", d)
	}
	if d.Half != 200 || d.Most != -1 || d.All != -1 {
		t.Errorf("half after %d, most after %d, all after %d", d.Half, d.Most, d.All)
	}
	if text := strings.Join(Words([]app.Delivery{d}), "\n"); !strings.Contains(text, "5 of 7") ||
		!strings.Contains(text, "door lost is lost with revision 6") || strings.Contains(text, "all after") {
		t.Error(text)
	}
	for i := range all {
		all[i].Revision = 7
	}
	if d = Of(2, 7, 1_000, at, all, map[string][]wire.Applied{}, now); d.Reached != d.Expected || d.All < 0 ||
		d.Expected != 8 {
		t.Errorf("all have it: %+v", d)
	}
	if d = Of(2, 7, 1_000, at, nil, nil, now); d.Expected != 0 || d.All != -1 || len(Words([]app.Delivery{d})) != 0 {
		t.Errorf("nobody there: %+v", d)
	}
}

// A wave has everybody who is expected, in the order in which they took it; those without it stand last.
func TestWave(t *testing.T) {
	const at, now = int64(1_000_000), int64(1_100_000)
	all := []app.Instance{{ID: "late", Seen: now}, {ID: "lost", Seen: at + 10_000}, {ID: "soon", Seen: now},
		{ID: "waits", Seen: now}, {ID: "began-later", Started: at + 1, Seen: now}}
	wave := Wave(2, 7, 9, at, all, map[string][]wire.Applied{"late": {{Epoch: 2, Revision: 8, At: at + 900}},
		"soon": {{Epoch: 2, Revision: 7, At: at + 5}}}, now)
	var got []string
	for _, w := range wave {
		got = append(got, w.ID)
	}
	if strings.Join(got, " ") != "soon late lost waits" || wave[0].After != 5 || wave[1].After != 900 ||
		wave[2].After != -1 || !wave[2].Lost || wave[3].Lost {
		t.Errorf("%+v", wave)
	}
	if d := Of(2, 7, 9, at, all, nil, now); d.Wave != nil || d.Expected != len(wave) {
		t.Errorf("%d are expected and %d drawn", d.Expected, len(wave))
	}
}
