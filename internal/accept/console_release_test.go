package accept

import (
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
)

// A release in the console, from the flag's page to its end: planned, shown before it starts, signed, held, had
// go on and rolled back; its rules are edited nowhere else, and it starts again after the repair.
func TestConsoleRelease(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 120)
	s.Flag(t, "arrival")
	s.Edit(t, "production", "arrival", func(d *flag.Document) { d.Lever = flag.On })
	w := window(t, s, 1280, 800)
	w.Go(s.URL() + "/p/pinecrest/releases").See("Nothing is going out").Click("Start a release").See("Environment")
	w.Go(s.URL() + "/p/pinecrest/production/flags/arrival").Click("Start a release").See("What goes out, and to whom")
	w.Choose("Ladder", "stages of its own").Click("Add a share").Click("Add a share")
	w.Fill("share of stage 1 in percent", "8").Fill("stage 1 stays at least", "").Choose("who signs in stage 1",
		"a keeper signs").Fill("share of stage 2 in percent", "100")
	w.Fill("Expected (may be left out)", "parcels are fetched sooner").See("units have on")
	w.SeeIn("what each stage would do", "moves").Fill("Why", "it is time").Click("Start the release").See(
		"To hand over")
	good(t, w)
	w.See("Waits for a keeper to sign").Click("Sign").See("You sign that it may go on").Click("Confirm: sign")
	w.See("100 % of units").See("parcels are fetched sooner").See("Is done in")
	w.Click("Hold").See("Nobody loses what they have").Fill("Why (may be left out)", "a look first").Click("Hold it")
	w.See("Held for").Click("Go on").Click("Confirm: go on").See("Is done in")
	w.Go(s.URL() + "/p/pinecrest/production/flags/arrival").See("owned by its release").See("100 % of units")
	w.Go(s.URL() + "/p/pinecrest").See("arrival")
	w.Go(s.URL() + "/p/pinecrest/releases").Click("arrival").See("Course").Click("Roll back").See("is taken back")
	w.Click("Roll it back").See("Rolled back")
	good(t, w)
	var all struct{ Items []app.Release }
	s.Keeper.Do(t, "GET", inProd+"/flags/arrival/releases", nil, 200, &all)
	if len(all.Items) != 1 || all.Items[0].State.Is != stage.RolledBack ||
		all.Items[0].Expected != "parcels are fetched sooner" {
		t.Errorf("it stands as %+v", all.Items)
	}
	w.Go(s.URL() + "/p/pinecrest/production/flags/arrival").Click("Start it again, after the repair").See(
		"after the repair")
	good(t, w)
}

// Ladders and webhooks are kept in the settings.
func TestConsoleLaddersAndWebhooks(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, loopback)
	e := listen(t, nil)
	w := window(t, s, 1280, 800)
	w.Go(s.URL()+"/p/pinecrest/settings").See("Careful").Click("New ladder").Fill("Key", "ours").Fill("Name", "Ours")
	w.Click("Add a share").Click("Save the ladder").See("Saved: ladder Ours")
	w.Click("New webhook").Fill("Name", "Tickets").Fill("Address", e.URL).Click("Make the webhook").See("Shown once")
	good(t, w)
	var all struct{ Items []app.Ladder }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/ladders", nil, 200, &all)
	if n := len(all.Items); n != 3 || all.Items[2].Key != "ours" || len(all.Items[2].Stages) != 1 {
		t.Errorf("the ladders are %+v", all.Items)
	}
	s.Flag(t, "doors")
	gltest.Eventually(t, "it is told", func() bool { return len(e.heard()) > 0 })
	w.Click("open webhook Tickets").See("flag.made").Click("tell again").See("told again")
	good(t, w)
}
