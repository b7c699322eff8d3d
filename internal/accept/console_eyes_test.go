package accept

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
)

// consoleScenes are all pages and dialogs of the console.
var consoleScenes = []struct {
	name, path string
	do         func(w *browse.Window)
}{
	{"board", "/p/pinecrest", func(w *browse.Window) { w.See("night-batching") }},
	{"what finds nothing", "/p/pinecrest?find=nothing", func(w *browse.Window) { w.See("None of the") }},
	{"what cannot be found by", "/p/pinecrest?find=colour:green", func(w *browse.Window) { w.See("there is no word") }},
	{"words", "/p/pinecrest", func(w *browse.Window) { w.Click("words that find flags").See("gone-by:<30d") }},
	{"view", "/p/pinecrest", func(w *browse.Window) { w.Click("View").See("tight") }},
	{"a bundle", "/p/pinecrest/bundles/opening", func(w *browse.Window) { w.See("All are on.").Click("Promote to ...").See("rules and the end") }},
	{"retiring", "/p/pinecrest/retiring", func(w *browse.Window) { w.See("In code") }},
	{"edit what was found", "/p/pinecrest?find=doors", func(w *browse.Window) {
		w.See("Edit the flag found ...").Click("Edit the flag found ...").Fill("tags to add", "door").See("tags → door")
	}},
	{"palette", "/p/pinecrest", func(w *browse.Window) { w.See("night-batching").Press("Ctrl+k").See("Pages") }},
	{"palette, a flag", "/p/pinecrest", func(w *browse.Window) {
		w.See("night-batching").Press("Ctrl+k").See("Pages").Click("night-batching").See("Go to night-batching in")
	}},
	{"keys", "/p/pinecrest", func(w *browse.Window) { w.See("night-batching").Press("?").See("go anywhere by typing") }},
	{"new flag", "/p/pinecrest/new-flag", func(w *browse.Window) { w.See("A change step by step") }},
	{"new flag, refused", "/p/pinecrest/new-flag", func(w *browse.Window) {
		w.Fill("Title", "Night batching").Click("Make the flag").See("never used again")
	}},
	{"flag", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) { w.See("units come in") }},
	{"flag, a word", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("lever").See("a flag's position in an environment")
	}},
	{"flag, an edit", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("edit First sites").Fill("share of on in percent", "30").See("moves")
	}},
	{"flag, a new rule", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("Add a rule").See("nobody yet").Click("Add a comparison")
	}},
	{"flag, values", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("values and needs").See("no other flag")
	}},
	{"flag, armed", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("Stop night-batching in production").See("Leave it on")
	}},
	{"flag, definition", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("edit the definition").See("who stops it at night reads this")
	}},
	{"copy rules", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) {
		w.See("units come in").Click("Copy the rules to").Click("staging").See("Then:")
	}},
	{"who", "/p/pinecrest/production/flags/night-batching", func(w *browse.Window) { w.Click("who?").See("recipient-") }},
	{"why", "/p/pinecrest/production/why?flag=night-batching&unit=recipient-1", func(w *browse.Window) {
		w.See("Step by step")
	}},
	{"releases", "/p/pinecrest/releases", func(w *browse.Window) { w.See("Waits for you to sign") }},
	{"release", "/p/pinecrest/releases", func(w *browse.Window) { w.Click("weather-holds").See("To hand over") }},
	{"release, to be taken back", "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("weather-holds").See("To hand over").Click("Roll back").See("Roll it back")
	}},
	{"release, its stages", "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("weather-holds").See("To hand over").Click("Edit the stages to come").See("Save the plan")
	}},
	{"release, a new one", "/p/pinecrest/releases/new?flag=night-batching&environment=production",
		func(w *browse.Window) { w.Fill("Named units", "recipient-1").See("units have") }},
	{"release, its own stages", "/p/pinecrest/releases/new?flag=night-batching&environment=production",
		func(w *browse.Window) { w.See("Ladder").Choose("Ladder", "stages of its own").Click("Add a share") }},
	{"history", "/p/pinecrest/history", func(w *browse.Window) { w.See("changed night-batching") }},
	{"as it stood", "/p/pinecrest/history?action=flag.changed", func(w *browse.Window) {
		w.Click("as it stood then").See("Changed since")
	}},
	{"stop", "/p/pinecrest/production/stop", func(w *browse.Window) { w.See("Who has it") }},
	{"stop, several", "/p/pinecrest/production/stop", func(w *browse.Window) {
		w.Click("choose night-batching").Click("choose weather-holds").Click("Stop these 2").See("Leave it on")
	}},
	{"stop, its story", "/p/pinecrest/production/stop", func(w *browse.Window) {
		w.Click("who has it, why").See("What happened")
	}},
	{"stop, lifted soon", "/p/pinecrest/production/stop", func(w *browse.Window) {
		w.Click("Lift").See("Leave it stopped").See("has changed since")
	}},
	{"stop, a tripwire", "/p/pinecrest/production/stop", func(w *browse.Window) {
		w.Click("New tripwire").See("Make the tripwire")
	}},
	{"stop, tripwires", "/p/pinecrest/production/stop", func(w *browse.Window) { w.See("Arm it again") }},
	{"stop from the Board", "/p/pinecrest", func(w *browse.Window) {
		w.Click("Stop night-batching in production").See("Leave it on")
	}},
	{"stop without scripts", "/stop", func(w *browse.Window) { w.See("Standing stops") }},
	{"stop without scripts, armed", "/stop", func(w *browse.Window) {
		w.Click("Stop night-batching").See("Leave it on")
	}},
	{"segments", "/p/pinecrest/production/population", func(w *browse.Window) { w.See("staff") }},
	{"segment, an edit", "/p/pinecrest/production/population", func(w *browse.Window) {
		w.Click("edit segment staff").See("The lists name")
	}},
	{"segment, a new one", "/p/pinecrest/production/population", func(w *browse.Window) {
		w.Click("New segment").See("Key of the segment")
	}},
	{"attributes", "/p/pinecrest/production/population/attributes", func(w *browse.Window) { w.See("site.id") }},
	{"attribute, declared", "/p/pinecrest/production/population/attributes", func(w *browse.Window) {
		w.Click("declare site.region").See("What it says")
	}},
	{"unit", "/p/pinecrest/production/population/unit?unit=recipient-1", func(w *browse.Window) { w.See("What it gets") }},
	{"roster", "/p/pinecrest/production/population/roster", func(w *browse.Window) { w.See("Test units") }},
	{"usage", "/p/pinecrest/production/usage", func(w *browse.Window) { w.See("Decisions in the last") }},
	{"usage of a flag", "/p/pinecrest/production/usage?flag=night-batching", func(w *browse.Window) {
		w.See("By application").Gone("reading the chart")
	}},
	{"processes", "/p/pinecrest/production/usage/processes", func(w *browse.Window) { w.See("Revision") }},
	{"radar", "/p/pinecrest/production/usage/radar", func(w *browse.Window) { w.See("Asked for, but not defined") }},
	{"settings", "/p/pinecrest/settings", func(w *browse.Window) {
		w.See("does not ask first").Click("access keys, asking and freezes").See("New service key")
	}},
	{"needs me", "/p/pinecrest/needs", func(w *browse.Window) { w.See("Needs me") }},
	{"proposals", "/p/pinecrest/proposals", func(w *browse.Window) { w.See("Nothing is proposed.") }},
	{"calendar", "/p/pinecrest/calendar", func(w *browse.Window) { w.See("Day by day") }},
	{"account", "/account", func(w *browse.Window) { w.See("Password") }},
	{"new project", "/new-project", func(w *browse.Window) { w.See("New project") }},
	{"nowhere", "/p/pinecrest/production/flags/nowhere", func(w *browse.Window) { w.See("there is no flag") }},
}

// eyes are what a page is looked at with: a size, light or dark.
type eyes struct {
	name          string
	width, height int
	dark          bool
}

// Every page and dialog, on both sizes, light and dark: nothing for axe to find, and nothing wider than the
// screen. A usual run looks at each page once, with one pair of eyes or the other; GREENLEVER_EYES=all has it look
// at all of them in all four ways.
func TestConsoleForAllEyes(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s, _ := populated(t, 120)
	flagsOn(t, s, "weather-holds")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "staff", "when": object{"test": "present",
		"attribute": "badge"}}, 201, nil)
	s.Keeper.Do(t, "POST", inProd+"/flags/weather-holds/releases", object{"stages": []object{{"name": "8 %",
		"share": 80_000, "signOff": []string{"keeper"}}, {"name": "100 %", "share": 1_000_000}}, "reason": "test"}, 201,
		nil)
	s.Flag(t, "doors")
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/bundles/opening", object{"bundle": object{"title": "Opening", "flags": []string{
		"doors"}}}, 200, nil)
	s.Edit(t, "staging", "doors", turnOn)
	s.Edit(t, "production", "doors", turnOn)
	wire := wired(t, s, object{"title": "Doors jam", "flags": []string{"doors"}})
	ring(t, s, wire.Secret, nil, `{"title":"Many doors jam"}`, 200)
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range []eyes{{"wide, light", 1280, 800, false}, {"wide, dark", 1280, 800, true},
		{"phone, light", 360, 780, false}, {"phone, dark", 360, 780, true}} {
		all := os.Getenv("GREENLEVER_EYES") == "all"
		if !all && (e.width < 800) != e.dark {
			continue
		}
		t.Run(e.name, func(t *testing.T) {
			e.look(t, b, s.URL(), string(axe), all)
		})
	}
}

// look goes over all scenes with these eyes.
func (e eyes) look(t *testing.T, b *browse.Browser, url, axe string, all bool) {
	w, err := b.Window(e.width, e.height)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if e.dark {
		w.Dark()
	}
	signIn(w, url)
	for i, scene := range consoleScenes {
		if !all && (i%2 == 0) == e.dark {
			continue
		}
		scene.do(w.Go(url + scene.path))
		if w.Err() != nil {
			t.Fatalf("%s: %v", scene.name, w.Err())
		}
		w.Eval(`scrollTo(0, 0); ""`) // what the head covers further down can be scrolled to
		if wide := w.Eval(tooWide); wide != "" {
			t.Errorf("%s: wider than the screen: %s", scene.name, wide)
		}
		for _, found := range look(t, w, axe) {
			t.Errorf("%s: %s", scene.name, found)
		}
		w.Eval(`sessionStorage.clear(); ""`) // the next scene begins without this one's edits
	}
}

// tooWide names what makes a page wider than its window; empty where nothing does.
const tooWide = `document.documentElement.scrollWidth <= innerWidth ? "" : [...document.querySelectorAll("*")].findLast(
	(e) => e.getBoundingClientRect().right > innerWidth)?.outerHTML.slice(0, 300) ?? "something"`

// look runs axe over what the window shows, and gives what it finds.
func look(t *testing.T, w *browse.Window, axe string) []string {
	t.Helper()
	w.Eval(`window.axe ? "" : (() => { ` + axe + `; return ""; })()`)
	w.Eval(`(() => {
		window.found = "";
		axe.run(document, { resultTypes: ["violations"], runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa",
			"best-practice"] }).then((r) => {
			window.found = JSON.stringify(r.violations.map((v) => v.id + ": " + v.help + ": " + v.nodes.slice(0, 3).map(
				(n) => n.html.slice(0, 200) + " " + n.any.map((a) => a.message).join("; ").slice(0, 200)).join(" | ")));
		}, (e) => { window.found = JSON.stringify([String(e)]); });
		return "";
	})()`)
	var found []string
	gltest.Eventually(t, "axe has looked", func() bool {
		said := w.Eval("window.found")
		return w.Err() != nil || strings.HasPrefix(said, "[") && json.Unmarshal([]byte(said), &found) == nil
	})
	good(t, w)
	return found
}
