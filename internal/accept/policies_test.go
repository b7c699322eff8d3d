package accept

import (
	"fmt"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

func savePolicy(t testing.TB, s *gltest.Service, p app.Policy) {
	t.Helper()
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/policies/"+p.Key, object{"policy": p}, 200, nil)
}

func rulings(t testing.TB, s *gltest.Service, key string) []manage.RulingView {
	t.Helper()
	var all struct{ Items []manage.RulingView }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/policies/"+key+"/rulings", nil, 200, &all)
	return all.Items
}

// A policy refuses, warns or notes what it bites, dry or not, in whatever way the change is made; what it cannot judge
// it treats as it says; each ruling is kept; a keeper of the installation overrules it loudly; a stop is asked nothing.
func TestPolicies(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	steps := app.Policy{Key: "small-steps", Title: "Small steps", Nouns: []string{"flag", "release"}, When: "difference.step > 40.0",
		Outcome: app.Refuse, Mend: "take smaller ones", Environments: []string{"production"}}
	savePolicy(t, s, steps)
	share := func(to uint32) func(*flag.Document) {
		return func(d *flag.Document) {
			d.Lever, d.End = flag.On, flag.Gives{Shares: &flag.Shares{Parts: []flag.Part{{Variant: "on", Share: to}, {Variant: "off", Share: 1_000_000 - to}}}}
		}
	}
	try := func(key string, edit func(*flag.Document), query, reason string, want int) string {
		t.Helper()
		v := s.Get(t, "production", key)
		d := *v.Document
		edit(&d)
		status, raw, _, err := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/"+key+query,
			mustJSON(t, object{"document": d, "reason": reason}))
		if err != nil || status != want {
			t.Fatalf("%d, not %d: %s", status, want, raw)
		}
		return string(raw)
	}
	try("doors", share(80_000), "", "", 200)
	if says := try("doors", share(900_000), "", "", 409); !strings.Contains(says, `policy \"Small steps\" refuses: take smaller ones`) {
		t.Error(says)
	}
	if says := try("doors", share(900_000), "?dryRun=true", "", 200); !strings.Contains(says, "refuses: take smaller ones") {
		t.Error(says)
	}
	if r := rulings(t, s, "small-steps"); len(r) != 1 || r[0].Subject != "doors" || r[0].Name != "Ida Holm" {
		t.Errorf("%+v", r)
	}
	s.Keeper.Do(t, "POST", inProd+"/flags/lights/releases", obj{"to": "on", "reason": "x", "stages": []obj{{"name": "8 %", "share": 80_000},
		{"name": "all", "share": 1_000_000}}}, 409, nil)
	try("doors", share(300_000), "", "", 200)
	// Overruled, by who keeps the installation, for a reason.
	try("doors", share(900_000), "?force=true", "", 400)
	if says := try("doors", share(900_000), "?force=true", "it burns", 200); !strings.Contains(says, "forced: ") {
		t.Error(says)
	}
	noor := s.Person(t, "noor.berg", "developer")
	noor.With("If-Match", "1").Do(t, "PUT", inProd+"/flags/lights?force=true", object{"document": s.Get(t, "production", "lights").Document}, 403, nil)
	var history struct{ Items []manage.Changed }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/changes?action=policy.forced", nil, 200, &history)
	if len(history.Items) != 1 || history.Items[0].Reason != "it burns" {
		t.Errorf("%+v", history)
	}
	if r := rulings(t, s, "small-steps"); len(r) != 3 || !r[0].Forced {
		t.Errorf("%+v", r)
	}
	// Dry, warning, and one that cannot be judged.
	steps.Dry = true
	savePolicy(t, s, steps)
	savePolicy(t, s, app.Policy{Key: "say-why", Title: "Say why", Nouns: []string{"flag"}, When: "size(change.reason) < 10",
		Outcome: app.Warn, Mend: "say why"})
	try("doors", share(0), "", "", 200)
	if says := try("doors", share(990_000), "", "", 200); !strings.Contains(says, "warns: say why") {
		t.Error(says)
	}
	if r := rulings(t, s, "small-steps"); len(r) != 4 || !r[0].Dry {
		t.Errorf("%+v", r)
	}
	broken := app.Policy{Key: "broken", Title: "Broken", Nouns: []string{"flag"}, When: "elsewhere['moon'].lever == 'on'",
		Outcome: app.Refuse, Mend: "ask a keeper"}
	savePolicy(t, s, broken)
	if says := try("doors", share(500_000), "", "long enough", 409); !strings.Contains(says, "could not be judged: no such key: moon") {
		t.Error(says)
	}
	broken.Outcome = app.Warn
	savePolicy(t, s, broken)
	try("doors", share(500_000), "", "long enough", 200)
	if r := rulings(t, s, "broken"); len(r) != 2 || r[0].Failed == "" || r[0].Outcome != app.Warn {
		t.Errorf("%+v", r)
	}
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/policies/x", object{"policy": app.Policy{Title: "X", Nouns: []string{"flag"},
		When: "difference.stepp > 1.0", Outcome: app.Refuse, Mend: "no"}}, 400, nil)
	// A policy that was taken away and comes again goes on counting, so that its rulings are not another one's.
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/broken/remove", nil, 200, nil)
	var again app.Policy
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/policies/broken", object{"policy": broken}, 200, &again)
	if again.Version != 3 {
		t.Errorf("it is version %d again", again.Version)
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/broken/remove", nil, 200, nil)
	// Definitions, and signatures of another team, which a proposal brings.
	savePolicy(t, s, app.Policy{Key: "names", Title: "Names", Nouns: []string{"definition"}, When: "!flag.key.contains('-')",
		Outcome: app.Refuse, Mend: "two words"})
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shutters", "goneBy": "stays"}, 409, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shutter-noise", "goneBy": "stays"}, 201, nil)
	savePolicy(t, s, app.Policy{Key: "accounts-sign", Title: "Accounts sign", Nouns: []string{"flag"}, Tags: []string{"billing"},
		When: "!signed.exists(s, 'accounts' in s.teams)", Outcome: app.Refuse, Mend: "propose it"})
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/lights", object{"tags": []string{"billing"}}, 409, nil) // names
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/names/remove", nil, 200, nil)
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/lights", object{"tags": []string{"billing"}}, 200, nil)
	try("lights", share(80_000), "", "long enough", 409)
	s.Keeper.Do(t, "PUT", "/teams/accounts", object{"title": "Accounts", "members": []string{"noor.berg@pinecrest.example"}}, 200, nil)
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1}}, 200, nil)
	id := proposedPut(t, s.Keeper, s, "new", "lights", share(80_000))
	signIt(t, noor, id, 200)
	s.Keeper.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 200, nil)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"lights"}, "reason": "x"}, 201, nil)
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A policy is tried on the past before it counts: what it would have bitten, by the documents of then.
func TestPolicyOnThePast(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	end := func(env string, variant string) {
		s.Edit(t, env, "doors", func(d *flag.Document) { d.Lever, d.End = flag.On, flag.Gives{Variant: variant} })
	}
	end("production", "off")
	end("production", "on") // while it was off in staging
	end("staging", "on")
	end("production", "off")
	end("production", "on")
	var trial manage.PolicyTrial
	p := app.Policy{Key: "staging-first", Title: "Staging first", Nouns: []string{"flag"}, Environments: []string{"production"},
		When: "difference.step > 0.0 && elsewhere['staging'].lever == 'off'", Outcome: app.Refuse, Mend: "staging first"}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/try", object{"policy": p}, 200, &trial)
	if trial.Bitten < 1 || trial.Bitten > 2 || trial.Looked < 4 || trial.Unknown != 0 || trial.Bites[0].Flag != "doors" {
		t.Errorf("%+v", trial)
	}
	p.When = "shift.moved > 3"
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/try", object{"policy": p}, 200, &trial)
	if trial.Bitten != 0 || trial.Unknown != trial.Looked || !strings.Contains(trial.Failed, "not known any more") {
		t.Errorf("%+v", trial)
	}
	p.When = "true"
	s.Keeper.Do(t, "POST", "/projects/pinecrest/policies/try", object{"policy": p}, 200, &trial)
	if trial.Bitten != trial.Looked || trial.Names[trial.Bites[0].Actor] != "Ida Holm" {
		t.Errorf("%+v", trial)
	}
}
