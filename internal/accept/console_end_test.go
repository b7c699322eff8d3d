package accept

import (
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
)

// Bundles are made, turned and promoted; what was found is edited; a change is taken back and a flag is as it stood: each
// with one look before.
func TestConsoleBundlesAndUndo(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights", "chime")
	w := window(t, s, 1280, 900)
	w.Go(s.URL()+"/p/pinecrest/bundles").See("There is none yet.").Fill("key of the bundle", "opening").Fill("title of the bundle",
		"Opening").Fill("flags of the bundle", "doors, lights").Click("Save the bundle").See("All are on.")
	good(t, w)
	s.Edit(t, "production", "lights", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
	w.Go(s.URL()+"/p/pinecrest/bundles/opening").SeeIn("production", "differs")
	w.Go(s.URL()+"/p/pinecrest/bundles/opening").See("All are off.").Click("Turn all on").See("lever off → on").Fill("why", "all of it works").Click(
		"Turn all on").See("Opening is on in staging.")
	good(t, w)
	if s.Get(t, "staging", "doors").Document.Lever != flag.On || s.Get(t, "staging", "lights").Document.Lever != flag.On {
		t.Error("not all are on in staging")
	}
	// The last change is taken back from the history.
	w.Go(s.URL() + "/p/pinecrest/history").See("Take back").Click("Take back ...").See("lever on → off").See("Then: Off: all get").Click(
		"Take it back").See("Taken back.")
	good(t, w)
	if s.Get(t, "staging", "doors").Document.Lever != flag.Off {
		t.Error("it was not taken back")
	}
	// As it stood then.
	w.Go(s.URL() + "/p/pinecrest/history?flag=lights&environment=production").See("as it stood then").Click("as it stood then").See(
		"Changed since")
	good(t, w)
	// What was found is edited in one change.
	w.Go(s.URL()+"/p/pinecrest?find=bundle:opening").See("Edit the 2 flags found ...").Click("Edit the 2 flags found ...").Fill("tags to add",
		"door").See("tags → door").Click("Edit them").See("Edited.")
	good(t, w)
	var d app.Definition
	s.Keeper.Do(t, "GET", atPine+"/flags/lights", nil, 200, &d)
	if len(d.Tags) != 1 || d.Tags[0] != "door" {
		t.Errorf("%v", d.Tags)
	}
	s.Keeper.Do(t, "GET", atPine+"/flags/chime", nil, 200, &d)
	if len(d.Tags) != 0 {
		t.Errorf("%v", d.Tags)
	}
}

// A short-lived environment is made and shown by itself; a flag says on its page what keeps it from being retired, and is
// retired and restored.
func TestConsoleEnds(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	s.Keeper.Do(t, "PUT", atPine+"/places", object{"repository": "lockers", "branch": "main", "commit": "4be1f0c", "at": 1,
		"places":  []object{{"flag": "doors", "file": "door.go", "line": 3, "how": "call", "code": "c.Bool(ctx, \"doors\", u, false)"}},
		"unknown": []object{{"flag": "dors", "file": "door.go", "line": 9, "how": "call", "code": "x"}}}, 200, nil)
	w := window(t, s, 1280, 900)
	w.Go(s.URL()+"/p/pinecrest/settings").See("Short-lived environments").Fill("key of the short-lived environment", "review-482").Fill(
		"from which environment", "from production").Click("Branch it").See("The secrets of review-482 are shown once").See("until")
	good(t, w)
	w.Go(s.URL() + "/p/pinecrest").Gone("review-482").Go(s.URL() + "/p/pinecrest?show=review-482").See("review-482").See("delivered to 0 of 0")
	w.Go(s.URL() + "/p/pinecrest/production/flags/doors").See("door.go:3").See("It cannot be retired yet:").See("made less than 30 days ago")
	good(t, w)
	s.Keeper.Do(t, "POST", atPine+"/flags/doors/retire", object{"force": true, "reason": "x"}, 200, nil)
	w.Go(s.URL()+"/p/pinecrest/retiring").See("Retired").See("was never defined").Fill("why retire or restore", "too early").Click(
		"Restore doors").See("doors is back, as it stood.")
	good(t, w)
	if s.Get(t, "production", "doors").Document.Lever != flag.On {
		t.Error("it is not as it stood")
	}
}
