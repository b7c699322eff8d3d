package radar

import (
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

func TestLook(t *testing.T) {
	const day = int64(24 * 3_600_000)
	const now = 100 * day
	there := func(id string, alter func(*app.Instance)) app.Instance {
		i := app.Instance{ID: id, Epoch: 1, Revision: 9, Source: "service", Seen: now - 100}
		alter(&i)
		return i
	}
	r := Look(Subject{Now: now, Epoch: 1, Revision: 9,
		Definitions: []app.Definition{{Key: "handover-photo", Type: flag.Boolean}, {Key: "night-batching"},
			{Key: "fresh", Created: now}},
		Asked: []app.Asked{{Flag: "handover-foto", Last: now, Type: "boolean", Fallback: "true"},
			{Flag: "asked-long-ago", Last: day},
			{Flag: "handover-photo", Last: now, Mistyped: now, Type: "string"}},
		Instances: []app.Instance{
			there("fine", func(*app.Instance) {}),
			there("disk", func(i *app.Instance) { i.Source = "disk" }),
			there("file", func(i *app.Instance) { i.Source = "file" }),
			there("nothing", func(i *app.Instance) { i.Source = "fallback" }),
			there("behind", func(i *app.Instance) { i.Revision = 8 }),
			there("epoch", func(i *app.Instance) { i.Epoch = 0 }),
			there("silent", func(i *app.Instance) { i.Seen = now - app.SilentAfter - 1 }),
			there("clock", func(i *app.Instance) { i.SkewMillis = -40_000 }),
			there("old build", func(i *app.Instance) { i.TooOld = app.Texts{"night-batching"} }),
			there("left", func(i *app.Instance) { i.Source, i.Left = "disk", true }),
			there("busy", func(i *app.Instance) { i.BusyUnit, i.BusyCalls, i.BusyOf = "test-user", 90, 100 }),
		}})
	want := map[string]string{"disk": "disk", "file": "file", "nothing": "no ruleset", "behind": "newest revision",
		"epoch": "newest revision", "silent": "silent", "clock": "clock", "old build": "too old"}
	if len(r.Old) != len(want) {
		t.Errorf("%+v", r.Old)
	}
	for _, o := range r.Old {
		if want[o.ID] == "" || !strings.Contains(o.Says, want[o.ID]) {
			t.Errorf("%s %s", o.ID, o.Says)
		}
	}
	if len(r.Busy) != 1 || r.Busy[0].ID != "busy" {
		t.Errorf("%+v", r.Busy)
	}
	if len(r.Unknown) != 1 || r.Unknown[0].Nearest != "handover-photo" || r.Unknown[0].Suggested.Resting != "on" {
		t.Errorf("%+v", r.Unknown)
	}
	if len(r.Mistyped) != 1 || r.Mistyped[0].Flag != "handover-photo" {
		t.Errorf("%+v", r.Mistyped)
	}
	if len(r.Unasked) != 1 || r.Unasked[0].Flag != "night-batching" {
		t.Errorf("%+v", r.Unasked)
	}
}

func TestSuggest(t *testing.T) {
	for _, c := range []struct{ kind, fallback, resting, value string }{
		{"boolean", "true", "on", "true"}, {"boolean", "false", "off", "false"}, {"", "", "off", "false"},
		{"string", `"hello"`, "fallback", `"hello"`}, {"number", "2.5", "fallback", "2.5"},
		{"object", `{"a":1}`, "fallback", `{"a":1}`},
		{"number", `"wrong"`, "off", "false"},
	} {
		d := Suggest(app.Asked{Flag: "greeting", Type: c.kind, Fallback: c.fallback}, 0)
		if d == nil || d.Resting != c.resting {
			t.Fatalf("%+v: %+v", c, d)
		}
		for _, v := range d.Variants {
			if v.Name == d.Resting && string(v.Value) != c.value {
				t.Errorf("%+v rests on %s", c, v.Value)
			}
		}
	}
	if d := Suggest(app.Asked{Flag: "Not A Key"}, 0); d != nil {
		t.Errorf("a key that cannot be was suggested: %+v", d)
	}
}
