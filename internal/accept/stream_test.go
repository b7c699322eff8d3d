package accept

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

// streamOf asks for all answers and gives the address of the stream of changes.
func streamOf(t *testing.T, s *gltest.Service, key string) string {
	t.Helper()
	var bulk struct {
		EventStreams []struct {
			Type     string
			Endpoint struct{ RequestURI string }
		}
	}
	bearer(s.URL(), key).Do(t, "POST", "/ofrep/v1/evaluate/flags", `{"context":{"targetingKey":"r"}}`, 200, &bulk)
	if len(bulk.EventStreams) != 1 || bulk.EventStreams[0].Type != "sse" {
		t.Fatalf("%+v", bulk)
	}
	return s.URL() + bulk.EventStreams[0].Endpoint.RequestURI
}

// changes opens a stream of changes; it gives the data of its events.
func changes(t *testing.T, url string) <-chan string {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	if err != nil {
		t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	if res.StatusCode != 200 || !strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		t.Fatalf("%s %s", res.Status, res.Header.Get("Content-Type"))
	}
	out := make(chan string, 100)
	go func() {
		defer close(out)
		defer res.Body.Close()
		for scan := bufio.NewScanner(res.Body); scan.Scan(); {
			if data, ok := strings.CutPrefix(scan.Text(), "data: "); ok {
				out <- data
			}
		}
	}()
	return out
}

// toldBy is the next event of a stream of changes.
func toldBy(t *testing.T, events <-chan string) string {
	t.Helper()
	select {
	case data := <-events:
		return data
	case <-time.After(gltest.Patience):
		t.Fatalf("no change was told within %v", gltest.Patience)
		return ""
	}
}

// Browsers are told to ask again when, and only when, a flag that they may see can have
// another answer; the stream names no flag.
func TestChangeStream(t *testing.T) {
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	s.Flag(t, "hidden")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shown", "goneBy": "stays", "visible": true},
		201, nil)
	url := streamOf(t, s, s.Browse["production"])
	events, all := changes(t, url), changes(t, streamOf(t, s, s.Keys["production"]))
	hidden := s.Edit(t, "production", "hidden", turnOn)
	if told := toldBy(t, all); !strings.Contains(told, "refetchEvaluation") {
		t.Errorf("with a service key: %q", told)
	}
	c := open(t, s, "production")
	until(t, c, "the edit of an invisible flag", at(hidden.Revision))
	shown := s.Edit(t, "production", "shown", turnOn)
	var told struct{ Type, ETag string }
	if err := json.Unmarshal([]byte(toldBy(t, events)), &told); err != nil || told.Type != "refetchEvaluation" {
		t.Fatalf("%+v %v", told, err)
	}
	until(t, c, "the edit of a visible flag", at(shown.Revision))
	if told.ETag == "" || strings.Contains(told.ETag, ".") {
		t.Errorf("browsers are told more than that something moved: %s", told.ETag)
	}
	// Whoever asked before a change that it did not see is told at once.
	if first := toldBy(t, changes(t, url)); !strings.Contains(first, "refetchEvaluation") {
		t.Errorf("with an old token: %q", first)
	}
	for name, wrong := range map[string]string{
		"no token": url[:strings.Index(url, "?")], "half a token": url[:len(url)-20],
		"another key's": strings.Replace(url, "token=", "token=x", 1),
		"a longer life": lengthened(url)} {
		res, err := http.Get(wrong)
		if err != nil {
			t.Fatal(err)
		}
		if res.Body.Close(); res.StatusCode != 401 {
			t.Errorf("%s: %s", name, res.Status)
		}
	}
	token := url[strings.Index(url, "token=")+6:]
	if status, _, _, _ := bearer(s.URL(), token).Send("POST", "/ofrep/v1/evaluate/flags", nil); status != 401 {
		t.Errorf("a stream's token opens something else: %d", status)
	}
	by.Store(int64(11 * time.Minute))
	res, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	if res.Body.Close(); res.StatusCode != 401 {
		t.Errorf("after eleven minutes: %s", res.Status)
	}
}

// lengthened is a stream's address with a token that claims a longer life.
func lengthened(url string) string {
	at := strings.Index(url, "token=") + 20 // within what is sealed
	other := byte('A')
	if url[at] == other {
		other = 'B'
	}
	return url[:at] + string(other) + url[at+1:]
}

// A browser key can be bound to the origins of pages, and no other page reads a thing.
func TestOrigins(t *testing.T) {
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shown", "goneBy": "stays", "visible": true},
		201, nil)
	var made struct{ Secret string }
	for _, bad := range []string{"desk.pinecrest.example", "https://desk.pinecrest.example/", "*", "https://a b"} {
		s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser", "origins": []string{bad}}, 400, nil)
	}
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser",
		"origins": []string{"https://desk.pinecrest.example"}}, 201, &made)
	const path = "/ofrep/v1/evaluate/flags"
	gltest.Eventually(t, "the key is known", func() bool {
		status, _, _, _ := bearer(s.URL(), made.Secret).Send("POST", path, nil)
		return status == 200
	})
	for origin, want := range map[string]int{"https://desk.pinecrest.example": 200, "https://elsewhere.example": 403,
		"http://desk.pinecrest.example": 403, "null": 403} {
		status, raw, header, _ := bearer(s.URL(), made.Secret).With("Origin", origin).Send("POST", path, nil)
		if status != want || (header.Get("Access-Control-Allow-Origin") != "") != (want == 200) ||
			strings.Contains(string(raw), "shown") != (want == 200) {
			t.Errorf("%s: %d %v %s", origin, status, header, raw)
		}
		url := ""
		if status == 200 {
			var bulk struct {
				EventStreams []struct{ Endpoint struct{ RequestURI string } }
			}
			_ = json.Unmarshal(raw, &bulk)
			url = s.URL() + bulk.EventStreams[0].Endpoint.RequestURI
			req, _ := http.NewRequest("GET", url, nil)
			req.Header.Set("Origin", "https://elsewhere.example")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			if res.Body.Close(); res.StatusCode != 403 || res.Header.Get("Access-Control-Allow-Origin") != "" {
				t.Errorf("the stream for another page: %s", res.Status)
			}
		}
	}
	req, _ := http.NewRequest("OPTIONS", s.URL()+path, nil)
	req.Header.Set("Origin", "https://desk.pinecrest.example")
	req.Header.Set("Access-Control-Request-Method", "POST")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	if res.Body.Close(); res.StatusCode != 204 || !strings.Contains(res.Header.Get("Access-Control-Allow-Headers"),
		"If-None-Match") {
		t.Errorf("preflight: %s %v", res.Status, res.Header)
	}
}

// Too many requests with one key are refused with the time to wait, and bother no other key.
func TestKeyLimits(t *testing.T) {
	s := gltest.Start(t, func(c *server.Config) {
		c.Limits = web.DefaultLimits()
		c.Limits.KeyRate = 2
	})
	refused := 0
	for range 60 {
		status, raw, header, _ := bearer(s.URL(), s.Browse["production"]).Send("POST", "/ofrep/v1/evaluate/flags", nil)
		if status == 429 {
			refused++
			if header.Get("Retry-After") == "" {
				t.Fatalf("no Retry-After: %s", raw)
			}
		} else if status != 200 {
			t.Fatalf("%d %s", status, raw)
		}
	}
	if refused < 10 {
		t.Errorf("%d of 60 were refused", refused)
	}
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/ofrep/v1/evaluate/flags", nil, 200, nil)
}

// A browser key learns nothing but answers of visible flags: no rule, segment, attribute or
// name of another flag, whatever address is tried.
func TestBrowserKeyLearnsNothing(t *testing.T) {
	s := gltest.Start(t)
	secrets := []string{"quiet-flag", "quiet-rule", "Quiet rule", "quiet-segment", "quiet_attribute", "quiet-unit",
		"quiet-value", "quiet-variant-of-hidden"}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "quiet-segment",
		"in": object{"units": []string{"quiet-unit"}}}, 201, nil)
	declare(t, s, "quiet_attribute", object{"type": "string"})
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "quiet-flag", "type": "string",
		"resting": "quiet-variant-of-hidden", "goneBy": "stays",
		"variants": []object{{"name": "quiet-variant-of-hidden", "value": "quiet-value"},
			{"name": "b", "value": "b"}}}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "shown", "goneBy": "stays", "visible": true},
		201, nil)
	rules := func(d *flag.Document) {
		d.Lever = flag.On
		gives := flag.Gives{Variant: d.Resting}
		d.Rules = []flag.Rule{{ID: "quiet-rule", Name: "Quiet rule", When: &condition.Node{Test: "string.one-of",
			Attribute: "quiet_attribute", Text: []string{"quiet-value"}}, Gives: gives},
			{ID: "quiet-rule-2", Name: "Quiet rule of a segment", When: &condition.Node{Test: "segment",
				Segment: "quiet-segment"}, Gives: gives}}
	}
	s.Edit(t, "production", "quiet-flag", rules)
	saved := s.Edit(t, "production", "shown", rules)
	c := open(t, s, "production")
	until(t, c, "the rules", at(saved.Revision))
	o := station(t, s.URL(), []string{s.Keys["production"]})
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
	fill := strings.NewReplacer("{project}", "pinecrest", "{environment}", "production", "{flag}", "quiet-flag",
		"{segment}", "quiet-segment", "{attribute}", "quiet_attribute", "{unit}", "quiet-unit", "{list}", "in")
	type try struct{ method, path string }
	var tries []try
	for path, methods := range api.Paths {
		for method := range methods {
			tries = append(tries, try{strings.ToUpper(method), fill.Replace(path)})
		}
	}
	edges := []try{{"GET", "/follow/v1/snapshot"}, {"GET", "/follow/v1/feed"}, {"GET", "/follow/v1/outpost"},
		{"GET", "/follow/v1/lists/x"}, {"POST", "/follow/v1/report"},
		{"POST", "/ofrep/v1/evaluate/flags"}, {"POST", "/ofrep/v1/evaluate/flags/shown"},
		{"POST", "/ofrep/v1/evaluate/flags/quiet-flag"}, {"POST", "/browser/v1/report"},
		{"GET", "/metrics"}, {"GET", "/readyz"}, {"GET", "/api/v1/live"}, {"GET", "/api/v1/export"}, {"GET", "/"},
		{"GET", "/browser/v1/greenlever.js"}}
	if len(tries) < 60 {
		t.Fatalf("only %d operations are described", len(tries))
	}
	look := func(url string, tr try) {
		t.Helper()
		ctx, cancel := context.WithTimeout(context.Background(), gltest.Patience)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, tr.method, url+tr.path,
			strings.NewReader(`{"context":{"targetingKey":"quiet","other":1}}`))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.Browse["production"])
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatalf("%v: %v", tr, err)
		}
		defer res.Body.Close()
		raw := make([]byte, 1<<20)
		n, _ := readSome(res.Body, raw)
		head, _ := json.Marshal(res.Header)
		for _, secret := range secrets {
			text := strings.ReplaceAll(string(raw[:n])+string(head), tr.path, "")
			if tr.path == "/ofrep/v1/evaluate/flags/quiet-flag" { // an unknown flag's answer names what was asked for
				text = strings.Replace(text, `"key":"quiet-flag"`, "", 1)
			}
			if strings.Contains(text, secret) {
				t.Errorf("%v tells %q: %d %s", tr, secret, res.StatusCode, text)
			}
		}
		if strings.HasPrefix(tr.path, "/api/") && res.StatusCode < 400 && !strings.HasSuffix(tr.path, "/sign-out") {
			t.Errorf("%v is open to a browser key: %d %s", tr, res.StatusCode, raw[:n])
		}
	}
	for _, tr := range tries {
		look(s.URL(), tr)
	}
	for _, tr := range edges {
		look(s.URL(), tr)
		look(o.URL(), tr)
	}
	events := changes(t, streamOf(t, s, s.Browse["production"]))
	s.Edit(t, "production", "shown", func(d *flag.Document) { d.Rules = nil })
	if told := toldBy(t, events); strings.Contains(told, "shown") || strings.Contains(told, "quiet") {
		t.Errorf("the stream says %s", told)
	}
}

// readSome reads what there is, up to a buffer's length.
func readSome(r interface{ Read([]byte) (int, error) }, into []byte) (n int, err error) {
	for n < len(into) && err == nil {
		var m int
		m, err = r.Read(into[n:])
		n += m
	}
	return n, err
}

// A page that is older than its stream's token is given another one as soon as it asks: an answer
// whose token may have run out never counts as unchanged. Between that nothing is sent twice, and
// the token stays the same.
func TestAnOldPageComesBackToItsStream(t *testing.T) {
	var by atomic.Int64
	s := gltest.Start(t, func(c *server.Config) {
		c.Now = func() time.Time { return time.Now().Truncate(10 * time.Minute).Add(time.Duration(by.Load())) }
	})
	s.Flag(t, "a")
	page := bearer(s.URL(), s.Browse["production"])
	ask := func(tag string) (int, string, string) {
		t.Helper()
		status, raw, header, err := page.With("If-None-Match", tag).Send("POST", "/ofrep/v1/evaluate/flags",
			[]byte(`{"context":{"targetingKey":"r"}}`))
		if err != nil {
			t.Fatal(err)
		}
		var bulk struct {
			EventStreams []struct{ Endpoint struct{ RequestURI string } }
		}
		if status == 200 {
			_ = json.Unmarshal(raw, &bulk)
			return status, header.Get("ETag"), s.URL() + bulk.EventStreams[0].Endpoint.RequestURI
		}
		return status, header.Get("ETag"), ""
	}
	open := func(url string) (status int, first string) {
		t.Helper()
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		req, _ := http.NewRequestWithContext(ctx, "GET", url, nil)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		line, _ := bufio.NewReader(res.Body).ReadString('\n')
		return res.StatusCode, line
	}
	status, tag, stream := ask("")
	if status != 200 {
		t.Fatal(status)
	}
	if _, _, again := ask(""); again != stream {
		t.Error("the address changes with every question, and every question opens another stream")
	}
	if status, line := open(stream); status != 200 || !strings.HasPrefix(line, "retry: ") {
		t.Errorf("%d %q", status, line)
	}
	by.Store(int64(4 * time.Minute))
	if status, _, _ := ask(tag); status != 304 {
		t.Errorf("within the token's first half: %d", status)
	}
	by.Store(int64(9*time.Minute + 50*time.Second))
	status, fresh, next := ask(tag)
	if status != 200 || next == stream || fresh == tag {
		t.Fatalf("in its second half: %d %s", status, next)
	}
	if status, _, _ := ask(fresh); status != 304 {
		t.Errorf("the new tag: %d", status)
	}
	by.Store(int64(11 * time.Minute))
	if status, _ := open(stream); status != 401 {
		t.Errorf("a token that has run out: %d", status)
	}
	if status, _ := open(next); status != 200 {
		t.Errorf("the next one: %d", status)
	}
	if status, _, again := ask(tag); status != 200 || again == stream {
		t.Errorf("a page of before: %d", status)
	}
}
