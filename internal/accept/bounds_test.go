package accept

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/outpost"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

// An attribute that comes as a list first and as a text later, with the key that stands in
// every page, harms nothing, also after a restart and through an outpost.
func TestAttributesThatChangeTheirKind(t *testing.T) {
	t.Parallel()
	var log gltest.Log
	s := gltest.Start(t, log.To)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "a", "goneBy": "stays", "visible": true}, 201,
		nil)
	s.Edit(t, "production", "a", turnOn)
	o := station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) { log.To(&server.Config{}) })
	before := guard.Panics()
	for round, value := range []string{`["x","y"]`, `"text"`, `7`, `true`, `{"deep":[1]}`, `["z"]`, `null`} {
		for _, url := range []string{s.URL(), o.URL()} {
			for i := range 40 {
				bearer(url, s.Browse["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/a",
					fmt.Sprintf(`{"context":{"targetingKey":"r-%d-%d","odd":%s,"odd.er":%s}}`, round, i, value, value),
					200, nil)
			}
		}
		flush(t, s)
	}
	address := s.Address
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	s.Server = s.Serve(t, log.To, func(c *server.Config) { c.Listen = address })
	bearer(s.URL(), s.Browse["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/a",
		`{"context":{"targetingKey":"r","odd":"text"}}`, 200, nil)
	flush(t, s)
	var seen struct{ Attributes []struct{ Name string } }
	s.Keeper.Do(t, "GET", inProd+"/attributes", nil, 200, &seen)
	if n := guard.Panics() - before; n != 0 || strings.Contains(log.String(), "panic") {
		t.Errorf("%d panics: %s", n, log.String())
	}
}

// flush has a service write what it gathered of units.
func flush(t *testing.T, s *gltest.Service) {
	t.Helper()
	if err := s.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
}

// A segment cannot be made with a list that is not there, nor with another project's; and
// nobody reads the list of a project in which they have no role.
func TestListsBelongToTheirProject(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "many"}, 201, nil)
	var units bytes.Buffer
	for i := range 1_500 {
		fmt.Fprintf(&units, "recipient-%d\n", i)
	}
	s.Keeper.With("Content-Type", "text/plain").Do(t, "PUT", inProd+"/segments/many/lists/in", units.Bytes(), 200, nil)
	var all struct {
		Items []struct {
			Key string
			In  *flag.List
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/segments", nil, 200, &all)
	if all.Items[0].In == nil || all.Items[0].In.Digest == "" {
		t.Fatalf("%+v", all)
	}
	mine := *all.Items[0].In
	all.Items = nil
	s.Keeper.Do(t, "POST", "/projects", object{"key": "harbour"}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/harbour/environments", object{"key": "production"}, 201, nil)
	for name, l := range map[string]object{"another project's": {"digest": mine.Digest, "count": mine.Count,
		"secret": mine.Secret}, "none at all": {"digest": strings.Repeat("a", 64), "count": 5,
		"secret": mine.Secret}} {
		status, answer, _, _ := s.Keeper.Send("POST", "/projects/harbour/segments",
			mustJSON(t, object{"key": "stolen", "in": l}))
		if status != 400 || !strings.Contains(string(answer), "in.digest") {
			t.Errorf("%s: %d %s", name, status, answer)
		}
	}
	// Nor by the difference to a list of one's own.
	var keys struct{ Secret string }
	s.Keeper.Do(t, "POST", "/projects/harbour/environments/production/keys", object{"kind": "service", "purpose": "x"},
		201, &keys)
	s.Keeper.Do(t, "POST", "/projects/harbour/segments", object{"key": "own"}, 201, nil)
	s.Keeper.With("Content-Type", "text/plain").Do(t, "PUT",
		"/projects/harbour/environments/production/segments/own/lists/in", units.Bytes(), 200, nil)
	s.Keeper.Do(t, "GET", "/projects/harbour/environments/production/segments", nil, 200, &all)
	_, raw, _, _ := bearer(s.URL(), keys.Secret).Send("GET", "/follow/v1/lists/"+all.Items[0].In.Digest+"?from="+
		mine.Digest, nil)
	if len(raw) != 8*all.Items[0].In.Count {
		t.Errorf("the difference to another project's list was told: %d bytes", len(raw))
	}
	if address := s.Address; s.Stop() != nil {
		t.Error("stop")
	} else {
		s.Server = s.Serve(t, func(c *server.Config) { c.Listen = address })
	}
	s.Keeper.Do(t, "GET", "/readyz", nil, 200, nil)
}

func mustJSON(t *testing.T, v any) []byte {
	t.Helper()
	raw, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// One document, one list and one definition that cannot be read are put aside and named;
// everything else is decided, fed, shown and changed, also after a restart.
func TestUnreadableDocumentsArePutAside(t *testing.T) {
	s := gltest.Start(t)
	flagsOn(t, s, "good", "bad", "worse")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "crews"}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "many"}, 201, nil)
	var units bytes.Buffer
	for i := range 1_500 {
		fmt.Fprintf(&units, "recipient-%d\n", i)
	}
	s.Keeper.With("Content-Type", "text/plain").Do(t, "PUT", inProd+"/segments/many/lists/in", units.Bytes(), 200, nil)
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, q := range []string{"UPDATE flags SET document = '{\"key\":\"bad\",\"lever\":' WHERE flag = 'bad'",
		"UPDATE flags SET document = '{\"key\":\"other\"}' WHERE flag = 'worse'",
		"UPDATE segments SET document = '[]' WHERE segment = 'crews'", "UPDATE lists SET body = REVERSE(body) " +
			"WHERE kind = 'hashes'", "UPDATE definitions SET body = '{' WHERE flag = 'bad'"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	address := s.Address
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	s.Server = s.Serve(t, func(c *server.Config) { c.Listen = address })
	_, raw, _, _ := s.Keeper.Send("GET", "/readyz", nil)
	for _, named := range []string{"flag bad", "flag worse", "segment crews", "list "} {
		if !strings.Contains(string(raw), named) {
			t.Errorf("readiness does not name %s: %s", named, raw)
		}
	}
	_, raw, _, _ = s.Keeper.Send("GET", inProd+"/radar", nil)
	if !strings.Contains(string(raw), `"kind":"segment","key":"crews"`) {
		t.Errorf("the radar does not name it: %s", raw)
	}
	good(t, window(t, s, 1280, 800).Go(s.URL()+"/p/pinecrest/production/usage/radar").See("Cannot be read, and is "+
		"left out").See("crews").See("names another key").See("it is a JSON array, and should be an object"))
	newShell(t, s).run(0, "radar --env production").says("Cannot be read, and is left out", "segment", "crews")
	c := open(t, s, "production")
	decides(t, c, "what can be read", "good", true)
	s.Keeper.Do(t, "GET", "/projects/pinecrest/board", nil, 200, nil)
	s.Edit(t, "production", "good", func(d *flag.Document) { d.Lever = flag.Off })
	decides(t, c, "a change of it", "good", false)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"good", "bad"}}, 201, nil)
}

// What a context may hold is bounded, with an error that names the place, and costs little.
func TestContextsAreBounded(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "a", "goneBy": "stays", "visible": true}, 201,
		nil)
	many := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, `"m%d":1,`, i)
		}
		return "{" + strings.TrimSuffix(b.String(), ",") + "}"
	}
	nest := func(n int) string { return strings.Repeat(`{"n":`, n) + "1" + strings.Repeat("}", n) }
	long := strings.Repeat("x", 70<<10)
	for name, c := range map[string]struct{ context, says string }{
		"deep":           {nest(17), "nested deeper"},
		"very deep":      {nest(9_000), "nested deeper"},
		"wide":           {many(1_001), "takes 1000"},
		"60,000 members": {many(60_000), "takes 1000"},
		"a long name":    {`{"` + strings.Repeat("n", 201) + `":1}`, "at most 200"},
		"a long name, deep": {`{"` + strings.Repeat("n", 150) + `":{"` + strings.Repeat("m", 60) + `":1}}`,
			"at most 200"},
		"a long text": {`{"t":"` + long + `"}`, "at most 65536"},
		"in a list":   {`{"t":["` + long + `"]}`, "at most 65536"},
		"a long key":  {`{"targetingKey":"` + long + `"}`, "at most 65536"},
		"no name":     {`{"":1}`, "without a name"},
	} {
		for _, key := range []string{s.Browse["production"], s.Keys["production"]} {
			for _, path := range []string{"/ofrep/v1/evaluate/flags/a", "/ofrep/v1/evaluate/flags"} {
				status, answer, _, err := bearer(s.URL(), key).Send("POST", path, []byte(`{"context":`+c.context+`}`))
				if err != nil || status != 400 || !strings.Contains(string(answer), "INVALID_CONTEXT") ||
					!strings.Contains(string(answer), c.says) || len(answer) > 600 {
					t.Errorf("%s: %d %.300s %v", name, status, answer, err)
				}
			}
		}
	}
	bearer(s.URL(), s.Browse["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/a", `{"context":`+many(1_000)+`}`,
		200, nil)
	bearer(s.URL(), s.Browse["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags/a", `{"context":`+nest(15)+`}`,
		200, nil)
	// Thousands of problems in one request are an answer of 20.
	var tests []object
	for i := range 400 {
		tests = append(tests, object{"name": fmt.Sprint("r", i), "gives": object{"variant": "no"}})
	}
	v := s.Get(t, "production", "a")
	raw := mustJSON(t, v.Document)
	var doc object
	_ = json.Unmarshal(raw, &doc)
	doc["rules"] = tests
	status, answer, _, _ := s.Keeper.With("If-Match", "1").Send("PUT", inProd+"/flags/a",
		mustJSON(t, object{"document": doc}))
	var p struct{ Fields []any }
	_ = json.Unmarshal(answer, &p)
	if status != 400 || len(p.Fields) != 20 {
		t.Errorf("%d, %d fields of %.200s", status, len(p.Fields), answer)
	}
}

// Nobody without the right is read from: on every route, credentials, rights and what the
// route takes come before the body, of which not a byte needs to be sent.
func TestRightsComeBeforeBodies(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	nobody := s.Person(t, "no.role", "auditor")
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/people/"+s.Account(t, "no.role@pinecrest.example"),
		object{"roles": []string{}}, 200, nil)
	auditor := s.Person(t, "ask.vik", "auditor")
	doc, err := manage.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var api struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal(doc, &api); err != nil {
		t.Fatal(err)
	}
	type try struct{ method, path string }
	tries := []try{{"PUT", "/api/v1" + inProd + "/segments/many/lists/in"}}
	fill := strings.NewReplacer("{project}", "pinecrest", "{environment}", "production", "{flag}", "a", "{segment}",
		"many", "{attribute}", "badge", "{account}", "x", "{key}", "x", "{token}", "x", "{session}", "x", "{instance}",
		"x")
	for path, methods := range api.Paths {
		for method := range methods {
			if method != "get" {
				tries = append(tries, try{strings.ToUpper(method), fill.Replace(path)})
			}
		}
	}
	if len(tries) < 35 {
		t.Fatalf("%d routes", len(tries))
	}
	own := func(path string) bool { // what everybody may
		for _, p := range []string{"/sign-in", "/set-up", "/sign-out", "/me/", "/conditions/"} {
			if strings.Contains(path, p) {
				return true
			}
		}
		return false
	}
	reads := func(path string) bool {
		return strings.HasSuffix(path, "/why") || strings.HasSuffix(path, "/unit") || strings.HasSuffix(path,
			"/population/units") || strings.HasSuffix(path, "/signatures") || strings.HasSuffix(path, "/tripwires/try") ||
			strings.HasSuffix(path, "/policies/try") || strings.HasSuffix(path, "/comments") ||
			strings.HasSuffix(path, "/withdraw") || strings.HasSuffix(path, "/changes") ||
			strings.HasSuffix(path, "/undo") || strings.HasSuffix(path, "/turn") || strings.HasSuffix(path, "/branch") || strings.Contains(path, "/bundles/") && strings.HasSuffix(path, "/release") || strings.HasSuffix(path, "/promote") ||
			strings.HasSuffix(path, "/as-it-stood") || strings.Contains(path, "/calendar/addresses")
	}
	for _, tr := range tries {
		for who, header := range map[string]string{"nobody": nobody.Header.Get("Authorization"),
			"an auditor": auditor.Header.Get("Authorization"), "a stranger": "Bearer glt_nothing",
			"no credential": ""} {
			if own(tr.path) && who != "a stranger" && who != "no credential" || strings.HasSuffix(tr.path,
				"/sign-in") || strings.HasSuffix(tr.path, "/set-up") || who == "an auditor" && reads(tr.path) {
				continue
			}
			conn, err := net.Dial("tcp", s.Address)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Type: "+
				"application/json\r\nContent-Length: 900000\r\n\r\n", tr.method, tr.path, header)
			_ = conn.SetReadDeadline(time.Now().Add(gltest.Patience))
			line := make([]byte, 12)
			if _, err := io.ReadFull(conn, line); err != nil {
				t.Errorf("%s %s as %s waits for the body: %v", tr.method, tr.path, who, err)
			} else if code := string(line[9:]); code != "401" && code != "403" && code != "404" {
				t.Errorf("%s %s as %s: %s", tr.method, tr.path, who, line)
			}
			conn.Close()
		}
	}
}

// A browser key takes no streams from services, and one address only so many; names that
// pages choose are bounded for a day.
func TestBrowserKeysAreBounded(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, func(c *server.Config) {
		c.Limits = web.DefaultLimits()
		c.Limits.Browsers, c.Limits.KeyStreams, c.Limits.Address = 12, 9, 5
	})
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "a", "goneBy": "stays", "visible": true}, 201,
		nil)
	url := streamOf(t, s, s.Browse["production"])
	openOne := func() int {
		res, err := http.Get(url)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { res.Body.Close() })
		return res.StatusCode
	}
	for i := range 5 {
		if code := openOne(); code != 200 {
			t.Fatalf("stream %d: %d", i, code)
		}
	}
	if code := openOne(); code != 429 {
		t.Errorf("one more than an address may: %d", code)
	}
	c := open(t, s, "production")
	until(t, c, "a service follows beside them", func(st greenlever.State) bool { return st.Connected })
	for i := range 150 {
		bearer(s.URL(), s.Browse["production"]).Do(t, "POST", "/browser/v1/report",
			fmt.Sprintf(
				`{"application":"page %d","version":"1","counts":[{"flag":"a","variant":"off","reason":"DISABLED","count":2}]}`, i), 204, nil)
	}
	if err := s.WriteUsage(t.Context()); err != nil {
		t.Fatal(err)
	}
	var u struct {
		Ways []struct {
			Application string
			Count       int
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/usage?flag=a", nil, 200, &u)
	total := 0
	for _, w := range u.Ways {
		total += w.Count
	}
	if len(u.Ways) != 102 || total != 301 { // one is the page that fetched its stream's address
		t.Errorf("%d names, %d counted", len(u.Ways), total)
	}
	for _, name := range []string{"\x1b[31mred", "a\u202eb", "two\nlines", strings.Repeat("x", 101)} {
		bearer(s.URL(), s.Browse["production"]).Do(t, "POST", "/browser/v1/report", object{"application": name,
			"counts": []any{}}, 400, nil)
		bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "i", "sequence": 1,
			"application": name}, 400, nil)
		bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "i" + name,
			"sequence": 1, "application": "door"}, 400, nil)
	}
}

// A service key speaks only for the instances that it introduced.
func TestKeysSpeakForTheirOwn(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	var other struct{ Secret string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service", "purpose": "rounds"}, 201, &other)
	mine, theirs := bearer(s.URL(), s.Keys["production"]), bearer(s.URL(), other.Secret)
	report := func(c gltest.Caller, sequence int, more object) bool {
		t.Helper()
		body := object{"instance": "door-1", "sequence": sequence, "application": "door", "version": "1", "epoch": 1,
			"revision": 1, "source": "service"}
		for k, v := range more {
			body[k] = v
		}
		var answer struct{ Taken bool }
		c.Do(t, "POST", "/follow/v1/report", body, 200, &answer)
		return answer.Taken
	}
	if !report(mine, 1, nil) {
		t.Fatal("the first report was not taken")
	}
	if report(theirs, 2, object{"leaving": true}) || report(theirs, 3, nil) || report(theirs, 4,
		object{"revision": 999}) {
		t.Error("another key spoke for the instance")
	}
	var d struct {
		Alive     int
		Instances []struct {
			ID       string
			Revision int
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
	if d.Alive != 1 || d.Instances[0].Revision != 1 {
		t.Errorf("%+v", d)
	}
	// A key that was revoked has no say any more, so that keys can be changed.
	var keys struct {
		Items []struct{ ID, Purpose, Kind string }
	}
	s.Keeper.Do(t, "GET", inProd+"/keys", nil, 200, &keys)
	for _, k := range keys.Items {
		if k.Purpose == "default" && k.Kind == "service" {
			s.Keeper.Do(t, "DELETE", inProd+"/keys/"+k.ID, nil, 200, nil)
		}
	}
	if !report(theirs, 5, nil) {
		t.Error("after the first key was revoked nobody can speak for the instance")
	}
}

// What is reported of a revision by instances that were introduced in thousands is vouched
// for together once they fell silent.
func TestManyGhosts(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "a")
	var behind []object
	for i := range 5_000 {
		behind = append(behind, object{"instance": fmt.Sprint("ghost-", i), "sequence": 1, "application": "rounds",
			"version": "1", "epoch": 1, "revision": 1, "source": "service", "age": 3_600_000})
	}
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "yard",
		"kind": "outpost", "sequence": 1, "application": "yard", "version": "1", "behind": behind}, 200, nil)
	var d struct{ Lost []any }
	s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
	if len(d.Lost) != 5_000 {
		t.Fatalf("%d are lost", len(d.Lost))
	}
	var gone struct {
		Gone      int
		Instances []any
	}
	s.Keeper.Do(t, "POST", inProd+"/instances/gone", object{"reason": "they never were"}, 200, &gone)
	s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
	if gone.Gone != 5_000 || len(gone.Instances) != 100 || len(d.Lost) != 0 {
		t.Errorf("%d vouched for, %d named, %d left", gone.Gone, len(gone.Instances), len(d.Lost))
	}
}

// Metrics are for operators, on a listener of their own.
func TestMetricsAreForOperators(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	o := station(t, s.URL(), []string{s.Keys["production"]})
	for _, url := range []string{s.URL(), o.URL()} {
		_, raw, _, err := gltest.Caller{URL: url}.Send("GET", "/metrics", nil)
		if err != nil || strings.Contains(string(raw), "greenlever_") {
			t.Errorf("%s: %.200s %v", url, raw, err)
		}
	}
	for _, url := range []string{s.AdminURL(), o.AdminURL()} {
		_, raw, _, err := gltest.Caller{URL: url}.Send("GET", "/metrics", nil)
		if err != nil || !strings.Contains(string(raw), "greenlever_panics_total") {
			t.Errorf("%s: %.200s %v", url, raw, err)
		}
	}
}
