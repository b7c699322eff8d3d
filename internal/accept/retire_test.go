package accept

import (
	"fmt"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/radar"
	"greenlever.example/greenlever/internal/app/settled"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

// reported tells of decisions of a process, as a client does.
func reported(t testing.TB, s *gltest.Service, env, flag, variant string, sequence int) {
	t.Helper()
	gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys[env]).Do(t, "POST", "/follow/v1/report",
		fmt.Sprintf(`{"instance":"i1","sequence":%d,"application":"door","version":"2.3.1","started":1,`+
			`"counts":[{"flag":%q,"variant":%q,"count":3}]}`, sequence, flag, variant), 200, nil)
}

// A flag is retired when one variant was given to all for long enough, nothing of it runs and no code asks for it; what
// is in the way is said. Its key is gone for good, and it comes back as it stood.
func TestRetire(t *testing.T) {
	t.Parallel()
	clock := &ahead{}
	s := gltest.Start(t, func(c *server.Config) { c.Now = clock.Now })
	flagsOn(t, s, "doors", "lights")
	s.Edit(t, "staging", "doors", turnOn)
	was := s.Get(t, "production", "doors").Document
	ready := func(want bool, says ...string) settled.Readiness {
		t.Helper()
		var r settled.Readiness
		s.Keeper.Do(t, "GET", atPine+"/flags/doors/readiness", nil, 200, &r)
		if r.Ready != want {
			t.Errorf("ready: %t, %+v", r.Ready, r)
		}
		for _, text := range says {
			if !strings.Contains(fmt.Sprint(r.InTheWay), text) {
				t.Errorf("%q is not in the way: %v", text, r.InTheWay)
			}
		}
		return r
	}
	ready(false, "made less than 30 days ago")
	clock.move(31 * 24 * time.Hour)
	s.Keeper = s.Token(t, gltest.KeeperEmail) // the old one is over by then
	reported(t, s, "production", "doors", "on", 1)
	gltest.Eventually(t, "the report is counted", func() bool {
		var r settled.Readiness
		s.Keeper.Do(t, "GET", atPine+"/flags/doors/readiness", nil, 200, &r)
		return r.Asked > 0 && fmt.Sprint(r.In) != "" && r.In[0].Variant+r.In[1].Variant == "on"
	})
	ready(false, "no repository was looked at")
	scan := object{"repository": "lockers", "branch": "main", "commit": "4be1f0c", "at": 1_000, "unknown": []object{},
		"places": []object{{"flag": "doors", "file": "door.go", "line": 3, "how": "call", "code": "c.Bool(...)"}}}
	s.Keeper.Do(t, "PUT", atPine+"/places", scan, 200, nil)
	ready(false, "code asks for it in 1 place, such as door.go:3")
	var refused struct {
		Detail string
		Fields []struct{ Mend string }
	}
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "x"}, 409, &refused)
	if len(refused.Fields) != 1 || !strings.Contains(refused.Fields[0].Mend, "door.go:3") {
		t.Errorf("%+v", refused)
	}
	// The newest commit counts, and an older one does not come back.
	scan["commit"], scan["at"], scan["places"] = "5", 2_000, []object{}
	s.Keeper.Do(t, "PUT", atPine+"/places", scan, 200, nil)
	scan["at"] = 1_500
	s.Keeper.Do(t, "PUT", atPine+"/places", scan, 409, nil)
	if r := ready(true); r.In[1].Environment != "production" || r.In[1].Variant != "on" {
		t.Errorf("%+v", r.In)
	}
	reported(t, s, "production", "doors", "off", 2)
	gltest.Eventually(t, "two variants were given", func() bool {
		var r settled.Readiness
		s.Keeper.Do(t, "GET", atPine+"/flags/doors/readiness", nil, 200, &r)
		return !r.Ready && strings.Contains(fmt.Sprint(r.InTheWay), "several variants")
	})
	clock.move(32 * 24 * time.Hour)
	s.Keeper = s.Token(t, gltest.KeeperEmail)
	ready(true) // nobody asked for a month
	// What others ask for stays.
	s.Edit(t, "staging", "lights", func(d *flag.Document) { d.Needs = []flag.Need{{Flag: "doors", Variant: "on"}} })
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "x"}, 409, nil)
	s.Edit(t, "staging", "lights", func(d *flag.Document) { d.Needs = nil })
	// Nor is what a tripwire stops, or what is in a bundle.
	wire := wired(t, s, object{"title": "Doors jam", "flags": []string{"doors", "lights"}})
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "x", "force": true}, 409, nil)
	s.Keeper.Do(t, "POST", inProd+"/tripwires/"+wire.ID+"/remove", object{}, 200, nil)
	s.Keeper.Do(t, "PUT", atPine+"/bundles/opening", object{"bundle": object{"flags": []string{"doors"}}}, 200, nil)
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "x"}, 409, nil)
	s.Keeper.Do(t, "POST", atPine+"/bundles/opening/remove", object{}, 200, nil)
	var all manage.Retiring
	s.Keeper.Do(t, "GET", atPine+"/retiring", nil, 200, &all)
	if len(all.Ready) == 0 || all.Ready[0].Key != "doors" {
		t.Errorf("%+v", all.Ready)
	}
	// Who follows is told, and gets the fallback.
	c := open(t, s, "production")
	problem := func() string {
		return string(c.Answer(t.Context(), "doors", greenlever.Unit("x")).Code)
	}
	ask := s.Person(t, "ask.vik", "auditor")
	ask.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "x"}, 403, nil)
	var d app.Definition
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "the doors are all new"}, 200, &d)
	if d.Retired == nil {
		t.Fatalf("%+v", d)
	}
	gltest.Eventually(t, "the flag is gone for who follows", func() bool {
		return problem() == "FLAG_NOT_FOUND"
	})
	s.Keeper.Do(t, "GET", inProd+"/flags/doors", nil, 404, nil)
	s.Keeper.Do(t, "POST", atPine+"/flags", object{"key": "doors", "goneBy": "stays", "reason": "x"}, 400, nil)
	s.Keeper.With("If-Match", fmt.Sprint(d.Version)).Do(t, "PATCH", atPine+"/flags/doors", object{"title": "x"}, 409, nil)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"doors"}, "reason": "x"}, 400, nil)
	var b manage.Board
	s.Keeper.Do(t, "GET", atPine+"/board", nil, 200, &b)
	if b.All != 1 {
		t.Errorf("the board has %d flags", b.All)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("%v", r.Findings)
	}
	// Who still asks shows on the radar, by application.
	gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"]).Do(t, "POST", "/follow/v1/report",
		`{"instance":"i1","sequence":9,"application":"door","version":"2.3.1","started":1,"unknown":[{"flag":"doors",`+
			`"type":"boolean","fallback":true,"count":2}]}`, 200, nil)
	gltest.Eventually(t, "the radar shows who asks for a retired flag", func() bool {
		var r radar.Radar
		s.Keeper.Do(t, "GET", inProd+"/radar", nil, 200, &r)
		return len(r.Unknown) == 1 && r.Unknown[0].Retired && r.Unknown[0].Application == "door" && r.Unknown[0].Suggested == nil
	})
	// As it stood before it was retired: the past is what it was.
	var then manage.PastFlag
	s.Keeper.Do(t, "GET", inProd+"/flags/doors/revisions/2", nil, 200, &then)
	// An environment that is made meanwhile does not have it, and gets it when it comes back.
	s.Environment(t, "trial", false)
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/restore", object{"reason": "one site still has the old ones"}, 200, nil)
	back := s.Get(t, "production", "doors")
	if fmt.Sprint(back.Document) != fmt.Sprint(was) {
		t.Errorf("%+v is not %+v", back.Document, was)
	}
	if trial := s.Get(t, "trial", "doors"); trial.Document.Lever != flag.Off {
		t.Errorf("%+v", trial)
	}
	gltest.Eventually(t, "the flag is back for who follows", func() bool { return problem() == "" })
	if r := verify(t, s); !r.Sound() {
		t.Errorf("%v", r.Findings)
	}
	// Although it is not ready: for keepers of the installation, and told.
	reported(t, s, "production", "doors", "on", 10)
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"reason": "at once", "force": true}, 200, nil)
	if c := lastChange(t, s, "doors"); !strings.Contains(fmt.Sprint(c.In), "although it was not ready") {
		t.Errorf("%+v", c)
	}
}
