package radar

import (
	"testing"

	"greenlever.example/greenlever/internal/app"
)

func TestNearest(t *testing.T) {
	defs := []app.Definition{{Key: "one-touch-open"}, {Key: "night-batching"}, {Key: "weather-holds"}}
	for key, want := range map[string]string{"one-tuch-open": "one-touch-open", "onetouchopen": "one-touch-open", "night-batches": "night-batching", "telemetry": "", "weather-hold": "weather-holds", "x": ""} {
		if got := Nearest(key, defs); got != want {
			t.Errorf("%s: nearest is %q, want %q", key, got, want)
		}
	}
	if d := distance("kitten", "sitting"); d != 3 {
		t.Errorf("distance %d", d)
	}
}

func TestSuggest(t *testing.T) {
	for _, c := range []struct{ kind, fallback, resting, value string }{
		{"boolean", "true", "on", "true"}, {"boolean", "false", "off", "false"}, {"string", `"timetable"`, "fallback", `"timetable"`},
		{"number", "60", "fallback", "60"}, {"object", `{"attempts":2}`, "fallback", `{"attempts":2}`}, {"", "", "off", "false"}, {"number", `"x"`, "off", "false"},
	} {
		d := Suggest(app.Asked{Flag: "a-flag", Type: c.kind, Fallback: c.fallback}, 0)
		found := ""
		for _, v := range d.Variants {
			if v.Name == d.Resting {
				found = string(v.Value)
			}
		}
		if d.Resting != c.resting || found != c.value || len(d.Variants) != 2 || d.GoneBy != "1970-04-01" {
			t.Errorf("%+v: %+v", c, d)
		}
	}
	if Suggest(app.Asked{Flag: "No Key"}, 0) != nil {
		t.Error("a definition for what is no key")
	}
}

func TestLook(t *testing.T) {
	const now = 100 * lately
	i := func(id string, change func(*app.Instance)) app.Instance {
		v := app.Instance{ID: id, Epoch: 1, Revision: 9, Source: "service", Seen: now}
		change(&v)
		return v
	}
	r := Look(Subject{Now: now, Epoch: 1, Revision: 9,
		Definitions: []app.Definition{{Key: "asked", Created: 1}, {Key: "unasked", Created: 1}, {Key: "new", Created: now}, {Key: "mistyped", Created: 1}},
		Asked:       []app.Asked{{Flag: "asked", Last: now}, {Flag: "askd", Last: now, Type: "boolean", Fallback: "true"}, {Flag: "long-gone", Last: 1}, {Flag: "mistyped", Last: now, Mistyped: now}},
		Instances: []app.Instance{
			i("fine", func(*app.Instance) {}), i("disk", func(i *app.Instance) { i.Source = "disk" }), i("behind", func(i *app.Instance) { i.Revision = 8 }),
			i("clock", func(i *app.Instance) { i.SkewMillis = -40_000 }), i("silent", func(i *app.Instance) { i.Seen = 1 }), i("left", func(i *app.Instance) { i.Seen, i.Left = 1, true }),
			i("old", func(i *app.Instance) { i.TooOld = app.Texts{"x"} }), i("busy", func(i *app.Instance) { i.BusyUnit = "recipient-1" }),
		}})
	names := ""
	for _, f := range r.Old {
		names += f.ID + " "
		if f.Says == "" {
			t.Errorf("%s: nothing is said", f.ID)
		}
	}
	if names != "disk behind clock silent old " || len(r.Busy) != 1 || r.Busy[0].ID != "busy" {
		t.Errorf("old %s, busy %+v", names, r.Busy)
	}
	if len(r.Unknown) != 1 || r.Unknown[0].Nearest != "asked" || r.Unknown[0].Suggested.Resting != "on" || len(r.Mistyped) != 1 || len(r.Unasked) != 1 || r.Unasked[0].Flag != "unasked" {
		t.Errorf("%+v %+v %+v", r.Unknown, r.Mistyped, r.Unasked)
	}
}
