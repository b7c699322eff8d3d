package accept

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
)

// document is the OpenAPI document, with its schemas compiled.
type document struct {
	raw      any
	compiler *jsonschema.Compiler
	paths    map[string]map[string]struct {
		OperationID string
		Responses   map[string]struct {
			Content map[string]struct{ Schema json.RawMessage }
		}
		RequestBody *struct {
			Content map[string]struct{ Schema json.RawMessage }
		}
	}
}

func fetchDocument(t *testing.T, s *gltest.Service) *document {
	t.Helper()
	_, raw, _, err := s.Keeper.Send("GET", "/openapi.json", nil)
	if err != nil {
		t.Fatal(err)
	}
	d := &document{compiler: jsonschema.NewCompiler()}
	if d.raw, err = jsonschema.UnmarshalJSON(bytes.NewReader(raw)); err != nil {
		t.Fatal(err)
	}
	if err := d.compiler.AddResource("https://greenlever.example/openapi.json", d.raw); err != nil {
		t.Fatal(err)
	}
	var parsed struct {
		OpenAPI string
		Paths   json.RawMessage
	}
	if err := json.Unmarshal(raw, &parsed); err != nil || parsed.OpenAPI != "3.1.0" {
		t.Fatalf("version %q %v", parsed.OpenAPI, err)
	}
	if err := json.Unmarshal(parsed.Paths, &d.paths); err != nil {
		t.Fatal(err)
	}
	ids := map[string]string{}
	for path, operations := range d.paths {
		for method, op := range operations {
			if other := ids[op.OperationID]; other != "" || op.OperationID == "" {
				t.Errorf("%s %s and %s are both operation %q", method, path, other, op.OperationID)
			}
			ids[op.OperationID] = method + " " + path
			if _, says := op.Responses["400"]; !says {
				t.Errorf("%s %s does not say what a refusal is", method, path)
			}
		}
	}
	return d
}

// check holds a body against the schema at a pointer into the document.
func (d *document) check(t *testing.T, what, pointer string, body []byte) {
	t.Helper()
	schema, err := d.compiler.Compile("https://greenlever.example/openapi.json#" + pointer)
	if err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		t.Fatalf("%s: %v in %s", what, err, body)
	}
	if err := schema.Validate(v); err != nil {
		t.Errorf("%s: %v\n%s", what, err, body)
	}
}

func escape(path string) string {
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(path)
}

// Every route of the document is asked once, and what it takes and answers fits its schemas.
func TestAnswersFitTheDocument(t *testing.T) { broad(t, gltest.Start(t)) }

// The document passes a validator of others', and says which words a field takes and what may be left
// out of what is sent.
func TestTheDocumentIsValid(t *testing.T) {
	s := gltest.Start(t)
	_, raw, _, err := s.Keeper.Send("GET", "/openapi.json", nil)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "openapi.json")
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	lint := exec.Command("node", "browser/testdata/openapi.mjs", path)
	lint.Dir = "../../console"
	if said, err := lint.CombinedOutput(); err != nil || strings.TrimSpace(string(said)) != "no problems" {
		t.Errorf("%v: %s", err, said)
	}
	d := fetchDocument(t, s)
	for body, pointer := range map[string]string{
		`{"key":"x","goneBy":"stays"}`: "NewFlagBody", `{"type":"string"}`: "AttributeBody",
		`{"key":"a"}`: "SegmentBody", `{}`: "SegmentEdit",
		`{"document":{"lever":"on","rules":[{"name":"Staff","gives":{"shares":{"by":["site.id"],"parts":[{"variant":"on","share":80000},{"goesOn":true,"share":920000}]}}}]}}`: "DocumentBody",
	} {
		d.check(t, pointer, "/components/schemas/"+pointer, []byte(body))
	}
	for body, pointer := range map[string]string{`{"goneBy":"stays"}`: "NewFlagBody",
		`{"key":"x","goneBy":"stays","type":"integer"}`: "NewFlagBody",
		`{"document":{"lever":"up"}}`:                   "DocumentBody"} {
		schema, err := d.compiler.Compile("https://greenlever.example/openapi.json#/components/schemas/" + pointer)
		if err != nil {
			t.Fatal(err)
		}
		v, _ := jsonschema.UnmarshalJSON(strings.NewReader(body))
		if schema.Validate(v) == nil {
			t.Errorf("%s takes %s", pointer, body)
		}
	}
}

// A program goes on where a newer one has added a column to each table: it names the columns
// that it reads and writes.
func TestColumnsOfANewerRelease(t *testing.T) {
	s := gltest.Start(t)
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()")
	if err != nil {
		t.Fatal(err)
	}
	var tables []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		tables = append(tables, name)
	}
	rows.Close()
	for _, name := range tables {
		if _, err := db.Exec("ALTER TABLE " + name +
			" ADD COLUMN of_tomorrow INT NOT NULL DEFAULT 7 FIRST"); err != nil {
			t.Fatal(err)
		}
	}
	if len(tables) < 35 {
		t.Fatalf("only %d tables", len(tables))
	}
	broad(t, s)
	s.Serve(t) // another node of this release starts beside it
}

// broad asks every route, and holds each answer against the document.
func broad(t *testing.T, s *gltest.Service) {
	t.Helper()
	s.Flag(t, "one-touch-open")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments",
		object{"key": "staff", "when": object{"not": object{"test": "absent", "attribute": "badge"}}}, 201, nil)
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "r", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: "on", Share: 500_000}, {GoesOn: true, Share: 500_000}}}}}}
	})
	s.Person(t, "noor.berg", "developer")
	var me struct{ Account struct{ ID string } }
	s.Keeper.Do(t, "GET", "/me", nil, 200, &me)
	var stop struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, &stop)
	_, waiting := formed(t, s.URL()+"/oauth/device_authorization", url.Values{"client_name": {"greenlever at a laptop"}})
	device, _ := waiting["user_code"].(string)
	var drill struct{ ID string }
	s.Keeper.Do(t, "POST", inProd+"/drills", object{"flags": []string{"one-touch-open"}}, 201, &drill)
	v := s.Get(t, "production", "one-touch-open")
	v.Document.Lever = flag.Off
	for _, key := range []string{"night-batching", "telemetry", "handover", "fourth"} {
		s.Flag(t, key)
		s.Edit(t, "production", key, func(d *flag.Document) { d.Lever = flag.On })
	}
	plan := object{"stages": []object{{"name": "8 %", "share": 80_000, "least": "1d"}, {"name": "30 %",
		"share": 300_000, "least": "1d"}, {"name": "65 %", "share": 650_000, "least": "1d"}}, "expected": "less noise"}
	var release, asks, halts, webhook, second struct {
		ID    string
		State struct {
			Is       string
			Sequence int64
		}
	}
	s.Keeper.Do(t, "POST", inProd+"/flags/handover/releases", object{"stages": []object{{"name": "8 %",
		"share": 80_000, "signOff": []string{"keeper"}}, {"name": "100 %", "share": 1_000_000}}}, 201, &asks)
	s.Keeper.Do(t, "POST", inProd+"/flags/fourth/releases", plan, 201, &halts)
	s.Keeper.Do(t, "POST", inProd+"/flags/night-batching/releases", plan, 201, &release)
	gltest.Eventually(t, "it is under way", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/releases/"+release.ID, nil, 200, &release)
		return release.State.Is == "under-way"
	})
	gltest.Eventually(t, "it asks to sign", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/releases/"+asks.ID, nil, 200, &asks)
		return asks.State.Is == "asking"
	})
	hooked := object{"webhook": object{"title": "Tickets", "url": "https://tickets.pinecrest.example/told",
		"id": "", "made": 0, "kinds": []string{"release.*"}, "environments": []string{}, "flags": []string{},
		"tags": []string{}}}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks", hooked, 201, &webhook)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/webhooks", hooked, 201, &second)
	wire := wired(t, s, object{"title": "Slow", "flags": []string{"one-touch-open"}})
	goes := wired(t, s, object{"title": "Slow", "flags": []string{"one-touch-open"}})
	var key struct{ ID string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser", "purpose": "x"}, 201, &key)
	var token struct{ ID string }
	session := s.Session(t, gltest.KeeperEmail)
	session.Do(t, "POST", "/me/tokens", object{"name": "x", "days": 1}, 201, &token)
	noor := s.Account(t, "noor.berg@pinecrest.example")
	s.Session(t, "noor.berg@pinecrest.example")
	var sessions struct{ Items []struct{ ID string } }
	s.Keeper.Do(t, "GET", "/accounts/"+noor+"/sessions", nil, 200, &sessions)
	ended := sessions.Items[0].ID
	s.Keeper.Do(t, "PUT", "/teams/doors", object{"title": "Doors", "members": []string{}}, 200, nil)
	var frost struct{ ID string }
	s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "the fair", "to": time.Now().Add(
		24 * time.Hour).UnixMilli(), "from": time.Now().Add(time.Hour).UnixMilli()}}, 201, &frost)
	var robot struct{ ID string }
	s.Keeper.Do(t, "POST", "/robots", object{"key": "widener"}, 201, &robot)
	propose := func(who gltest.Caller, into string, flags ...string) string {
		var p struct{ ID string }
		for _, key := range flags {
			who.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/"+key+"?title=Better&propose="+into,
				object{"title": "Better"}, 202, &p)
			into = p.ID
		}
		return p.ID
	}
	tove := s.Person(t, "tove.ek", "on-call") // who may propose what she may not do
	proposed := map[string]string{"": propose(s.Keeper, "new", "handover"), "/items/{item}/remove": propose(s.Keeper,
		"new", "handover", "fourth"), "/apply": propose(s.Keeper, "new", "telemetry"), "/withdraw": propose(s.Keeper,
		"new", "telemetry"), "/signatures": propose(tove, "new", "handover")}
	leaver := s.Account(t, "tove.ek@pinecrest.example")
	var bound app.Identity // of the keeper, who asks to be it in a browser
	bound.ID = asksToBe(t, s, me.Account.ID)
	var address struct{ ID string }
	s.Keeper.Do(t, "POST", "/projects/pinecrest/calendar/addresses", nil, 201, &address)
	aPolicy := app.Policy{Key: "small-steps", Title: "Small steps", Nouns: []string{"flag"}, When: "difference.step > 90.0",
		Outcome: app.Note, Mend: "take smaller ones", Environments: []string{}, Tags: []string{}}
	var toSign struct{ Digest string }
	s.Keeper.Do(t, "GET", atProposals+"/"+proposed["/signatures"], nil, 200, &toSign)
	// what would end the keeper's own
	hers := map[string]bool{"POST /accounts/{account}/password": true,
		"DELETE /accounts/{account}/sessions/{session}": true}

	s.Keeper.Do(t, "PUT", "/projects/pinecrest/attributes/badge", attributeBody("badge", "string"), 200, nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/door-open-failed", object{"metric": object{"title": "Failed",
		"kind": "rate"}}, 200, nil)

	gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"]).Do(t, "POST",
		"/follow/v1/report",
		`{"instance":"i1","sequence":1,"application":"door","version":"2.3.1","started":1,"leaving":true,"counts":[{"flag":"one-touch-open","variant":"off","count":3}],"unknown":[{"flag":"one-tuch-open","type":"boolean","fallback":true,"count":2}]}`, 200, nil)

	s.Flag(t, "over-flag")
	s.Keeper.Do(t, "POST", inProd+"/branch", object{"key": "trial-1", "for": 3_600_000, "reason": "x"}, 200, nil)
	for _, key := range []string{"opening", "closing"} {
		s.Keeper.Do(t, "PUT", "/projects/pinecrest/bundles/"+key, object{"bundle": object{"title": "Opening",
			"flags": []string{"one-touch-open", "telemetry"}}}, 200, nil)
	}
	d := fetchDocument(t, s)
	const api = "/api/v1"
	values := map[string]string{"project": "pinecrest", "bundle": "opening", "change": lastChange(t, s, "staff").Change, "environment": "production", "flag": "one-touch-open",
		"segment": "staff", "account": me.Account.ID, "key": key.ID, "token": token.ID, "attribute": "badge",
		"session": ended, "instance": "i1", "recipe": "switch", "revision": "2", "team": "doors", "freeze": frost.ID, "policy": "small-steps", "identity": bound.ID, "address": address.ID, "proposal": proposed[""], "item": "1",
		"device": device, "drill": drill.ID, "stop": stop.Stop, "tripwire": wire.ID, "release": release.ID, "webhook": webhook.ID, "ladder": "careful", "metric": "door-open-failed"}
	wires := object{"tripwire": object{"id": "", "title": "Slow", "flags": []string{"one-touch-open"}, "made": 0,
		"hint": ""}}
	bodies := map[string]any{
		"POST /sign-in": object{"email": gltest.KeeperEmail,
			"password": gltest.Password},
		"POST /accounts": object{"email": "x@pinecrest.example",
			"name": "X", "password": gltest.Password},
		"POST /accounts/{account}/password": object{
			"password": gltest.Password},
		"POST /accounts/find": object{
			"email": gltest.KeeperEmail},
		"PATCH /accounts/{account}": object{"name": "Ida M. Holm"},
		"POST /me/password": object{"old": gltest.Password,
			"password": gltest.Password, "keepTokens": []string{"test", "x"}},
		"POST /me/tokens": object{"name": "x", "days": 1},
		"POST /epoch":     object{"reason": "test"},
		"POST /projects":  object{"key": "other"},
		"PUT /projects/{project}/people/{account}": object{
			"roles": []string{"keeper"}},
		"POST /projects/{project}/environments":                object{"key": "night"},
		"PATCH /projects/{project}/environments/{environment}": object{"title": "Production"},
		"POST /projects/{project}/environments/{environment}/keys": object{"kind": "service",
			"purpose": "y"},
		"POST /projects/{project}/flags": nil,
		"PUT /projects/{project}/recipes/{recipe}": object{"recipe": object{"title": "A switch", "type": "boolean",
			"resting": "off", "end": "on", "variants": []object{{"name": "on", "value": true},
				{"name": "off", "value": false}}}},
		"POST /projects/{project}/recipes/{recipe}/remove": object{},
		"PUT /projects/{project}/ladders/{ladder}": object{"ladder": object{"title": "Careful", "stages": []object{
			{"name": "self", "asks": true}, {"name": "8 %", "share": 80_000, "least": "1d"}}}},
		"PUT /projects/{project}/metrics/{metric}": object{"metric": object{"title": "Doors that stayed shut",
			"kind": "rate"}},
		"POST /projects/{project}/metrics/{metric}/remove":                          object{},
		"POST /projects/{project}/ladders/{ladder}/remove":                          object{},
		"POST /projects/{project}/webhooks":                                         hooked,
		"PUT /projects/{project}/webhooks/{webhook}":                                hooked,
		"POST /projects/{project}/webhooks/{webhook}/rotate":                        object{},
		"POST /projects/{project}/webhooks/{webhook}/remove":                        object{},
		"POST /projects/{project}/webhooks/{webhook}/replay":                        object{},
		"POST /projects/{project}/environments/{environment}/flags/{flag}/releases": plan,
		"POST /projects/{project}/environments/{environment}/releases/{release}/acts": object{"do": "next",
			"sequence": release.State.Sequence},
		"POST /projects/{project}/environments/{environment}/releases/{release}/signatures": object{"do": "sign",
			"sequence": asks.State.Sequence},
		"POST /projects/{project}/environments/{environment}/releases/{release}/halts": object{"do": "hold"},
		"POST /projects/{project}/flags/{flag}/copy-rules": object{"from": "production", "to": []object{
			{"environment": "staging", "version": 1}}},
		"PATCH /projects/{project}/flags/{flag}": object{"title": "One-touch"},
		"PUT /projects/{project}/environments/{environment}/flags/{flag}": object{"document": v.Document,
			"reason": "x"},
		"POST /projects/{project}/environments/{environment}/flags/{flag}/why": object{
			"context": object{"targetingKey": "x", "site": object{"id": "site-1"}}},
		"POST /projects/{project}/environments/{environment}/instances/{instance}/gone": object{
			"reason": "the machine was taken away"},
		"POST /projects/{project}/environments/{environment}/freezes": object{"freeze": object{"reason": "the fair",
			"from": time.Now().Add(-time.Hour).UnixMilli(), "to": time.Now().Add(time.Hour).UnixMilli(), "roles": []string{"keeper"}}},
		"POST /projects/{project}/environments/{environment}/freezes/{freeze}/remove": object{},
		"POST /projects/{project}/environments/{environment}/branch":                  object{"key": "review-7", "for": 3_600_000},
		"POST /projects/{project}/environments/{environment}/prolong":                 object{"for": 3_600_000},
		"PUT /projects/{project}/flags/{flag}/family":                                 object{"family": "review", "variant": "on"},
		"PUT /projects/{project}/places": object{"repository": "lockers", "branch": "main", "commit": "4be1f0c", "at": 1,
			"places":  []object{{"flag": "telemetry", "file": "a.go", "line": 3, "how": "call", "code": "x"}},
			"unknown": []object{}},
		"POST /projects/{project}/places/forget":        object{"repository": "lockers", "branch": "main"},
		"POST /projects/{project}/flags/{flag}/retire":  object{"force": true},
		"POST /projects/{project}/flags/{flag}/restore": object{},
		"PUT /projects/{project}/bundles/{bundle}":      object{"bundle": object{"key": "", "title": "Doors", "flags": []string{"telemetry"}}},
		"POST /projects/{project}/bundles/{bundle}/release": object{"environment": "trial-1", "start": object{"stages": []object{
			{"name": "8 %", "share": 80_000}, {"name": "100 %", "share": 1_000_000}}}},
		"POST /projects/{project}/bundles/{bundle}/turn":   object{"environment": "staging", "lever": "off"},
		"POST /projects/{project}/bundles/{bundle}/remove": object{},
		"POST /projects/{project}/changes": object{"changes": []object{{"do": "segment.edit", "project": "pinecrest",
			"of": "staff", "with": object{"title": "Those who work here"}}}, "commit": "4be1f0c"},
		"POST /projects/{project}/changes/{change}/undo": object{"reason": "x"},
		"POST /projects/{project}/promote": object{"from": "production", "to": []string{"staging"},
			"flags": []string{"telemetry"}, "rules": true},
		"POST /projects/{project}/environments/{environment}/as-it-stood": object{"revision": 3,
			"flags": []string{"one-touch-open"}, "reason": "x"},
		"PUT /projects/{project}/policies/{policy}":                object{"policy": aPolicy},
		"POST /projects/{project}/policies/{policy}/remove":        object{},
		"POST /projects/{project}/policies/try":                    object{"policy": aPolicy},
		"PATCH /projects/{project}/proposals/{proposal}":           object{"reason": "it reads better"},
		"POST /projects/{project}/proposals/{proposal}/signatures": object{"digest": toSign.Digest},
		"POST /projects/{project}/proposals/{proposal}/comments":   object{"text": "why?"},
		"POST /me/identities/{identity}":                           object{"is": true},
		"POST /accounts/{account}/identities/{identity}":           object{"is": true},
		"POST /robots":                         object{"key": "deployer", "name": "Deployer"},
		"POST /accounts/{account}/tokens":      object{"name": "ci", "days": 3},
		"PUT /teams/{team}":                    object{"title": "Doors", "members": []string{gltest.KeeperEmail}},
		"PUT /projects/{project}/teams/{team}": object{"roles": []string{"auditor"}},
		"POST /conditions/read":                object{"text": `role == "courier"`},
		"POST /conditions/write": object{
			"when": object{"test": "present", "attribute": "badge"}},
		"PUT /projects/{project}/attributes/{attribute}":                       attributeBody("badge", "number"),
		"POST /projects/{project}/test-units/remove":                           object{"unit": "recipient-1"},
		"POST /projects/{project}/environments/{environment}/population/units": object{"of": "targetingKey"},
		"POST /projects/{project}/environments/{environment}/instances/gone": object{
			"reason": "the machines were taken away"},
		"PUT /projects/{project}/test-units": object{
			"units": []object{{"unit": "recipient-1", "name": "Me", "attributes": object{"badge": "B-7"},
				"expected": object{"one-touch-open": "on"}}}},
		"PUT /projects/{project}/environments/{environment}/population":        object{"days": 14},
		"POST /projects/{project}/environments/{environment}/population/erase": object{"unit": "recipient-1"},
		"POST /projects/{project}/environments/{environment}/unit":             object{"unit": "recipient-1"},
		"POST /projects/{project}/environments/{environment}/see-as": object{
			"variants": object{"one-touch-open": "on"}},
		"POST /projects/{project}/segments": object{"key": "crews"},
		"PUT /projects/{project}/environments/{environment}/segments/{segment}": object{
			"when": object{"test": "present", "attribute": "badge"}},
		"POST /projects/{project}/environments/{environment}/stops":                       object{"flags": []string{"one-touch-open"}},
		"POST /projects/{project}/environments/{environment}/drills":                      object{"flags": []string{"one-touch-open"}},
		"POST /me/devices/{device}":                                                       object{"allow": true},
		"POST /emergency-key":                                                             object{},
		"PATCH /projects/{project}":                                                       object{"title": "Pinecrest Lockers of ours"},
		"PATCH /projects/{project}/segments/{segment}":                                    object{"title": "Staff"},
		"POST /projects/{project}/environments/{environment}/tripwires":                   wires,
		"PUT /projects/{project}/environments/{environment}/tripwires/{tripwire}":         wires,
		"POST /projects/{project}/environments/{environment}/tripwires/{tripwire}/rotate": object{},
		"POST /projects/{project}/environments/{environment}/tripwires/{tripwire}/arm":    object{},
		"POST /projects/{project}/environments/{environment}/tripwires/{tripwire}/remove": object{},
		"POST /projects/{project}/environments/{environment}/tripwires/try": object{"tripwire": wires["tripwire"],
			"body": object{"status": "firing"}},
		"POST /projects/{project}/environments/{environment}/stops/{stop}/reason": object{"reason": "it jams"},
		"POST /projects/{project}/environments/{environment}/lifts":               object{"stops": []string{stop.Stop}},
	}
	// Environments that end are others than the one that all else is asked of.
	elsewhere := map[string]string{"POST /projects/{project}/environments/{environment}/prolong": "trial-1"}
	for verb, before := range map[string]string{"archive": "", "bring-back": "archive", "remove": "archive"} {
		name := "POST /projects/{project}/environments/{environment}/" + verb
		elsewhere[name], bodies[name] = "over-"+verb, object{"reason": "the trial is over"}
		s.Environment(t, "over-"+verb, false)
		if before != "" {
			s.Keeper.Do(t, "POST", "/projects/pinecrest/environments/over-"+verb+"/"+before, object{}, 200, nil)
		}
	}
	parameter := regexp.MustCompile(`\{([a-z]+)\}`)
	asked := 0
	// Reading first: some of the changes end sessions or the like.
	for _, round := range []string{"GET", "PUT", "PATCH", "DELETE", "POST"} {
		for path, methods := range d.paths {
			for lower, op := range methods {
				method := strings.ToUpper(lower)
				name := method + " " + strings.TrimPrefix(path, api)
				if method != round || name == "POST /set-up" || name == "POST /sign-out" ||
					name == "DELETE /me/sessions/{session}" || name == "DELETE /me/tokens/{token}" {
					continue
				}
				address := parameter.ReplaceAllStringFunc(strings.TrimPrefix(path, api), func(p string) string {
					return values[strings.Trim(p, "{}")]
				})
				if other := elsewhere[name]; other != "" {
					address = strings.Replace(address, "/environments/production/", "/environments/"+other+"/", 1)
				}
				switch name {
				case "POST /projects/{project}/environments/{environment}/flags/{flag}/releases":
					address = strings.Replace(address, "one-touch-open", "telemetry", 1)
				case "POST /projects/{project}/environments/{environment}/releases/{release}/halts":
					address = strings.Replace(address, release.ID, halts.ID, 1)
				case "POST /projects/{project}/environments/{environment}/releases/{release}/signatures":
					address = strings.Replace(address, release.ID, asks.ID, 1)
				case "POST /projects/{project}/environments/{environment}/tripwires/{tripwire}/remove":
					address = strings.Replace(address, wire.ID, goes.ID, 1)
				case "POST /projects/{project}/flags/{flag}/retire", "POST /projects/{project}/flags/{flag}/restore":
					address = strings.Replace(address, "one-touch-open", "over-flag", 1)
				case "POST /projects/{project}/bundles/{bundle}/remove":
					address = strings.Replace(address, "opening", "closing", 1)
				case "POST /projects/{project}/webhooks/{webhook}/remove":
					address = strings.Replace(address, webhook.ID, second.ID, 1)
				}
				if at, is := strings.CutPrefix(name, "POST /projects/{project}/proposals/{proposal}"); is && proposed[at] != "" {
					address = strings.Replace(address, proposed[""], proposed[at], 1)
				}
				if name == "DELETE /accounts/{account}" {
					address = strings.Replace(address, me.Account.ID, leaver, 1)
				}
				if name == "POST /accounts/{account}/tokens" {
					address = strings.Replace(address, me.Account.ID, robot.ID, 1)
				}
				if strings.HasSuffix(name, "/can") {
					address += "?do=stop&environment=production"
				}
				if hers[name] {
					address = strings.Replace(address, me.Account.ID, noor, 1)
				}
				var body []byte
				if b, ok := bodies[name]; ok {
					if name == "POST /projects/{project}/flags" {
						b = object{"key": "x", "title": "", "description": "", "type": "boolean",
							"recipe": "step-by-step", "end": "", "goneBy": "stays", "resting": "",
							"owners": []string{},
							"tags":   []string{}, "variants": []object{}, "visible": false, "version": 0, "created": 0}
					}
					body, _ = json.Marshal(b)
					d.check(t, name+" takes", "/paths/"+escape(path)+"/"+lower+
						"/requestBody/content/application~1json/schema", body)
				} else if op.RequestBody != nil {
					t.Errorf("%s takes a body and is not asked with one", name)
				}
				c := s.Keeper.With("If-Match",
					fmt.Sprint(map[string]int64{
						"PUT /projects/{project}/environments/{environment}/flags/{flag}":   v.Version,
						"POST /projects/{project}/proposals/{proposal}/items/{item}/remove": 1}[name]+
						map[bool]int64{true: 1}[!strings.Contains(name, "/flags/{flag}") || method == "PATCH"]))
				if strings.Contains(name, "/me") || strings.Contains(name, "/sign-in") { // what a token cannot do
					c = session
				}
				for place, hostile := range hostiles(body) {
					if status, answer, _, _ := c.Send(method, address, hostile); status < 400 {
						t.Errorf("%s takes an escape in %s: %s", name, place, answer)
					}
				}
				status, answer, _, err := c.Send(method, address, body)
				if err != nil || status >= 300 {
					t.Errorf("%s: %d %s %v", name, status, answer, err)
					continue
				}
				asked++
				content, ok := op.Responses[fmt.Sprint(status)]
				if !ok || content.Content["application/json"].Schema == nil {
					t.Errorf("%s answers %d, which the document does not have", name, status)
					continue
				}
				d.check(t, name+" answers", fmt.Sprintf("/paths/%s/%s/responses/%d/content/application~1json/schema",
					escape(path), lower, status), answer)
			}
		}
	}
	if asked < 70 {
		t.Errorf("only %d routes were asked", asked)
	}
	_, refused, _, _ := s.Keeper.Send("POST", inProd+"/stops", []byte(`{"flags":["nothing"]}`))
	d.check(t, "a problem", "/components/schemas/Problem", refused)
}

// taken are texts of requests that are data, and that nobody is shown as they are: values, units, secrets.
var taken = regexp.MustCompile(`\.(value|context|attributes|password|old|unit|units|text|in|out|body|when|environments|tags|nouns)\b|document\.variants`)

// hostiles are a body once for each text in it, and for its reason, with an escape in that text.
func hostiles(body []byte) map[string][]byte {
	out := map[string][]byte{}
	var tree any
	if json.Unmarshal(body, &tree) != nil {
		return out
	}
	var walk func(place string, v any, put func(any))
	walk = func(place string, v any, put func(any)) {
		switch v := v.(type) {
		case string:
			if taken.MatchString(place) {
				return
			}
			put(v + "\x1b[31mred")
			raw, _ := json.Marshal(tree)
			out[place] = raw
			put(v)
		case map[string]any:
			for name, one := range v {
				walk(place+"."+name, one, func(x any) { v[name] = x })
			}
		case []any:
			for i, one := range v {
				walk(fmt.Sprintf("%s[%d]", place, i), one, func(x any) { v[i] = x })
			}
		}
	}
	if m, is := tree.(map[string]any); is {
		for _, name := range []string{"reason", "title", "name", "description", "loses", "says"} {
			if _, there := m[name]; !there {
				m[name] = ""
				walk("."+name, "", func(x any) { m[name] = x })
				delete(m, name)
			}
		}
	}
	walk("", tree, func(any) {})
	return out
}

func attributeBody(name, kind string) object {
	return object{"name": name, "type": kind, "description": "", "example": "", "personal": false, "serverOnly": false,
		"loose": false, "version": 0}
}

// A method that a route does not have, and a route that is not there, are refused as such.
func TestNoSuchRoute(t *testing.T) {
	s := gltest.Start(t)
	for call, want := range map[string]int{"PUT /me": 405, "GET /nowhere": 404, "POST /ofrep/v2/x": 404} {
		method, path, _ := strings.Cut(call, " ")
		status, answer, header, _ := s.Keeper.Send(method, path, nil)
		if status != want && status != http.StatusMethodNotAllowed ||
			header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s", call, status, answer)
		}
	}
}

// asksToBe writes that a subject of a provider asks to be an account: no provider is needed to read that.
func asksToBe(t *testing.T, s *gltest.Service, account string) string {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	id := app.IdentityID("https://company.pinecrest.example", "s-ida")
	if _, err := db.Exec("INSERT INTO identities (id, account_id, issuer, subject, made, confirmed) VALUES (?, ?, ?, ?, ?, 0)", id,
		account, "https://company.pinecrest.example", "s-ida", time.Now().UnixMilli()); err != nil {
		t.Fatal(err)
	}
	return id
}
