package accept

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
)

// site serves pages of another origin than the service's.
func site(t *testing.T, pages map[string]string) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page, ok := pages[r.URL.Path]
		if !ok {
			http.NotFound(w, r)
			return
		}
		kind := "text/html; charset=utf-8"
		if strings.HasSuffix(r.URL.Path, ".js") {
			kind = "text/javascript"
		}
		w.Header().Set("Content-Type", kind)
		_, _ = io.WriteString(w, page)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func tab(t *testing.T, url string) *browse.Window {
	t.Helper()
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.Window(900, 600)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return w.Go(url)
}

// scripted is a page that imports the client and runs a script; out writes to the page.
func scripted(url, script string) string {
	return fmt.Sprintf(`<!doctype html><title>page</title><pre id="out"></pre><script type="module">
import { start } from "%s/browser/v1/greenlever.js";
const out = (text) => { document.getElementById("out").textContent += text + "\n"; };
%s
</script>`, url, script)
}

// The vectors once more, asked for by the browser's client in a browser.
func TestVectorsInABrowser(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	v := readVectors(t)
	saved := seedVectors(t, s, v)
	type row struct {
		Name, Flag, Variant, Reason string
		Context, Value              json.RawMessage
	}
	var rows []row
	for _, r := range v.Vectors {
		if saved[r.Flag] {
			rows = append(rows, row{r.Name, r.Flag, r.Variant, r.Reason, r.Context, r.Value})
		}
	}
	raw, _ := json.Marshal(rows)
	url := site(t, map[string]string{"/": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, context: { targetingKey: null } });
await flags.ready;
let ran = 0;
const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);
for (const row of %s) {
  await flags.know({ targetingKey: null, ...row.Context }); // undefined would be a random visitor
  const a = flags.answer(row.Flag);
  if (a.variant !== row.Variant || a.reason !== row.Reason || (row.Value !== null && !same(a.value, row.Value))) out(row.Name + ": " + JSON.stringify(a) + " " + flags.error);
  ran++;
}
out("ran " + ran);`, s.Browse["production"], raw))})
	w := tab(t, url).See(fmt.Sprintf("ran %d", len(rows)))
	good(t, w)
	if text := w.Eval("document.getElementById('out').textContent"); strings.Count(text, "\n") != 1 ||
		len(rows) < 380 {
		t.Errorf("%d rows: %s", len(rows), text)
	}
}

// One line on a static page guards its parts, and follows changes without a reload.
func TestOneLineOnAPage(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "greeting", "type": "string", "resting": "plain",
		"goneBy": "stays", "visible": true,
		"variants": []object{{"name": "plain", "value": "Hello"}, {"name": "warm", "value": "Good to see you"}}}, 201,
		nil)
	url := site(t, map[string]string{"/": fmt.Sprintf(`<!doctype html><title>desk</title>
<script type="module" src="%s/browser/v1/greenlever.js?key=%s&application=desk"></script>
<p data-flag="handover-photo" hidden>Take a photo</p><p data-flag="greeting" data-is="warm" hidden>Warm words</p><p data-flag="nowhere" hidden>Never</p><p>The page</p>`, s.URL(), s.Browse["production"])})
	w := tab(t, url).See("The page").Gone("Take a photo")
	gltest.Eventually(t, "the client has answers", func() bool {
		return w.Eval("String(window.greenlever?.source)") == "service"
	})
	s.Edit(t, "production", "handover-photo", turnOn)
	w.See("Take a photo").Gone("Warm words")
	s.Edit(t, "production", "greeting", func(d *flag.Document) {
		d.Lever, d.End = flag.On, flag.Gives{Variant: "warm"}
	})
	w.See("Warm words").Gone("Never")
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"handover-photo"}, "reason": "blurred"}, 201, nil)
	w.Gone("Take a photo").See("Warm words")
	good(t, w)
	w.Eval("window.greenlever.close(), ''") // which reports
	if err := w.Err(); err != nil {
		t.Fatal(err)
	}
	var u struct {
		Ways []struct {
			Application, Variant string
			Count                uint64
		}
	}
	gltest.Eventually(t, "what the page used is counted", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/usage?flag=greeting", nil, 200, &u)
		for _, way := range u.Ways {
			if way.Application == "desk" && way.Variant == "warm" && way.Count > 0 {
				return true
			}
		}
		return false
	})
	for _, way := range u.Ways {
		if way.Application == "all at once" {
			t.Errorf("the client that counts by itself is counted twice: %+v", u.Ways)
		}
	}
}

// What the client promises: other answers when the unit becomes known, shut routes without
// answers, a hook for each answer, values from the page and from the last visit.
func TestBrowserClient(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	s.Flag(t, "secret")
	s.Edit(t, "production", "handover-photo", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Couriers", When: &condition.Node{Test: "string.equals", Attribute: "role",
			Text: []string{"courier"}}, Gives: flag.Gives{Variant: "on"}}}
	})
	free, err := net.Listen("tcp", "127.0.0.1:0") // takes connections and never answers
	if err != nil {
		t.Fatal(err)
	}
	defer free.Close()
	key := s.Browse["production"]
	pages := map[string]string{
		"/know": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, context: { targetingKey: "desk-1" } });
const heard = [];
flags.onAnswer((a) => heard.push(a.key + "=" + (a.variant ?? a.errorCode)));
out("shut before answers: " + !flags.bool("handover-photo", false));
out("route: " + (await flags.opens("handover-photo")));
await flags.know({ targetingKey: "desk-1", role: "courier" });
out("known: " + flags.bool("handover-photo", false) + " from " + flags.source);
const asking = flags.know({ targetingKey: "desk-2" });
out("another unit, not known yet: " + flags.bool("handover-photo", true) + " from " + flags.source);
await asking;
out("another unit: " + flags.bool("handover-photo", true));
out("invisible: " + flags.answer("secret").errorCode + ", unknown: " + flags.answer("nowhere").errorCode);
out("wrong type: " + flags.string("handover-photo", "fallback"));
out("heard: " + heard.slice(0, 3).join(" "));
out("done");`, key)),
		"/page": `<script id="greenlever-answers" type="application/json">{"flags":[{"key":"handover-photo","value":true,"variant":"on","reason":"TARGETING_MATCH"}]}</script>` +
			scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: "http://%s", timeout: 50 });
out("at once: " + flags.bool("handover-photo", false) + " from " + flags.source);
await flags.ready;
out("done");`, key, free.Addr())),
		"/visit": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: location.hash.slice(1) || %q, timeout: 2000, context: { targetingKey: "desk-1", role: "courier" } });
const first = flags.source;
await flags.ready;
out("first " + first + ", then " + flags.source + ": " + flags.bool("handover-photo", false));
out("done");`, key, s.URL())),
		"/nothing": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: "http://%s", timeout: 50 });
out("route: " + (await flags.opens("handover-photo")) + ", " + flags.number("n", 7) + " from " + flags.source + ", " + flags.answer("x").errorCode);
out("done");`, key, free.Addr())),
	}
	url := site(t, pages)
	expect := func(w *browse.Window, lines ...string) {
		t.Helper()
		w.See("done")
		for _, l := range lines {
			w.See(l)
		}
		good(t, w)
	}
	expect(tab(t, url+"/know"), "shut before answers: true", "route: false", "known: true from service",
		"another unit, not known yet: true from fallback",
		"another unit: false", "invisible: FLAG_NOT_FOUND, unknown: FLAG_NOT_FOUND", "wrong type: fallback",
		"heard: handover-photo=PROVIDER_NOT_READY handover-photo=off handover-photo=on")
	expect(tab(t, url+"/page"), "at once: true from page")
	expect(tab(t, url+"/nothing"), "route: false, 7 from fallback, PROVIDER_NOT_READY")
	w := tab(t, url+"/visit")
	expect(w, "first fallback, then service: true")
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	// The module itself comes from the site now: the service is gone.
	pages["/visit"] = strings.Replace(pages["/visit"], s.URL()+"/browser/v1/greenlever.js", "/greenlever.js", 1)
	module, err := os.ReadFile("../edge/dist/browser/greenlever.js")
	if err != nil {
		t.Fatal(err)
	}
	pages["/greenlever.js"] = string(module)
	expect(w.Go(url+"/visit"), "first copy, then copy: true")
}

// browserStreams is how many streams of browsers are open.
func browserStreams(admin string) string {
	_, raw, _, _ := gltest.Caller{URL: admin}.Send("GET", "/metrics", nil)
	for line := range strings.Lines(string(raw)) {
		if n, ok := strings.CutPrefix(line, "greenlever_browser_streams "); ok {
			return strings.TrimSpace(n)
		}
	}
	return ""
}

// Tabs of one browser share one stream; when the one that has it closes another takes over.
// All of it works through an outpost too.
func TestTabsShareAStream(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	o := station(t, s.URL(), []string{s.Keys["production"]})
	url := site(t,
		map[string]string{"/": `<!doctype html><title>two</title><iframe id="one" src="/desk"></iframe><iframe id="two" src="/desk"></iframe>`,
			"/desk": fmt.Sprintf(`<!doctype html><title>desk</title><script type="module" src="%s/browser/v1/greenlever.js?key=%s"></script>
<p data-flag="handover-photo" hidden>Take a photo</p><p>The page</p>`, o.URL(), s.Browse["production"])})
	streams := func() string { return browserStreams(o.AdminURL()) }
	w := tab(t, url) // frames of one origin share as tabs do
	in := func(frame, what string) string {
		return w.Eval(fmt.Sprintf("String(document.getElementById(%q)?.contentWindow.%s)", frame, what))
	}
	for _, frame := range []string{"one", "two"} {
		gltest.Eventually(t, frame+" has answers", func() bool { return in(frame, "greenlever?.source") == "service" })
	}
	gltest.Eventually(t, "one has a stream", func() bool { return streams() == "1" })
	s.Edit(t, "production", "handover-photo", turnOn)
	const photo = "document.body.innerText.includes('Take a photo')"
	for _, frame := range []string{"one", "two"} {
		gltest.Eventually(t, frame+" follows", func() bool { return in(frame, photo) == "true" })
	}
	if n := streams(); n != "1" {
		t.Errorf("two tabs have %s streams", n)
	}
	holder, other := "one", "two"
	if in("two", "greenlever.holding") == "true" {
		holder, other = other, holder
	}
	w.Eval(fmt.Sprintf("document.getElementById(%q).remove(), ''", holder))
	gltest.Eventually(t, "the other one takes over", func() bool {
		return in(other, "greenlever.holding") == "true" && streams() == "1"
	})
	s.Edit(t, "production", "handover-photo", func(d *flag.Document) { d.Lever = flag.Off })
	gltest.Eventually(t, "it follows", func() bool { return in(other, photo) == "false" })
	good(t, w)
}

// bundled makes one script of a page in the console's test data.
func bundled(t *testing.T, source, mode string, more ...string) string {
	t.Helper()
	built := filepath.Join(t.TempDir(), "page.js")
	cmd := exec.Command("npx", append([]string{"--no-install", "rolldown", "browser/testdata/" + source, "--file",
		built, "--format", "esm", "--platform", "browser", "--transform.define", "process.env.NODE_ENV:'" + mode +
			"'"}, more...)...)
	cmd.Dir = "../../console"
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("build the page: %v: %s", err, said)
	}
	script, err := os.ReadFile(built)
	if err != nil {
		t.Fatal(err)
	}
	return string(script)
}

// The hook draws anew when answers change and when the unit becomes known.
func TestReactHook(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	s.Edit(t, "production", "handover-photo", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Couriers", When: &condition.Node{Test: "string.equals", Attribute: "role",
			Text: []string{"courier"}}, Gives: flag.Gives{Variant: "on"}}}
	})
	// on the modules as they are served
	page := bundled(t, "page.tsx", "development", "--external", "../greenlever", "--external", "../react")
	for in, served := range map[string]string{`"../greenlever"`: "greenlever.js",
		`"../react"`: "greenlever-react.js"} {
		if !strings.Contains(page, in) {
			t.Fatalf("the page does not import %s", in)
		}
		page = strings.ReplaceAll(page, in, `"`+s.URL()+"/browser/v1/"+served+`"`)
	}
	url := site(t,
		map[string]string{
			"/":        `<!doctype html><title>desk</title><body><script type="module" src="/page.js"></script>`,
			"/page.js": page})
	w := tab(t, url+"/?key="+s.Browse["production"]+"&url="+s.URL()).See("photo off").See("greeting fallback").Gone(
		"the guarded part")
	w.Click("I am a courier").See("photo on").See("the guarded part")
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"handover-photo"}}, 201, nil)
	w.See("photo off").Gone("the guarded part")
	good(t, w)
	// Drawn twice in React's strict mode, counted once: off from the service, on, off again.
	w.Eval("dispatchEvent(new Event('pagehide')), ''")
	gltest.Eventually(t, "what was drawn is counted", func() bool {
		var u struct {
			Now []struct {
				Flag, Variant string
				Total         uint64
			}
		}
		s.Keeper.Do(t, "GET", inProd+"/usage?span=15m", nil, 200, &u)
		total := map[string]uint64{}
		for _, l := range u.Now {
			total[l.Variant] += l.Total
		}
		if total["on"] > 2 || total["off"] > 4 { // the part that is guarded, and the line beside it
			t.Fatalf("%v", total)
		}
		return total["on"] == 2 && total["off"] == 4
	})
}

// What goes wrong is said, and settles nothing that may still come right.
func TestBrowserClientInTrouble(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	s.Edit(t, "production", "handover-photo", turnOn)
	key := s.Browse["production"]
	var asked atomic.Int64
	var keys sync.Map
	// fails first, and notes who asks
	shaky := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		w.Header().Set("Access-Control-Allow-Headers", "*, Authorization")
		if r.Method == "OPTIONS" {
			return
		}
		var body struct{ Context struct{ TargetingKey string } }
		_ = json.NewDecoder(r.Body).Decode(&body)
		keys.Store(body.Context.TargetingKey, true)
		if asked.Add(1) == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		_, _ = io.WriteString(w, `{"flags":[{"key":"handover-photo","value":true,"variant":"on","reason":"STATIC"}]}`)
	}))
	defer shaky.Close()
	url := site(t, map[string]string{
		"/wrong": scripted(s.URL(), fmt.Sprintf(`
const began = Date.now(), said = [];
const flags = start({ key: "glb_wrong", url: %q, timeout: 60000 });
flags.onError((why) => said.push(why));
await flags.ready;
out("settled early: " + (Date.now() - began < 30000) + ", " + flags.error + ", " + said.length);
out("done");`, s.URL())),
		"/late": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: %q, timeout: 60000, context: { targetingKey: undefined } });
await flags.ready;
out("after a failure: " + flags.bool("handover-photo", false) + " from " + flags.source + ", error " + JSON.stringify(flags.error));
out("done");`, key, shaky.URL)),
		"/know": scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: %q, timeout: 60000 });
const knowing = flags.know({ targetingKey: "desk-1", email: "ida.holm@pinecrest.example" });
await flags.ready;
out("known at once: " + flags.bool("handover-photo", false) + " from " + flags.source);
await knowing;
out("kept: " + JSON.stringify({ ...localStorage }).includes("ida.holm"));
out("done");`, key, s.URL())),
		"/odd": scripted(s.URL(), fmt.Sprintf(`
const said = [];
console.warn = (text) => said.push(text);
const odd = { big: 2 ** 53, huge: 10n ** 30n, none: NaN, half: "\ud800", "": 1, nested: { half: "a\udc00" }, list: ["a", "\ud800"] };
const flags = start({ key: %q, url: %q, timeout: 60000, context: { role: "courier", ...odd } });
await flags.ready;
await flags.know({ role: "courier", ...odd });
out("odd: " + flags.bool("handover-photo", false) + " from " + flags.source + ", error " + JSON.stringify(flags.error) + ", said " + said.length);
out("done");`, key, s.URL())),
		"/forbidden": `<script>Object.defineProperty(window, "localStorage", { get() { throw new Error("forbidden") } })</script>` + scripted(s.URL(), fmt.Sprintf(`
const flags = start({ key: %q, url: %q, timeout: 60000 });
await flags.ready;
await flags.know({});
await flags.know({ role: "desk" });
out("done");`, key, shaky.URL)),
	})
	tab(t, url+"/wrong").See("done").See("settled early: true, the service answers 401").See(", 1")
	tab(t, url+"/odd").See("done").See(`odd: true from service, error "", said 5`)
	late := tab(t, url+"/late").See("done").See(`after a failure: true from service, error ""`)
	good(t, late)
	late.Close() // it would ask again, and be counted below
	w := tab(t, url+"/know").See("done").See("known at once: true from service").See("kept: false")
	good(t, w)
	keys.Range(func(k, _ any) bool {
		if k == "" {
			t.Error("an undefined key took the visitor's place")
		}
		keys.Delete(k)
		return true
	})
	tab(t, url+"/forbidden").See("done")
	n := 0
	keys.Range(func(any, any) bool { n++; return true })
	if n != 1 {
		t.Errorf("%d visitors on one page without storage", n)
	}
}

// Who says what is known of the unit waits for answers to that, also where the page asks anew meanwhile.
func TestKnowWaitsForTheNewestAnswers(t *testing.T) {
	t.Parallel()
	second, release, first := make(chan bool), make(chan bool), make(chan bool)
	var asked atomic.Int64
	answers := `{"flags":[{"key":"handover-photo","value":%v,"variant":"on","reason":"STATIC"}]}`
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		w.Header().Set("Access-Control-Allow-Headers", "*, Authorization")
		if r.Method == "OPTIONS" {
			return
		}
		if r.URL.Path == "/release" {
			<-first
			close(release)
			return
		}
		body, _ := io.ReadAll(r.Body)
		courier := strings.Contains(string(body), "courier")
		if courier {
			switch asked.Add(1) {
			case 1:
				<-second
				defer close(first)
			case 2:
				close(second)
				<-release
			}
		}
		_, _ = fmt.Fprintf(w, answers, courier)
	}))
	defer slow.Close()
	w := tab(t, site(t, map[string]string{"/": scripted(gltest.Start(t).URL(), fmt.Sprintf(`
const url = %q, flags = start({ key: "glb_x", url, timeout: 60000 });
await flags.ready;
const knowing = flags.know({ role: "courier" });
new BroadcastChannel("greenlever " + url + " glb_x").postMessage("");
const released = fetch(url + "/release");
await knowing;
out("known: " + flags.bool("handover-photo", false));
await released;
out("done");`, slow.URL))}))
	w.See("done").See("known: true")
	good(t, w)
}

// On a server there is no page: the served module can be loaded and started there, and gives
// fallbacks.
func TestBrowserClientOnAServer(t *testing.T) {
	program := filepath.Join(t.TempDir(), "server.mjs")
	module, err := filepath.Abs("../edge/dist/browser/greenlever.js")
	if err != nil {
		t.Fatal(err)
	}
	source := fmt.Sprintf(`import { start } from %q;
const flags = start({ key: "glb_x", url: "http://127.0.0.1:1" });
await flags.ready;
await flags.know({ targetingKey: "x" });
console.log(flags.bool("a", true), flags.source, flags.answer("a").errorCode);
flags.close();`, "file://"+module)
	if err := os.WriteFile(program, []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	if said, err := exec.Command("node", program).CombinedOutput(); err != nil || string(said) != "true fallback "+
		"PROVIDER_NOT_READY\n" {
		t.Errorf("%v: %s", err, said)
	}
}

// The client is small: at most 5 KB, compressed.
func TestBrowserClientIsSmall(t *testing.T) {
	s := gltest.Start(t)
	req, _ := http.NewRequest("GET", s.URL()+"/browser/v1/greenlever.js", nil)
	req.Header.Set("Accept-Encoding", "gzip")
	res, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(res.Body)
	for _, types := range []string{"greenlever.d.ts", "greenlever-react.d.ts"} {
		status, said, header, _ := gltest.Caller{URL: s.URL()}.Send("GET", "/browser/v1/"+types, nil)
		if status != 200 || !strings.Contains(string(said), "export declare function") ||
			!strings.HasPrefix(header.Get("Content-Type"), "application/typescript") {
			t.Errorf("%s: %d %v", types, status, header)
		}
	}
	if res.Header.Get("Content-Encoding") != "gzip" || len(raw) > 5<<10 || len(raw) < 500 ||
		res.Header.Get("Access-Control-Allow-Origin") != "*" {
		t.Errorf("%d bytes, %v", len(raw), res.Header)
	}
}
