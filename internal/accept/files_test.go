package accept

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/folder"
	"greenlever.example/greenlever/internal/gltest"
)

// richly fills a project with one of everything that files keep.
func richly(t *testing.T, s *gltest.Service) {
	t.Helper()
	s.Keeper.Do(t, "PUT", atPine+"/attributes/site.id", object{"type": "string", "one": "site", "many": "sites"}, 200, nil)
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "crews", "title": "Crews", "when": object{"test": "present",
		"attribute": "crew"}}, 201, nil)
	s.Keeper.Do(t, "POST", atPine+"/segments", object{"key": "pilots"}, 201, nil)
	var units strings.Builder
	for i := range 1_500 {
		fmt.Fprintf(&units, "site-%04d\n", i)
	}
	putFile(t, s, inProd+"/segments/pilots/lists/in", units.String())
	putFile(t, s, inProd+"/segments/crews/lists/out", "ann\nben\n")
	flagsOn(t, s, "doors", "lights")
	s.Keeper.Do(t, "POST", atPine+"/flags", object{"key": "estimate", "title": "Arrival estimate", "type": "string",
		"variants": []object{{"name": "timetable", "value": "timetable"}, {"name": "learned", "value": "on"}},
		"goneBy":   "2027-03-31", "owners": []string{gltest.KeeperEmail}, "tags": []string{"web", "arrivals"},
		"description": "What is shown.\nTwo lines.", "reason": "x"}, 201, nil)
	s.Edit(t, "production", "estimate", func(d *flag.Document) {
		d.Lever = flag.On
		d.Variants["learned"] = json.RawMessage(`"off"`)
		d.Needs = []flag.Need{{Flag: "doors", Variant: "on"}}
		d.Rules = []flag.Rule{{Name: "Crews", When: &condition.Node{Test: condition.SegmentTest, Segment: "crews"},
			Gives: flag.Gives{Variant: "learned"}}, {Name: "Sites", Gives: flag.Gives{Shares: &flag.Shares{
			By: []string{"site.id"}, Parts: []flag.Part{{Variant: "learned", Share: 80_000}, {GoesOn: true,
				Share: 920_000}}}}}, {Name: "Named", Parked: true, OnUnknown: flag.Apply, Gives: flag.Gives{
			Variant: "learned"}, When: &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute,
			Text: []string{"recipient-17"}}}}
	})
	s.Edit(t, "production", "estimate", func(d *flag.Document) {
		d.Rules[1].Gives.Shares.Parts[0].Share = 300_000
		d.Rules[1].Gives.Shares.Parts[1].Share = 700_000
	})
	s.Keeper.Do(t, "PUT", atPine+"/bundles/opening", object{"bundle": object{"title": "Opening", "flags": []string{"doors",
		"lights"}}}, 200, nil)
	s.Keeper.Do(t, "PUT", atPine+"/recipes/night", object{"recipe": object{"title": "Night", "type": "boolean",
		"variants": []object{{"name": "on", "value": true}, {"name": "off", "value": false}}, "resting": "off",
		"end": "on"}}, 200, nil)
	s.Keeper.Do(t, "PUT", atPine+"/policies/say-why", object{"policy": object{"title": "Say why", "nouns": []string{"flag"},
		"when": "size(change.reason) < 1", "outcome": "note", "mend": "say why"}}, 200, nil)
	s.Keeper.Do(t, "PUT", atPine+"/metrics/door-open-failed", object{"metric": object{"title": "Doors that stayed shut",
		"kind": "rate", "better": "lower", "window": "10m", "grace": "1m", "tolerance": object{"relative": 0.1}}}, 200, nil)
}

func putFile(t *testing.T, s *gltest.Service, path, text string) {
	t.Helper()
	status, answer, _, err := s.Keeper.With("Content-Type", "text/plain").Send("PUT", path, []byte(text))
	if err != nil || status != 200 {
		t.Fatalf("PUT %s: %d %s %v", path, status, answer, err)
	}
}

// tree reads all files of a folder but those of the sidecar.
func tree(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if err == nil && d.Name() == folder.Sidecar {
				return filepath.SkipDir
			}
			return err
		}
		raw, err := os.ReadFile(path)
		at, _ := filepath.Rel(dir, path)
		out[at] = string(raw)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// A project is saved, loaded into an empty one and saved again: the files are the same bytes, and exactly the same
// units get the same.
func TestFilesRoundTrip(t *testing.T) {
	s, empty := gltest.Start(t), gltest.Start(t)
	richly(t, s)
	for _, mode := range []string{" --exact", ""} {
		first, second := filepath.Join(t.TempDir(), "first"), filepath.Join(t.TempDir(), "second")
		sh := newShell(t, s)
		sh.run(0, "files save "+first+mode)
		if len(tree(t, first)) < 10 {
			t.Fatalf("%v", tree(t, first))
		}
		other := newShell(t, empty)
		if mode != "" {
			other.run(0, "files load "+first+" --because first --yes --commit 4be1f0c --units 0 --overwrite all")
		} else {
			other.run(0, "files load "+first+" --because first --yes --units 0 --overwrite all")
		}
		other.run(0, "files compare "+first)
		other.run(0, "files save "+second+mode)
		want, got := tree(t, first), tree(t, second)
		for at := range want {
			if want[at] != got[at] {
				t.Errorf("%s was\n%s\nand is\n%s", at, want[at], got[at])
			}
		}
		if len(want) != len(got) {
			t.Errorf("%d files, and then %d", len(want), len(got))
		}
		for _, env := range []string{"production", "staging"} {
			for _, key := range []string{"doors", "estimate"} {
				a, _ := json.Marshal(s.Get(t, env, key).Document)
				b, _ := json.Marshal(empty.Get(t, env, key).Document)
				if string(a) != string(b) {
					t.Errorf("%s in %s: %s is not %s", key, env, b, a)
				}
			}
		}
	}
	if c := lastChange(t, empty, "estimate"); c.Actor.Cause != "commit 4be1f0c" {
		t.Errorf("%+v", c.Actor)
	}
}

// Files that were edited by hand are loaded in one change; what was edited in the console meanwhile is never lost, nor
// is what was edited in the files.
func TestFilesAndOthers(t *testing.T) {
	s := gltest.Start(t)
	richly(t, s)
	dir := filepath.Join(t.TempDir(), "pinecrest")
	sh := newShell(t, s)
	sh.run(0, "files save "+dir)
	edit := func(at, from, to string) {
		t.Helper()
		path := filepath.Join(dir, at)
		raw, err := os.ReadFile(path)
		if err != nil || !strings.Contains(string(raw), from) {
			t.Fatalf("%v: %q is not in %s", err, from, raw)
		}
		if err := os.WriteFile(path, []byte(strings.Replace(string(raw), from, to, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	edit("flags/doors.yaml", "variants:", "# they all say doors\ntitle: Doors of all kinds\nvariants:")
	edit("flags/estimate.yaml", "name: Crews", "name: Crews of the day")
	edit("flags/estimate.yaml", "      - id:", "      - name: Yard\n        when: site.id == \"yard\"\n"+
		"        gives: learned\n      - id:")
	if err := os.WriteFile(filepath.Join(dir, "flags", "new-one.yaml"), []byte("flag: new-one\nvariants: {on: true, off: "+
		"false}\nresting: off\ngoneBy: stays\nenvironments:\n  staging:\n    lever: on\n    end: on\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(8, "files compare "+dir).says("!Crews of the day", "!Yard", "!Doors of all kinds", "!new-one")
	// Others edit another flag meanwhile, and one of these: both sides are shown, and nothing is changed.
	s.Edit(t, "production", "lights", func(d *flag.Document) { d.Lever = flag.Off })
	s.Edit(t, "production", "estimate", func(d *flag.Document) { d.Rules[0].Parked = true })
	before := s.Get(t, "production", "estimate").Version
	sh.run(5, "files load "+dir+" --because x --yes").says("!flag/estimate/production was changed in the service",
		"!the folder would change", "!parked", "!flag/lights/production was changed in the service since the folder was "+
			"saved, and not in the files: it stays")
	if s.Get(t, "production", "estimate").Version != before {
		t.Fatal("it was loaded all the same")
	}
	sh.run(5, "files save "+dir).says("!flags/doors.yaml", "!flags/estimate.yaml")
	if raw := tree(t, dir)["flags/doors.yaml"]; !strings.Contains(raw, "# they all say doors") {
		t.Fatalf("the edit of the file is lost:\n%s", raw)
	}
	// Saved elsewhere, laid together by hand, and loaded.
	edit("flags/estimate.yaml", "when: inSegment(\"crews\")\n        gives: learned\n", "when: inSegment(\"crews\")\n"+
		"        gives: learned\n        parked: true\n")
	sh.run(0, "files load "+dir+" --because both --yes --units 0 --overwrite flag/estimate/production")
	got := s.Get(t, "production", "estimate").Document
	if got.Rules[0].Name != "Yard" || got.Rules[1].Name != "Crews of the day" {
		t.Errorf("%+v", got.Rules)
	}
	if s.Get(t, "staging", "new-one").Document.Lever != flag.On || s.Get(t, "production",
		"lights").Document.Lever != flag.Off {
		t.Error("a new flag is off, or what others did is lost")
	}
	sh.run(0, "files compare "+dir)
	sh.run(0, "files save "+dir)
	if raw := tree(t, dir)["flags/doors.yaml"]; !strings.Contains(raw, "# they all say doors\ntitle: Doors") {
		t.Errorf("the comment is lost:\n%s", raw)
	}
	// As a proposal; and taken away only where that is said.
	edit("flags/lights.yaml", "goneBy: \"2027-03-31\"", "goneBy: stays")
	sh.run(0, "files load "+dir+" --because 'by review' --yes --propose").says("!propos")
	edit("flags/lights.yaml", "goneBy: stays", "goneBy: \"2027-03-31\"")
	if err := os.Remove(filepath.Join(dir, "policies", "say-why.yaml")); err != nil {
		t.Fatal(err)
	}
	sh.run(0, "files compare "+dir).says("!policy say-why is not in the folder, and stays")
	sh.run(0, "files load "+dir+" --remove --yes --because x")
	sh.run(0, "policy list")
	if strings.Contains(sh.out, "say-why") {
		t.Error("the policy is still there")
	}
	// Without its versions, what is there already is named before it is overwritten.
	if err := os.RemoveAll(filepath.Join(dir, folder.Sidecar)); err != nil {
		t.Fatal(err)
	}
	edit("flags/lights.yaml", "goneBy: \"2027-03-31\"", "goneBy: 2027-06-30")
	sh.run(5, "files load "+dir+" --yes --because x").says("!no versions stand beside the files")
	sh.run(0, "files load "+dir+" --yes --because x --overwrite flag/lights")
	sh.run(0, "files save "+dir)
	// What only the service knows to be wrong is said by file and line, with the mend.
	for _, c := range []struct{ at, from, to, file, says string }{
		{"flags/doors.yaml", "    lever: on", "    lever: on\n    needs: [{flag: estimate, variant: learned}]",
			"flags/doors.yaml: line", "circle"},
		{"flags/doors.yaml", "    lever: on", "    lever: on\n    needs: [{flag: nobody, variant: on}]",
			"flags/doors.yaml: line", "there is no flag nobody"},
		{"flags/estimate.yaml", "inSegment(\"crews\")", "inSegment(\"crew\")", "flags/estimate.yaml: line",
			"there is no segment crew"},
		{"flags/estimate.yaml", "  production:", "  prodction:", "flags/estimate.yaml: line", "no environment prodction"},
		{"flags/estimate.yaml", "type: string", "type: object", "flags/estimate.yaml: line", "object"},
		{"project.yaml", "production:", "elsewhere:", "project.yaml", "environment make elsewhere"},
		{"project.yaml", "project: pinecrest", "project: other", "project.yaml: line", "other"},
		{"bundles.yaml", "doors", "dors", "bundles.yaml", "there is no flag dors"},
		{"segments/pilots.yaml", "pilots.production.in.txt", "pilots.txt", "segments/pilots.yaml: line", "no file"},
		{"flags/doors.yaml", "flag: doors", "flag: dors", "flags/doors.yaml", "call the file dors.yaml"},
		{"segments/crews.yaml", "- ann", "- ann\n      - ann", "segments/crews.yaml: line", ""},
		{"attributes.yaml", "type: string", "type: text", "attributes.yaml: line", ""},
	} {
		edit(c.at, c.from, c.to)
		sh.run(7, "files compare "+dir+" --project pinecrest").says("!"+c.file, "!"+c.says)
		edit(c.at, c.to, c.from)
	}
	sh.run(0, "files compare "+dir)
	// Without people and units: neither stands in a file, and loading such a folder takes nothing away.
	open := filepath.Join(t.TempDir(), "open")
	sh.run(0, "files save "+open+" --without people,units")
	all := fmt.Sprint(tree(t, open))
	for _, secret := range []string{gltest.KeeperEmail, "recipient-17", "site-0001", "ann"} {
		if strings.Contains(all, secret) {
			t.Errorf("%s stands in the files", secret)
		}
	}
	sh.run(0, "files compare "+open)
}
