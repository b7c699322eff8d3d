package accept

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"

	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/gltest"
)

// changing makes random changes through the API, the same ones for the same seed, and tells what
// came of each.
type changing struct {
	t        *testing.T
	s        *gltest.Service
	rng      *rand.Rand
	people   map[string]gltest.Caller // by role
	flags    []string
	segments []string
	envs     []string
	told     strings.Builder
}

const changesFile = "testdata/changes.golden.gz"

// What 500 random changes leave behind, and what each was answered, is what it was when the file
// was written: revisions, events, entries of the audit and the rows that they speak of. Whatever
// is drawn at random or read off a clock stands there as the order in which it first appears.
// GREENLEVER_CHANGES=write writes the file anew, for a difference that was understood.
func TestChangesAreAsTheyWere(t *testing.T) {
	s := gltest.Start(t)
	c := &changing{t: t, s: s, rng: rand.New(rand.NewPCG(7, 12)), envs: []string{"staging", "production"},
		people: map[string]gltest.Caller{"keeper": s.Keeper}}
	for _, role := range []string{"auditor", "developer", "releaser", "on-call"} {
		c.people[role] = s.Person(t, role, role)
	}
	s.Keeper.Do(t, "PATCH", "/projects/pinecrest/environments/production",
		object{"askFirst": true, "reason": "it is real"}, 200, nil)
	for n := range 500 {
		c.one(n)
	}
	c.records()
	got := blank(c.told.String())
	if os.Getenv("GREENLEVER_CHANGES") == "write" {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write([]byte(got))
		z.Close()
		if err := os.WriteFile(changesFile, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	file, err := os.Open(changesFile)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	z, err := gzip.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	was, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	before, now := strings.Split(string(was), "\n"), strings.Split(got, "\n")
	for i := range min(len(before), len(now)) {
		if before[i] != now[i] {
			t.Fatalf("line %d was\n%s\nand is\n%s", i+1, before[i], now[i])
		}
	}
	if len(before) != len(now) || len(now) < 1_500 {
		t.Fatalf("%d lines, there were %d", len(now), len(before))
	}
	for _, path := range []string{"/projects/pinecrest/verify", "/verify"} {
		var r audit.Report
		for cursor := ""; cursor != "" || r.Entries == 0; cursor = r.Cursor {
			r = audit.Report{}
			if s.Keeper.Do(t, "GET", path+"?cursor="+cursor, nil, 200, &r); !r.Sound() {
				t.Errorf("%s finds %v", path, r.Findings)
			}
		}
	}
}

// random finds what is drawn at random, and times.
var random = regexp.MustCompile(
	`Ed25519 key [A-Za-z0-9_-]{43}|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|gl[sbt]_[A-Za-z0-9_-]+…?|"(token|salt|value)":"[A-Za-z0-9_.+/=-]{22,}"|[0-9a-f]{16,64}|\b1[0-9]{12}\b`)

// blank puts in place of each random thing its number, in the order in which they first appear.
func blank(told string) string {
	seen := map[string]string{}
	return random.ReplaceAllStringFunc(told, func(found string) string {
		if len(found) == 13 && found[0] == '1' {
			return "<time>"
		}
		if seen[found] == "" {
			seen[found] = fmt.Sprintf("<%d>", len(seen)+1)
		}
		return seen[found]
	})
}

// send makes a change as somebody, and tells the answer; now and then as a dry run first, or twice
// under one key.
func (c *changing) send(n int, who, method, path string, body object, header ...string) []byte {
	c.t.Helper()
	caller := c.people[who]
	for i := 0; i+1 < len(header); i += 2 {
		caller = caller.With(header[i], header[i+1])
	}
	raw, err := json.Marshal(body)
	if err != nil {
		c.t.Fatal(err)
	}
	if body == nil {
		raw = nil
	}
	ask := func(caller gltest.Caller, how, path string) []byte {
		status, answer, _, err := caller.Send(method, path, raw)
		if err != nil {
			c.t.Fatal(err)
		}
		if status >= 500 {
			c.t.Fatalf("%s %s: %d %s", method, path, status, answer)
		}
		fmt.Fprintf(&c.told, "%d %s %s %s%s -> %d %s\n", n, who, method, path, how, status, withoutPreview(answer))
		return answer
	}
	if c.rng.IntN(6) == 0 {
		ask(caller, " (dry)", path+"?dryRun=true")
	}
	if c.rng.IntN(12) == 0 {
		caller = caller.With("Idempotency-Key", fmt.Sprint("change ", n))
		ask(caller, " (first)", path)
	}
	return ask(caller, "", path)
}

// withoutPreview leaves out whom a change would move, which hangs on salts.
func withoutPreview(answer []byte) []byte {
	var members map[string]json.RawMessage
	if json.Unmarshal(answer, &members) == nil && members["preview"] != nil {
		delete(members, "preview")
		answer, _ = json.Marshal(members)
	}
	return bytes.TrimSpace(answer)
}

// who is somebody who mostly may.
func (c *changing) who(usual ...string) string {
	if c.rng.IntN(12) == 0 {
		return pick(c.rng, []string{"auditor", "developer", "releaser", "on-call", "keeper"})
	}
	return pick(c.rng, usual)
}

func pick[T any](rng *rand.Rand, of []T) T { return of[rng.IntN(len(of))] }

// reason is one, mostly.
func (c *changing) reason() string {
	if c.rng.IntN(10) == 0 {
		return ""
	}
	return pick(c.rng, []string{"doors stay shut", "as agreed", "more crews", "the trial went well"})
}

func (c *changing) one(n int) {
	const project = "/projects/pinecrest"
	env := pick(c.rng, c.envs)
	at := project + "/environments/" + env
	switch what := c.rng.IntN(100); {
	case n < 12 || what < 4:
		key := fmt.Sprintf("flag-%d", n)
		body := object{"key": key, "title": "Flag " + key, "goneBy": "2027-03-31",
			"recipe": pick(c.rng, []string{"step-by-step", "switch", "", ""}), "owners": []string{"doors"},
			"loses":   "doors open by key alone",
			"visible": c.rng.IntN(2) == 0, "reason": c.reason()}
		switch c.rng.IntN(8) {
		case 0:
			body["type"], body["resting"] = "string", "plain"
			body["variants"] = []object{{"name": "plain", "value": "a"}, {"name": "rich", "value": "b"},
				{"name": "both", "value": "c"}}
		case 1:
			body["type"], body["resting"] = "number", "nowhere"
			body["variants"] = []object{{"name": "low", "value": 1}, {"name": "high", "value": 2.5}}
		}
		if answer := c.send(n, c.who("developer", "keeper"), "POST", project+"/flags", body); bytes.Contains(answer,
			[]byte(`"variants"`)) {
			c.flags = append(c.flags, key)
		}
	case what < 56:
		c.document(n, at)
	case what < 62:
		key := pick(c.rng, c.flags)
		var d struct {
			Version  int64
			Resting  string
			Visible  bool
			Variants []struct{ Name string }
		}
		c.s.Keeper.Do(c.t, "GET", project+"/flags/"+key, nil, 200, &d)
		body := object{"reason": c.reason()}
		switch c.rng.IntN(6) {
		case 0:
			body["title"] = fmt.Sprintf("Title %d", n)
		case 1:
			body["owners"] = []string{"lockers", "doors"}[:1+c.rng.IntN(2)]
		case 2:
			body["visible"] = !d.Visible
		case 3:
			body["addVariants"] = []object{{"name": fmt.Sprintf("v%d", n), "value": pick(c.rng, []any{true, "x", 3})}}
		case 4:
			body["removeVariants"] = []string{pick(c.rng, d.Variants).Name}
		case 5:
			body["muted"] = []object{{"check": "always-one", "reason": "on purpose"}}
			body["goneBy"] = pick(c.rng, []string{"2027-05-01", "stays", "some day"})
		}
		c.send(n, c.who("developer", "keeper"), "PATCH", project+"/flags/"+key, body, "If-Match",
			fmt.Sprint(d.Version-int64(c.rng.IntN(8)/7)))
	case what < 65:
		key := fmt.Sprintf("segment-%d", n)
		body := object{"key": key, "when": c.when(), "reason": c.reason()}
		if status, _, _, _ := c.s.Keeper.Send("GET", at+"/segments", nil); status == 200 {
			answer := c.send(n, c.who("developer", "keeper"), "POST", project+"/segments", body)
			if bytes.Contains(answer, []byte(`"difference"`)) {
				c.segments = append(c.segments, key)
			}
		}
	case what < 70 && len(c.segments) > 0:
		key := pick(c.rng, c.segments)
		version := int64(1)
		var all struct {
			Items []struct {
				Key     string
				Version int64
			}
		}
		c.s.Keeper.Do(c.t, "GET", at+"/segments", nil, 200, &all)
		for _, s := range all.Items {
			if s.Key == key {
				version = s.Version
			}
		}
		body := object{"when": c.when(), "reason": c.reason()}
		if c.rng.IntN(3) == 0 {
			body = object{"in": object{"units": []string{"r-1", fmt.Sprint("r-", n)}}, "reason": c.reason()}
		}
		c.send(n, c.who("developer", "keeper"), "PUT", at+"/segments/"+key, body, "If-Match", fmt.Sprint(version))
	case what < 78:
		keys := []string{pick(c.rng, c.flags), pick(c.rng, c.flags)}
		if c.rng.IntN(10) == 0 {
			keys = append(keys, "no-such-flag")
		}
		c.send(n, c.who("on-call", "releaser"), "POST", at+"/stops", object{"flags": keys, "reason": c.reason()})
	case what < 84:
		var all struct {
			Items []struct {
				ID       string
				LiftedAt int64
			}
		}
		c.s.Keeper.Do(c.t, "GET", at+"/stops", nil, 200, &all)
		ids := []string{"none-such"}
		for _, s := range all.Items {
			if s.LiftedAt == 0 || c.rng.IntN(8) == 0 {
				ids = append(ids[:0:0], s.ID)
			}
		}
		c.send(n, c.who("on-call", "releaser"), "POST", at+"/lifts", object{"stops": ids, "reason": c.reason()})
	case what < 87:
		name := pick(c.rng, []string{"country", "crew_size", "e-mail", "firmware"})
		body := object{"type": pick(c.rng, []string{"string", "number", "version"}),
			"description": fmt.Sprint("as of ", n), "personal": c.rng.IntN(3) == 0, "reason": c.reason()}
		c.attribute(n, name, body)
	case what < 88:
		c.send(n, c.who("developer"), "DELETE", project+"/attributes/"+pick(c.rng, []string{"country", "crew_size",
			"odd"}), nil)
	case what < 90:
		c.send(n, c.who("developer"), "PUT", project+"/test-units",
			object{"units": []object{{"unit": fmt.Sprint("u-", n), "name": "Ada",
				"attributes": object{"country": "NO"}}}, "reason": c.reason()})
	case what < 91:
		c.send(n, c.who("developer"), "POST", project+"/test-units/remove",
			object{"unit": fmt.Sprint("u-", c.rng.IntN(n))})
	case what < 92:
		c.send(n, c.who("keeper"), "PUT", at+"/population", object{"off": c.rng.IntN(4) == 0,
			"days": pick(c.rng, []int{7, 14, 400}), "reason": c.reason()})
	case what < 93:
		c.send(n, c.who("keeper"), "POST", at+"/population/erase", object{"unit": "u-1", "reason": c.reason()})
	case what < 94:
		c.send(n, c.who("keeper"), "POST", at+"/keys",
			object{"kind": pick(c.rng, []string{"service", "browser", "odd"}),
				"purpose": pick(c.rng, []string{"", "kiosk"})})
	case what < 95:
		var all struct{ Items []struct{ ID string } }
		c.s.Keeper.Do(c.t, "GET", at+"/keys", nil, 200, &all)
		c.send(n, c.who("keeper"), "DELETE", at+"/keys/"+all.Items[len(all.Items)-1].ID, nil)
	case what < 96:
		c.send(n, c.who("keeper"), "PATCH", at, object{"title": fmt.Sprint("Title ", n), "reason": c.reason()})
	case what < 97:
		c.send(n, c.who("keeper"), "PUT", project+"/people/"+c.s.Account(c.t, "on-call@pinecrest.example"),
			object{"roles": pick(c.rng, [][]string{{"on-call"}, {"releaser", "on-call"}, {"odd"}})})
	case what < 98:
		c.send(n, c.who("developer"), "POST", at+"/see-as",
			object{"variants": map[string]string{pick(c.rng, c.flags): "on"},
				"minutes": pick(c.rng, []int{0, 30, 9_000}), "reason": c.reason()})
	case what < 99:
		c.send(n, c.who("on-call"), "POST", at+"/instances/gone", object{"reason": c.reason()})
	default:
		if len(c.envs) < 4 && len(c.segments) < 2 || n%7 == 0 {
			key := fmt.Sprint("env-", n)
			if answer := c.send(n, c.who("keeper"), "POST", project+"/environments",
				object{"key": key, "askFirst": n%2 == 0, "reason": c.reason()}); bytes.Contains(answer,
				[]byte(`"keys"`)) {
				c.envs = append(c.envs, key)
			}
			return
		}
		c.send(n, "keeper", "POST", "/projects", object{"key": fmt.Sprint("project-", n)})
	}
}

func (c *changing) attribute(n int, name string, body object) {
	var all struct {
		Items []struct {
			Name    string
			Version int64
		}
	}
	c.s.Keeper.Do(c.t, "GET", "/projects/pinecrest/environments/staging/attributes", nil, 200, &all)
	header := []string{}
	for _, a := range all.Items {
		if a.Name == name && a.Version > 0 {
			header = []string{"If-Match", fmt.Sprint(a.Version)}
		}
	}
	c.send(n, c.who("developer"), "PUT", "/projects/pinecrest/attributes/"+name, body, header...)
}

// when is a condition, or none.
func (c *changing) when() any {
	switch c.rng.IntN(7) {
	case 0:
		return object{"test": "string.one-of", "attribute": "country",
			"text": pick(c.rng, [][]string{{"NO"}, {"SE", "FI"}})}
	case 1:
		return object{"test": "number.more", "attribute": "crew_size", "numbers": []int{c.rng.IntN(9)}}
	case 2:
		return object{"all": []object{{"test": "string.ends", "attribute": "e-mail",
			"text": []string{"@pinecrest.example"}}, {"test": "string.one-of", "attribute": "country",
			"text": []string{"NO"}}}}
	case 3:
		if len(c.segments) > 0 {
			return object{"test": "segment", "segment": pick(c.rng, c.segments)}
		}
	case 4:
		return object{"test": "odd"}
	case 5:
		return object{"test": "part", "part": object{"share": 1000 * (1 + c.rng.IntN(900)),
			"by": []string{"targetingKey"}}}
	}
	return object{"test": "version.at-least", "attribute": "firmware", "text": []string{"4.2.0"}}
}

// document edits a flag in an environment.
func (c *changing) document(n int, at string) {
	key := pick(c.rng, c.flags)
	var v gltest.View
	c.s.Keeper.Do(c.t, "GET", at+"/flags/"+key, nil, 200, &v)
	raw, err := json.Marshal(v.Document)
	if err != nil {
		c.t.Fatal(err)
	}
	var d object
	if err := json.Unmarshal(raw, &d); err != nil {
		c.t.Fatal(err)
	}
	names := v.Document.VariantNames()
	rules, _ := d["rules"].([]any)
	gives := func() object {
		if c.rng.IntN(2) == 0 {
			return object{"variant": pick(c.rng, names)}
		}
		first := 50_000 * (1 + c.rng.IntN(19))
		return object{"shares": object{"parts": []object{{"variant": names[0], "share": first},
			{"variant": names[1], "share": 1_000_000 - first}}}}
	}
	switch c.rng.IntN(12) {
	case 0, 1:
		d["lever"] = map[string]string{"on": "off", "off": "on"}[string(v.Document.Lever)]
	case 2, 3, 4:
		rule := object{"name": fmt.Sprint("rule ", n), "gives": gives()}
		if c.rng.IntN(5) > 0 {
			rule["when"] = c.when()
		}
		d["rules"] = append(rules, any(rule))
	case 5:
		if len(rules) > 0 {
			rules[c.rng.IntN(len(rules))].(map[string]any)["gives"] = gives()
		}
	case 6:
		if len(rules) > 0 {
			rules[c.rng.IntN(len(rules))].(map[string]any)["parked"] = c.rng.IntN(2) == 0
		}
	case 7:
		if len(rules) > 0 {
			i := c.rng.IntN(len(rules))
			d["rules"] = slices.Delete(rules, i, i+1)
		}
	case 8:
		d["end"] = gives()
	case 9:
		d["resting"] = pick(c.rng, names)
	case 10:
		d["needs"] = []object{{"flag": pick(c.rng, c.flags), "variant": "on"}}
	case 11:
		d["variants"].(map[string]any)[names[0]] = pick(c.rng, []any{true, false, "text", 7})
	}
	c.send(n, c.who("developer", "releaser", "developer"), "PUT", at+"/flags/"+key,
		object{"document": d, "reason": c.reason()}, "If-Match", fmt.Sprint(v.Version-int64(c.rng.IntN(12)/11)))
}

// records tells what stands in the database, in the order in which it was made.
func (c *changing) records() {
	db, err := sql.Open("mysql", c.s.DSN)
	if err != nil {
		c.t.Fatal(err)
	}
	defer db.Close()
	for _, query := range []string{
		"SELECT chain, sequence, project_id, environment_id, subject, action, entry, digest, personal FROM audit " +
			"WHERE action NOT IN ('signing-key.added', 'signed-in') ORDER BY chain, sequence",
		"SELECT environment_id, revision, change_id, event, digest FROM revisions ORDER BY environment_id, revision",
		"SELECT environment_id, flag, version, revision, document FROM flags ORDER BY environment_id, flag",
		"SELECT environment_id, flag, version, revision, document FROM flag_versions " +
			"ORDER BY environment_id, flag, version",
		"SELECT environment_id, segment, version, revision, document FROM segments ORDER BY environment_id, segment",
		"SELECT project_id, flag, version, body FROM definitions ORDER BY project_id, flag",
		"SELECT environment_id, flags, by_id, reason, revision, lifted_by, lifted_revision, id FROM stops " +
			"ORDER BY environment_id, revision, flags",
		"SELECT id, project_id, environment_key, title, ask_first, revision FROM environments ORDER BY id",
		"SELECT project_id, attribute, version, body FROM attributes ORDER BY project_id, attribute",
		"SELECT project_id, account_id, role FROM roles ORDER BY project_id, account_id, role",
		"SELECT scope, id, request, result FROM idempotency ORDER BY scope, id",
	} {
		rows, err := db.Query(query)
		if err != nil {
			c.t.Fatalf("%s: %v", query, err)
		}
		names, _ := rows.Columns()
		cells, into := make([]sql.RawBytes, len(names)), make([]any, len(names))
		for i := range cells {
			into[i] = &cells[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				c.t.Fatal(err)
			}
			fmt.Fprintf(&c.told, "%s: %s\n", strings.Fields(query[strings.Index(query, " FROM ")+6:])[0],
				bytes.Join(asBytes(cells), []byte(" | ")))
		}
		rows.Close()
	}
}

func asBytes(cells []sql.RawBytes) [][]byte {
	out := make([][]byte, len(cells))
	for i, c := range cells {
		out[i] = c
	}
	return out
}
