package accept

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

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
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := edited(t, s.URL())
	var all struct{ Items []struct{ ID string } }
	s.Keeper.Do(t, "GET", "/me/sessions", nil, 200, &all)
	for _, one := range all.Items {
		s.Keeper.Do(t, "DELETE", "/me/sessions/"+one.ID, nil, 200, nil)
	}
	w.Click("Save in production").See("Sign in again").See("lever off → on")
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

// Who signed in again in another tab is asked no more in this one.
func TestConsoleSignedInElsewhere(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := edited(t, s.URL())
	var all struct{ Items []struct{ ID string } }
	s.Keeper.Do(t, "GET", "/me/sessions", nil, 200, &all)
	for _, one := range all.Items {
		s.Keeper.Do(t, "DELETE", "/me/sessions/"+one.ID, nil, 200, nil)
	}
	w.Click("Save in production").See("Sign in again")
	w.Eval(fmt.Sprintf(`void fetch("/api/v1/sign-in", { method: "POST", headers: { "Content-Type": "application/json" },
		body: JSON.stringify({ email: %q, password: %q }) }).then(() => setTimeout(function come() {
			document.dispatchEvent(new Event("visibilitychange"));
			setTimeout(come, 200);
		})), ""`, gltest.KeeperEmail, gltest.Password))
	w.Gone("Sign in again").See("lever off → on").Click("Save in production").Gone("This edit changes")
	good(t, w)
}

// An address that was sent to somebody opens after the sign-in, and never one of elsewhere.
func TestConsoleOpensWhatWasAsked(t *testing.T) {
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
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Person(t, "mara.dell", "developer")
	w := edited(t, s.URL())
	w.Click("staging").Gone("This edit changes").See("not saved: night-batching in production").Click("Board").See(
		"New flag")
	w.Go(s.URL() + "/p/pinecrest/history").See("not saved:").Click("night-batching in production").See("lever off → on")
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
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := edited(t, strings.Replace(s.URL(), "127.0.0.1", browse.OtherHost, 1))
	if w.Eval("String(window.isSecureContext)") != "false" {
		t.Error("the browser trusts that host")
	}
	w.Click("Save in production").Gone("This edit changes").See("version 2")
	good(t, w)
}
