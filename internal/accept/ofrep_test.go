package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"strconv"
	"strings"
	"testing"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// vectors are the shared rows of testdata/vectors/decide.json.
type vectors struct {
	Ruleset struct {
		Flags []struct {
			flag.Document
		}
		Segments []flag.Segment
		Stops    []flag.Stop
	}
	Vectors []struct {
		Name, Flag, Variant, Reason, Missing string
		Context                              json.RawMessage
		Value                                json.RawMessage
	}
}

func readVectors(t *testing.T) *vectors {
	t.Helper()
	raw, err := os.ReadFile("../../testdata/vectors/decide.json")
	if err != nil {
		t.Fatal(err)
	}
	v := &vectors{}
	if err := json.Unmarshal(raw, v); err != nil {
		t.Fatal(err)
	}
	return v
}

// seedVectors puts the vectors' ruleset into an environment, as far as a service saves it:
// what only a newer or a broken one could send stays out.
func seedVectors(t *testing.T, s *gltest.Service, v *vectors) map[string]bool {
	t.Helper()
	for _, seg := range v.Ruleset.Segments {
		s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": seg.Key, "when": seg.When,
			"lists": seg.Lists, "in": seg.In, "out": seg.Out}, 201, nil)
	}
	saved := map[string]bool{}
	for _, f := range v.Ruleset.Flags {
		if strings.HasPrefix(f.Key, "newer-") || f.Key == "needs-nothing-there" {
			continue
		}
		var variants []object
		for _, name := range f.VariantNames() {
			variants = append(variants, object{"name": name, "value": f.Variants[name]})
		}
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": f.Key, "type": f.Type, "resting": f.Resting,
			"variants": variants, "goneBy": "stays", "visible": true}, 201, nil)
	}
	for _, f := range v.Ruleset.Flags {
		if strings.HasPrefix(f.Key, "newer-") || f.Key == "needs-nothing-there" {
			continue
		}
		s.Edit(t, "production", f.Key, func(d *flag.Document) {
			*d = f.Document
			d.Visible = true
		})
		saved[f.Key] = true
	}
	for _, stop := range v.Ruleset.Stops {
		s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": stop.Flags}, 201, nil)
	}
	return saved
}

// One set of vectors: remote evaluation, one flag and all at once, the Go client, and both
// through an outpost agree with it.
func TestVectorsEverywhere(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	v := readVectors(t)
	saved := seedVectors(t, s, v)
	c := open(t, s, "production")
	var board struct {
		Environments []struct {
			Key      string
			Revision int64
		}
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/board", nil, 200, &board)
	until(t, c, "the vectors' ruleset", at(board.Environments[1].Revision))
	o := station(t, s.URL(), []string{s.Keys["production"]})
	behind := open(t, s, "production", through(o))
	until(t, behind, "the vectors' ruleset, through an outpost", at(board.Environments[1].Revision))
	remote, outpost := bearer(s.URL(), s.Keys["production"]), bearer(o.URL(), s.Keys["production"])
	ran := 0
	for _, row := range v.Vectors {
		if !saved[row.Flag] {
			continue
		}
		ran++
		body, _ := json.Marshal(object{"context": row.Context})
		var one struct {
			Key, Variant, Reason string
			Value                json.RawMessage
			Metadata             struct{ Missing string }
		}
		remote.Do(t, "POST", "/ofrep/v1/evaluate/flags/"+row.Flag, body, 200, &one)
		for _, path := range []string{"", "/" + row.Flag} {
			_, here, _, _ := remote.Send("POST", "/ofrep/v1/evaluate/flags"+path, body)
			_, there, _, _ := outpost.Send("POST", "/ofrep/v1/evaluate/flags"+path, body)
			if !bytes.Equal(cutAt(here, `,"eventStreams"`), cutAt(there, `,"eventStreams"`)) {
				t.Errorf("%s: the service says %s, the outpost %s", row.Name, here, there)
			}
		}
		if one.Key != row.Flag || one.Variant != row.Variant || one.Reason != row.Reason ||
			one.Metadata.Missing != row.Missing || row.Value != nil && !bytes.Equal(compact(one.Value),
			compact(row.Value)) {
			t.Errorf("%s, one flag: %+v, want %s %s", row.Name, one, row.Variant, row.Reason)
		}
		var all struct {
			Flags []struct{ Key, Variant, Reason string }
		}
		remote.Do(t, "POST", "/ofrep/v1/evaluate/flags", body, 200, &all)
		found := false
		for i, f := range all.Flags {
			if i > 0 && all.Flags[i-1].Key >= f.Key {
				t.Fatalf("all at once are not sorted: %s before %s", all.Flags[i-1].Key, f.Key)
			}
			if f.Key == row.Flag {
				found = true
				if f.Variant != row.Variant || f.Reason != row.Reason {
					t.Errorf("%s, all at once: %+v", row.Name, f)
				}
			}
		}
		if !found {
			t.Errorf("%s: not among all", row.Name)
		}
		for _, c := range []*greenlever.Client{c, behind} {
			if a := c.Answer(context.Background(), row.Flag,
				clientContext(t, row.Context)); a.Variant != row.Variant || a.Reason != row.Reason ||
				a.Missing != row.Missing {
				t.Errorf("%s, client: %+v, want %s %s", row.Name, a, row.Variant, row.Reason)
			}
		}
	}
	if ran < 380 {
		t.Errorf("only %d vectors ran", ran)
	}
}

func compact(raw []byte) []byte {
	var b bytes.Buffer
	_ = json.Compact(&b, raw)
	return b.Bytes()
}

// clientContext makes the client's context of a vector's JSON.
func clientContext(t *testing.T, raw json.RawMessage) greenlever.Context {
	t.Helper()
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		t.Fatal(err)
	}
	key := ""
	var flat, nested []greenlever.Attribute
	var add func(prefix string, m map[string]any, into *[]greenlever.Attribute)
	add = func(prefix string, m map[string]any, into *[]greenlever.Attribute) {
		for name, v := range m {
			switch v := v.(type) {
			case string:
				*into = append(*into, greenlever.String(prefix+name, v))
			case bool:
				*into = append(*into, greenlever.Bool(prefix+name, v))
			case float64:
				*into = append(*into, greenlever.Number(prefix+name, v))
			case []any:
				list := []string{}
				for _, e := range v {
					if s, ok := e.(string); ok {
						list = append(list, s)
					}
				}
				if len(list) < len(v) { // a mixed list, which this client cannot make, is of another type all the same
					*into = append(*into, greenlever.Bool(prefix+name, true))
				} else {
					*into = append(*into, greenlever.List(prefix+name, list...))
				}
			case map[string]any:
				// present, and of a type that the vectors do not compare there
				*into = append(*into, greenlever.Bool(prefix+name, true))
				add(prefix+name+".", v, &nested)
			}
		}
	}
	switch k := m["targetingKey"].(type) {
	case string:
		key = k
	case float64:
		key = strconv.FormatInt(int64(k), 10)
	}
	delete(m, "targetingKey")
	add("", m, &flat)
	return greenlever.Unit(key, append(flat, nested...)...)
}

func TestRemoteEvaluationErrors(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "hidden")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shown", "goneBy": "stays", "visible": true},
		201, nil)
	service := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	browser := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Browse["production"])
	const path = "/ofrep/v1/evaluate/flags"
	gltest.Eventually(t, "the flags are known", func() bool {
		status, _, _, _ := service.Send("POST", path+"/shown", nil)
		return status == 200
	})
	for _, c := range []struct {
		name         string
		caller       gltest.Caller
		path, body   string
		status       int
		code, detail string
	}{
		{"no key", gltest.Caller{URL: s.URL()}, path + "/shown", `{}`, 401, "", "access key"},
		{"a key that never was", service.With("Authorization", "Bearer gls_x"), path + "/shown", `{}`, 401, "",
			"not known"},
		{"unknown flag", service, path + "/nowhere", `{}`, 404, "FLAG_NOT_FOUND", ""},
		{"an escaped key", service, path + "/no%2Fwhere", `{}`, 404, "FLAG_NOT_FOUND", "no/where"},
		{"a key with a slash", service, path + "/no/where", `{}`, 404, "FLAG_NOT_FOUND", "no/where"},
		{"no JSON", service, path + "/shown", `{`, 400, "PARSE_ERROR", ""},
		{"a list", service, path + "/shown", `[]`, 400, "PARSE_ERROR", ""},
		{"broken UTF-8", service, path + "/shown", "{\"context\":{\"a\":\"\xff\"}}", 400, "PARSE_ERROR", ""},
		{"context no object", service, path + "/shown", `{"context":5}`, 400, "INVALID_CONTEXT", "object"},
		{"key of another type", service, path + "/shown", `{"context":{"targetingKey":true}}`, 400, "INVALID_CONTEXT",
			"targetingKey"},
		{"key with a fraction", service, path + "/shown", `{"context":{"targetingKey":1.5}}`, 400, "INVALID_CONTEXT",
			"targetingKey"},
		{"integer out of range", service, path + "/shown", `{"context":{"a":{"b":9007199254740992}}}`, 400,
			"INVALID_CONTEXT", "context.a.b"},
		{"text behind the body", service, path + "/shown", `{"context":{}} {}`, 400, "PARSE_ERROR",
			"more than one JSON value"},
		{"all, a bracket behind the body", service, path, `{"context":{}}}`, 400, "PARSE_ERROR",
			"more than one JSON value"},
		{"half a character", service, path + "/shown", `{"context":{"a":"\ud800 \\ud800"}}`, 400, "PARSE_ERROR",
			"half a character"},
		{"all, no JSON", service, path, `{`, 400, "PARSE_ERROR", ""},
		{"too large", service, path + "/shown", strings.Repeat("x", 2<<20), 413, "", "too large"},
	} {
		status, answer, _, err := c.caller.Send("POST", c.path, []byte(c.body))
		if err != nil {
			if c.status == 413 {
				continue
			}
			t.Fatalf("%s: %v", c.name, err)
		}
		if status != c.status || !strings.Contains(string(answer), c.code) || !strings.Contains(string(answer),
			c.detail) {
			t.Errorf("%s: %d %s", c.name, status, answer)
		}
	}
	// With a browser key an invisible flag is byte for byte an unknown one.
	_, hidden, _, _ := browser.Send("POST", path+"/hidden", []byte("{}"))
	_, unknown, _, _ := browser.Send("POST", path+"/nothin", []byte("{}"))
	if want := bytes.Replace(unknown, []byte("nothin"), []byte("hidden"), 1); !bytes.Equal(hidden, want) {
		t.Errorf("invisible %s, unknown %s", hidden, want)
	}
	_, all, header, _ := browser.Send("POST", path, []byte(`{"context":{"targetingKey":"a"}}`))
	if bytes.Contains(all, []byte("hidden")) || !bytes.Contains(all, []byte(`"metadata":{}`)) || bytes.Contains(all,
		[]byte("revision")) {
		t.Errorf("a browser sees %s", all)
	}
	again := browser.With("If-None-Match", header.Get("ETag"))
	again.Do(t, "POST", path, `{"context":{"targetingKey":"b"}}`, 304, nil)
	before, _, _, _ := again.Send("POST", path, nil)
	s.Edit(t, "production", "shown", turnOn)
	gltest.Eventually(t, "another answer, another ETag", func() bool {
		status, _, _, _ := again.Send("POST", path, nil)
		return before == 304 && status == 200
	})
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"shown"}}, 201, nil)
	gltest.Eventually(t, "a stopped flag has its value", func() bool {
		_, answer, _, _ := browser.Send("POST", path+"/shown", nil)
		return string(answer) == `{"key":"shown","value":false,"variant":"off","reason":"DISABLED","metadata":{}}`
	})
}

// What is decided in the service is counted too.
func TestRemoteEvaluationIsCounted(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	service := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	asked := 0
	gltest.Eventually(t, "the flag is known", func() bool {
		status, _, _, _ := service.Send("POST", "/ofrep/v1/evaluate/flags/a", nil)
		if status == 200 {
			asked++
		}
		return asked == 7
	})
	if err := s.Stop(); err != nil { // writes what is counted
		t.Fatal(err)
	}
	again := s.Serve(t)
	if sum := (gltest.Caller{URL: again.URL(), Header: s.Keeper.Header}).Uses(t, "production"); len(sum) != 1 ||
		sum["a off"] != 7 {
		t.Errorf("%v", sum)
	}
}

func TestMetricsAndHealth(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	guest := gltest.Caller{URL: s.URL()}
	for _, path := range []string{"/healthz", "/readyz", "/readyz?for=changes"} {
		guest.Do(t, "GET", path, nil, 200, nil)
	}
	_, raw, header, _ := gltest.Caller{URL: s.AdminURL()}.With("Accept",
		"application/openmetrics-text; version=1.0.0").Send("GET", "/metrics", nil)
	if !strings.HasPrefix(header.Get("Content-Type"), "application/openmetrics-text") ||
		!strings.HasSuffix(string(raw), "# EOF\n") || !strings.Contains(string(raw),
		`greenlever_request_duration_seconds_count{route="/api/v1/projects"`) {
		t.Errorf("%s: %.2000s", header.Get("Content-Type"), raw)
	}
}
