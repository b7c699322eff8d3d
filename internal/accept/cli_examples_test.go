package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

// told is the order in which the examples of help are run, as somebody would: what is made comes before what needs it.
var told = []string{
	"project list", "project edit", "environment make", "environment list", "environment edit", "key make", "key list", "key revoke",
	"person make", "person roles", "person list", "person sessions", "person password", "person change",
	"attribute declare", "attribute list", "words", "condition", "openapi", "token list",
	"recipe list", "recipe write", "recipe save", "recipe remove",
	"flag make", "flag list", "flag edit", "flag name", "flag rule", "flag order", "flag park", "flag share", "flag end",
	"flag rest-after", "flag draw-anew", "flag turn", "flag show", "flag save", "flag snippet", "flag copy", "flag remove-rule", "undo", "promote", "flag as-of", "environment as-of", "environment branch", "environment prolong", "environment short-lived", "flag family",
	"segment make", "segment list", "segment edit", "segment save", "segment load", "segment units",
	"unit save", "unit list", "unit show", "roster", "unit remove", "why", "see-as",
	"check list", "check mute", "check unmute", "board", "usage", "radar define", "population show", "population set",
	"population units", "population erase", "generate go", "generate typescript", "flag edit-found", "bundle save", "bundle list", "bundle show", "bundle turn", "bundle release", "bundle remove", "places scan", "places list", "places remove", "places forget", "retire", "restore", "files save", "files compare", "files load",
	"metric list", "metric write", "metric save", "metric send", "ladder write", "ladder save", "ladder list",
	"release schema", "release start", "release show", "release list", "release write", "release edit", "release next",
	"release sign", "release decline", "release hold", "release go-on", "release finish",
	"release roll-back", "metric remove", "ladder remove",
	"webhook make", "webhook list", "webhook events", "webhook edit", "webhook replay", "webhook rotate", "webhook remove",
	"tripwire make", "tripwire list", "tripwire try", "tripwire edit", "tripwire arm", "tripwire rotate", "drill rehearse",
	"drill practise", "drill list", "tripwire remove", "stop", "happened", "lift", "calendar show", "calendar subscribe", "calendar addresses", "calendar remove", "needs", "policy library", "policy write", "policy save", "policy try", "policy list", "policy rulings", "policy remove",
	"proposal list", "proposal show", "proposal edit",
	"proposal comment", "proposal take-out", "proposal sign", "proposal apply", "proposal withdraw", "freeze make", "freeze list", "freeze remove", "team save", "team list", "team roles", "robot make",
	"robot token", "can", "team remove", "emergency key", "emergency stop",
	"emergency lift", "instances gone", "history", "export", "verify", "attribute remove", "environment archive",
	"environment bring-back", "environment remove", "token remove", "person remove", "epoch new",
}

// elsewhere are the examples that are run by other tests, or that would run for ever.
var elsewhere = map[string]string{
	"serve": "TestServeOptions", "demo": "TestDemoAndExample", "outpost": "TestPrograms", "init": "TestInit",
	"sign-in": "TestCommandLine", "project make": "the project is there", "migrate": "TestUpgrade", "release follow": "TestCommandLineReleases",
}

// refused are examples, by command and place, that end with another exit code than 0 in this story, which has one person and no process.
var refused = map[string]int{
	"person change 1": 5,                         // the last keeper stays one
	"release sign 0":  5, "release decline 0": 5, // it asks nobody
	"release finish 0": 5,                                             // not all have it
	"places remove 0":  1, "places remove 1": 1, "places forget 0": 4, // no module is there, nothing was reported
	"retire 1":          5,                         // it was made just now
	"flag edit-found 0": 4, "flag edit-found 1": 4, // no flag has these words
	"radar define 0": 4, "instances gone 0": 4, "token remove 0": 4, // there is none such
	"proposal take-out 0": 2, "proposal sign 0": 3, "proposal withdraw 0": 5, // it has one change, it is one's own, it is made
	"emergency stop 0": 6, // nobody is at these addresses
}

// Every command has an example, and every example of help runs, in a clean home on a fresh installation.
func TestExamplesRun(t *testing.T) {
	all := cli.Examples()
	for path, lines := range all {
		if len(lines) == 0 {
			t.Errorf("greenlever %s has no example", path)
		}
		if !slices.Contains(told, path) && elsewhere[path] == "" {
			t.Errorf("the examples of greenlever %s are not run", path)
		}
	}
	s := gltest.Start(t, loopback)
	s.Environment(t, "development", false)
	sh := newShell(t, s)
	t.Chdir(t.TempDir())
	sh.run(0, "sign-in --project pinecrest --env production")
	for _, key := range []string{"night-batching", "weather-holds", "handover-photo"} {
		sh.run(0, "flag make "+key+" --gone-by stays --because first")
		sh.run(0, "flag turn "+key+" on --because first")
	}
	for name, text := range map[string]string{"alert.json": `{"subject":"weather","data":{"alert":"slow"}}`,
		"sites.txt": "site-1\nsite-2\n", "more.txt": "site-3\n",
		"events.jsonl": `{"metric":"door-open-failed","context":{"targetingKey":"recipient-17"},"value":1}` + "\n"} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	id := func(path string) string {
		var list struct{ Items []struct{ ID string } }
		s.Keeper.Do(t, "GET", path, nil, 200, &list)
		if len(list.Items) == 0 {
			return "3f1c"
		}
		if strings.HasSuffix(path, "/stops") {
			return list.Items[0].ID // those that stand come first
		}
		return list.Items[len(list.Items)-1].ID
	}
	file := regexp.MustCompile(` > (\S+)$`)
	for _, path := range told {
		before(t, s, sh, path)
		for i, line := range all[path] {
			line = strings.NewReplacer("CHANGE", lastChange(t, s, "").Change, "FREEZE", id(inProd+"/freezes"), "PROPOSAL", id(atProposals), "ADDRESS", id("/projects/pinecrest/calendar/addresses"), "TRIPWIRE", id(inProd+"/tripwires"), "WEBHOOK", id("/projects/pinecrest/webhooks"),
				"01a0f3c2-5b7d-7a10-8c33-1f6de0b7a001", id(inProd+"/stops")).Replace(line)
			if path == "key revoke" {
				line = strings.Replace(line, "3f1c", id(inProd+"/keys"), 1)
			}
			into := file.FindStringSubmatch(line)
			line = file.ReplaceAllString(line, "")
			if !strings.Contains(line, "--because") && !strings.HasPrefix(line, "happened") {
				line += " --because 'it is tried'"
			}
			code, out, errs := ran(line + " --yes" + after[path])
			if into != nil {
				if err := os.WriteFile(into[1], []byte(out), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			if want := refused[fmt.Sprint(path, " ", i)]; code != want {
				t.Errorf("greenlever %s (%d): exit code %d, want %d\n%s%s", line, i, code, want, out, errs)
			}
		}
	}
}

// after are options that who sits at a terminal would be asked for.
var after = map[string]string{"person make": " --password pinecrest-test", "person password": " --password pinecrest-test2",
	"flag copy": " --units 0"}

// before makes what a story's reader would have by then.
func before(t *testing.T, s *gltest.Service, sh *shell, path string) {
	t.Helper()
	switch path {
	case "flag order", "flag park", "flag remove-rule":
		s.Edit(t, "development", "one-touch-open", func(d *flag.Document) {
			if !slices.ContainsFunc(d.Rules, func(r flag.Rule) bool { return r.Name == "Crews" }) {
				d.Rules = append(d.Rules, flag.Rule{Name: "Crews", Gives: flag.Gives{Variant: "on"}})
			}
		})
	case "flag draw-anew":
		sh.run(0, "flag share night-batching on=8% --name Shares --env development")
	case "flag save":
		var v manage.FlagView
		s.Keeper.Do(t, "GET", "/projects/pinecrest/environments/development/flags/one-touch-open", nil, 200, &v)
		raw, _ := json.Marshal(v.Document)
		if err := os.WriteFile("document.json", raw, 0o600); err != nil {
			t.Fatal(err)
		}
	case "metric write":
		text := "metric: door-open-failed\ntitle: Doors that stayed shut\nkind: rate\nbetter: lower\nwindow: 10m\n" +
			"grace: 1m\ntolerance: {relative: 0.1}\n"
		if err := os.WriteFile("first.yaml", []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		sh.run(0, "metric save first.yaml")
	case "metric send":
		sh.run(0, "key make --kind ingest --env production --yes --because measures")
		t.Setenv("GREENLEVER_INGEST_KEY", regexp.MustCompile(`gli_\S+`).FindString(sh.out))
	case "release start":
		sh.run(0, "flag turn weather-holds on --env staging --yes --because first")
		sh.run(0, "flag turn weather-holds on --yes --because first")
		sh.run(0, "release start weather-holds --shares 8,30 --every 1d --env staging --yes --because first")
		sh.run(0, "release write weather-holds --env staging")
		if err := os.WriteFile("night-batching.yaml", []byte(strings.ReplaceAll(sh.out, "staging", "production")),
			0o600); err != nil {
			t.Fatal(err)
		}
	case "environment remove":
		sh.run(0, "environment archive trial --yes --because over")
	case "drill practise":
		sh.run(0, "flag make fire-drill --tag practice --gone-by stays --because first")
	case "segment load":
		for _, key := range []string{"pilot-sites", "invited"} {
			sh.run(0, "segment make "+key+" --because first")
		}
	}
}

// ran runs a command line as a shell would, without a terminal.
func ran(line string) (code int, out, errs string) { return ranFor(context.Background(), line) }

// ranFor is ran until a context is over.
func ranFor(ctx context.Context, line string) (code int, out, errs string) {
	var args []string
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			args = append(args, part)
		} else {
			args = append(args, strings.Fields(part)...)
		}
	}
	var o, e bytes.Buffer
	code = cli.Run(ctx, args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// What the reference says of nouns is so: each command that it names is there, each address too, and where there is
// neither stands a reason.
func TestNounsAreWhole(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../../docs/reference/nouns.md")
	if err != nil {
		t.Fatal(err)
	}
	document, err := os.ReadFile("../../bin/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var api struct{ Paths map[string]any }
	if err := json.Unmarshal(document, &api); err != nil {
		t.Fatal(err)
	}
	all, quoted, nouns := cli.Examples(), regexp.MustCompile("`([^`]+)`"), 0
	groups := map[string]bool{} // of commands that make something
	for line := range strings.Lines(string(raw)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 8 || strings.HasPrefix(strings.TrimSpace(cells[0]), "-") || strings.TrimSpace(cells[0]) == "noun" {
			continue
		}
		nouns++
		for i, cell := range cells[1:7] {
			named := quoted.FindAllStringSubmatch(cell, -1)
			for _, m := range named {
				if _, is := all[m[1]]; i < 5 && !is {
					t.Errorf("%s: there is no command %s", cells[0], m[1])
				}
				if i == 5 && api.Paths["/api/v1"+m[1]] == nil {
					t.Errorf("%s: there is no address %s", cells[0], m[1])
				}
				if i == 0 {
					groups[strings.Fields(m[1])[0]] = true
				}
			}
			if len(named) == 0 && len(strings.TrimSpace(cell)) < 12 {
				t.Errorf("%s: neither a command nor a reason stands in %q", cells[0], cell)
			}
		}
	}
	if nouns < 18 {
		t.Errorf("only %d nouns", nouns)
	}
	for path := range all { // whatever makes something is of a noun that stands there
		if group, verb, _ := strings.Cut(path, " "); (verb == "make" || verb == "save") && !groups[group] {
			t.Errorf("greenlever %s makes what the table does not have", path)
		}
	}
}
