package accept

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// asked is a plain answer, with nothing done to it by a client.
func asked(t *testing.T, method, url string, headers map[string]string, body string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	res, err := (&http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableCompression: true,
		DisableKeepAlives: true}}).Do(req)
	if err != nil {
		t.Fatalf("%s %s: %v", method, url, err)
	}
	defer res.Body.Close()
	raw := make([]byte, 1<<20)
	n := 0
	for {
		more, err := res.Body.Read(raw[n:])
		n += more
		if err != nil {
			return res, string(raw[:n])
		}
	}
}

// Where a GET is answered, so is a HEAD: alike, at once, and without a body, streams too (RFC 9110, 9.3.2).
func TestHeads(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "weather-holds")
	keeper, service := s.Keeper.Header.Get("Authorization"), "Bearer "+s.Keys["production"]
	for path, credential := range map[string]string{
		"/healthz": "", "/readyz": "", "/": "", "/api/v1/openapi.json": "", "/browser/v1/greenlever.js": "",
		"/api/v1/me": keeper, "/api/v1" + inProd + "/flags/weather-holds": keeper,
		"/api/v1/projects/pinecrest/board": keeper, "/api/v1/projects/pinecrest/live": keeper,
		"/api/v1/projects/pinecrest/export": keeper,
		"/follow/v1/snapshot":               service, "/follow/v1/feed": service,
	} {
		headers := map[string]string{}
		if credential != "" {
			headers["Authorization"] = credential
		}
		res, body := asked(t, "HEAD", s.URL()+path, headers, "")
		if res.StatusCode != 200 || body != "" {
			t.Errorf("HEAD %s: %d, %d bytes", path, res.StatusCode, len(body))
		}
		if strings.HasSuffix(path, "/live") || strings.HasSuffix(path, "/feed") || strings.HasSuffix(path, "/export") {
			continue // a GET does not end, or says more each time
		}
		get, _ := asked(t, "GET", s.URL()+path, headers, "")
		for _, name := range []string{"Content-Type", "ETag", "Cache-Control"} {
			if h, g := res.Header.Get(name), get.Header.Get(name); h != g {
				t.Errorf("HEAD %s says %s: %s, and GET %s", path, name, h, g)
			}
		}
	}
	if res, _ := asked(t, "HEAD", s.URL()+"/api/v1/me", nil, ""); res.StatusCode != 401 ||
		!strings.HasPrefix(res.Header.Get("WWW-Authenticate"), "Bearer ") {
		t.Errorf("HEAD without a credential: %d %v", res.StatusCode, res.Header)
	}
}

// Who is not let in is told by what one would be (RFC 9110, 11.6.1).
func TestChallenges(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for _, path := range []string{"/api/v1/me", "/api/v1/projects/pinecrest/board", "/follow/v1/snapshot",
		"/follow/v1/feed", "/api/v1/history"} {
		res, _ := asked(t, "GET", s.URL()+path, map[string]string{"Authorization": "Bearer nobody"}, "")
		if res.StatusCode != 401 || res.Header.Get("WWW-Authenticate") != `Bearer realm="greenlever"` {
			t.Errorf("%s: %d %q", path, res.StatusCode, res.Header.Get("WWW-Authenticate"))
		}
	}
	if res, _ := asked(t, "POST", s.URL()+"/ofrep/v1/evaluate/flags/x",
		map[string]string{"Content-Type": "application/json"}, `{}`); res.StatusCode != 401 ||
		res.Header.Get("WWW-Authenticate") == "" {
		t.Errorf("evaluation: %d %v", res.StatusCode, res.Header)
	}
}

// A proxy that packs answers makes their tags weak, and callers may name several (RFC 9110, 13.1).
func TestEntityTags(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "weather-holds")
	service := map[string]string{"Authorization": "Bearer " + s.Keys["production"], "Content-Type": "application/json"}
	snapshot, _ := asked(t, "GET", s.URL()+"/follow/v1/snapshot", service, "")
	answers, _ := asked(t, "POST", s.URL()+"/ofrep/v1/evaluate/flags", service, `{"context":{"targetingKey":"x"}}`)
	for name, c := range map[string]struct{ method, path, body, tag string }{
		"a snapshot": {"GET", "/follow/v1/snapshot", "", snapshot.Header.Get("ETag")},
		"all answers": {"POST", "/ofrep/v1/evaluate/flags", `{"context":{"targetingKey":"x"}}`,
			answers.Header.Get("ETag")},
	} {
		for header, want := range map[string]int{c.tag: 304, "W/" + c.tag: 304,
			`"other", W/` + c.tag + ` , "more"`: 304, "*": 304, `"other"`: 200, strings.Trim(c.tag, `"`) + "x": 200,
			`"`: 200, ",": 200} {
			service["If-None-Match"] = header
			if res, _ := asked(t, c.method, s.URL()+c.path, service, c.body); res.StatusCode != want {
				t.Errorf("%s with If-None-Match %s: %d, not %d", name, header, res.StatusCode, want)
			}
		}
		delete(service, "If-None-Match")
	}
	v := s.Get(t, "production", "weather-holds")
	version := v.Version
	put := func(match, query string) (*http.Response, string) {
		v.Document.Lever = []flag.Lever{flag.Off, flag.On}[version%2]
		raw, err := json.Marshal(object{"document": v.Document})
		if err != nil {
			t.Fatal(err)
		}
		return asked(t, "PUT", s.URL()+"/api/v1"+inProd+"/flags/weather-holds"+query,
			map[string]string{"Authorization": s.Keeper.Header.Get("Authorization"),
				"Content-Type": "application/json", "If-Match": match}, string(raw))
	}
	for _, form := range []string{`%d`, `"%d"`, `W/"%d"`, `"77", W/"%d"`, `"%d", "78"`} {
		res, body := put(fmt.Sprintf(form, version), "")
		if version++; res.StatusCode != 200 || res.Header.Get("ETag") != fmt.Sprintf(`"%d"`, version) {
			t.Fatalf("If-Match %s: %d, ETag %s, %s", form, res.StatusCode, res.Header.Get("ETag"), body)
		}
	}
	if res, _ := put(`"1", "77"`, ""); res.StatusCode != 412 {
		t.Errorf("with versions that are past: %d", res.StatusCode)
	}
	for _, form := range []string{"*", `"x"`, `"`} { // the one that was seen is to be named
		if res, body := put(form, ""); res.StatusCode != 400 || !strings.Contains(body, "If-Match") {
			t.Errorf("If-Match %s: %d %s", form, res.StatusCode, body)
		}
	}
	if res, _ := put(fmt.Sprint(version), "?dryRun=true"); res.StatusCode != 200 || res.Header.Get("ETag") != "" {
		t.Errorf("a dry run has the tag %s of what is not there", res.Header.Get("ETag"))
	}
	res, _ := asked(t, "POST", s.URL()+"/api/v1/projects/pinecrest/flags",
		map[string]string{"Authorization": s.Keeper.Header.Get("Authorization"), "Content-Type": "application/json"},
		`{"key":"night-batching","goneBy":"stays"}`)
	made := res.Header.Get("Location")
	if got, _ := asked(t, "GET", s.URL()+made,
		map[string]string{"Authorization": s.Keeper.Header.Get("Authorization")}, ""); res.StatusCode != 201 ||
		made == "" || got.StatusCode != 200 {
		t.Errorf("what was made (%d) is said to be at %q, which answers %d", res.StatusCode, made, got.StatusCode)
	}
}

// Every problem says in words what is wrong (RFC 9457), also where the router is the one who says so.
func TestProblemsSayWhat(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	keeper := map[string]string{"Authorization": s.Keeper.Header.Get("Authorization"),
		"Content-Type": "application/json"}
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/api/v1/nowhere", "", 404}, {"DELETE", "/api/v1/me", "", 405}, {"POST", "/follow/v1/nowhere", "{}",
			405}, {"GET", "/api/v1/projects/other/board", "", 404}, {"POST", "/api/v1/projects", "{", 400},
		{"POST", "/api/v1/projects", strings.Repeat("x", 2<<20), 413}, {"GET", "/browser/v1/nothing.css", "", 404},
	} {
		res, body := asked(t, c.method, s.URL()+c.path, keeper, c.body)
		var problem struct {
			Type, Title, Detail string
			Status              int
		}
		err := json.Unmarshal([]byte(body), &problem)
		if err != nil || res.StatusCode != c.status || problem.Status != c.status || problem.Type == "" ||
			problem.Title == "" || len(problem.Detail) < 20 ||
			res.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: %d, %s: %s %v", c.method, c.path, res.StatusCode, res.Header.Get("Content-Type"), body,
				err)
		}
		if c.status == 405 && res.Header.Get("Allow") == "" {
			t.Errorf("%s %s: no methods are named", c.method, c.path)
		}
	}
}

// What is inside an object is taken alike by every reader, or it is not saved.
func TestObjectsAreReadAlike(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	made := func(value string) (int, string) {
		status, answer, _, err := s.Keeper.Send("POST", "/projects/pinecrest/flags?dryRun=true",
			fmt.Appendf(nil,
				`{"key":"door-retries","goneBy":"stays","type":"object","resting":"off","variants":[{"name":"off","value":{}},{"name":"on","value":%s}]}`, value))
		if err != nil {
			t.Fatal(err)
		}
		return status, string(answer)
	}
	for value, says := range map[string]string{`{"delays":[1,9007199254740993]}`: `9007199254740993 at .delays[1]`,
		`{"a":{"tries":1,"tries":2}}`: `.a.tries twice`} {
		if status, answer := made(value); status != 400 || !strings.Contains(answer, says) {
			t.Errorf("%s: %d %s", value, status, answer)
		}
	}
	if status, answer := made(`{"delays":[1,9007199254740991]}`); status != 201 {
		t.Errorf("%d %s", status, answer)
	}
}

// A page of another origin may send what its tools add, and its key in either header.
func TestPagesOfOtherOrigins(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "weather-holds")
	const path = "/ofrep/v1/evaluate/flags/weather-holds"
	res, _ := asked(t, "OPTIONS", s.URL()+path, map[string]string{"Origin": "https://desk.pinecrest.example",
		"Access-Control-Request-Method":  "POST",
		"Access-Control-Request-Headers": "content-type,traceparent,baggage,x-api-key, bad name,x:y"}, "")
	allowed := ", " + res.Header.Get("Access-Control-Allow-Headers") + ","
	for _, name := range []string{"Content-Type", "traceparent", "baggage", "X-API-Key", "Authorization"} {
		if !strings.Contains(allowed, ", "+name+",") {
			t.Errorf("%s is not allowed: %s", name, allowed)
		}
	}
	if strings.Contains(allowed, "bad name") || strings.Contains(allowed, "x:y") ||
		strings.Count(strings.ToLower(allowed), "content-type") != 1 {
		t.Errorf("odd names come back: %s", allowed)
	}
	for header, want := range map[string]int{s.Browse["production"]: 200, s.Keys["production"]: 200,
		"glb_nobody": 401} {
		res, body := asked(t, "POST", s.URL()+path, map[string]string{"X-API-Key": header,
			"Content-Type": "application/json"}, `{"context":{"targetingKey":"x"}}`)
		// not one that browsers may see
		if res.StatusCode != want && !(header == s.Browse["production"] && res.StatusCode == 404) {
			t.Errorf("with X-API-Key: %d %s", res.StatusCode, body)
		}
	}
	if res, _ := asked(t, "GET", s.URL()+"/api/v1/me",
		map[string]string{"X-API-Key": strings.TrimPrefix(s.Keeper.Header.Get("Authorization"), "Bearer ")},
		""); res.StatusCode != 401 {
		t.Errorf("a personal token comes in by a header for access keys: %d", res.StatusCode)
	}
}
