package accept

import (
	"fmt"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

const hour = int64(time.Hour / time.Millisecond)

// A short-lived environment begins as another one is, has keys of its own, follows what the project gets, is on no board
// unless it is named, and ends by itself; a family is told once what a flag gives. One that ended lives again.
func TestShortLived(t *testing.T) {
	t.Parallel()
	clock := &ahead{}
	s := gltest.Start(t, func(c *server.Config) { c.Now = clock.Now })
	flagsOn(t, s, "doors", "lights")
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "crews", "when": object{"test": "present",
		"attribute": "crew"}}, 201, nil)
	noor := s.Person(t, "noor.berg", "developer")
	type madeEnvironment struct {
		Key   string
		Until int64
		Keys  []struct{ Kind, Secret string }
	}
	branch := func(who gltest.Caller, from, key string, want int) (made madeEnvironment) {
		t.Helper()
		who.Do(t, "POST", atPine+"/environments/"+from+"/branch", object{"key": key, "for": 72 * hour, "reason": "x"}, want,
			&made)
		return made
	}
	first := branch(noor, "production", "review-482", 200)
	if len(first.Keys) != 2 || first.Until == 0 {
		t.Fatalf("%+v", first)
	}
	s.Keys["review-482"] = first.Keys[0].Secret
	if got := s.Get(t, "review-482", "doors").Document; fmt.Sprint(got) != fmt.Sprint(s.Get(t, "production",
		"doors").Document) {
		t.Errorf("%+v", got)
	}
	c := open(t, s, "review-482")
	until(t, c, "it is followed", at(1))
	// From an environment that asks first, a keeper alone; and nobody who may not edit.
	s.Environment(t, "careful", true)
	branch(noor, "careful", "review-1", 403)
	branch(s.Person(t, "ask.vik", "auditor"), "production", "review-2", 403)
	branch(s.Keeper, "careful", "review-3", 200)
	branch(noor, "production", "review-482", 400) // keys are never used again
	for _, wrong := range []int64{0, 60_000, 100 * 24 * hour} {
		noor.Do(t, "POST", inProd+"/branch", object{"key": "review-9", "for": wrong, "reason": "x"}, 400, nil)
	}
	// On no board and in no list of the lasting ones, unless it is named.
	var b manage.Board
	s.Keeper.Do(t, "GET", atPine+"/board", nil, 200, &b)
	if len(b.Environments) != 3 {
		t.Errorf("%d columns", len(b.Environments))
	}
	s.Keeper.Do(t, "GET", atPine+"/board?environments=production,review-482&find=on:review-482", nil, 200, &b)
	if len(b.Environments) != 2 || b.Flags[0].In["review-482"].Lever != flag.On {
		t.Errorf("%+v", b.Environments)
	}
	// What the project gets it gets within seconds: a flag, a variant, a segment, and that one is retired.
	s.Flag(t, "later")
	var d app.Definition
	s.Keeper.Do(t, "GET", atPine+"/flags/lights", nil, 200, &d)
	s.Keeper.With("If-Match", fmt.Sprint(d.Version)).Do(t, "PATCH", atPine+"/flags/lights", object{"addVariants": []object{
		{"name": "half", "value": true}}, "reason": "x"}, 200, nil)
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "pilots", "reason": "x"}, 201, nil)
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"force": true, "reason": "x"}, 200, nil)
	gltest.Eventually(t, "the short-lived environment follows", func() bool {
		var all struct{ Flags []manage.BoardFlag }
		s.Keeper.Do(t, "GET", atPine+"/board?environments=review-482", nil, 200, &all)
		if len(all.Flags) != 2 {
			return false
		}
		lights := s.Get(t, "review-482", "lights").Document
		var segs struct{ Items []struct{ Key string } }
		s.Keeper.Do(t, "GET", atPine+"/environments/review-482/segments", nil, 200, &segs)
		_, later := all.Flags[0].In["review-482"]
		return len(lights.Variants) == 3 && len(segs.Items) == 2 && later
	})
	// A family is told once; those to come as well.
	var given struct{ Environments int }
	noor.Do(t, "PUT", atPine+"/flags/lights/family", object{"family": "review", "variant": "half"}, 200, &given)
	if given.Environments != 2 || s.Get(t, "review-3", "lights").Document.End.Variant != "half" {
		t.Errorf("%+v", given)
	}
	branch(noor, "production", "review-500", 200)
	if got := s.Get(t, "review-500", "lights").Document; got.End.Variant != "half" || got.Lever != flag.On {
		t.Errorf("%+v", got)
	}
	if got := s.Get(t, "production", "lights").Document; got.End.Variant == "half" {
		t.Error("production is no member of the family")
	}
	noor.Do(t, "PUT", atPine+"/flags/lights/family", object{"family": "review", "variant": "none"}, 400, nil)
	var short manage.ShortLived
	s.Keeper.Do(t, "GET", atPine+"/short-lived", nil, 200, &short)
	if len(short.Families) != 1 || len(short.Families[0].Items) != 3 || len(short.Families[0].Gives) != 1 ||
		short.Families[0].Items[0].From != "production" {
		t.Errorf("%+v", short)
	}
	// It ends by itself: nobody can follow it, its keys are revoked, what was counted is forgotten.
	noor.Do(t, "POST", atPine+"/environments/review-500/prolong", object{"for": 6 * 24 * hour}, 200, nil)
	clock.move(73 * time.Hour)
	gltest.Eventually(t, "it has ended", func() bool {
		status, _, _, _ := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["review-482"]).Send("GET",
			"/follow/v1/snapshot", nil)
		return status == 401
	})
	gltest.Eventually(t, "all but the one that was prolonged have ended", func() bool {
		s.Keeper.Do(t, "GET", atPine+"/short-lived", nil, 200, &short)
		for _, e := range short.Families[0].Items {
			if (e.State == app.Active) != (e.Key == "review-500") {
				return false
			}
		}
		return true
	})
	// Within a month it lives again, with other keys and with its flags as they were.
	var again madeEnvironment
	noor.Do(t, "POST", atPine+"/environments/review-482/prolong", object{"for": 24 * hour}, 200, &again)
	if len(again.Keys) != 2 || again.Keys[0].Secret == first.Keys[0].Secret {
		t.Errorf("%+v", again)
	}
	if got := s.Get(t, "review-482", "lights").Document; got.End.Variant != "half" {
		t.Errorf("%+v", got)
	}
	noor.Do(t, "POST", inProd+"/prolong", object{"for": 24 * hour}, 409, nil) // it lasts
	if r := verify(t, s); !r.Sound() {
		t.Errorf("%v", r.Findings)
	}
}
