package accept

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
)

// weather stands before a service and can have it look as if it were away.
type weather struct {
	*httptest.Server
	away    atomic.Int64 // 0 not, 1 answers nothing, else the status of all answers
	missing atomic.Value // addresses that begin so are not found
}

func under(t *testing.T, s *gltest.Service) *weather {
	t.Helper()
	to, err := url.Parse(s.URL())
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1
	w := &weather{}
	w.missing.Store("-")
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		switch away := w.away.Load(); {
		case away == 1:
			panic(http.ErrAbortHandler)
		case away > 1:
			http.Error(rw, "not now", int(away))
		case strings.HasPrefix(r.URL.Path, w.missing.Load().(string)):
			http.NotFound(rw, r)
		default:
			proxy.ServeHTTP(rw, r)
		}
	}))
	t.Cleanup(w.Close)
	return w
}

// become changes the weather, and ends what is under way.
func (w *weather) become(away int64) {
	w.away.Store(away)
	w.CloseClientConnections()
}

const lifePage = "/p/pinecrest/production/flags/night-batching"

const reasonTyped = `document.querySelector('[aria-label="reason"]').value`

// edited opens an edit of a flag.
func edited(t *testing.T, at string) *browse.Window {
	t.Helper()
	w := windowAt(t, at, 1280, 900)
	w.Go(at+lifePage).See("Off: all get off.").Click("on").See("lever off → on").Fill("reason", "it is time")
	good(t, w)
	return w
}

// A service that is away takes nothing from the page: the edit stays, the stop stays, and what
// was proof says how old it is. Once it is back, all goes on.
func TestConsoleWithoutTheService(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	for name, away := range map[string]int64{"answers nothing": 1, "answers 503": 503, "answers 502": 502} {
		t.Run(name, func(t *testing.T) {
			sky := under(t, s)
			w, board, stop := edited(t, sky.URL), windowAt(t, sky.URL, 1280, 900), windowAt(t, sky.URL, 360, 780)
			board.See("delivered to")
			stop.Go(sky.URL + "/p/pinecrest/production/stop").See("delivered to")
			sky.become(away)
			w.See("Not connected since").See("lever off → on").See("Stop night-batching in production")
			board.See("Not connected since").See("as it was at").See("delivered to")
			stop.See("Not connected since").See("as it was at").See("delivered to")
			w.Click("Save in production").See("Nothing is lost: try again")
			sky.become(0)
			w.Gone("Not connected since").See("lever off → on")
			board.Gone("Not connected since").Gone("as it was at").See("delivered to")
			stop.Gone("Not connected since").Gone("as it was at")
			if typed := w.Eval(reasonTyped); typed != "it is time" {
				t.Errorf("the reason: %q", typed)
			}
			w.Click("Save in production").Gone("This edit changes")
			for _, w := range []*browse.Window{w, board, stop} {
				good(t, w)
			}
			if v := s.Get(t, "production", "night-batching"); v.Document.Lever != flag.On {
				t.Errorf("%+v", v)
			}
			s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
		})
	}
}

// A session that ended is asked for again over the page, which keeps what was typed.
func TestConsoleSignsInAgain(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := edited(t, s.URL())
	var all struct{ Items []struct{ ID string } }
	s.Keeper.Do(t, "GET", "/me/sessions", nil, 200, &all)
	for _, one := range all.Items {
		s.Keeper.Do(t, "DELETE", "/me/sessions/"+one.ID, nil, 200, nil)
	}
	w.Eval(saveOrAsked)
	w.See("Sign in again").See("lever off → on")
	front := w.Eval(`(() => { const d = document.querySelector("[role=dialog]"), r = d.getBoundingClientRect();
		const at = (x, y) => d.contains(document.elementFromPoint(x, y));
		return String(at(r.left + 3, r.top + 3) && at(r.right - 3, r.top + 3) && at(r.right - 3, r.bottom - 3)); })()`)
	if front != "true" {
		t.Error("something stands before the dialog")
	}
	w.Fill("Password", "not this one")
	w.Click("Sign in").See("the e-mail address or the password is wrong").Fill("Password",
		gltest.Password).Click("Sign in").Gone("Sign in again")
	w.See("lever off → on").Click("Save in production").Gone("This edit changes")
	good(t, w)
	if v := s.Get(t, "production", "night-batching"); v.Document.Lever != flag.On {
		t.Errorf("%+v", v)
	}
}

// saveOrAsked saves, unless the page has noticed by itself that its session is over, and asks already.
const saveOrAsked = `(() => { if (!document.querySelector("[role=dialog]"))
	[...document.querySelectorAll("button")].find((b) => b.textContent.startsWith("Save in")).click(); return ""; })()`

// Who signed in again in another tab is asked no more in this one: once it is looked at, and by
// its live stream also while it only stands there.
func TestConsoleSignedInElsewhere(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	for how, event := range map[string]string{"looked at": "visibilitychange", "standing there": "none"} {
		t.Run(how, func(t *testing.T) {
			w := edited(t, s.URL())
			var all struct{ Items []struct{ ID string } }
			s.Keeper.Do(t, "GET", "/me/sessions", nil, 200, &all)
			for _, one := range all.Items {
				s.Keeper.Do(t, "DELETE", "/me/sessions/"+one.ID, nil, 200, nil)
			}
			w.Eval(saveOrAsked)
			w.See("Sign in again")
			w.Eval(fmt.Sprintf(`(async () => {
				const pause = (ms) => new Promise((done) => setTimeout(done, ms));
				const tries = () => fetch("/api/v1/sign-in", { method: "POST",
					headers: { "Content-Type": "application/json" },
					body: JSON.stringify({ email: %q, password: %q }) }).then((r) => r.ok, () => false);
				while (!(await tries())) await pause(500);
				for (;;) { // each look ends before the next one begins
					document.dispatchEvent(new Event(%q, { bubbles: true }));
					await pause(2000);
				}
			})(), ""`, gltest.KeeperEmail, gltest.Password, event))
			w.Gone("Sign in again").See("lever off → on").Click("Drop the edit").Gone("This edit changes")
			good(t, w)
		})
	}
}

// An address that was sent to somebody opens after the sign-in, and never one of elsewhere.
func TestConsoleOpensWhatWasAsked(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	for at, ends := range map[string]string{
		lifePage + "?name=site-7":                                lifePage + "?name=site-7",
		"/sign-in?to=" + url.QueryEscape("//away.example/x"):     "/p/pinecrest",
		"/sign-in?to=" + url.QueryEscape(`/\away.example/x`):     "/p/pinecrest",
		"/sign-in?to=" + url.QueryEscape("https://away.example"): "/p/pinecrest",
	} {
		w, err := b.Window(1280, 800)
		if err != nil {
			t.Fatal(err)
		}
		w.Go(s.URL()+at).See("Password").Fill("E-mail", gltest.KeeperEmail).Fill("Password",
			gltest.Password).Click("Sign in").See("night-batching")
		good(t, w)
		if here := w.Eval("location.pathname + location.search"); here != ends {
			t.Errorf("%s: %s", at, here)
		}
		w.Close()
	}
}

// An edit waits while other pages are looked at and the page is loaded anew, is named on all of
// them, and ends with its person.
func TestConsoleKeepsEdits(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Person(t, "mara.dell", "developer")
	w := edited(t, s.URL())
	w.Click("staging").Gone("This edit changes").See("not saved: night-batching in production").Click("Board").See(
		"New flag")
	w.Go(s.URL() + "/p/pinecrest/history").See("not saved:").Click("night-batching in production").See(
		"lever off → on")
	if typed := w.Eval(reasonTyped); typed != "it is time" {
		t.Errorf("the reason: %q", typed)
	}
	w.Click("Drop the edit").Gone("This edit changes").Gone("not saved:").Click("on").See("not saved:")
	good(t, w)
	w.Click("Sign out").See("Password").Fill("E-mail", "mara.dell@pinecrest.example").Fill("Password",
		gltest.Password).Click("Sign in").See("mara.dell").Gone("not saved:")
	w.Go(s.URL() + lifePage).See("Off: all get off.").Gone("This edit changes")
	good(t, w)
}

// A service that was upgraded has other scripts: a page that is opened then offers to be loaded
// anew, and the edit is kept.
func TestConsoleAfterAnUpgrade(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	sky := under(t, s)
	w := edited(t, sky.URL)
	sky.missing.Store("/assets/")
	w.Click("History").See("This page has to be loaded anew").See("not saved: night-batching in production")
	sky.missing.Store("-")
	w.Click("Load it anew").See("made night-batching").Click("night-batching in production").See("lever off → on")
	good(t, w)
	if status, _, _, err := (gltest.Caller{URL: s.URL()}).Send("GET", "/assets/gone.js", nil); status != 404 {
		t.Errorf("a script that is not there: %d %v", status, err)
	}
}

// Over plain HTTP from another host browsers leave out a part of what they can.
func TestConsoleFromAnotherHost(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := edited(t, strings.Replace(s.URL(), "127.0.0.1", browse.OtherHost, 1))
	if w.Eval("String(window.isSecureContext)") != "false" {
		t.Error("the browser trusts that host")
	}
	w.Click("Save in production").Gone("This edit changes").See("version 2")
	good(t, w)
}

// An attempt whose answer was lost is made again under the same key, so that it is not done twice.
func TestConsoleKeepsTheAttempt(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	to, err := url.Parse(s.URL())
	if err != nil {
		t.Fatal(err)
	}
	keys, lose := make(chan string, 10), make(chan bool, 1)
	lose <- true
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1
	proxy.ModifyResponse = func(r *http.Response) error {
		if r.Request.Method == http.MethodGet || r.Request.URL.Query().Get("dryRun") == "true" ||
			!strings.Contains(r.Request.URL.Path, "/flags") {
			return nil
		}
		keys <- r.Request.Header.Get("Idempotency-Key")
		select {
		case <-lose: // it was done, and nobody hears of it
			return errors.New("the answer is lost")
		default:
			return nil
		}
	}
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	// What was done, though its answer was lost, is seen as soon as it is heard of.
	w := edited(t, front.URL)
	w.Click("Save in production").Gone("This edit changes").See("production: All get off.")
	// So is a new rule, with shares: it is there once.
	lose <- true
	w.Click("Add a rule").Click("All units").Fill("share of on in percent", "8").See("added at place 1").Click(
		"Save in production").Gone("This edit changes").See("8 % of units get on")
	good(t, w)
	if rules := s.Get(t, "production", "night-batching").Document.Rules; len(rules) != 1 {
		t.Errorf("the rule stands %d times", len(rules))
	}
	lose <- true
	w.Go(front.URL+"/p/pinecrest/new-flag").Fill("Title", "Weather holds").Click("Make the flag").See(
		"The service cannot answer now").Click("Make the flag").See("Off: all get off.")
	good(t, w)
	<-keys
	<-keys
	if a, b := <-keys, <-keys; a == "" || a != b {
		t.Errorf("the attempts had the keys %q and %q", a, b)
	}
	if v := s.Get(t, "production", "night-batching"); v.Version != 3 {
		t.Errorf("it stands at version %d", v.Version)
	}
}

// Two people edit the same segment and the same definition: what each typed stays.
func TestConsoleMeetsOverForms(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	const segments = "/projects/pinecrest/segments"
	s.Keeper.Do(t, "POST", segments, object{"key": "staff", "in": object{"units": []string{"recipient-1"}}}, 201, nil)
	w := window(t, s, 1280, 900)
	w.Go(s.URL()+"/p/pinecrest/production/population").Click("edit segment staff").Fill("Units listed in",
		"recipient-2")
	w.Click("Add a comparison").Fill("attribute", "badge").Choose("comparison",
		"is present").See("not saved: segment staff")
	good(t, w)
	s.Keeper.With("If-Match", "1").Do(t, "PUT", inProd+"/segments/staff", object{"in": object{"units": []string{
		"recipient-9"}}}, 200, nil)
	w.See("Somebody else changed this too").See("recipient-9").See("recipient-2").Click("Take theirs").Gone(
		"Somebody else changed this too").Click("Save in production").See("1 listed unit, and all where badge is " +
		"present")
	good(t, w)
	w.Go(s.URL()+lifePage).Click("edit the definition").Fill("Title", "Batches at night").Fill("Owners", "Juno Lind")
	good(t, w)
	s.Keeper.With("If-Match", "1").Do(t, "PATCH", "/projects/pinecrest/flags/night-batching",
		object{"title": "By night",
			"tags": []string{"rounds"}}, 200, nil)
	w.See("Somebody else changed this too").See("By night").Click("Keep mine").Click("Save the definition").See(
		"rounds").See(
		"Juno Lind")
	good(t, w)
	var d struct {
		Title        string
		Owners, Tags []string
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/flags/night-batching", nil, 200, &d)
	if d.Title != "Batches at night" || len(d.Owners) != 1 || len(d.Tags) != 1 {
		t.Errorf("saved: %+v", d)
	}
}

// By keys alone: find a flag, widen it, stop it; the focus is where one expects it.
func TestConsoleByKeys(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 60)
	w := window(t, s, 1280, 900)
	w.See("night-batching").Press("Ctrl+k").See("Pages")
	if on := w.Focused(); on != "Go to" {
		t.Errorf("in the palette the focus is on %q", on)
	}
	w.Fill("Go to", "night").SeeIn("Go to", "night-batching").Press("Enter").See("Go to night-batching in").Fill(
		"Environment",
		"prod").See(
		"night-batching in production").Press("Enter").See("units come in")
	good(t, w)
	gltest.Eventually(t, "the heading is read", func() bool {
		return strings.HasPrefix(w.Focused(), "night-batching")
	})
	w.Click("edit First sites").See("what follows")
	// The edge of the bar is moved by keys: 8 % and 5 % and 1 %.
	w.Eval(`(() => { document.querySelector("[role=slider]").focus(); return ""; })()`)
	w.Press("Shift+ArrowRight").Press("ArrowRight").See("share of on 8 % → 14 %").Press("ArrowLeft").See("8 % → 13 %")
	w.Eval(`(() => { document.activeElement.blur(); return ""; })()`)
	w.Press("Ctrl+z").See("Redo").Press("Ctrl+Shift+z").See("8 % → 13 %").Click("Save in production").Gone(
		"This edit changes").See("Saved: night-batching in production")
	if on := w.Focused(); !strings.HasPrefix(on, "production:") {
		t.Errorf("after saving the focus is on %q", on)
	}
	w.Press("?").See("go anywhere by typing").Press("Escape").Gone("go anywhere by typing")
	w.Press("s").See("Live in production").Click("Stop night-batching").See("Leave it on")
	if on := w.Focused(); on != "Stop night-batching now" {
		t.Errorf("armed, the focus is on %q", on)
	}
	w.Press("Escape").Gone("Leave it on")
	gltest.Eventually(t, "the focus is back", func() bool { return w.Focused() == "Stop night-batching" })
	w.Press("Enter").See("Leave it on").Press("Enter").See("Stopped: night-batching in production")
	good(t, w)
}

// Who may not is told so, and who could.
func TestConsoleOfAnAuditor(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "night-batching")
	s.Person(t, "ask.vik", "auditor")
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.Window(1280, 900)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	w.Go(s.URL()+"/sign-in").Fill("E-mail", "ask.vik@pinecrest.example").Fill("Password",
		gltest.Password).Click("Sign in").See("night-batching").Gone("New flag")
	w.Go(s.URL() + lifePage).See(
		"this takes the role developer or releaser or on-call or keeper in production; you are auditor").See(
		"You may look at it. To change it: this takes the role developer or releaser or keeper").Gone(
		"Add a rule").Gone(
		"Copy the rules to")
	good(t, w)
}

// Days are those of the reader's zone, on both ends of the world, and the zone is said.
func TestConsoleInOtherZones(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	for _, zone := range []string{"Pacific/Honolulu", "Pacific/Apia"} {
		at, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		today := time.Now().In(at)
		w := window(t, s, 1280, 900).Zone(zone)
		day := func(d time.Time) string { return d.Format(time.DateOnly) }
		address := s.URL() + "/p/pinecrest/history?flag=night-batching"
		w.Go(address + "&from=" + day(today) + "&to=" + day(today)).See("made night-batching").See("times are of " +
			zone)
		w.Go(address + "&to=" + day(today.AddDate(0, 0, -1))).See("Nothing was changed that fits")
		w.Go(address + "&from=" + day(today.AddDate(0, 0, 1))).See("Nothing was changed that fits")
		good(t, w)
	}
}

// Who has roles in two projects goes from one to the other, and each stays by itself.
func TestConsoleOfTwoProjects(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Keeper.Do(t, "POST", "/projects", object{"key": "harbour", "title": "Harbour"}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/harbour/environments", object{"key": "quay"}, 201, nil)
	s.Keeper.Do(t, "POST", "/projects/harbour/flags", object{"key": "night-batching", "goneBy": "stays"}, 201, nil)
	w := window(t, s, 1280, 900)
	w.Go(s.URL() + lifePage).See("Off: all get off.").Click("on").See("not saved: night-batching in production")
	w.Choose("project", "Harbour").See("quay").Go(s.URL() + "/p/harbour/quay/flags/night-batching").See(
		"quay: Off: all get off.").Gone("This edit changes")
	w.See("not saved: night-batching in production").Click("night-batching in production").See("lever off → on")
	good(t, w)
	if at := w.Eval("location.pathname"); at != lifePage {
		t.Errorf("the edit goes on at %s", at)
	}
}

// Who types quickly loses no letter, and the address says it a moment later; Back takes it away.
func TestConsoleLosesNoLetter(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Flag(t, "weather-holds")
	w := window(t, s, 1280, 900)
	const typed = "night owner:nobody -tag:door"
	for _, page := range []struct{ path, field string }{{"/p/pinecrest", "find flags"},
		{"/p/pinecrest/history", "find in the history"}, {"/p/pinecrest/production/stop", "find a flag"}} {
		w.Go(s.URL()+page.path).See("Ida Holm").Fill(page.field, typed)
		good(t, w)
		gltest.Eventually(t, "the address of "+page.path, func() bool {
			return w.Eval(`new URLSearchParams(location.search).get("find") ?? ""`) == typed
		})
		if now := w.Eval(`document.querySelector("main input[type=search]").value`); now != typed {
			t.Errorf("%s: the field says %q", page.path, now)
		}
	}
	w.Go(s.URL() + "/p/pinecrest?find=weather").See("1 flag").Click("Board").See("2 flags").See("night-batching")
	w.Eval(`(() => { history.back(); return ""; })()`)
	w.See("1 flag").Gone("night-batching")
	good(t, w)
}

// While the service is away no page goes blank, and each is as before once it is back.
func TestConsoleStaysOnEveryPage(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 60)
	sky := under(t, s)
	w := windowAt(t, sky.URL, 1280, 900)
	for path, says := range map[string]string{"/p/pinecrest": "night-batching", lifePage: "units come in",
		"/p/pinecrest/history": "changed night-batching", "/p/pinecrest/production/population": "Recently seen",
		"/p/pinecrest/new-flag": "A change step by step"} {
		w.Go(sky.URL + path).See(says).Gone("reading ")
		good(t, w)
		sky.become(502)
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": keyFor(path), "goneBy": "stays"}, 201, nil)
		w.See("Not connected since").See(says)
		good(t, w)
		sky.become(0)
		w.Gone("Not connected since").See(says)
		good(t, w)
	}
}

// keyFor makes a flag's key of an address.
func keyFor(path string) string { return "over" + strings.ReplaceAll(path, "/", "-") }
