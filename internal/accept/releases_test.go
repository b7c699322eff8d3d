package accept

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

const inStaging = "/projects/pinecrest/environments/staging"

// releasing is a service with a flag whose lever is on in staging.
func releasing(t *testing.T) *gltest.Service {
	t.Helper()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	return s
}

func startRelease(t *testing.T, c gltest.Caller, body map[string]any) *app.Release {
	t.Helper()
	var rel app.Release
	c.Do(t, "POST", inStaging+"/flags/night-batching/releases", body, 201, &rel)
	return &rel
}

func release(t *testing.T, c gltest.Caller, id string) *manage.ReleaseView {
	t.Helper()
	var v manage.ReleaseView
	c.Do(t, "GET", inStaging+"/releases/"+id, nil, 200, &v)
	return &v
}

// stands looks at a release until it stands as is asked.
func stands(t *testing.T, c gltest.Caller, id string, is stage.Is, at int) *manage.ReleaseView {
	t.Helper()
	var v *manage.ReleaseView
	gltest.Eventually(t, fmt.Sprintf("the release is %s at stage %d", is, at), func() bool {
		v = release(t, c, id)
		return v.State.Is == is && v.State.At == at
	})
	return v
}

type obj = map[string]any

// A release goes through its stages by itself, is finished, and all of it stands in the audit.
func TestReleaseGoesThrough(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	rel := startRelease(t, s.Keeper, obj{"stages": []obj{{"name": "8 %", "share": 80_000},
		{"name": "30 %", "share": 300_000}, {"name": "100 %", "share": 1_000_000}}, "expected": "shorter rounds"})
	v := stands(t, s.Keeper, rel.ID, stage.Through, 2)
	told := []string{}
	for _, st := range v.Steps {
		told = append(told, string(st.Tell))
	}
	if got := strings.Join(told, " "); got != "planned began arrived stage arrived stage arrived through" {
		t.Errorf("it went: %s", got)
	}
	var done struct{ Document flag.Document }
	s.Keeper.Do(t, "POST", inStaging+"/releases/"+rel.ID+"/acts", obj{"do": "finish", "sequence": v.State.Sequence,
		"outcome": "rounds are shorter by a tenth"}, 200, &done)
	if d := done.Document; len(d.Rules) != 0 || d.End.Variant != "on" {
		t.Errorf("it folds into %+v", d)
	}
	if v = release(t, s.Keeper, rel.ID); v.State.Is != stage.Finished || v.State.Outcome == "" || v.Ended == 0 {
		t.Errorf("it ended as %+v", v.State)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

func act(t *testing.T, c gltest.Caller, id, below string, body obj, want int) *manage.Problem {
	t.Helper()
	where := inStaging + "/releases/" + id + "/" + below
	var p manage.Problem
	if body["sequence"] != nil || !slices.Contains([]any{"next", "sign", "edit", "finish"}, body["do"]) || want == 403 {
		c.Do(t, "POST", where, body, want, &p)
		return &p
	}
	// It goes on by itself too: who is told so looks again, and says it again.
	gltest.Eventually(t, fmt.Sprint(body["do"]), func() bool {
		body["sequence"] = release(t, c, id).State.Sequence
		raw, err := json.Marshal(body)
		if err != nil {
			t.Fatal(err)
		}
		status, answer, _, err := c.Send("POST", where, raw)
		if err != nil {
			t.Fatal(err)
		}
		if status == 412 {
			return false
		}
		if status != want {
			t.Fatalf("%v: status %d, want %d: %s", body["do"], status, want, answer)
		}
		p = manage.Problem{}
		if err := json.Unmarshal(answer, &p); err != nil {
			t.Fatal(err)
		}
		return true
	})
	return &p
}

func slow() []obj {
	return []obj{{"name": "8 %", "share": 80_000, "least": "1h"}, {"name": "30 %", "share": 300_000, "least": "1h"}}
}

// Whatever route somebody takes, the rules of a release that runs stay as it has them, and the answer names
// it; everything else of the flag can be edited around them.
func TestReleaseOwnsItsRules(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/night-batching",
		obj{"addVariants": []obj{{"name": "later", "value": true}}}, 200, nil)
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "first", Gives: flag.Gives{Variant: "off"}, When: tests("string.equals", "a",
			"x")},
			{Name: "last", Gives: flag.Gives{Variant: "off"}, When: tests("string.equals", "a", "y")}}
	})
	rel := startRelease(t, s.Keeper,
		obj{"to": "on", "above": s.Get(t, "staging", "night-batching").Document.Rules[1].ID,
			"stages": append([]obj{{"name": "me", "who": tests("string.equals", "targetingKey", "u1")}}, slow()...)})
	stands(t, s.Keeper, rel.ID, stage.Underway, 1)
	put := func(alter func(*flag.Document)) (int, string) {
		v := s.Get(t, "staging", "night-batching")
		alter(v.Document)
		status, answer, _, err := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inStaging+
			"/flags/night-batching", mustJSON(t, obj{"document": v.Document, "reason": "test"}))
		if err != nil {
			t.Fatal(err)
		}
		return status, string(answer)
	}
	group := func(d *flag.Document) int {
		return slices.IndexFunc(d.Rules, func(r flag.Rule) bool { return r.Release != "" })
	}
	for what, alter := range map[string]func(*flag.Document){
		"its share is widened": func(d *flag.Document) {
			p := d.Rules[group(d)+1].Gives.Shares.Parts
			p[0].Share, p[1].Share = 200_000, 800_000
		},
		"a rule is renamed": func(d *flag.Document) { d.Rules[group(d)].Name = "mine" },
		"a rule is parked":  func(d *flag.Document) { d.Rules[group(d)].Parked = true },
		"a rule is removed": func(d *flag.Document) { d.Rules = slices.Delete(d.Rules, group(d), group(d)+1) },
		"all are removed":   func(d *flag.Document) { d.Rules = nil },
		"its mark is taken": func(d *flag.Document) { d.Rules[group(d)].Release = "" },
		"it is drawn anew":  func(d *flag.Document) { d.Rules[group(d)+1].Gives.Shares.DrawAnew = true },
		"its order changes": func(d *flag.Document) {
			i := group(d)
			d.Rules[i], d.Rules[i+1] = d.Rules[i+1],
				d.Rules[i]
		},
		"another stands among them": func(d *flag.Document) {
			d.Rules = slices.Insert(d.Rules, group(d)+1, flag.Rule{Name: "between", Gives: flag.Gives{Variant: "off"}})
		},
		"another says that it is of it": func(d *flag.Document) { d.Rules[0].Release = rel.ID },
	} {
		if status, answer := put(alter); status != 409 || !strings.Contains(answer, rel.ID) {
			t.Errorf("%s: %d %s", what, status, answer)
		}
	}
	for what, call := range map[string]struct {
		method, path string
		body         obj
	}{
		"rules are copied over it": {"POST", "/projects/pinecrest/flags/night-batching/copy-rules", obj{
			"from": "production", "to": []obj{{"environment": "staging", "version": s.Get(t, "staging",
				"night-batching").Version}}}},
		"its variant is removed": {"PATCH", "/projects/pinecrest/flags/night-batching", obj{
			"removeVariants": []string{"on"}}},
		"another release starts": {"POST", inStaging + "/flags/night-batching/releases", obj{"stages": slow()}},
	} {
		status, answer, _, err := s.Keeper.With("If-Match", "2").Send(call.method, call.path, mustJSON(t, call.body))
		if err != nil || status != 409 {
			t.Errorf("%s: %d %s %v", what, status, answer, err)
		}
	}
	before := release(t, s.Keeper, rel.ID).State.Run
	for what, alter := range map[string]func(*flag.Document){
		"a rule above changes": func(d *flag.Document) { d.Rules[0].Gives = flag.Gives{Variant: "on"} },
		"a rule below changes": func(d *flag.Document) { d.Rules[len(d.Rules)-1].Name = "later" },
		"a rule comes on top": func(d *flag.Document) {
			d.Rules = slices.Insert(d.Rules, 0, flag.Rule{Name: "top", Gives: flag.Gives{Variant: "off"},
				When: tests("string.equals", "a", "z")})
		},
		"the end changes":       func(d *flag.Document) { d.End = flag.Gives{Variant: "on"} },
		"a rule goes below all": func(d *flag.Document) { d.Rules = append(d.Rules[1:], d.Rules[0]) },
	} {
		if status, answer := put(alter); status != 200 {
			t.Errorf("%s: %d %s", what, status, answer)
		}
	}
	gltest.Eventually(t, "evidence begins anew", func() bool {
		return release(t, s.Keeper, rel.ID).State.Run > before
	})
	act(t, s.Keeper, rel.ID, "halts", obj{"do": "roll-back"}, 200)
	d := s.Get(t, "staging", "night-batching").Document
	if len(d.Rules) != 3 || d.End.Variant != "on" || group(d) >= 0 {
		t.Errorf("a roll back leaves %+v, end %v", d.Rules, d.End)
	}
	if status, answer := put(func(d *flag.Document) { d.Rules[0].Release = rel.ID }); status != 400 {
		t.Errorf("a mark of a release that is over: %d %s", status, answer)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

func tests(test, attribute string, text ...string) *condition.Node {
	return &condition.Node{Test: test, Attribute: attribute, Text: text}
}

// A stop holds a release, also one that was lifted before anybody looked; so do a lever, a need and the loss of
// its owner's right. Only a person has it go on, and only once nothing is in the way.
func TestReleaseIsHeld(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	s.Flag(t, "doors")
	s.Edit(t, "staging", "doors", func(d *flag.Document) { d.Lever, d.End = flag.On, flag.Gives{Variant: "on"} })
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) {
		d.Needs = []flag.Need{{Flag: "doors", Variant: "on"}}
	})
	owner := s.Person(t, "juno.lind", "releaser")
	rel := startRelease(t, owner, obj{"stages": slow()})
	stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	stop := func(key string, lift bool) {
		t.Helper()
		var st struct{ Stop string }
		s.Keeper.Do(t, "POST", inStaging+"/stops", obj{"flags": []string{key}, "reason": key}, 201, &st)
		if !lift {
			stands(t, s.Keeper, rel.ID, stage.Held, 0)
			act(t, s.Keeper, rel.ID, "acts", obj{"do": "go-on"}, 409)
		}
		s.Keeper.Do(t, "POST", inStaging+"/lifts", obj{"stops": []string{st.Stop}}, 201, nil)
	}
	lever := func(key string, l flag.Lever) { s.Edit(t, "staging", key, func(d *flag.Document) { d.Lever = l }) }
	for what, one := range map[string]struct {
		why        stage.Why
		hold, mend func()
	}{
		"a stop":                  {stage.ByStop, func() { stop("night-batching", false) }, func() {}},
		"a stop that was lifted":  {stage.ByStop, func() { stop("night-batching", true) }, func() {}},
		"a stop of what it needs": {stage.ByStop, func() { stop("doors", false) }, func() {}},
		"the lever": {stage.ByLever, func() { lever("night-batching", flag.Off) },
			func() { lever("night-batching", flag.On) }},
		"what it needs gives others": {stage.ByNeed, func() { lever("doors", flag.Off) },
			func() { lever("doors", flag.On) }},
	} {
		one.hold()
		if v := stands(t, s.Keeper, rel.ID, stage.Held, 0); v.State.Why != one.why || v.State.Says == "" {
			t.Errorf("%s holds it for %q: %s", what, v.State.Why, v.State.Says)
		}
		one.mend()
		if v := release(t, s.Keeper, rel.ID); v.State.Is != stage.Held {
			t.Errorf("after %s it goes on by itself", what)
		}
		act(t, s.Keeper, rel.ID, "acts", obj{"do": "go-on"}, 200)
		stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	}
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/people/"+s.Account(t, "juno.lind@pinecrest.example"),
		obj{"roles": []string{"auditor"}}, 200, nil)
	quick := []obj{{"name": "8 %", "share": 80_000}, {"name": "30 %", "share": 300_000, "least": "1h"}}
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "edit", "stages": quick}, 200)
	if v := stands(t, s.Keeper, rel.ID, stage.Held, 0); v.State.Why != stage.ByRight {
		t.Errorf("without its owner's right it is held for %q", v.State.Why)
	}
	act(t, owner, rel.ID, "acts", obj{"do": "next"}, 403)
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "next"}, 200)
	stands(t, s.Keeper, rel.ID, stage.Underway, 1)
}

// Who a stage names signs, having seen the release as it stands; nobody else does.
func TestReleaseIsSigned(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	auditor, developer := s.Person(t, "ask.vik", "auditor"), s.Person(t, "noor.berg", "developer")
	onCall := s.Person(t, "tove.ek", "on-call")
	rel := startRelease(t, developer, obj{"stages": []obj{{"name": "8 %", "share": 80_000,
		"signOff": []string{"auditor"}}, {"name": "30 %", "share": 300_000, "signOff": []string{"auditor"},
		"declined": "roll-back"}, {"name": "65 %", "share": 650_000}}})
	v := stands(t, auditor, rel.ID, stage.Asking, 0)
	if !v.Mine || release(t, developer, rel.ID).Mine {
		t.Error("it waits for somebody else")
	}
	sign := func(do string, sequence int64) obj { return obj{"do": do, "sequence": sequence} }
	act(t, developer, rel.ID, "signatures", sign("sign", v.State.Sequence), 409)
	act(t, auditor, rel.ID, "signatures", sign("sign", 0), 400)
	act(t, auditor, rel.ID, "signatures", sign("sign", v.State.Sequence-1), 412)
	act(t, auditor, rel.ID, "acts", obj{"do": "next"}, 403)
	act(t, auditor, rel.ID, "signatures", sign("decline", v.State.Sequence), 200)
	stands(t, auditor, rel.ID, stage.Held, 0)
	act(t, developer, rel.ID, "acts", obj{"do": "go-on"}, 200)
	v = stands(t, auditor, rel.ID, stage.Asking, 0)
	act(t, auditor, rel.ID, "halts", obj{"do": "hold"}, 403)
	act(t, auditor, rel.ID, "signatures", sign("sign", v.State.Sequence), 200)
	stands(t, auditor, rel.ID, stage.Asking, 1)
	act(t, onCall, rel.ID, "halts", obj{"do": "hold"}, 200) // whoever may stop may hold
	act(t, onCall, rel.ID, "acts", obj{"do": "go-on"}, 403)
	act(t, developer, rel.ID, "acts", obj{"do": "go-on"}, 200)
	v = stands(t, auditor, rel.ID, stage.Asking, 1)
	act(t, auditor, rel.ID, "signatures", sign("decline", v.State.Sequence), 200)
	if v = release(t, auditor, rel.ID); v.State.Is != stage.RolledBack || len(s.Get(t, "staging",
		"night-batching").Document.Rules) != 0 {
		t.Errorf("declined, it stands %s", v.State.Is)
	}
}

// After a repair the same units come first, from the stage that is named; a dry run shows who will.
func TestReleaseAgain(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	var tried struct {
		State stage.State
		Ahead manage.Ahead
	}
	body := obj{"stages": slow(), "by": []string{"site.id"}, "expected": "shorter rounds"}
	s.Keeper.Do(t, "POST", inStaging+"/flags/night-batching/releases?dryRun=true", body, 201, &tried)
	if len(tried.Ahead.Stages) != 2 || len(tried.Ahead.Says) == 0 {
		t.Errorf("before it starts it says %+v", tried.Ahead)
	}
	body["salt"] = tried.State.Plan.Salt
	rel := startRelease(t, s.Keeper, body)
	if rel.State.Plan.Salt != tried.State.Plan.Salt {
		t.Error("others come than were shown")
	}
	stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	act(t, s.Keeper, rel.ID, "halts", obj{"do": "roll-back", "reason": "doors jam"}, 200)
	again := startRelease(t, s.Keeper, obj{"after": rel.ID, "first": 1, "where": tests("version.at-least", "firmware",
		"4.2.0")})
	p := again.State.Plan
	if p.Salt != tried.State.Plan.Salt || len(p.Stages) != 2 || p.By[0] != "site.id" || p.Where == nil ||
		again.After != rel.ID {
		t.Errorf("it starts again as %+v", p)
	}
	stands(t, s.Keeper, again.ID, stage.Underway, 1)
	act(t, s.Keeper, again.ID, "acts", obj{"do": "finish"}, 409)
	act(t, s.Keeper, again.ID, "acts", obj{"do": "finish", "early": true}, 200)
	d := s.Get(t, "staging", "night-batching").Document
	if len(d.Rules) != 1 || d.Rules[0].Release != "" || d.Rules[0].Gives.Variant != "on" || d.Rules[0].When == nil {
		t.Errorf("it folds into %+v", d.Rules)
	}
}

// People edit a flag while its releases go on: nothing of either is lost.
func TestReleaseAmongEdits(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	var stages []obj
	for i := range 20 {
		stages = append(stages, obj{"name": fmt.Sprint(i), "share": (i + 1) * 50_000})
	}
	rel := startRelease(t, s.Keeper, obj{"stages": stages})
	var saved atomic.Int64
	var editors sync.WaitGroup
	for e := range 2 {
		editors.Go(func() {
			for saved.Load() < 40 {
				v := s.Get(t, "staging", "night-batching")
				v.Document.Rules = append([]flag.Rule{{Name: fmt.Sprintf("editor %d", e),
					Gives: flag.Gives{Variant: "off"},
					When:  tests("string.equals", "a", fmt.Sprint(saved.Load()))}}, v.Document.Rules...)
				status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inStaging+
					"/flags/night-batching", mustJSON(t, obj{"document": v.Document, "reason": "test"}))
				switch status {
				case 200:
					saved.Add(1)
				case 412: // somebody was quicker: it is done again on what stands
				default:
					t.Errorf("%d %s", status, answer)
					return
				}
			}
		})
	}
	editors.Wait()
	stands(t, s.Keeper, rel.ID, stage.Through, 19)
	d := s.Get(t, "staging", "night-batching").Document
	if n := len(d.Rules); int64(n) != saved.Load()+1 || d.Rules[n-1].Release != rel.ID {
		t.Errorf("of %d rules %d stand", saved.Load(), n-1)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A stage that an edit plans asks for a segment that nothing asked for: the evidence goes on, also when that
// stage begins, and begins anew once somebody changes the segment.
func TestReleaseKeepsItsEvidence(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", obj{"key": "crews", "when": obj{"test": "present",
		"attribute": "badge"}}, 201, nil)
	rel := startRelease(t, s.Keeper, obj{"stages": slow()})
	began := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	planned := append(slow()[:1], obj{"name": "crews", "least": "1h", "who": obj{"test": "segment",
		"segment": "crews"}})
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "edit", "stages": planned}, 200)
	act(t, s.Keeper, rel.ID, "acts", obj{"do": "next"}, 200)
	if v := stands(t, s.Keeper, rel.ID, stage.Underway, 1); v.State.Run != began.State.Run {
		t.Errorf("its own stages begin evidence run %d anew as %d", began.State.Run, v.State.Run)
	}
	s.Keeper.With("If-Match", "1").Do(t, "PUT", inStaging+"/segments/crews", obj{"when": obj{"test": "present",
		"attribute": "crew"}}, 200, nil)
	gltest.Eventually(t, "a new evidence run", func() bool {
		return release(t, s.Keeper, rel.ID).State.Run == began.State.Run+1
	})
}

// killable are two nodes of one service, each a process that can be killed, with a project and its environment staging.
func killable(t *testing.T) (*gltest.Service, []*child) {
	t.Helper()
	dsn, dir := gltest.DSN(t), t.TempDir()
	nodes := []*child{}
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}, DSN: dsn}
	first := serve(t, "127.0.0.1:0", dsn, filepath.Join(dir, "a"), true)
	gltest.Caller{URL: first.url}.Do(t, "POST", "/set-up", obj{"code": first.code, "email": gltest.KeeperEmail,
		"name": "Ida Holm", "password": gltest.Password}, 201, nil)
	first.kill()
	for i, name := range []string{"a", "b"} {
		at := freeAddress(t)
		c := &child{args: []string{"serve", "--listen", at, "--admin", "", "--dsn", dsn, "--dir",
			filepath.Join(dir, name)}, at: at}
		c.start(t)
		c.up(t)
		t.Cleanup(func() { nodes[i].kill() })
		nodes = append(nodes, c)
	}
	s.Keeper = tokenAt(t, "http://"+nodes[0].at)
	s.Keeper.Do(t, "POST", "/projects", obj{"key": "pinecrest"}, 201, nil)
	s.Environment(t, "staging", false)
	return s, nodes
}

// Two processes, one of which ends by kill -9 or is frozen for longer than its lease at a time: no step is lost
// and none taken twice.
func TestReleasesOverKills(t *testing.T) {
	t.Parallel()
	s, nodes := killable(t)
	keeper := s.Keeper
	var stages []obj
	for i := range 12 {
		stages = append(stages, obj{"name": fmt.Sprint(i), "share": (i + 1) * 80_000, "least": "1s"})
	}
	var all []*app.Release
	for i := range 3 {
		key := fmt.Sprintf("flag-%d", i)
		s.Flag(t, key)
		s.Edit(t, "staging", key, func(d *flag.Document) { d.Lever = flag.On })
		var rel app.Release
		keeper.Do(t, "POST", inStaging+"/flags/"+key+"/releases", obj{"stages": stages}, 201, &rel)
		all = append(all, &rel)
	}
	kills := 4
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		kills = 40
	}
	rng := rand.New(rand.NewPCG(1, 12))
	for kill := range kills {
		n := nodes[rng.IntN(2)]
		if kill%4 != 2 {
			n.kill()
			time.Sleep(time.Duration(rng.IntN(400)) * time.Millisecond) // it is what is tested
			n.start(t)
		} else {
			_ = n.cmd.Process.Signal(syscall.SIGSTOP)
			time.Sleep(11 * time.Second) // longer than the lease
			_ = n.cmd.Process.Signal(syscall.SIGCONT)
		}
		n.up(t)
	}
	keeper = gltest.Caller{URL: "http://" + nodes[1].at, Header: keeper.Header}
	for i, rel := range all {
		var v manage.ReleaseView
		for range 4 { // a minute and more
			through := func() bool { return v.Release != nil && v.State.Is == stage.Through }
			for end := time.Now().Add(gltest.Patience); !through() && time.Now().Before(end); {
				status, answer, _, err := keeper.Send("GET", inStaging+"/releases/"+rel.ID, nil)
				if err != nil || status != 200 || json.Unmarshal(answer, &v) != nil {
					continue
				}
				time.Sleep(50 * time.Millisecond)
			}
		}
		at := -1
		for j, st := range v.Steps {
			if st.Sequence != int64(j+1) {
				t.Fatalf("release %d: step %d is number %d", i, j+1, st.Sequence)
			}
			if st.Tell == stage.Began || st.Tell == stage.StageBegan {
				if at++; st.Stage != at {
					t.Fatalf("release %d: stage %d came as number %d", i, st.Stage, at)
				}
			}
		}
		if at != len(stages)-1 {
			t.Errorf("release %d: %d stages began", i, at+1)
		}
	}
	s.Keeper = keeper
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A stage waits for as many units as it wants with the new variant, and says how many more; a process that does
// not have the stage keeps its time from counting.
func TestReleaseWaitsForUnits(t *testing.T) {
	t.Parallel()
	s := releasing(t)
	c := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	rel := startRelease(t, s.Keeper, obj{"stages": []obj{{"name": "50 %", "share": 500_000, "units": 40},
		{"name": "100 %",
			"share": 1_000_000, "least": "1h"}}})
	v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	if v.State.Since == v.State.Began || !strings.Contains(v.Sentence.String(), "more units were seen") {
		t.Errorf("it says %q", v.Sentence)
	}
	decide := func(from, to int) (on int) {
		for i := from; i < to; i++ {
			if c.Bool(t.Context(), "night-batching", greenlever.Unit(fmt.Sprint("unit-", i)), false) {
				on++
			}
		}
		return on
	}
	if on := decide(0, 40); on < 5 || on >= 40 {
		t.Fatalf("%d of 40 have it", on)
	}
	gltest.Eventually(t, "some were seen", func() bool {
		v = release(t, s.Keeper, rel.ID)
		return v.Facts.Units > 0
	})
	if v.State.At != 0 {
		t.Errorf("it goes on with %d", v.Facts.Units)
	}
	decide(40, 200)
	stands(t, s.Keeper, rel.ID, stage.Underway, 1)
}
