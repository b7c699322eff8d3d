package accept

import (
	"bufio"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

// packing is a proxy as they stand before services: it compresses what passes, which makes tags
// weak, answers 502 while nothing is behind it, and counts questions.
type packing struct {
	*httptest.Server
	to                atomic.Pointer[url.URL] // nil: nothing is behind it
	questions, opened atomic.Int64            // evaluations, and streams
	busy              atomic.Bool             // it answers 429
}

func newPacking(t *testing.T, to string) *packing {
	p := &packing{}
	p.stands(to)
	through := &httputil.ReverseProxy{
		FlushInterval: -1,
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(p.to.Load())
			r.Out.Header.Del("Accept-Encoding")
		},
		ModifyResponse: func(r *http.Response) error {
			if !strings.Contains(r.Header.Get("Content-Type"), "json") {
				return nil
			}
			if tag := r.Header.Get("ETag"); tag != "" && !strings.HasPrefix(tag, "W/") {
				r.Header.Set("ETag", "W/"+tag)
			}
			read, write := io.Pipe()
			go func(body io.ReadCloser) {
				defer body.Close()
				z := gzip.NewWriter(write)
				_, err := io.Copy(z, body)
				if err == nil {
					err = z.Close()
				}
				write.CloseWithError(err)
			}(r.Body)
			r.Body = read
			r.Header.Set("Content-Encoding", "gzip")
			r.Header.Del("Content-Length")
			r.ContentLength = -1
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) },
	}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == "POST":
			p.questions.Add(1)
		case strings.HasPrefix(r.URL.Path, "/ofrep/"):
			p.opened.Add(1)
		}
		switch {
		case p.to.Load() == nil:
			w.WriteHeader(http.StatusBadGateway)
			return
		case p.busy.Load() && r.Method == "POST":
			w.Header().Set("Access-Control-Allow-Origin", "*")
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		through.ServeHTTP(w, r)
	}))
	t.Cleanup(func() {
		p.CloseClientConnections()
		p.Close()
	})
	return p
}

// stands puts a service behind it, or nothing.
func (p *packing) stands(to string) {
	if to == "" {
		p.to.Store(nil)
		return
	}
	u, _ := url.Parse(to)
	p.to.Store(u)
}

// standard is a service with a flag of each type, which browsers see too, and one of each way
// that a question fails.
func standard(t *testing.T, change ...func(*server.Config)) *gltest.Service {
	t.Helper()
	s := gltest.Start(t, change...)
	for _, f := range []object{
		{"key": "handover-photo"},
		{"key": "greeting", "type": "string", "resting": "plain",
			"variants": []object{{"name": "plain", "value": "Hello"}, {"name": "warm", "value": "Grüß dich, \"du\""}}},
		{"key": "pickup-window", "type": "number", "resting": "two", "variants": []object{{"name": "two", "value": 2},
			{"name": "far", "value": 9007199254740991}}},
		{"key": "slot-price", "type": "number", "resting": "low", "variants": []object{{"name": "low", "value": 1.5},
			{"name": "high", "value": -2.25e9}}},
		{"key": "route-plan", "type": "object", "resting": "short",
			"variants": []object{{"name": "short", "value": object{}},
				{"name": "long", "value": object{"stops": []any{1, "two", nil, true}, "by": object{"ä": 1.5}}}}},
	} {
		f["goneBy"], f["visible"] = "stays", true
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", f, 201, nil)
	}
	gives := func(key, variant string) {
		s.Edit(t, "production", key, func(d *flag.Document) {
			d.Lever = flag.On
			d.Rules = []flag.Rule{{Name: "Couriers", When: &condition.Node{Test: "string.equals", Attribute: "role",
				Text: []string{"courier"}}, Gives: flag.Gives{Variant: variant}}}
		})
	}
	gives("handover-photo", "on")
	gives("greeting", "warm")
	gives("pickup-window", "far")
	gives("slot-price", "high")
	gives("route-plan", "long")
	return s
}

// detailed is what the standard's clients tell of an answer.
type detailed struct {
	Value                   any
	Variant, Reason         string
	ErrorCode, ErrorMessage string
	FlagMetadata            map[string]any
	Threw                   string
}

// said is the part of an answer that is compared.
func (d detailed) said() string {
	raw, _ := json.Marshal(d.Value)
	return strings.TrimSpace(fmt.Sprintf("%s %s %s %s", raw, d.Variant, d.Reason, d.ErrorCode))
}

// asking is a question and what must come back.
type asking struct {
	flag     string
	fallback any
	want     string
}

// ofCouriers are the answers that a courier gets, of each type, and each way to fail.
var ofCouriers = []asking{
	{"handover-photo", false, `true on TARGETING_MATCH`},
	{"greeting", "none", `"Grüß dich, \"du\"" warm TARGETING_MATCH`},
	{"pickup-window", 0, `9007199254740991 far TARGETING_MATCH`},
	{"slot-price", 0.5, `-2250000000 high TARGETING_MATCH`},
	{"route-plan", object{"none": true}, `{"by":{"ä":1.5},"stops":[1,"two",null,true]} long TARGETING_MATCH`},
	{"nowhere", "none", `"none"  ERROR FLAG_NOT_FOUND`},
	{"handover-photo", "none", `"none"  ERROR TYPE_MISMATCH`},
	{"greeting", false, `false  ERROR TYPE_MISMATCH`},
	{"route-plan", 3, `3  ERROR TYPE_MISMATCH`},
}

// node is the standard's client for servers, in a process of its own.
type node struct {
	t   *testing.T
	in  io.Writer
	out *bufio.Reader
}

func newNode(t *testing.T, url, key string) *node {
	t.Helper()
	cmd := exec.Command("node", "browser/testdata/standard-node.mjs")
	cmd.Dir = "../../console"
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		_ = cmd.Wait()
	})
	n := &node{t, in, bufio.NewReader(out)}
	n.do(object{"do": "start", "url": url, "key": key})
	return n
}

func (n *node) do(what object) (d detailed) {
	n.t.Helper()
	if err := json.NewEncoder(n.in).Encode(what); err != nil {
		n.t.Fatal(err)
	}
	line, err := n.out.ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &d)
	}
	if err != nil || d.Threw != "" {
		n.t.Fatalf("%v: %v %s", what, err, line)
	}
	return d
}

func (n *node) ask(flag string, fallback any, context object) detailed {
	n.t.Helper()
	return n.do(object{"do": "ask", "flag": flag, "fallback": fallback, "context": context})
}

// The standard's client for servers gets values of every type, and every error as the standard
// names it, from the service and from an outpost, through a proxy that compresses; it follows
// changes, a restart, and the end of its key.
func TestTheStandardsClientForServers(t *testing.T) {
	t.Parallel()
	s := standard(t)
	var other struct {
		ID, Secret string
	}
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service"}, 201, &other)
	gltest.Eventually(t, "the key is known", func() bool {
		status, _, _, _ := bearer(s.URL(), other.Secret).Send("POST", "/ofrep/v1/evaluate/flags", nil)
		return status == 200
	})
	o := station(t, s.URL(), []string{other.Secret})
	courier := object{"targetingKey": "r-1", "role": "courier"}
	for name, to := range map[string]string{"service": s.URL(), "outpost": o.URL()} {
		p := newPacking(t, to)
		n := newNode(t, p.URL, other.Secret)
		gltest.Eventually(t, name+" knows the last flag", func() bool {
			return n.ask("route-plan", object{}, courier).Variant == "long"
		})
		for _, a := range ofCouriers {
			got := n.ask(a.flag, a.fallback, courier)
			if got.said() != a.want {
				t.Errorf("%s, %s: %s, want %s", name, a.flag, got.said(), a.want)
			}
			if got.ErrorCode == "" && (got.FlagMetadata["revision"] == nil || got.FlagMetadata["rule"] == nil) {
				t.Errorf("%s, %s: %v", name, a.flag, got.FlagMetadata)
			}
		}
		for what, c := range map[string]struct {
			context object
			want    string
		}{
			"another role":       {object{"targetingKey": "r-1", "role": "desk"}, `false off DEFAULT`},
			"no key":             {object{"role": "courier"}, `true on TARGETING_MATCH`},
			"nothing":            {object{}, `false off DEFAULT`},
			"too large a number": {object{"role": "courier", "n": 1 << 53}, `false  ERROR INVALID_CONTEXT`},
		} {
			if got := n.ask("handover-photo", false, c.context); got.said() != c.want {
				t.Errorf("%s, %s: %s, want %s", name, what, got.said(), c.want)
			} else if c.want[len(c.want)-1] == 'T' && got.ErrorCode != "" && !strings.Contains(got.ErrorMessage,
				"context.n") {
				t.Errorf("%s, %s: %s", name, what, got.ErrorMessage)
			}
		}
		s.Edit(t, "production", "greeting", func(d *flag.Document) { d.Lever = flag.Off })
		gltest.Eventually(t, name+" tells the change", func() bool {
			return n.ask("greeting", "none", courier).said() == `"Hello" plain DISABLED`
		})
		s.Edit(t, "production", "greeting", func(d *flag.Document) { d.Lever = flag.On })
		p.stands("")
		if got := n.ask("handover-photo", false, courier); got.said() != `false  ERROR GENERAL` {
			t.Errorf("%s is away: %s", name, got.said())
		}
		p.stands(to)
		if got := n.ask("handover-photo", false, courier); got.said() != `true on TARGETING_MATCH` {
			t.Errorf("%s is back: %s", name, got.said())
		}
		p.busy.Store(true)
		if got := n.ask("handover-photo", false, courier); got.said() != `false  ERROR GENERAL` {
			t.Errorf("%s is busy: %s", name, got.said())
		}
		p.busy.Store(false)
		gltest.Eventually(t, name+": it asks again when it may", func() bool {
			return n.ask("handover-photo", false, courier).said() == `true on TARGETING_MATCH`
		})
		wrong := newNode(t, p.URL, "gls_wrong")
		if got := wrong.ask("handover-photo", false, courier); got.said() != `false  ERROR GENERAL` {
			t.Errorf("%s, a wrong key: %s", name, got.said())
		}
	}
	ns, no := newNode(t, s.URL(), other.Secret), newNode(t, o.URL(), other.Secret)
	s.Keeper.Do(t, "DELETE", fmt.Sprintf("%s/keys/%s", inProd, other.ID), nil, 200, nil)
	for name, n := range map[string]*node{"service": ns, "outpost": no} {
		gltest.Eventually(t, name+" refuses the key", func() bool {
			return n.ask("handover-photo", false, courier).said() == `false  ERROR GENERAL`
		})
	}
}

// standardPage builds the page of the standard's client for browsers, and serves it.
func standardPage(t *testing.T) string {
	t.Helper()
	return site(t,
		map[string]string{
			"/":        `<!doctype html><title>desk</title><body><script type="module" src="/page.js"></script>`,
			"/page.js": bundled(t, "standard-page.tsx", "production")})
}

// standardTab opens the page in a tab and waits until its client has started, or failed to.
func standardTab(t *testing.T, site, at, key string) *browse.Window {
	t.Helper()
	w := tab(t, site+"/?"+url.Values{"url": {at}, "key": {key}}.Encode())
	gltest.Eventually(t, "the client has started", func() bool {
		return w.Eval("String(window.page?.started)") == "true"
	})
	return w
}

// asks asks on the page.
func asks(t *testing.T, w *browse.Window, flag string, fallback any) (d detailed) {
	t.Helper()
	raw, _ := json.Marshal(fallback)
	if err := json.Unmarshal([]byte(w.Eval(fmt.Sprintf("JSON.stringify(page.ask(%q, %s))", flag, raw))),
		&d); err != nil {
		t.Fatal(err, w.Err())
	}
	return d
}

// heard is what the page heard of its client since it was last asked.
func heard(w *browse.Window) string { return w.Eval("page.heard.splice(0).join(' ')") }

// The standard's client for browsers and its hooks: values of every type and every error, pushed
// changes drawn at once, a restart and the end of the key, from the service and from an outpost,
// through a proxy that compresses.
func TestTheStandardsClientForBrowsers(t *testing.T) {
	t.Parallel()
	s := standard(t)
	o := station(t, s.URL(), []string{s.Keys["production"]})
	site := standardPage(t)
	for name, to := range map[string]string{"service": s.URL(), "outpost": o.URL()} {
		var key struct {
			ID, Secret string
		}
		s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser"}, 201, &key)
		p := newPacking(t, to)
		gltest.Eventually(t, "the key is known", func() bool {
			status, raw, _, _ := bearer(p.URL, key.Secret).Send("POST", "/ofrep/v1/evaluate/flags",
				[]byte(`{"context":{"role":"courier"}}`))
			return status == 200 && strings.Contains(string(raw), `"variant":"long"`)
		})
		w := standardTab(t, site, p.URL, key.Secret).See("photo off").See("greeting Hello as DEFAULT").See(
			"window of 2 hours").See("plan {}")
		if h := heard(w); h != "PROVIDER_READY" {
			t.Errorf("%s: started with %s", name, h)
		}
		w.Eval(`page.know({ targetingKey: "desk-1", role: "courier" }), ''`)
		w.See("photo on").See("the guarded part").See("window of 9007199254740991 hours").See(`"ä":1.5`)
		for _, a := range ofCouriers {
			if got := asks(t, w, a.flag, a.fallback); got.said() != a.want {
				t.Errorf("%s, %s: %s, want %s", name, a.flag, got.said(), a.want)
			}
		}
		gltest.Eventually(t, name+": the stream is open", func() bool { return p.opened.Load() > 0 })
		heard(w)
		w.Eval("page.changed.splice(0), ''")
		lift := stop(t, s, "handover-photo")
		w.See("photo off").Gone("the guarded part")
		if h, changed := heard(w), w.Eval("page.changed.splice(0).join(' ')"); h != "PROVIDER_CONFIGURATION_CHANGED" ||
			changed != "handover-photo" {
			t.Errorf("%s: heard %s of %s", name, h, changed)
		}
		lift()
		w.See("photo on")

		// Away: what is known stays, and the page comes back by itself.
		p.stands("")
		p.CloseClientConnections()
		gltest.Eventually(t, name+": the page hears that it is stale", func() bool {
			return strings.Contains(w.Eval("page.heard.join(' ')"), "STALE") || p.opened.Load() > 1
		})
		if got := asks(t, w, "handover-photo", false); got.said() != `true on TARGETING_MATCH` {
			t.Errorf("%s is away: %s", name, got.said())
		}
		s.Edit(t, "production", "greeting", func(d *flag.Document) { d.Lever = flag.Off })
		p.stands(to)
		gltest.Eventually(t, name+": the page comes back", func() bool {
			w.Eval("page.passes(5000), ''")
			return asks(t, w, "greeting", "none").said() == `"Hello" plain DISABLED`
		})
		s.Edit(t, "production", "greeting", func(d *flag.Document) { d.Lever = flag.On })
		gltest.Eventually(t, name+": and follows again", func() bool {
			return asks(t, w, "greeting", "none").Variant == "warm"
		})
		good(t, w)

		// Busy: what is known stays, and the page is told that it may be old.
		heard(w)
		p.busy.Store(true)
		w.Eval(`page.know({ targetingKey: "desk-2", role: "courier" }), ''`)
		gltest.Eventually(t, name+": the page hears that it is stale", func() bool {
			return strings.Contains(w.Eval("page.heard.join(' ')"), "STALE")
		})
		if got := asks(t, w, "handover-photo", false); got.said() != `true on TARGETING_MATCH` {
			t.Errorf("%s is busy: %s", name, got.said())
		}
		p.busy.Store(false)
		w.Eval(`page.passes(2000), page.know({ targetingKey: "desk-1", role: "courier" }), ''`)
		gltest.Eventually(t, name+": it asks again when it may", func() bool {
			return asks(t, w, "handover-photo", false).Variant == "on"
		})

		// Two of one origin and key start from what the first kept, and the answers are the same.
		again := standardTab(t, site, p.URL, key.Secret).See("photo off")
		again.Eval(`page.know({ targetingKey: "desk-1", role: "courier" }), ''`)
		again.See("photo on")
		good(t, again)

		s.Keeper.Do(t, "DELETE", fmt.Sprintf("%s/keys/%s", inProd, key.ID), nil, 200, nil)
		gltest.Eventually(t, name+" refuses the key", func() bool {
			status, _, _, _ := bearer(p.URL, key.Secret).Send("POST", "/ofrep/v1/evaluate/flags", nil)
			return status == 401
		})
		heard(w)
		w.Eval(`page.know({ targetingKey: "desk-1", role: "courier", at: 2 }), ''`)
		gltest.Eventually(t, name+": the page hears that the key has ended", func() bool {
			return strings.Contains(w.Eval("page.heard.join(' ')"), "PROVIDER_ERROR")
		})
		if got := asks(t, w, "handover-photo", false); got.said() != `true on CACHED` { // the client's own copy
			t.Errorf("%s, after the end of the key: %s", name, got.said())
		}
		wrong := standardTab(t, site, p.URL, "glb_wrong").See("photo off").See("greeting fallback")
		if h := heard(wrong); !strings.Contains(h, "PROVIDER_ERROR") {
			t.Errorf("%s, a wrong key: %s", name, h)
		}
		if got := asks(t, wrong, "handover-photo", true); got.ErrorCode != "PROVIDER_FATAL" || got.Value != true {
			t.Errorf("%s, a wrong key: %+v", name, got)
		}
	}
}

// stop stops a flag in production and gives what lifts that.
func stop(t *testing.T, s *gltest.Service, key string) (lift func()) {
	t.Helper()
	var made struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{key}}, 201, &made)
	return func() {
		t.Helper()
		s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{made.Stop}, "reason": "mended"}, 201, nil)
	}
}

// A tab that was hidden for ten minutes, longer than its stream's token lives, asks a few times
// and is there again; one whose stream was cut after that time, as by a deploy, too.
func TestATabThatWasHidden(t *testing.T) {
	var by atomic.Int64
	s := standard(t, shifted(&by))
	p := newPacking(t, s.URL())
	w := standardTab(t, standardPage(t), p.URL, s.Browse["production"]).See("photo off")
	streams := func() string { return browserStreams(s.AdminURL()) }
	gltest.Eventually(t, "the stream is open", func() bool { return streams() == "1" })
	for _, what := range []string{"hidden", "cut", "hidden", "cut"} {
		questions, opened := p.questions.Load(), p.opened.Load()
		if what == "hidden" {
			w.Eval("page.see(false), page.passes(12 * 60000), ''")
			gltest.Eventually(t, "the hidden tab has no stream", func() bool { return streams() == "0" })
			by.Add(int64(12 * time.Minute))
			w.Eval("page.see(true), ''")
		} else {
			by.Add(int64(12 * time.Minute))
			p.CloseClientConnections()
			gltest.Eventually(t, "the tab comes back with its old token", func() bool {
				return p.opened.Load() > opened
			})
		}
		gltest.Eventually(t, what+": the tab has a stream again", func() bool {
			w.Eval("page.passes(1000), ''") // its own first pause after a stream that was refused
			return streams() == "1"
		})
		lift := stop(t, s, "greeting")
		w.See("greeting Hello as DISABLED")
		lift()
		w.See("greeting Hello as DEFAULT")
		if q, o := p.questions.Load()-questions, p.opened.Load()-opened; q > 8 || o > 8 {
			t.Errorf("%s: the tab asked %d times and opened %d streams", what, q, o)
		}
		// And then it is calm: a minute passes, and nothing more is asked.
		questions, opened = p.questions.Load(), p.opened.Load()
		w.Eval("page.passes(60000), ''")
		if q, o := p.questions.Load()-questions, p.opened.Load()-opened; q > 1 || o > 1 {
			t.Errorf("%s: the tab goes on asking: %d times, %d streams", what, q, o)
		}
	}
	good(t, w)
}
