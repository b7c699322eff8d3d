package accept

import (
	"strings"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
)

// frostFor freezes production from an hour ago until in so long.
func frostFor(t *testing.T, s *gltest.Service, more object) string {
	t.Helper()
	now := time.Now()
	f := object{"reason": "the fair", "from": now.Add(-time.Hour).UnixMilli(), "to": now.Add(time.Hour).UnixMilli()}
	for k, v := range more {
		if f[k] = v; v == nil {
			delete(f, k)
		}
	}
	var made struct{ ID string }
	s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": f}, 201, &made)
	return made.ID
}

// saves tries to save an edit of a flag in an environment, and expects an answer.
func saves(t *testing.T, c gltest.Caller, environment, key, query string, want int, edit func(d *flag.Document)) string {
	t.Helper()
	var v struct {
		Version  int64
		Document flag.Document
	}
	at := "/projects/pinecrest/environments/" + environment + "/flags/" + key
	c.Do(t, "GET", at, nil, 200, &v)
	edit(&v.Document)
	status, answer, _, err := c.With("If-Match", itoa(v.Version)).Send("PUT", at+query, mustJSON(t, object{
		"document": v.Document, "reason": "it is time"}))
	if err != nil || status != want {
		t.Errorf("%s in %s%s: %d, want %d: %s %v", key, environment, query, status, want, answer, err)
	}
	return string(answer)
}

// While an environment is frozen nothing moves units there but stops, lifts and roll backs, and what is excepted; all
// else can be said and looked at.
func TestFreezes(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for _, key := range []string{"one-touch-open", "night-batching"} {
		s.Flag(t, key)
	}
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Crews", Gives: flag.Gives{Variant: "on"}}}
	})
	juno := s.Person(t, "juno.lind", "developer", "releaser")
	juno.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "x", "to": time.Now().Add(time.Hour).UnixMilli()}},
		403, nil)
	id := frostFor(t, s, nil)
	on := func(d *flag.Document) { d.Lever, d.End = flag.On, flag.Gives{Variant: "on"} }
	refusal := saves(t, s.Keeper, "production", "one-touch-open", "", 409, on)
	if !strings.Contains(refusal, "frozen until") || !strings.Contains(refusal, "the fair") {
		t.Errorf("the refusal: %s", refusal)
	}
	if ahead := saves(t, juno, "production", "one-touch-open", "?dryRun=true", 200, on); !strings.Contains(ahead,
		"is frozen until") {
		t.Errorf("looking ahead says nothing of it: %s", ahead)
	}
	saves(t, juno, "production", "night-batching", "", 200, func(d *flag.Document) { d.Rules[0].Name = "All crews" })
	saves(t, juno, "staging", "one-touch-open", "", 200, on)
	juno.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "lamp", "goneBy": "stays"}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "crews"}, 201, nil)
	s.Keeper.With("If-Match", "1").Do(t, "PUT", inProd+"/segments/crews", object{"in": object{"units": []string{"a"}}}, 409, nil)
	var stop struct{ Stop string }
	juno.Do(t, "POST", inProd+"/stops", object{"flags": []string{"night-batching"}}, 201, &stop)
	juno.Do(t, "POST", inProd+"/lifts", object{"stops": []string{stop.Stop}, "reason": "mended"}, 201, nil)

	// Exceptions: of a flag, and of a role.
	s.Keeper.Do(t, "POST", inProd+"/freezes/"+id+"/remove", object{}, 200, nil)
	s.Keeper.Do(t, "POST", inProd+"/freezes/"+id+"/remove", object{}, 404, nil)
	id = frostFor(t, s, object{"flags": []string{"one-touch-open"}})
	saves(t, juno, "production", "one-touch-open", "", 200, on)
	saves(t, juno, "production", "night-batching", "", 409, func(d *flag.Document) { d.Lever = flag.Off })
	s.Keeper.Do(t, "POST", inProd+"/freezes/"+id+"/remove", object{}, 200, nil)
	id = frostFor(t, s, object{"roles": []app.Role{app.Keeper}})
	saves(t, juno, "production", "night-batching", "", 409, func(d *flag.Document) { d.Lever = flag.Off })
	saves(t, s.Keeper, "production", "night-batching", "", 200, func(d *flag.Document) { d.Lever = flag.Off })
	s.Keeper.Do(t, "POST", inProd+"/freezes/"+id+"/remove", object{}, 200, nil)

	// Every day of the week, all day: it holds now, wherever now is.
	days := []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}
	weekly := object{"from": nil, "to": nil, "weekly": object{"days": days, "from": "00:00", "to": "24:00", "zone": "Europe/Oslo"}}
	s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "always", "weekly": weekly["weekly"]}}, 201, nil)
	var list struct {
		Items []struct {
			Reason string
			Says   struct{ Text string }
			Until  int64
		}
	}
	juno.Do(t, "GET", inProd+"/freezes", nil, 200, &list)
	if len(list.Items) != 1 || list.Items[0].Says.Text != "while it is any day from 00:00 "+
		"to 24:00 in Europe/Oslo" || list.Items[0].Until == 0 {
		t.Errorf("%+v", list)
	}
	for what, f := range map[string]object{"no reason": {"to": time.Now().Add(time.Hour).UnixMilli()},
		"over":         {"reason": "x", "to": 5},
		"turned round": {"reason": "x", "from": time.Now().Add(2 * time.Hour).UnixMilli(), "to": time.Now().Add(time.Hour).UnixMilli()},
		"no zone":      {"reason": "x", "weekly": object{"days": days, "from": "00:00", "to": "24:00", "zone": "Mars/Base"}},
		"no day":       {"reason": "x", "weekly": object{"from": "00:00", "to": "24:00", "zone": "UTC"}},
		"both":         {"reason": "x", "to": time.Now().Add(time.Hour).UnixMilli(), "weekly": weekly["weekly"]},
		"a role":       {"reason": "x", "to": time.Now().Add(time.Hour).UnixMilli(), "roles": []string{"boss"}},
		"for ever":     {"reason": "x", "to": int64(1) << 62},
		"a year":       {"reason": "x", "to": time.Now().AddDate(2, 0, 0).UnixMilli()}} {
		status, answer, _, _ := s.Keeper.Send("POST", inProd+"/freezes", mustJSON(t, object{"freeze": f}))
		if status != 400 || !strings.Contains(string(answer), "freeze.") {
			t.Errorf("%s: %d %s", what, status, answer)
		}
	}
	var history struct{ Items []struct{ Action string } }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=production&limit=200", nil, 200, &history)
	said := map[string]int{}
	for _, e := range history.Items {
		said[e.Action]++
	}
	if said["environment.frozen"] != 4 || said["environment.thawed"] != 3 {
		t.Errorf("the history says %v", said)
	}
}

// A release that is due for its next stage waits in a freeze, says until when, and can be rolled back.
func TestReleaseInAFreeze(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) { d.Lever = flag.On })
	id := frostFor(t, s, nil)
	var rel struct {
		ID    string
		State struct {
			Is       string
			Sequence int64
		}
	}
	plan := object{"from": "off", "to": "on", "reason": "it is time",
		"stages": []object{{"name": "8 %", "share": 80_000, "least": "1h"}, {"name": "100 %", "share": 1_000_000}}}
	s.Keeper.Do(t, "POST", inProd+"/flags/one-touch-open/releases", plan, 201, &rel)
	var raw []byte
	gltest.Eventually(t, "the release is held", func() bool {
		_, raw, _, _ = s.Keeper.Send("GET", inProd+"/releases/"+rel.ID, nil)
		return strings.Contains(string(raw), "Begins once the environment is frozen no more") && strings.Contains(string(raw),
			"the fair")
	})
	s.Keeper.Do(t, "POST", inProd+"/freezes/"+id+"/remove", object{}, 200, nil)
	is := func(want string) {
		t.Helper()
		gltest.Eventually(t, "the release is "+want, func() bool {
			s.Keeper.Do(t, "GET", inProd+"/releases/"+rel.ID, nil, 200, &rel)
			return rel.State.Is == want
		})
	}
	is("under-way") // it began by itself once nothing was in the way
	frostFor(t, s, nil)
	acts := inProd + "/releases/" + rel.ID
	_, answer, _, _ := s.Keeper.Send("POST", acts+"/acts", mustJSON(t, object{"do": "next", "sequence": rel.State.Sequence,
		"reason": "now"}))
	if !strings.Contains(string(answer), "is frozen until") {
		t.Errorf("a person widens in a freeze: %s", answer)
	}
	s.Keeper.Do(t, "POST", acts+"/halts", object{"do": "roll-back", "reason": "not now"}, 200, nil)
	is("rolled-back")
}

// A keeper freezes an environment in the console; the flag's page says so, and a refused save keeps the edit.
func TestConsoleFreezes(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.End = flag.Gives{Variant: "on"} })
	w := window(t, s, 1280, 900)
	w.Click("Settings").See("Environments").Click("access keys, asking and freezes").Click("freeze staging at times").Fill(
		"Why staging is frozen", "Fridays").Choose("how often", "every week").See("Zone")
	for _, day := range []string{"mon", "tue", "wed", "thu", "sat", "sun"} {
		w.Click(day)
	}
	w.Fill("from the time of the day", "00:00").Click("Freeze it").See("Fridays").See("now, until")
	good(t, w)
	w.Go(s.URL() + "/p/pinecrest/staging/flags/night-batching").See("staging is frozen until").See("Fridays")
	w.Click("on").See("lever off → on").Fill("reason", "now").Click("Save in staging").See(
		"a keeper takes the freeze away")
	w.See("lever off → on")
	good(t, w)
	w.Click("Settings").Click("access keys, asking and freezes").Click("take away: Fridays").See(": never")
	good(t, w)
}
