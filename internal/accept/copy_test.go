package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

type copied struct {
	Items []struct {
		Environment string
		Version     int64
		Document    flag.Document
		Difference  []struct{ Text string }
		Preview     *struct{ Shifts []any }
	}
}

// A flag's rules are put into other environments, with the difference first, and the same units in them.
func TestRulesAreCopied(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Environment(t, "night", true)
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "First sites",
			Gives: flag.Gives{Shares: &flag.Shares{By: []string{"targetingKey"},
				Parts: []flag.Part{{Variant: "on", Share: 400_000}, {GoesOn: true, Share: 600_000}}}}}}
	})
	// Shares that were widened once lie otherwise than those that begin so wide.
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules[0].Gives.Shares.Parts[0].Share, d.Rules[0].Gives.Shares.Parts[1].Share = 300_000, 700_000
	})
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules[0].Gives.Shares.Parts[0].Share, d.Rules[0].Gives.Shares.Parts[1].Share = 500_000, 500_000
	})
	raw := func(v any) string {
		b, _ := json.Marshal(v)
		return string(b)
	}
	const address = "/projects/pinecrest/flags/night-batching/copy-rules"
	into := func(envs ...string) (to []object) {
		for _, e := range envs {
			to = append(to, object{"environment": e, "version": s.Get(t, e, "night-batching").Version})
		}
		return to
	}
	var dry, done copied
	s.Keeper.Do(t, "POST", address+"?dryRun=true", object{"from": "production", "to": into("staging", "night"),
		"reason": "as there"},
		200, &dry)
	if len(dry.Items) != 2 || dry.Items[1].Environment != "night" || len(dry.Items[0].Difference) != 1 ||
		dry.Items[0].Preview == nil || len(s.Get(t, "staging", "night-batching").Document.Rules) != 0 {
		t.Fatalf("tried: %+v", dry)
	}
	// night asks first
	s.Keeper.Do(t, "POST", address, object{"from": "production", "to": into("staging", "night")}, 400, nil)
	s.Keeper.Do(t, "POST", address, object{"from": "production", "to": into("staging", "night"), "reason": "as there"},
		200, &done)
	for i := range done.Items {
		if raw(done.Items[i].Document) != raw(dry.Items[i].Document) {
			t.Errorf("what was shown is not what happened: %+v, %+v", dry.Items[i], done.Items[i])
		}
	}
	if a, b := raw(s.Get(t, "production", "night-batching").Document.Rules), raw(done.Items[0].Document.Rules); a != b {
		t.Errorf("of %s the copy is %s", a, b)
	}
	here, there := open(t, s, "production"), open(t, s, "staging")
	s.Edit(t, "staging", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	until(t, there, "the copy", at(s.Get(t, "staging", "night-batching").Revision))
	until(t, here, "the rules", at(s.Get(t, "production", "night-batching").Revision))
	ctx, on := context.Background(), 0
	for i := range 1_000 {
		unit := greenlever.Unit(fmt.Sprintf("site-%d", i))
		a, b := here.Bool(ctx, "night-batching", unit, false), there.Bool(ctx, "night-batching", unit, false)
		if a != b {
			t.Fatalf("site-%d gets %t here, %t there", i, a, b)
		}
		if a {
			on++
		}
	}
	if on < 430 || on > 570 {
		t.Errorf("%d of 1,000 are in", on)
	}
	// Again it is nothing; drawn anew, others are in, and a dry run shows which.
	s.Keeper.Do(t, "POST", address, object{"from": "production", "to": into("staging"), "reason": "again"}, 200, &done)
	if len(done.Items) != 0 {
		t.Errorf("again: %+v", done)
	}
	anew := object{"from": "production", "to": into("staging"), "drawAnew": true, "reason": "others"}
	s.Keeper.Do(t, "POST", address+"?dryRun=true", anew, 200, &dry)
	s.Keeper.Do(t, "POST", address, anew, 200, &done)
	salt := func(c *copied) string { return c.Items[0].Document.Rules[0].Gives.Shares.Salt }
	if salt(&dry) != salt(&done) || salt(&done) == s.Get(t, "production",
		"night-batching").Document.Rules[0].Gives.Shares.Salt {
		t.Errorf("drawn anew: %s, %s", salt(&dry), salt(&done))
	}
	s.Keeper.Do(t, "POST", address, anew, 412, nil) // staging has moved since
	for body, want := range map[*object]int{{"from": "nowhere", "to": into("staging")}: 400,
		{"from": "production", "to": into("production")}: 400, {"from": "production", "to": []object{}}: 400,
		{"from": "production", "to": append(into("staging"), into("staging")...)}: 400} {
		(*body)["reason"] = "test"
		s.Keeper.Do(t, "POST", address, *body, want, nil)
	}
	s.Person(t, "per.lund", "auditor").Do(t, "POST", address, anew, 403, nil)
}
