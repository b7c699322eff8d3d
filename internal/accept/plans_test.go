package accept

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

const atPine = "/projects/pinecrest"

// lastChange is the newest change of the project.
func lastChange(t testing.TB, s *gltest.Service, of string) manage.Changed {
	t.Helper()
	var page struct{ Items []manage.Changed }
	s.Keeper.Do(t, "GET", atPine+"/changes?flag="+of+"&limit=1", nil, 200, &page)
	if len(page.Items) == 0 {
		t.Fatalf("nothing is told of %s", of)
	}
	return page.Items[0]
}

func put(key, environment string, version int64, d *flag.Document) object {
	return object{"do": "flag.put", "project": "pinecrest", "environment": environment, "of": key,
		"versions": []int64{version}, "with": object{"document": d}}
}

// Changes that are given as data are made all at once or none, and what is wrong says which it is.
func TestPlans(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	doors, lights := s.Get(t, "production", "doors"), s.Get(t, "production", "lights")
	d, l := *doors.Document, *lights.Document
	d.End, l.End = flag.Gives{Variant: "off"}, flag.Gives{Variant: "nobody"}
	plan := object{"reason": "both at once", "commit": "4be1f0c", "changes": []object{put("doors", "production",
		doors.Version, &d), put("lights", "production", lights.Version, &l)}}
	var refused struct {
		Detail string
		Fields []struct{ Place string }
	}
	s.Keeper.Do(t, "POST", atPine+"/changes", plan, 400, &refused)
	if !strings.HasPrefix(refused.Detail, "lights in production: ") || refused.Fields[0].Place !=
		"changes[1].document.end.variant" {
		t.Errorf("%+v", refused)
	}
	if s.Get(t, "production", "doors").Version != doors.Version {
		t.Fatal("half of it was made")
	}
	l.End = flag.Gives{Variant: "off"}
	var tried, made manage.Planned
	s.Keeper.Do(t, "POST", atPine+"/changes?dryRun=true", plan, 200, &tried)
	if len(tried.Items) != 2 || len(tried.Previews) != 1 || len(tried.Previews[0].Preview.Shifts) != 2 {
		t.Errorf("%+v", tried)
	}
	s.Keeper.Do(t, "POST", atPine+"/changes", plan, 200, &made)
	c := lastChange(t, s, "doors")
	if c.Actor.Cause != "commit 4be1f0c" || s.Get(t, "production", "lights").Revision != s.Get(t, "production",
		"doors").Revision {
		t.Errorf("%+v", c)
	}
	// The same again: what it stands on has moved.
	s.Keeper.Do(t, "POST", atPine+"/changes", plan, 412, nil)
	// Others of it: a project that is not the address's, kinds that are no part of a plan, somebody without the right.
	other := put("doors", "production", 1, &d)
	other["project"] = "elsewhere"
	for _, one := range []object{other, {"do": "proposal.done", "project": "pinecrest", "of": "x", "with": object{}},
		{"do": "environment.make", "project": "pinecrest", "with": object{"key": "trial"}}} {
		if got := answered(t, s.Keeper, "POST", atPine+"/changes", object{"changes": []object{one}}); got/100 != 4 {
			t.Errorf("%v: %d", one, got)
		}
	}
	noor := s.Person(t, "noor.berg", "developer")
	now := s.Get(t, "production", "doors")
	d.End = flag.Gives{Variant: "on"}
	s.Person(t, "ask.vik", "auditor").Do(t, "POST", atPine+"/changes", object{"reason": "x", "changes": []object{put("doors", "production",
		now.Version, &d)}}, 403, nil)
	var p struct{ ID string }
	noor.Do(t, "POST", atPine+"/changes?propose=new", object{"reason": "x", "changes": []object{put("doors",
		"production", now.Version, &d)}}, 202, &p)
	if v := proposal(t, s.Keeper, p.ID); len(v.Items) != 1 {
		t.Errorf("%+v", v)
	}
}

// A change is taken back as a new one, in all environments that it touched and in what the project owns, unless what
// came later stands on it; what cannot be taken back is named.
func TestUndo(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	rule := func(id, variant string) flag.Rule {
		return flag.Rule{ID: id, Name: id, Gives: flag.Gives{Variant: variant}, When: &condition.Node{
			Test: "string.one-of", Attribute: condition.KeyAttribute, Text: []string{id}}}
	}
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Rules = append(d.Rules, rule("ann", "on")) })
	first := lastChange(t, s, "doors")
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Rules = append(d.Rules, rule("ben", "on")) })
	// The first is taken back, the second stays.
	var done manage.Planned
	s.Keeper.Do(t, "POST", atPine+"/changes/"+first.Change+"/undo?dryRun=true", object{"reason": "x"}, 200, &done)
	if len(done.Items) != 1 || len(s.Get(t, "production", "doors").Document.Rules) != 2 {
		t.Fatalf("%+v", done)
	}
	s.Keeper.Do(t, "POST", atPine+"/changes/"+first.Change+"/undo", object{"reason": "x", "at": first.At}, 200, &done)
	if rules := s.Get(t, "production", "doors").Document.Rules; len(rules) != 1 || rules[0].ID != "ben" {
		t.Fatalf("%+v", rules)
	}
	if c := lastChange(t, s, "doors"); c.Actor.Cause != "taking back of "+first.Change {
		t.Errorf("%+v", c.Actor)
	}
	// Taken back once more: nothing of it stands.
	s.Keeper.Do(t, "POST", atPine+"/changes/"+first.Change+"/undo", object{"reason": "x"}, 200, &done)
	if len(done.Items) != 0 || len(done.Left) == 0 {
		t.Errorf("%+v", done)
	}
	// What stands on it is in the way, by name.
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Rules[0].Gives = flag.Gives{Variant: "off"} })
	turned := lastChange(t, s, "doors")
	s.Edit(t, "production", "doors", func(d *flag.Document) {
		d.Rules[0].Gives = flag.Gives{Shares: &flag.Shares{
			Parts: []flag.Part{{Variant: "on", Share: 500_000}, {Variant: "off", Share: 500_000}}}}
	})
	var way struct {
		InTheWay []struct {
			Of    string
			Later []struct{ Change string }
		}
	}
	s.Keeper.Do(t, "POST", atPine+"/changes/"+turned.Change+"/undo", object{"reason": "x"}, 409, &way)
	if len(way.InTheWay) != 1 || way.InTheWay[0].Later[0].Change != lastChange(t, s, "doors").Change {
		t.Errorf("%+v", way)
	}
	// Shares come back with the units that they had.
	shares := lastChange(t, s, "doors")
	before := s.Get(t, "production", "doors").Document.Rules[0].Gives.Shares
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Rules = nil })
	s.Keeper.Do(t, "POST", atPine+"/changes/"+lastChange(t, s, "doors").Change+"/undo", object{"reason": "x"}, 200, nil)
	if after := s.Get(t, "production", "doors").Document.Rules[0].Gives.Shares; fmt.Sprint(after.Parts, after.Salt) !=
		fmt.Sprint(before.Parts, before.Salt) {
		t.Errorf("%+v is not %+v", after, before)
	}
	_ = shares
	// A definition: the field that others edited since is in the way, another one is not.
	edit := func(body object) manage.Changed {
		var d app.Definition
		s.Keeper.Do(t, "GET", atPine+"/flags/doors", nil, 200, &d)
		s.Keeper.With("If-Match", fmt.Sprint(d.Version)).Do(t, "PATCH", atPine+"/flags/doors", body, 200, nil)
		return lastChange(t, s, "doors")
	}
	titled := edit(object{"title": "Doors of all kinds"})
	variant := edit(object{"addVariants": []object{{"name": "half", "value": true}}, "tags": []string{"x"},
		"reason": "a third"})
	s.Keeper.Do(t, "POST", atPine+"/changes/"+titled.Change+"/undo", nil, 200, nil)
	s.Keeper.Do(t, "POST", atPine+"/changes/"+variant.Change+"/undo", object{"reason": "x"}, 200, &done)
	var d app.Definition
	s.Keeper.Do(t, "GET", atPine+"/flags/doors", nil, 200, &d)
	if d.Title == "Doors of all kinds" || len(d.Variants) != 2 || len(d.Tags) != 0 {
		t.Errorf("%+v", d)
	}
	again := edit(object{"title": "One"})
	edit(object{"title": "Two"})
	s.Keeper.Do(t, "POST", atPine+"/changes/"+again.Change+"/undo", nil, 409, nil)
	// What the project owns besides; and what a stop did is named.
	s.Keeper.Do(t, "PUT", atPine+"/recipes/night", object{"recipe": object{"title": "Night", "type": "boolean",
		"variants": []object{{"name": "on", "value": true}, {"name": "off", "value": false}}, "resting": "off",
		"end": "on"}}, 200, nil)
	saved := lastChange(t, s, "night")
	s.Keeper.Do(t, "POST", atPine+"/changes/"+saved.Change+"/undo", nil, 200, nil)
	var all struct{ Items []app.Recipe }
	s.Keeper.Do(t, "GET", atPine+"/recipes", nil, 200, &all)
	if slices.ContainsFunc(all.Items, func(r app.Recipe) bool { return r.Key == "night" }) {
		t.Error("the recipe is still there")
	}
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"lights"}, "reason": "x"}, 201, nil)
	s.Keeper.Do(t, "POST", atPine+"/changes/"+lastChange(t, s, "lights").Change+"/undo", object{"reason": "x"}, 200,
		&done)
	if len(done.Items) != 0 || !strings.Contains(done.Left[0].String(), "a stop is lifted") {
		t.Errorf("%+v", done)
	}
	s.Keeper.Do(t, "POST", atPine+"/changes/0193a1f0-0000-7000-8000-000000000000/undo", nil, 404, nil)
	s.Keeper.Do(t, "POST", atPine+"/changes/x/undo", nil, 404, nil)
}

// An environment as it stood: flags, segments and long lists, in one change; stops are not brought back.
func TestAsItStood(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "crews", "when": object{"test": "present",
		"attribute": "crew"}}, 201, nil)
	s.Edit(t, "production", "doors", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "Crews",
			When: &condition.Node{Test: condition.SegmentTest, Segment: "crews"},
			Gives: flag.Gives{Shares: &flag.Shares{Parts: []flag.Part{{Variant: "on", Share: 300_000}, {Variant: "off",
				Share: 700_000}}}}}}
	})
	then := s.Get(t, "production", "doors")
	var at manage.FlagView
	s.Keeper.Do(t, "GET", inProd+"/flags/doors", nil, 200, &at)
	s.Edit(t, "production", "doors", func(d *flag.Document) {
		d.Rules[0].Gives.Shares.Parts[0].Share = 900_000
		d.Rules[0].Gives.Shares.Parts[1].Share = 100_000
	})
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Rules = nil })
	s.Edit(t, "production", "lights", func(d *flag.Document) { d.Lever = flag.Off })
	var seg struct{ Items []manage.SegmentView }
	s.Keeper.Do(t, "GET", inProd+"/segments", nil, 200, &seg)
	s.Keeper.With("If-Match", fmt.Sprint(seg.Items[0].Version)).Do(t, "PUT", inProd+"/segments/crews",
		object{"reason": "x"}, 200, nil)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"lights"}, "reason": "x"}, 201, nil)
	s.Keeper.Do(t, "POST", atPine+"/flags", object{"key": "later", "goneBy": "stays", "reason": "x"}, 201, nil)
	var tried, done manage.Planned
	s.Keeper.Do(t, "POST", inProd+"/as-it-stood?dryRun=true", object{"revision": then.Revision, "reason": "x"}, 200,
		&tried)
	if len(tried.Items) != 3 || len(tried.Left) != 2 || !strings.Contains(tried.Left[1].String(), "later") {
		t.Fatalf("%+v", tried)
	}
	s.Keeper.Do(t, "POST", inProd+"/as-it-stood", object{"revision": then.Revision, "reason": "x"}, 200, &done)
	now := s.Get(t, "production", "doors")
	a, _ := json.Marshal(then.Document)
	b, _ := json.Marshal(now.Document)
	if string(a) != string(b) {
		t.Errorf("%s is not %s", b, a)
	}
	if lights := s.Get(t, "production", "lights"); lights.Document.Lever != flag.On {
		t.Errorf("%+v", lights)
	}
	var stops struct{ Items []manage.StopView }
	s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &stops)
	if len(stops.Items) != 1 || stops.Items[0].LiftedAt != 0 {
		t.Errorf("the stop was touched: %+v", stops)
	}
	s.Keeper.Do(t, "POST", inProd+"/as-it-stood", object{"at": at.Changed, "flags": []string{"doors"},
		"reason": "x"}, 200, &done)
	if len(done.Items) != 0 {
		t.Errorf("it stands so already: %+v", done)
	}
	for _, body := range []object{{}, {"at": 1, "revision": 1}, {"revision": 10_000}, {"revision": 1,
		"flags": []string{"nobody"}}, {"at": 99_999_999_999_999}} {
		if got := answered(t, s.Keeper, "POST", inProd+"/as-it-stood", body); got/100 != 4 {
			t.Errorf("%v: %d", body, got)
		}
	}
}

// What flags do is taken into another environment: rules with the same units or drawn anew, values, and the segments
// that have nobody there.
func TestPromote(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "crews"}, 201, nil)
	s.Keeper.With("If-Match", "1").Do(t, "PUT", atPine+"/environments/staging/segments/crews",
		object{"in": object{"units": []string{"ann"}}}, 200, nil)
	shares := &flag.Shares{Parts: []flag.Part{{Variant: "on", Share: 300_000}, {Variant: "off", Share: 700_000}}}
	s.Edit(t, "staging", "doors", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "Crews",
			When: &condition.Node{Test: condition.SegmentTest, Segment: "crews"}, Gives: flag.Gives{Variant: "on"}}}
		d.End = flag.Gives{Shares: shares}
	})
	from := s.Get(t, "staging", "doors").Document
	var done manage.Planned
	body := object{"from": "staging", "to": []string{"production"}, "flags": []string{"doors", "lights"}, "rules": true,
		"reason": "it held"}
	s.Keeper.Do(t, "POST", atPine+"/promote?dryRun=true", body, 200, &done)
	if len(done.Left) == 0 || !strings.Contains(done.Left[0].String(), "crews has nobody in production") ||
		len(done.Previews) != 1 {
		t.Errorf("%+v", done)
	}
	body["segments"] = true
	s.Keeper.Do(t, "POST", atPine+"/promote", body, 200, &done)
	to := s.Get(t, "production", "doors").Document
	if fmt.Sprint(to.End.Shares.Parts, to.End.Shares.Salt) != fmt.Sprint(from.End.Shares.Parts, from.End.Shares.Salt) ||
		len(to.Rules) != 1 {
		t.Errorf("other units are in: %+v", to)
	}
	body["drawAnew"] = true
	s.Keeper.Do(t, "POST", atPine+"/promote", body, 200, &done)
	if anew := s.Get(t, "production", "doors").Document.End.Shares; anew.Salt == from.End.Shares.Salt {
		t.Error("it was to be drawn anew")
	}
	for _, wrong := range []object{{"from": "staging", "to": []string{"staging"}, "flags": []string{"doors"},
		"rules": true}, {"from": "staging", "to": []string{"production"}, "rules": true}, {"from": "nowhere",
		"to": []string{"production"}, "flags": []string{"doors"}, "rules": true}, {"from": "staging",
		"to": []string{"production"}, "flags": []string{"nobody"}, "rules": true}, {"from": "staging",
		"to": []string{"production"}, "flags": []string{"doors"}}} {
		if got := answered(t, s.Keeper, "POST", atPine+"/promote", wrong); got != 400 {
			t.Errorf("%v: %d", wrong, got)
		}
	}
}

// answered is the status of an answer.
func answered(t testing.TB, who gltest.Caller, method, path string, body any) int {
	t.Helper()
	raw, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	status, _, _, err := who.Send(method, path, raw)
	if err != nil {
		t.Fatal(err)
	}
	return status
}

// A bundle is released in step: all with one salt, none a stage ahead of one that is held.
func TestBundleReleases(t *testing.T) {
	t.Parallel()
	clock := &ahead{}
	s := gltest.Start(t, func(c *server.Config) { c.Now = clock.Now })
	for _, key := range []string{"doors", "lights"} {
		s.Flag(t, key)
		s.Edit(t, "production", key, func(d *flag.Document) { d.Lever = flag.On })
	}
	s.Keeper.Do(t, "PUT", atPine+"/bundles/opening", object{"bundle": object{"flags": []string{"doors", "lights"}}}, 200, nil)
	var done manage.Planned
	s.Keeper.Do(t, "POST", atPine+"/bundles/opening/release", object{"environment": "production", "reason": "x",
		"start": object{"stages": []object{{"name": "8 %", "share": 80_000, "least": "1h"}, {"name": "30 %", "share": 300_000,
			"least": "1h"}, {"name": "100 %", "share": 1_000_000, "least": "1h"}}}}, 200, &done)
	if len(done.Items) != 2 {
		t.Fatalf("%+v", done)
	}
	of := func(key string) (r app.Release) {
		t.Helper()
		var all struct{ Items []app.Release }
		s.Keeper.Do(t, "GET", inProd+"/flags/"+key+"/releases", nil, 200, &all)
		if len(all.Items) != 1 {
			t.Fatalf("%s: %d releases", key, len(all.Items))
		}
		return all.Items[0]
	}
	gltest.Eventually(t, "both are under way", func() bool {
		return of("doors").State.Is == "under-way" && of("lights").State.Is == "under-way"
	})
	if a, b := of("doors").State.Plan.Salt, of("lights").State.Plan.Salt; a != b || a == "" {
		t.Errorf("salts %q and %q", a, b)
	}
	s.Keeper.Do(t, "POST", inProd+"/releases/"+of("lights").ID+"/halts", object{"do": "hold", "reason": "look first"}, 200, nil)
	clock.move(2 * time.Hour)
	gltest.Eventually(t, "doors waits for lights", func() bool {
		var v struct {
			Sentence words.Said `json:"sentence"`
		}
		s.Keeper.Do(t, "GET", inProd+"/releases/"+of("doors").ID, nil, 200, &v)
		return of("doors").State.At == 0 && strings.Contains(v.Sentence.String(), "lights is as far")
	})
	s.Keeper.Do(t, "POST", inProd+"/releases/"+of("lights").ID+"/acts", object{"do": "go-on", "reason": "all is well"}, 200, nil)
	gltest.Eventually(t, "both are a stage further", func() bool {
		clock.move(time.Minute)
		return of("doors").State.At == 1 && of("lights").State.At == 1
	})
}
