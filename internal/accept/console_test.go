package accept

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

var chromium = sync.OnceValues(browse.Start)

// window opens a window of the console, signed in as the keeper.
func window(t *testing.T, s *gltest.Service, width, height int) *browse.Window {
	t.Helper()
	return windowAt(t, s.URL(), width, height)
}

func windowAt(t *testing.T, url string, width, height int) *browse.Window {
	t.Helper()
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.Window(width, height)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return signIn(w, url)
}

// signIn signs in as the keeper at an address.
func signIn(w *browse.Window, url string) *browse.Window {
	return w.Go(url+"/sign-in").Fill("E-mail", gltest.KeeperEmail).Fill("Password",
		gltest.Password).Click("Sign in").See("Board")
}

func good(t *testing.T, w *browse.Window) {
	t.Helper()
	if err := w.Err(); err != nil {
		t.Fatal(err)
	}
}

// From nothing to a flag, in the console alone.
func TestConsoleFirstSteps(t *testing.T) {
	t.Parallel()
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	s := &gltest.Service{DSN: gltest.DSN(t)}
	s.Server = s.Serve(t)
	w, err := b.Window(1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	w.Go(s.URL()+"/set-up?code="+s.SetUpCode).See("Make the first account").Fill("Name", "Ida Holm").Fill("E-mail",
		gltest.KeeperEmail).Fill("Password", "short")
	w.Click("Make the account").See("must be 10 to 200 bytes").Fill("Password",
		gltest.Password).Click("Make the account")
	w.See("Keep the emergency key").See("BEGIN PRIVATE KEY")
	good(t, w)
	w.Click("I have it: go on").See("New project").Fill("Title", "Pinecrest Lockers").Fill("Key", "pinecrest").Click("Make the project")
	w.See("New environment").Fill("New environment", "development").Click("Make it").See("development is made")
	good(t, w)
	if keys := w.Text("secrets"); !strings.Contains(keys, "GREENLEVER_KEY=gls_") || !strings.Contains(keys,
		"GREENLEVER_URL="+s.URL()) {
		t.Errorf("the lines to copy: %q", keys)
	}
	w.Click("Board").See("There is no flag yet").Click("New flag").Fill("Title",
		"One-touch open").Click("Make the flag")
	w.See("Off: all get off.").Click("on").See("lever off → on").Click("Save in development").Gone("This edit changes")
	good(t, w)
	if said := w.Text("sentence"); said != "development: All get off." {
		t.Errorf("sentence: %q", said)
	}
	// The key opens the flag to a service.
	w.Click("Settings").See("Environments")
	good(t, w)
}

// An edit is shown before it is saved, a second window follows without a reload, and so
// does a service; a stop and a lift likewise.
func TestConsoleEditsAndFollows(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Environment(t, "night", true)
	s.Flag(t, "night-batching")
	w, second := window(t, s, 1280, 900), window(t, s, 1280, 900)
	const page = "/p/pinecrest/night/flags/night-batching"
	w.Go(s.URL() + page).See("Off: all get off.")
	second.Go(s.URL() + page).See("Off: all get off.")
	c := open(t, s, "night")

	w.Click("on").See("lever off → on")
	w.Click("Add a rule").See("takes nobody until it says whom").Fill("name of the rule", "First sites").Click("All units")
	w.Fill("share of on in percent", "8").Fill("by which attribute", "site.id")
	w.See("rule First sites added at place 1: 8 % of units by site.id get on")
	w.Fill("key of a unit to name", "recipient-17").Click("gets on").See(`nit "recipient-17" gets on`)
	w.Fill("reason", "first sites").Click("Save in night").Gone("This edit changes")
	good(t, w)
	want := `night: Unit "recipient-17" gets on; 8 % of units by site.id get on; all others get off.`
	if said := w.Text("sentence"); said != want {
		t.Errorf("sentence: %q", said)
	}
	second.See(want)
	good(t, second)
	v := s.Get(t, "night", "night-batching")
	until(t, c, "the edit", at(v.Revision))
	if len(v.Document.Rules) != 2 || v.Document.Rules[0].Name != "Just me" ||
		v.Document.Rules[1].Gives.Shares.By[0] != "site.id" {
		t.Errorf("saved: %+v", v.Document.Rules)
	}

	second.Click("Stop night-batching in night").See("All get off at once").Click("Stop night-batching now").See(
		"Stopped: all get off.")
	w.See("Stopped: all get off.").Click("See who has it").See(
		"1 of 1 processes have it").Fill("Why it was stopped", "it jams").Click("Say why").See("Why: it jams")
	good(t, w)
	w.Click("Lift it").See("Nothing of night-batching has changed since.").Fill("why lift", "calm again").Click(
		"Lift now").See("lifted by Ida Holm")
	second.See(want)
	good(t, second)
	w.Click("History").See("lifted the stop of night-batching").See("because calm again").See("because first sites").Click(
		"Verify the chains").See("sound:")
	w.Choose("flag", "night-batching").Choose("environment", "night").See("made night-batching in night")
	good(t, w)
}

// Segments, values and needs can be edited in the console too.
func TestConsoleSegmentsValuesAndNeeds(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Flag(t, "handover-photo")
	w := window(t, s, 1280, 900)
	w.Click("Settings").See("does not ask first").Click("access keys, asking and freezes").Click("Let staging ask first").See(
		"Let staging no longer ask first")
	w.Fill("why change staging", "a mistake").Click("Let staging no longer ask first").See(
		"Let staging ask first").Click("close")
	w.Click("Population").Click("New segment").Fill("Key of the segment", "staff").Click("Add a comparison").Fill(
		"attribute", "badge").Choose("comparison", "is present").Fill("Units listed in",
		"recipient-1\nrecipient-2").Click("Make the segment")
	w.See("2 listed units, and all where badge is present").See("not used").Click("edit segment staff").Choose(
		"comparison", "is absent").See("No flag uses it yet").Click("Save in production").See("2 listed units, and " +
		"all where badge is absent")
	good(t, w)
	w.Go(s.URL()+"/p/pinecrest/production/flags/handover-photo").Click("values and needs").Choose(
		"a flag that it needs", "one-touch-open").Click("to give on").See("needs one-touch-open to give on")
	w.Choose("resting variant", "on").See("resting off → on").Fill("value of on",
		"\"text\"").See("must be true or false").Fill("value of on", "true")
	w.Click("Add a rule").Click("Add a segment").See("all in segment staff get off").Click("Save in production").Gone(
		"This edit changes")
	good(t, w)
	d := s.Get(t, "production", "handover-photo").Document
	if d.Resting != "on" || len(d.Needs) != 1 || d.Rules[0].When.Segment != "staff" {
		t.Errorf("%+v", d)
	}
}

// What is typed while an answer is under way stays, and what was saved is taken out.
func TestConsoleLateAnswers(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	to, err := url.Parse(s.URL())
	if err != nil {
		t.Fatal(err)
	}
	// Answers to changes are held until they are let go.
	held, let := make(chan bool, 10), make(chan bool)
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1
	proxy.ModifyResponse = func(r *http.Response) error {
		if r.Request.Method == http.MethodPatch {
			held <- true
			<-let
		}
		return nil
	}
	slow := httptest.NewServer(proxy)
	t.Cleanup(slow.Close)
	t.Cleanup(func() { close(let) })
	w := window(t, s, 1280, 900)
	signIn(w, slow.URL).Click("Settings").See("does not ask first").Click("access keys, asking and freezes").Fill(
		"why change staging", "first").Click("Let staging ask first")
	good(t, w)
	<-held
	w.See("Let staging no longer ask first") // by the stream, before its answer
	w.Fill("why change staging", "a mistake")
	let <- true
	w.Click("Let staging no longer ask first")
	good(t, w)
	<-held
	let <- true
	w.See("Let staging ask first")
	gltest.Eventually(t, "what was saved is taken out", func() bool {
		return w.Eval(`document.querySelector('[aria-label="why change staging"]').value`) == ""
	})
	good(t, w)
	var page struct {
		Items []struct{ Action, Reason string }
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=staging&limit=2", nil, 200, &page)
	if len(page.Items) != 2 || page.Items[0].Reason != "a mistake" || page.Items[1].Reason != "first" {
		t.Errorf("%+v", page.Items)
	}
}

// Somebody else was quicker: both sides are shown, and the edit is not lost.
func TestConsoleStaleEdit(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	w := window(t, s, 1280, 900)
	w.Go(s.URL() + "/p/pinecrest/production/flags/night-batching").See("Off:").Click("on").See("lever off → on")
	good(t, w)
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "Theirs", When: &condition.Node{Test: "present", Attribute: "badge"},
			Gives: flag.Gives{Variant: "on"}}}
	})
	w.SeeIn("edit", "Somebody saved version 2 meanwhile").See("1. Theirs").Click("Save in production").Gone(
		"This edit changes")
	good(t, w)
	if v := s.Get(t, "production", "night-batching"); v.Version != 3 || v.Document.Lever != flag.On ||
		len(v.Document.Rules) != 1 || v.Document.Rules[0].Name != "Theirs" {
		t.Errorf("%+v", v)
	}
	// Where both changed the same, both sides are shown, and nothing is saved until somebody says which stands.
	w.Click("edit the end").Click("all on").See("end gives off → on")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.End = flag.Gives{Shares: &flag.Shares{By: []string{"site.id"}, Parts: []flag.Part{{Variant: "on", Share: 80_000},
			{Variant: "off", Share: 920_000}}}}
	})
	w.See("Somebody else changed this too").See("8 % of units by site.id get on")
	if w.Eval(saveDisabled) != "true" {
		t.Error("it can be saved over theirs")
	}
	w.Click("Keep mine").Gone("Somebody else changed this too").Click("Save in production").Gone("This edit changes").See(
		"all others get on")
	good(t, w)
	w.Click("all off").See("This edit changes")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.End = flag.Gives{Shares: &flag.Shares{By: []string{"site.id"}, Parts: []flag.Part{{Variant: "on", Share: 50_000},
			{Variant: "off", Share: 950_000}}}}
	})
	w.Click("Take theirs").Gone("Somebody else changed this too").See("nothing: it is like that already").Click(
		"Drop the edit").See("5 % of units by site.id get on")
	good(t, w)
}

const saveDisabled = `String([...document.querySelectorAll("button")].find((b) => b.textContent.startsWith("Save in")).disabled)`

func TestConsoleWhy(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Crews", When: &condition.Node{Test: "number.at-least", Attribute: "crew_size",
			Numbers: []float64{2}}, Gives: flag.Gives{Variant: "on"}}}
	})
	w := window(t, s, 1280, 900)
	w.Click("Why").See("its targeting key").Choose("Flag", "night-batching").Fill("Unit", "site-1").Fill("Attributes",
		`crew_size = "3"`).Click("Ask why")
	w.See("no rule gave the unit anything").See("crew_size is a string, the comparison takes a number")
	w.Fill("Attributes", "crew_size = 3").Click("Ask why").See("rule Crews takes the unit").See("decides")
	good(t, w)
}

// The person on call, on a phone: two actions to stop, with the proof, and nothing wider
// than the screen.
func TestConsoleOnAPhone(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "weather-holds", "one-touch-open")
	c := open(t, s, "production")
	w := window(t, s, 360, 780)
	w.See("weather-holds")
	narrow := func(where string) {
		t.Helper()
		wide := w.Eval(`document.documentElement.scrollWidth <= innerWidth ? "" : [...document.querySelectorAll("*")]
			.findLast((e) => e.getBoundingClientRect().right > innerWidth)?.outerHTML.slice(0, 400) ?? "somewhere"`)
		if wide != "" {
			t.Errorf("%s is wider than the phone: %s", where, wide)
		}
	}
	narrow("the Board")
	w.Click("Stop").See("Live in production")
	narrow("the Stop page")
	w.Click("Stop weather-holds").See("Leave it on").Click("Stop weather-holds now").See("Stopped: weather-holds")
	gltest.Eventually(t, "the stop", func() bool {
		w.See("delivered to 1 of 1")
		return !c.Bool(context.Background(), "weather-holds", greenlever.Unit("x"), true)
	})
	good(t, w)
	for _, path := range []string{"/p/pinecrest/production/flags/one-touch-open", "/p/pinecrest/production/why",
		"/p/pinecrest/history", "/p/pinecrest/settings", "/p/pinecrest/new-flag", "/account", "/new-project",
		"/p/pinecrest/needs", "/p/pinecrest/proposals", "/p/pinecrest/calendar",
		"/p/pinecrest/production/population", "/p/pinecrest/production/population/attributes",
		"/p/pinecrest/production/population/unit", "/p/pinecrest/production/population/roster",
		"/p/pinecrest/production/usage", "/p/pinecrest/production/usage/processes",
		"/p/pinecrest/production/usage/radar"} {
		w.Go(s.URL() + path).See("Ida Holm").Gone("reading ")
		narrow(path)
	}
	good(t, w)
}

// Dates of sessions, keyboard and errors: what a person meets when something is off.
func TestConsoleErrors(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	guest, err := b.Window(1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	defer guest.Close()
	guest.Go(s.URL()+"/p/pinecrest").See("Password").Fill("E-mail", gltest.KeeperEmail).Fill("Password",
		"wrong password").Click("Sign in").See("the e-mail address or the password is wrong")
	good(t, guest)
	w := window(t, s, 1280, 800)
	w.Go(s.URL() + "/p/pinecrest/production/flags/nowhere").See("there is no flag nowhere in this project")
	w.Go(s.URL()+"/p/pinecrest/new-flag").Fill("Title", "Night batching").Click("Make the flag").See(
		"never used again")
	good(t, w)
	// The palette goes anywhere by typing.
	w.Press("Ctrl+k").Fill("Go to", "Stop in production").Press("Enter").See("Live in production")
	w.Press("Ctrl+k").Fill("Go to", "night").Click("night-batching").Click("night-batching in staging").See(
		"staging: Off: all get off.")
	good(t, w)
}

// Every address that is no file is the console's own, with a policy against foreign scripts.
func TestSecondServiceServesTheConsole(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	other := s.Serve(t, func(c *server.Config) { c.Secure = true })
	for _, u := range []string{s.URL(), other.URL()} {
		c := gltest.Caller{URL: u}
		res, err := http.Get(u + "/p/pinecrest")
		if err != nil {
			t.Fatal(err)
		}
		page, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !strings.Contains(string(page), "<title>Green Lever</title>") ||
			!strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Errorf("%s: %.200s", u, page)
		}
		c.Do(t, "GET", "/healthz", nil, 200, nil)
	}
}

// Every edit shows what it moves while it is being made; who is on a branch can be asked.
func TestConsoleShowsTheShift(t *testing.T) {
	t.Parallel()
	s, c := populated(t, 600)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "staff", "when": object{"test": "present",
		"attribute": "badge"}}, 201, nil)
	w := window(t, s, 1280, 900)
	w.Go(s.URL() + "/p/pinecrest/production/flags/night-batching").See("600 units come in").See("by code since")
	w.Click("who?").See("Of the recently seen units").See("recipient-")
	good(t, w)
	if who := w.Text("who"); !strings.Contains(who, "site-") {
		t.Errorf("who: %q", who)
	}
	w.Go(s.URL()+"/p/pinecrest/production/flags/night-batching").See("600 units come in").Click(
		"edit First sites").Fill("share of on in percent", "30").See("share of on 8 % → 30 %").See(
		"night-batching: moves").See("of 60 values of site.id")
	if said := w.Text("preview"); !strings.Contains(said, "off → ") && !strings.Contains(said, "of 600 units") {
		t.Errorf("preview: %q", said)
	}
	// The text follows the blocks, and the blocks the text.
	w.Click("only some").Click("Add a comparison").Fill("attribute", "site.region").Fill("value",
		"north").See(`where site.region is "north": 30 % of units by site.id get`)
	w.Fill("condition as text", `site.region == "north" && version(firmware) >= version("4.2.0")`).See("firmware is " +
		"version ≥ 4.2.0").See("all hold")
	w.Fill("condition as text", `site.region = "north"`).See("line 1, column 13: write == to compare")
	w.Click("Undo").See("Redo").Click("Drop the edit").Gone("This edit changes").Click("only some").Fill("condition as text", `inSegment("staff")`).See("rule First sites").See(
		"staff: all where badge is present")
	good(t, w)
	w.Click("Drop the edit").Gone("This edit changes")
	// Taking all rules off, and taking that back.
	w.Fill("key of a unit to name", "recipient-17").Click("gets on").See("2. First sites").Click(
		"Take all rules off").See("rule First sites removed").Click("Undo").See("2. First sites").Click(
		"Park all rules").See("First sites (parked)").Click("Drop the edit").Gone("This edit changes")
	good(t, w)
	// A variant is added from inside a rule.
	w.Click("new variant").Fill("name of the variant", "also-on").Fill("value of the variant",
		"true").Click("Add the variant").Click("all also-on").See("share of also-on").Click("Save in production").Gone(
		"This edit changes")
	good(t, w)
	if d := s.Get(t, "production", "night-batching").Document; d.Rules[0].Gives.Shares.Parts[0].Variant != "also-on" ||
		d.Rules[0].Gives.Shares.Parts[0].Share != 1_000_000 || string(d.Variants["also-on"]) != "true" {
		t.Errorf("%+v", d)
	}
	// A comparison of another type than arrives is refused, with the mend.
	gltest.Eventually(t, "enough contexts", func() bool {
		for i := range 3_000 {
			c.Bool(context.Background(), "night-batching", recipient(i%600), false)
		}
		var a struct{ Contexts uint64 }
		s.Keeper.Do(t, "GET", inProd+"/attributes", nil, 200, &a)
		return a.Contexts > 60
	})
	w.Click("only some").Fill("condition as text", "crew_size >= 2").See("crew_size arrived as a string in").Click("Drop the edit")
	good(t, w)
}

// Everybody at once asks for the number, in an environment that asks first.
func TestConsoleSweep(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 80)
	s.Flag(t, "one-touch-open")
	s.Keeper.Do(t, "PATCH", inProd, object{"askFirst": true, "reason": "from now on"}, 200, nil)
	w := window(t, s, 1280, 900)
	w.Go(s.URL() + "/p/pinecrest/production/flags/one-touch-open").See("80 units come in").Click("on").Click(
		"edit the end").Click("all on").See("This takes all of about 80 units")
	w.Fill("reason", "to everybody").Fill("number of units",
		"8").Click("Save in production").See("this moves about 80 units").Fill("number of units",
		"80").Click("Save in production").Gone("This edit changes")
	good(t, w)
	if d := s.Get(t, "production", "one-touch-open").Document; d.Lever != flag.On {
		t.Errorf("%+v", d)
	}
}

// Units, attributes, the roster, snippets, overrides and checks have their pages.
func TestConsolePopulation(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 60)
	w := window(t, s, 1280, 900)
	w.Click("Population").See("units 60").See("site.id 60").Click("Attributes").See("is sent, but not declared").See(
		"personal, its domain leaves")
	w.Click("declare site.region").Choose("type of the attribute", "string").Fill("What it says",
		"one of three").Click("Declare it").See("one of three")
	good(t, w)
	w.Click("Units").See("recipient-1").Fill("unit",
		"recipient-31").Click("Look").See("What it gets in production").See("Attributes as they were seen").Fill(
		"name of the test unit", "My phone").Click("Keep it").See("It is on the roster as a test unit")
	good(t, w)
	w.Click("Roster").See("My phone").See("would be usual").Fill("Key of the test unit", "t-2").Fill("Its attributes",
		"site.id = site-3\ncrew_size = 4").Fill("What it should get",
		"night-batching = on").Click("Save the test unit").See("t-2")
	if said := w.Text("roster"); !strings.Contains(said, "as expected") && !strings.Contains(said, "expected on") {
		t.Errorf("roster: %q", said)
	}
	good(t, w)
	w.Click("Units").See("recipient-1").Fill("unit", "recipient-31").Click("Look").See("Name it in").Choose(
		"flag to name it in", "night-batching").Click("go and name it").See("Track").Click("gets on").See(`nit "recipient-31" gets`).Click("Drop the edit")
	w.Click("values and needs").Click("close") // the pointer goes on
	w.Click("show").See("Go").Choose("language of the snippet", "OpenFeature")
	if code := w.Text("snippet"); !strings.Contains(code, `client.getBooleanValue("night-batching", false`) {
		t.Errorf("snippet: %q", code)
	}
	w.Choose("see it as", "on").Click("Get it").See("As a request header")
	if token := w.Text("see-as"); !strings.HasPrefix(token, "Greenlever-See-As: ey") {
		t.Errorf("override: %q", token)
	}
	good(t, w)
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "All", Gives: flag.Gives{Variant: "off"}},
			flag.Rule{Name: "Later", When: &condition.Node{Test: "clock.before",
				Text: []string{"2026-01-01T00:00:00Z"}}, Gives: flag.Gives{Variant: "on"}})
	})
	w.See("To look at").See("is over since").Click("mute").Fill("why mute it", "kept as a reminder").Click("Mute").See(
		"Muted: kept as a reminder")
	good(t, w)
	w.Click("Why").Choose("Flag", "night-batching").Fill("Unit", "recipient-1").Fill("Against another unit",
		"recipient-2").Click("Ask why").See("Against recipient-2").See("attributes as they were seen")
	good(t, w)
}

// What is called something can be called something else, where it stands.
func TestConsoleTitles(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "crews", "title": "Crews", "reason": "first"}, 201, nil)
	s.Environment(t, "night", true)
	w := window(t, s, 1280, 900)
	w.Click("Settings").See("Environments").Click("other title for pinecrest").Fill("title of pinecrest",
		"Lockers of the yard").Click("Save the title").Gone("Save the title").See("Lockers of the yard")
	w.Click("other title for night").Fill("title of night", "The real lockers").Fill("why night is called otherwise",
		"it is clearer").Click("Save the title").Gone("Save the title").See(
		"The real lockers")
	w.Click("Population").See("crews").Click("other title for segment crews").Fill("title of segment crews",
		"Crews of two").Click("Save the title").Gone("Save the title").See("Crews of two")
	good(t, w)
	var p struct{ Items []struct{ Title string } }
	s.Keeper.Do(t, "GET", "/projects", nil, 200, &p)
	if len(p.Items) != 1 || p.Items[0].Title != "Lockers of the yard" {
		t.Errorf("%+v", p)
	}
}
