package tripwires

import (
	"testing"

	"greenlever.example/greenlever/internal/app"
)

func read(t *testing.T, w *app.Tripwire, body string) *Alert {
	t.Helper()
	r, err := NewReader(w)
	if err != nil {
		t.Fatal(err)
	}
	a, err := r.Read([]byte(body))
	if err != nil {
		t.Fatalf("%s: %v", body, err)
	}
	return a
}

// Alerts of any form say what they are called, where one looks at them, and whether they are over.
func TestAlertsOfAnyForm(t *testing.T) {
	for _, one := range []struct {
		body, title, link string
		over              bool
	}{
		{`{}`, "", "", false},
		{`[]`, "", "", false},
		{`"slow"`, "", "", false},
		{`{"title":"Slow","status":"began"}`, "Slow", "", false},
		{`{"Title":"Slow","Status":"OK"}`, "Slow", "", true},
		{`{"specversion":"1.0","subject":"weather","data":{"title":"Slow","link":"https://watch.example/7",` +
			`"state":"closed"}}`, "Slow", "https://watch.example/7", true},
		{`{"name":"inner loses to outer","alert":{"name":"x"}}`, "inner loses to outer", "", false},
		{`{"data":{"event":{"action":"resolved"}}}`, "", "", true},
		{`{"alerts":[{"name":"a","state":"ok"},{"name":"b","state":"began"}]}`, "a", "", false},
		{`{"alerts":[{"name":"a","state":"ok"},{"name":"b","state":"over"}]}`, "a", "", true},
		{`{"alerts":[]}`, "", "", false},
		{`{"note":{"status":"ok"}}`, "", "", false}, // another thing is well, and not the alert
		{`{"status":true,"title":7,"url":"javascript:alert(1)"}`, "", "", false},
		{`{"url":"watch.example","other":{"PageURL":"http://watch.example/7"}}`, "", "http://watch.example/7", false},
		{`{"a":{"b":{"c":{"title":"too deep"}}}}`, "", "", false},
		{`{"title":"two\u0000lines","summary":"one"}`, "one", "", false},
	} {
		a := read(t, &app.Tripwire{}, one.body)
		if a.Title != one.title || a.Link != one.link || a.Over != one.over {
			t.Errorf("%s: %q %q %v, want %q %q %v", one.body, a.Title, a.Link, a.Over, one.title, one.link, one.over)
		}
	}
	own := &app.Tripwire{Over: `alert.phase == "done"`, Identity: `string(alert.n)`, When: `alert.n > 1`}
	if a := read(t, own, `{"phase":"done","n":2}`); !a.Over || !a.Meant || a.Identity != "2" {
		t.Errorf("by its own expressions: %+v", a)
	}
}

// What was compiled is used again until an expression changes.
func TestExpressionsAreCompiledOnce(t *testing.T) {
	secret := func(text string) app.TripwireSecret { return app.TripwireSecret{Digest: []byte(text)} }
	all := []app.Tripwire{{ID: "a", When: `alert.n > 1`, Secrets: []app.TripwireSecret{secret("old")}},
		{ID: "b", When: `wrong(`, Secrets: []app.TripwireSecret{secret("b")}}}
	first := hold(all, nil)
	if first["old"].reader == nil || first["b"].wrong == nil {
		t.Fatalf("%+v %+v", first["old"], first["b"])
	}
	all[0].Secrets = []app.TripwireSecret{secret("new"), secret("old")}
	second := hold(all, first)
	if second["new"].reader != first["old"].reader || second["old"].reader != first["old"].reader ||
		second["b"].wrong != first["b"].wrong {
		t.Error("the same expressions were compiled again")
	}
	all[0].When, all[1].When = `alert.n > 2`, ""
	third := hold(all, second)
	if third["new"].reader == second["new"].reader || third["b"].wrong != nil || third["b"].reader == nil {
		t.Error("changed expressions were not compiled")
	}
}
