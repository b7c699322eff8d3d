package sim

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/policy"
)

// password is everybody's in the demo; nothing here is worth more.
const password = "pinecrest-demo"

// caller speaks to the management API as one person.
type caller struct{ *apiclient.Client }

func (c caller) do(ctx context.Context, method, path string, body, out any, version int64) error {
	if err := c.Do(ctx, apiclient.Call{Method: method, Path: path, Body: body, Version: version}, out); err != nil {
		return fmt.Errorf("%s %s: %w", method, path, err)
	}
	return nil
}

// post is do for what is new.
func (c caller) post(ctx context.Context, path string, body, out any) error {
	return c.do(ctx, "POST", path, body, out, 0)
}

type object = map[string]any

// furnisher makes the demo's data, each step as the person whose work it is.
type furnisher struct {
	ctx  context.Context
	by   map[string]caller // by role
	demo *Demo
	err  error
}

func furnish(ctx context.Context, url, code string) (*Demo, error) {
	f := &furnisher{ctx: ctx, by: map[string]caller{}, demo: &Demo{URL: url, Password: password,
		Keys: map[string]string{}, Browser: map[string]string{}, Tokens: map[string]string{}}}
	f.people(url, code)
	f.places()
	f.together()
	f.attributes()
	f.segments()
	f.flags()
	f.policies()
	f.documents()
	f.life()
	f.testUnits()
	f.proposals()
	return f.demo, f.err
}

// try runs a step unless one before it failed.
func (f *furnisher) try(step func() error) {
	if f.err == nil {
		f.err = step()
	}
}

func (f *furnisher) people(at, code string) {
	guest := caller{&apiclient.Client{URL: at}}
	f.try(func() error {
		return guest.post(f.ctx, "/set-up", object{"code": code, "email": "ida.holm@pinecrest.example",
			"name": "Ida Holm", "password": password}, &f.demo.first)
	})
	f.token("keeper", "ida.holm@pinecrest.example", at)
	f.try(func() error {
		return f.by["keeper"].post(f.ctx, "/projects", object{"key": "pinecrest", "title": "Pinecrest Lockers"}, nil)
	})
	for _, p := range []struct{ role, email, name string }{
		{"auditor", "ask.vik", "Ask Vik"}, {"developer", "noor.berg", "Noor Berg"}, {"releaser", "juno.lind",
			"Juno Lind"}, {"on-call", "tove.ek", "Tove Ek"},
	} {
		email := p.email + "@pinecrest.example"
		f.try(func() error {
			return f.by["keeper"].post(f.ctx, "/accounts", object{"email": email, "name": p.name,
				"password": password}, nil)
		})
		f.try(func() error {
			var found struct{ Account string }
			if err := f.by["keeper"].post(f.ctx, "/accounts/find", object{"email": email}, &found); err != nil {
				return err
			}
			return f.by["keeper"].do(f.ctx, "PUT", "/projects/pinecrest/people/"+found.Account,
				object{"roles": []string{p.role}}, nil, 0)
		})
		f.token(p.role, email, at)
	}
}

// token signs somebody in and makes a token for what follows.
func (f *furnisher) token(role, email, url string) {
	f.try(func() error {
		c, err := apiclient.SignIn(f.ctx, apiclient.Client{URL: url}, email, password, "demo", 366)
		if err != nil {
			return fmt.Errorf("sign in as %s: %w", email, err)
		}
		f.demo.Tokens[role], f.by[role] = c.Token, caller{c}
		return nil
	})
}

func (f *furnisher) places() {
	for _, e := range []struct {
		key, title string
		askFirst   bool
	}{{"development", "Development", false}, {"staging", "Staging", false}, {"production", "Production", true}} {
		f.try(func() error {
			var made struct {
				Keys []struct{ Kind, Secret string }
			}
			err := f.by["keeper"].post(f.ctx, "/projects/pinecrest/environments",
				object{"key": e.key, "title": e.title, "askFirst": e.askFirst}, &made)
			for _, k := range made.Keys {
				if k.Kind == "service" {
					f.demo.Keys[e.key] = k.Secret
				} else {
					f.demo.Browser[e.key] = k.Secret
				}
			}
			return err
		})
	}
}

// together makes the teams that own the flags, and a robot that may widen in staging and nothing else.
func (f *furnisher) together() {
	keeper := f.by["keeper"]
	put := func(path string, body object) {
		f.try(func() error { return keeper.do(f.ctx, "PUT", path, body, nil, 0) })
	}
	at := func(name string) string { return name + "@pinecrest.example" }
	put("/teams/doors", object{"title": "Doors and compartments", "members": []string{at("noor.berg"), at("tove.ek")}})
	put("/teams/rounds", object{"title": "Couriers' rounds", "members": []string{at("juno.lind"), at("noor.berg")}})
	put("/projects/pinecrest/teams/doors", object{"roles": []string{}, "in": object{"staging": []string{"releaser"}}})
	put("/projects/pinecrest/teams/rounds", object{"roles": []string{}, "in": object{"staging": []string{"releaser"}}})
	holidays := func(year int, month time.Month, day int) int64 {
		return time.Date(year, month, day, 0, 0, 0, 0, time.UTC).UnixMilli()
	}
	f.try(func() error {
		year := time.Now().AddDate(0, 0, 12).Year() // the demo itself is never frozen
		return keeper.post(f.ctx, "/projects/pinecrest/environments/production/freezes", object{"freeze": object{
			"reason": "the holidays", "from": holidays(year, time.December, 23), "to": holidays(year+1, time.January,
				4)}}, nil)
	})
	var robot struct{ ID string }
	f.try(func() error {
		return keeper.post(f.ctx, "/robots", object{"key": "widener", "name": "Widener"}, &robot)
	})
	put("/projects/pinecrest/people/"+robot.ID, object{"roles": []string{},
		"in": object{"staging": []string{"releaser"}}})
}

// policies are rules for changes: two of the library, and one of Pinecrest's own.
func (f *furnisher) policies() {
	all := policy.Library()
	save := func(p app.Policy) {
		f.try(func() error {
			return f.by["keeper"].do(f.ctx, "PUT", "/projects/pinecrest/policies/"+p.Key, object{"policy": p,
				"reason": "as agreed"}, nil, 0)
		})
	}
	for _, p := range all {
		switch p.Key {
		case "no-friday-afternoons":
			p.Outcome = app.Warn // the demo goes on on Fridays
			save(p)
		case "small-steps":
			p.Dry = true
			save(p)
		}
	}
	save(app.Policy{Key: "two-look-at-cameras", Title: "Two others look at cameras", Nouns: []string{"flag"},
		Tags: []string{"camera"}, Environments: []string{"production"}, Outcome: app.Refuse,
		Reason: "People are in the pictures.", When: "before.lever == 'on' && size(signed) < 2",
		Mend: "propose it, and have two others sign"})
}

// proposals has a flag's opening proposed, and signed by one of the two that it takes.
func (f *furnisher) proposals() {
	at := "/projects/pinecrest/environments/production/flags/handover-photo"
	var v struct {
		Document flag.Document
		Version  int64
	}
	f.try(func() error { return f.by["developer"].do(f.ctx, "GET", at, nil, &v, 0) })
	if f.err != nil {
		return
	}
	d := v.Document
	d.Rules = append(d.Rules, flag.Rule{Name: "Depot crews first", Gives: give("on"),
		When: &condition.Node{Test: condition.SegmentTest,
			Segment: "staff"}})
	var p struct{ ID, Digest string }
	f.try(func() error {
		return f.by["developer"].do(f.ctx, "PUT", at+"?propose=new&title="+url.QueryEscape("Handover photo for "+
			"our own "+
			"people"), object{"document": d, "reason": "our own people try it before the sites do"}, &p, v.Version)
	})
	f.try(func() error {
		return f.by["releaser"].post(f.ctx, "/projects/pinecrest/proposals/"+p.ID+"/comments",
			object{"text": "fine with me; Tove should look as well, she has the night"}, nil)
	})
	f.try(func() error {
		return f.by["releaser"].post(f.ctx, "/projects/pinecrest/proposals/"+p.ID+"/signatures",
			object{"digest": p.Digest}, nil)
	})
}

func (f *furnisher) attributes() {
	for _, a := range []object{
		{"name": "role", "type": "string", "description": "recipient, courier or technician", "example": "recipient"},
		{"name": "site.id", "type": "string", "one": "site", "many": "sites", "description": "the site of the lockers",
			"example": "site-12"},
		{"name": "site.region", "type": "string", "description": "one of five", "example": "north"},
		{"name": "site.plan", "type": "string", "description": "basic or plus", "example": "plus"},
		{"name": "firmware", "type": "version", "loose": true, "description": "of the site's lockers; old ones do " +
			"not say it", "example": "4.2.0"},
		{"name": "app_version", "type": "version", "description": "of the recipient's app", "example": "7.3.0"},
		{"name": "country", "type": "string", "description": "two letters", "example": "no"},
		{"name": "parcels_this_month", "type": "number", "description": "fetched so far", "example": "3"},
		{"name": "email", "type": "string", "personal": true, "derive": "domain",
			"description": "only its domain leaves a service", "example": "noor.berg@pinecrest.example"},
		{"name": "joined", "type": "time", "description": "when the recipient began",
			"example": "2025-04-01T08:00:00Z"},
		{"name": "network", "type": "address", "description": "that the phone is on", "example": "10.20.3.4"},
		{"name": "languages", "type": "list", "description": "that the recipient reads", "example": "nb, en"},
		{"name": "badge", "type": "string", "serverOnly": true, "description": "of Pinecrest's own people",
			"example": "badge-7"},
	} {
		f.try(func() error {
			return f.by["developer"].do(f.ctx, "PUT", "/projects/pinecrest/attributes/"+a["name"].(string), a, nil, 0)
		})
	}
}

func (f *furnisher) segments() {
	var pilots []string
	for i := range 40 {
		pilots = append(pilots, fmt.Sprintf("site-%d", 7+i*13))
	}
	for _, s := range []object{
		{"key": "staff", "title": "Staff of Pinecrest", "when": condition.Node{Test: "present", Attribute: "badge"}},
		{"key": "old-firmware", "title": "Lockers below 4.2.0", "when": condition.Node{Test: "version.less",
			Attribute: "firmware", Text: []string{"4.2.0"}}},
		{"key": "plus-sites", "title": "Sites on the plus plan", "when": condition.Node{Test: "string.equals",
			Attribute: "site.plan", Text: []string{"plus"}}},
		{"key": "pilot-sites", "title": "Sites that try things first", "lists": "site.id",
			"in": flag.List{Units: pilots}, "out": flag.List{Units: []string{"site-33"}}},
		{"key": "night-crews", "title": "Couriers at night", "when": condition.Node{All: []condition.Node{
			{Test: "string.equals", Attribute: "role", Text: []string{"courier"}},
			{Test: condition.WeeklyTest, Weekly: &condition.Weekly{Days: []string{"mon", "tue", "wed", "thu", "fri"},
				From: "22:00", To: "06:00", Zone: "Europe/Oslo"}},
		}}},
	} {
		s["reason"] = "first set-up"
		f.try(func() error { return f.by["developer"].post(f.ctx, "/projects/pinecrest/segments", s, nil) })
	}
}

func (f *furnisher) testUnits() {
	f.try(func() error {
		return f.by["developer"].do(f.ctx, "PUT", "/projects/pinecrest/test-units", object{"units": []object{
			{"unit": "recipient-17", "name": "My own phone", "attributes": object{"role": "recipient",
				"site.id": "site-12", "site.region": "north", "firmware": "4.2.3"},
				"expected": object{"one-touch-open": "on"}},
			{"unit": "test-old-locker", "name": "An old locker", "attributes": object{"role": "recipient",
				"site.id": "site-7", "site.region": "east", "firmware": "4.1.7"},
				"expected": object{"one-touch-open": "off"}},
			{"unit": "test-no-firmware", "name": "A locker that does not say",
				"attributes": object{"role": "recipient", "site.id": "site-20", "site.region": "coast"},
				"expected":   object{"one-touch-open": "off"}},
			{"unit": "test-staff", "name": "Somebody with a badge", "attributes": object{"role": "technician",
				"site.id": "site-46", "site.region": "west", "firmware": "4.3.1", "badge": "badge-7"},
				"expected": object{"one-touch-open": "on"}},
			{"unit": "test-courier", "name": "A crew at night", "attributes": object{"role": "courier",
				"site.region": "north", "crew_size": "2"}, "expected": object{}},
		}}, nil, 0)
	})
}

func (f *furnisher) flags() {
	variant := func(name string, value any) object { return object{"name": name, "value": value} }
	for _, d := range []object{
		{"key": "one-touch-open", "title": "One-touch open", "recipe": "step-by-step", "goneBy": "2027-03-31",
			"owners": []string{"doors"}, "tags": []string{"app"},
			"description": "Opens a compartment when the phone is near. Fails on lockers with firmware below 4.2.0."},
		{"key": "arrival-estimate", "title": "Arrival estimate", "type": "string", "recipe": "side-by-side",
			"goneBy": "2027-06-30", "resting": "timetable", "visible": true,
			"variants": []object{variant("timetable", "timetable"), variant("traffic-aware", "traffic-aware"),
				variant("learned", "learned")},
			"description": "How the arrival of a parcel is estimated.", "owners": []string{"rounds"}},
		{"key": "night-batching", "title": "Night batching", "recipe": "step-by-step", "goneBy": "2027-02-28",
			"description": "Plans rounds at night; a whole site behaves alike.", "owners": []string{"rounds"}},
		{"key": "weather-holds", "title": "Weather holds", "recipe": "switch", "goneBy": "stays",
			"loses":       "Rounds no longer wait for the weather: couriers use yesterday's table.",
			"description": "Asks the weather service before a round starts.", "owners": []string{"rounds"}},
		{"key": "door-retries", "title": "Door retries", "type": "object", "goneBy": "stays",
			"resting": "calm", "owners": []string{"doors"},
			"variants": []object{variant("calm", object{"attempts": 2, "pauseMillis": 400}),
				variant("eager", object{"attempts": 5, "pauseMillis": 150})},
			"description": "Attempts and back-off of the door's motor."},
		{"key": "chilled-compartments", "title": "Chilled compartments", "goneBy": "stays",
			"description": "Sites on the plus plan.", "owners": []string{"doors"}, "visible": true},
		{"key": "handover-photo", "title": "Handover photo", "recipe": "step-by-step", "goneBy": "2027-05-31",
			"tags":        []string{"camera"},
			"description": "A photo at the handover; opens on a date.", "owners": []string{"doors"}, "visible": true},
		{"key": "telemetry-interval", "title": "Telemetry interval", "type": "number", "tags": []string{"tune"},
			"goneBy": "stays", "resting": "minute", "owners": []string{"doors"},
			"variants":    []object{variant("minute", 60), variant("quarter", 900)},
			"description": "Seconds between reports of a locker."},
	} {
		f.try(func() error {
			d["reason"] = "first set-up"
			return f.by["developer"].post(f.ctx, "/projects/pinecrest/flags", d, nil)
		})
	}
}

// edit changes a document as somebody, with a reason.
func (f *furnisher) edit(role, env, key, reason string, change func(*flag.Document)) {
	f.try(func() error {
		path := "/projects/pinecrest/environments/" + env + "/flags/" + key
		var v struct {
			Document flag.Document
			Version  int64
		}
		if err := f.by[role].do(f.ctx, "GET", path, nil, &v, 0); err != nil {
			return err
		}
		change(&v.Document)
		return f.by[role].do(f.ctx, "PUT", path, object{"document": v.Document, "reason": reason}, nil, v.Version)
	})
}

func give(variant string) flag.Gives { return flag.Gives{Variant: variant} }

func shares(by string, parts ...flag.Part) flag.Gives {
	return flag.Gives{Shares: &flag.Shares{By: []string{by}, Parts: parts}}
}

func share(variant string, percent uint32) flag.Part {
	return flag.Part{Variant: variant, Share: percent * 10_000}
}

func goOn(percent uint32) flag.Part { return flag.Part{GoesOn: true, Share: percent * 10_000} }

func (f *furnisher) documents() {
	segment := func(key string) *condition.Node { return &condition.Node{Test: condition.SegmentTest, Segment: key} }
	for _, env := range []string{"development", "staging"} {
		for _, key := range []string{"one-touch-open", "night-batching", "weather-holds"} {
			f.edit("developer", env, key, "try it", func(d *flag.Document) { d.Lever, d.End = flag.On, give("on") })
		}
		f.edit("developer", env, "arrival-estimate", "try it", func(d *flag.Document) {
			d.Lever, d.End = flag.On, give("learned")
		})
	}
	const prod = "production"
	f.edit("developer", prod, "one-touch-open", "staff try it first", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{
			{Name: "Just me", Gives: give("on"), When: &condition.Node{Test: "string.one-of",
				Attribute: condition.KeyAttribute, Text: []string{"recipient-17"}}},
			{Name: "Old firmware", Gives: give("off"), When: segment("old-firmware")},
			{Name: "Staff first", Gives: give("on"), When: segment("staff")},
		}
	})
	f.edit("releaser", prod, "one-touch-open", "first sites, after a quiet week with staff", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "First sites", Gives: shares("site.id", share("on", 2), goOn(98))})
	})
	f.edit("releaser", prod, "one-touch-open", "no complaints from the first sites", func(d *flag.Document) {
		d.Rules[3].Gives.Shares.Parts = []flag.Part{share("on", 8), goOn(92)}
	})
	f.edit("developer", prod, "arrival-estimate", "compare three ways", func(d *flag.Document) {
		d.Lever = flag.On
		d.End = shares(condition.KeyAttribute, share("traffic-aware", 30), share("learned", 8), share("timetable", 62))
	})
	f.edit("releaser", prod, "night-batching", "its release is coming", func(d *flag.Document) { d.Lever = flag.On })
	f.edit("releaser", prod, "telemetry-interval", "its release is coming", func(d *flag.Document) {
		d.Lever = flag.On
	})
	f.edit("developer", prod, "chilled-compartments", "as sold", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Plus sites", When: segment("plus-sites"), Gives: give("on")}}
	})
	f.edit("developer", prod, "handover-photo", "opens after the holidays", func(d *flag.Document) {
		d.Lever = flag.On
		d.Needs = []flag.Need{{Flag: "one-touch-open", Variant: "on"}}
		d.Rules = []flag.Rule{{Name: "From January", Gives: give("on"), When: &condition.Node{All: []condition.Node{
			{Test: "clock.at-or-after", Text: []string{"2027-01-11T08:00:00+01:00"}}, *segment("pilot-sites")}}}}
	})
	f.edit("releaser", prod, "weather-holds", "the weather service is in use", func(d *flag.Document) {
		d.Lever = flag.On
	})
	f.edit("developer", prod, "door-retries", "stiff doors on the coast", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Coast", Gives: give("eager"), When: &condition.Node{Test: "string.one-of",
			Attribute: "site.region", Text: []string{"coast", "west"}}}}
	})
}
