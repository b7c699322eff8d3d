package accept

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/drills"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

type drillList struct {
	Items []manage.DrillView
	Due   drills.Due
}

func due(all []drills.DueOne) (ids []string) {
	for _, one := range all {
		ids = append(ids, one.ID)
	}
	return ids
}

// A rehearsal stops nothing and measures who would have it; a practice stop is of a flag that is there for practice;
// what was practised is not due any more.
func TestDrills(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "weather-holds", "doors")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "fire-drill", "goneBy": "stays",
		"tags": []string{"practice"}}, 201, nil)
	s.Edit(t, "production", "fire-drill", turnOn)
	call := s.Person(t, "tove.ek", "on-call")
	o := station(t, s.URL(), []string{s.Keys["production"]})
	soon := func(o *greenlever.Options) { o.Report = 50 * time.Millisecond }
	near, far := open(t, s, "production", soon), open(t, s, "production", soon, through(o))
	for _, c := range []*greenlever.Client{near, far} {
		decides(t, c, "before", "weather-holds", true)
		decides(t, c, "before", "fire-drill", true)
	}
	gltest.Eventually(t, "all are known", func() bool {
		var d struct{ Alive, Delivered int }
		call.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		return d.Alive == 3 && d.Delivered == 3
	})
	list := func() (l drillList) {
		t.Helper()
		call.Do(t, "GET", inProd+"/drills", nil, 200, &l)
		return l
	}
	if d := list().Due; !slices.Equal(due(d.Flags), []string{"doors", "fire-drill", "weather-holds"}) {
		t.Errorf("due: %+v", d)
	}
	var held drills.Held
	call.Do(t, "POST", inProd+"/drills", object{"flags": []string{"weather-holds"}, "reason": "each quarter"}, 201, &held)
	var view manage.DrillView
	gltest.Eventually(t, "everybody would have it", func() bool {
		call.Do(t, "GET", inProd+"/drills/"+held.ID, nil, 200, &view)
		return view.Wave != nil && view.Wave.Reached == 3 && view.Wave.Expected == 3 && len(view.Wave.Wave) == 3
	})
	if view.Kind != app.Rehearsal || view.ByName == "" || view.Wave.All < 0 || view.Reason != "each quarter" {
		t.Errorf("the drill: %+v", view)
	}
	if at := near.State().Revision; at < held.Revision {
		t.Errorf("it was delivered as %d, and the client is at %d", held.Revision, at)
	}
	for _, c := range []*greenlever.Client{near, far} {
		if !c.Bool(context.Background(), "weather-holds", greenlever.Unit("recipient-17"), false) {
			t.Error("a rehearsal stopped something")
		}
	}
	var stops struct{ Items []manage.StopView }
	call.Do(t, "GET", inProd+"/stops", nil, 200, &stops)
	if len(stops.Items) != 0 {
		t.Errorf("stops: %+v", stops.Items)
	}
	gltest.Eventually(t, "it is kept, and how it was delivered", func() bool {
		l := list()
		return len(l.Items) == 1 && l.Items[0].Wave != nil && l.Items[0].Wave.All >= 0 &&
			slices.Equal(due(l.Due.Flags), []string{"doors", "fire-drill"})
	})

	refuse := func(body object, status int, says string) {
		t.Helper()
		raw, _ := json.Marshal(body)
		if got, answer, _, _ := call.Send("POST", inProd+"/drills", raw); got != status ||
			!strings.Contains(string(answer), says) {
			t.Errorf("%s: %d %s", raw, got, answer)
		}
	}
	refuse(object{"flags": []string{"doors"}, "practice": true}, 400, "is no flag for practice")
	refuse(object{"flags": []string{"nowhere"}}, 400, "there is no flag")
	refuse(object{}, 400, "name 1 to 1000 flags")
	refuse(object{"tripwire": "no"}, 404, "no such tripwire")
	s.Person(t, "ask.vik", "auditor").Do(t, "POST", inProd+"/drills", object{"flags": []string{"doors"}}, 403, nil)
	call.Do(t, "POST", inProd+"/drills", object{"flags": []string{"fire-drill"}, "practice": true}, 201, &held)
	for _, c := range []*greenlever.Client{near, far} {
		decides(t, c, "a practice stop is a stop", "fire-drill", false)
	}
	call.Do(t, "POST", inProd+"/lifts", object{"stops": []string{held.Stop}}, 201, nil)
	decides(t, far, "and is lifted like one", "fire-drill", true)
	if d := list().Due; !slices.Equal(due(d.Flags), []string{"doors"}) {
		t.Errorf("due: %+v", d)
	}
	sound(t, s)
}

// An alert is rehearsed as its tripwire judges it, from the command line too; what would not stop is said.
func TestDrillsOfTripwires(t *testing.T) {
	s := gltest.Start(t)
	flagsOn(t, s, "weather-holds", "doors")
	s.Keeper.Do(t, "POST", inProd+"/tripwires", object{"tripwire": object{"title": "Weather is slow",
		"flags": []string{"weather-holds"}, "when": `alert.subject == "weather"`}}, 201, nil)
	sh := newShell(t, s)
	sh.run(0, "sign-in --project pinecrest --env production")
	sh.run(0, "drill list").says("flags that are on not practised within 90 days: doors, weather-holds",
		"tripwires not practised within 90 days: Weather is slow")
	alert := func(name, body string) string {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(body), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	slow := alert("slow.json", `{"subject":"weather","title":"slow since noon"}`)
	sh.run(2, "drill rehearse")
	sh.run(2, "drill rehearse --tripwire 'Weather is slow'").says("!-f names the file")
	sh.run(7, "drill rehearse --tripwire 'Weather is slow' -f "+alert("b.json", "no")).says("!is no JSON")
	sh.run(4, "drill rehearse --tripwire Nobody -f "+slow).says("!no tripwire")
	sh.run(7, "drill rehearse --tripwire 'Weather is slow' -f "+alert("c.json", `{"subject":"doors"}`)).says(
		"!is not meant by the alert")
	sh.run(7, "drill rehearse --tripwire 'Weather is slow' -f "+alert("d.json",
		`{"subject":"weather","status":"resolved"}`)).says("!it is over")
	sh.run(0, "drill rehearse --tripwire 'Weather is slow' -f "+slow).says("!would stop for it: slow since noon",
		"Rehearsal of weather-holds: no process was there")
	sh.run(0, "drill list").says("tripwire Weather is slow: weather-holds", "flags that are on not practised within 90 "+
		"days: doors")
	if strings.Contains(sh.out, "tripwires not practised") {
		t.Errorf("the tripwire is due: %s", sh.out)
	}
	sh.run(7, "drill practise doors").says("!no flag for practice")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "fire-drill", "goneBy": "stays",
		"tags": []string{"practice"}}, 201, nil)
	s.Edit(t, "production", "fire-drill", turnOn)
	c := open(t, s, "production")
	until(t, c, "the flag", func(st greenlever.State) bool {
		return c.Bool(t.Context(), "fire-drill",
			greenlever.Unit("x"), false)
	})
	sh.run(0, "drill practise fire-drill").says("Practice stop of fire-drill: all 1 after", "!lifted again")
	sh.run(0, "lift").says("!no stop stands in production")
	if strings.Contains(sh.out, "fire-drill") {
		t.Errorf("the practice stop stands: %s", sh.out)
	}
	if status, raw, _, _ := s.Keeper.Send("GET", inProd+"/tripwires", nil); status != http.StatusOK ||
		strings.Contains(string(raw), `"fired"`) {
		t.Errorf("the tripwire has fired: %s", raw)
	}
}

// Webhooks are told once a month what was not practised where it matters.
func TestDrillsAreRemindedOf(t *testing.T) {
	t.Parallel()
	var ahead atomic.Int64
	s := gltest.Start(t, func(c *server.Config) {
		c.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	})
	s.Environment(t, "night", true)
	s.Flag(t, "weather-holds")
	v := s.Get(t, "night", "weather-holds")
	v.Document.Lever = flag.On
	raw, _ := json.Marshal(object{"document": v.Document, "reason": "it is night"})
	if status, answer, _, _ := s.Keeper.With("If-Match", "1").Send("PUT",
		"/projects/pinecrest/environments/night/flags/weather-holds", raw); status != 200 {
		t.Fatalf("%d %s", status, answer)
	}
	count := func() int {
		_, raw, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/history", nil)
		return strings.Count(string(raw), `"action":"drill.due"`)
	}
	remind := func(after time.Duration, want int) {
		t.Helper()
		ahead.Store(int64(after))
		defer ahead.Store(0)
		if err := s.Remind(context.Background()); err != nil {
			t.Fatal(err)
		}
		ahead.Store(0) // who asks is signed in
		if n := count(); n != want {
			t.Errorf("after %s: %d reminders, want %d", after, n, want)
		}
	}
	const day = 24 * time.Hour
	remind(0, 0)
	remind(31*day, 1)
	remind(32*day, 1)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/night/drills", object{"flags": []string{"weather-holds"},
		"reason": "drill"}, 201, nil)
	remind(62*day, 1)
	remind(93*day, 2) // the drill is older than 90 days
	remind(94*day, 2)
}
