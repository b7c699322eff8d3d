package accept

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/gltest"
)

// situation is what befalls a release, and what its page says of it on the first screen.
type situation struct {
	name      string
	units     int
	tolerates float64 // in parts
	asks      func(i int, arm evidence.Arm) bool
	fails     func(i int, on bool) bool
	says      []string
}

func everybody(int, evidence.Arm) bool { return true }

// What watches have found stands on a release's page in words that anybody reads: harm, a side that loses units, and with
// GREENLEVER_SIM also clear, undecided, and an old side that fails.
func TestConsoleSaysWhatWatchesFound(t *testing.T) {
	t.Parallel()
	all := []situation{
		{"harm", 3_000, .01, everybody, func(i int, on bool) bool { return on && i%3 == 0 || i%50 == 0 },
			[]string{"Harm found: Doors that stayed shut", "This is harm. It happened to"}},
		{"untrusted", 3_000, .2, func(i int, a evidence.Arm) bool { return a != evidence.New || i%3 == 0 },
			func(i int, _ bool) bool { return i%20 == 0 }, []string{"so many cannot differ by chance", "Not to be trusted", "not to be trusted"}},
		{"clear", 3_000, .2, everybody, func(i int, _ bool) bool { return i%50 == 0 }, []string{"Its watch is clear"}},
		{"undecided", 700, .01, everybody, func(i int, _ bool) bool { return i%20 == 0 },
			[]string{"No harm so far, and not yet clear"}},
		{"old side fails", 3_000, .01, everybody, func(i int, on bool) bool { return !on && i%3 == 0 || i%50 == 0 },
			[]string{"The new side is better: Doors that stayed shut"}},
	}
	if os.Getenv("GREENLEVER_SIM") == "" {
		all = all[:2]
	}
	s, ahead := measuring(t)
	c := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 100 * time.Millisecond })
	w := window(t, s, 1280, 800)
	told, unit := 0, 0
	for _, one := range all {
		rel := startRelease(t, s.Keeper, obj{"stages": []obj{{"name": "8 %", "share": 80_000, "least": "2d"},
			{"name": "100 %", "share": 1_000_000}}, "watches": []obj{{"metric": "door-open-failed", "onHarm": "tell",
			"tolerance": obj{"relative": 0, "absolute": one.tolerates}}}})
		v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
		until(t, c, "the stage", func(st greenlever.State) bool { return st.Revision >= v.Revision })
		setup := v.State.Setup()
		for range one.units {
			unit++
			key := fmt.Sprint("recipient-", unit)
			if arm, _ := setup.Place(bucketOf(v.Release, key), 0); !one.asks(unit, arm) {
				continue
			}
			scope := c.Scope(context.Background(), greenlever.Unit(key))
			scope.Happened("door-open-failed", one.fails(unit, scope.Bool("night-batching", false)))
			told++
		}
		arrived(t, s, told)
		ahead.Add(int64(50 * time.Second))
		w.Go(s.URL() + "/p/pinecrest/staging/releases/" + rel.ID)
		for _, text := range one.says {
			w.See(text)
		}
		good(t, w)
		shoot(t, w, one.name)
		act(t, s.Keeper, rel.ID, "halts", obj{"do": "roll-back"}, 200)
	}
}

// The page of a release that ran for three weeks with five watches: everything stands there, nothing is wider than the
// screen, and it is no heavier than that of a young one.
func TestConsoleOfALongRelease(t *testing.T) {
	t.Parallel()
	s, ahead := measuring(t)
	watches := []obj{{"metric": "door-open-failed", "onHarm": "tell"}}
	for i, title := range []string{"Time to open", "Parcels fetched", "Calls for help", "Doors left open"} {
		m := obj{"title": title, "kind": "rate", "window": "10s", "grace": "10s"}
		if i == 0 {
			m = obj{"title": title, "kind": "typical", "measure": "ms", "window": "10s", "grace": "10s"}
		}
		key := strings.ReplaceAll(strings.ToLower(title), " ", "-")
		s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/"+key, obj{"metric": m}, 200, nil)
		watches = append(watches, obj{"metric": key, "onHarm": "tell"})
	}
	c := open(t, s, "staging", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	rel := startRelease(t, s.Keeper, obj{"watches": watches, "stages": []obj{{"name": "8 %", "share": 80_000, "least": "7d"},
		{"name": "30 %", "share": 300_000, "least": "21d"}, {"name": "100 %", "share": 1_000_000}}})
	v := stands(t, s.Keeper, rel.ID, stage.Underway, 0)
	told := 0
	for round := range 7 {
		until(t, c, "the stage", func(st greenlever.State) bool { return st.Revision >= v.Revision })
		for i := range 300 {
			scope := c.Scope(t.Context(), greenlever.Unit(fmt.Sprintf("recipient-%d-%d", round, i)))
			on := scope.Bool("night-batching", false)
			scope.Happened("door-open-failed", i%20 == 0)
			scope.Record("time-to-open", float64(200+i))
			scope.Happened("parcels-fetched", i%10 != 0)
			scope.Happened("calls-for-help", i%60 == 0)
			scope.Happened("doors-left-open", on && i%7 == 0 || i%30 == 0)
		}
		told += 300 * 5
		arrived(t, s, told)
		ahead.Add(int64(72*time.Hour + 30*time.Second))
		s.Keeper = tokenAt(t, s.URL()) // the one of before has expired
		gltest.Eventually(t, "the units are counted", func() bool {
			v = release(t, s.Keeper, rel.ID)
			return v.State.Is == stage.Underway && v.Watched.Seen.New+v.Watched.Seen.Old > int64(round+1)*80
		})
	}
	w := window(t, s, 1280, 800)
	w.Go(s.URL() + "/p/pinecrest/staging/releases/" + rel.ID).See("What it watches").See("Doors left open").See("30 %")
	w.Gone("reading ")
	// Three weeks lie to the left of now, by the service's clock: the browser's is still at its beginning.
	if x := w.Eval(`String(Math.round(document.querySelector("[data-testid=lanes] polygon").getBBox().x))`); len(x) > 2 {
		t.Errorf("its lanes begin at %s", x)
	}
	if w.Eval("String(document.documentElement.scrollWidth <= innerWidth)") != "true" {
		t.Error("it is wider than the screen")
	}
	if n := w.Eval("String(document.querySelectorAll('*').length)"); len(n) > 4 {
		t.Errorf("it has %s elements", n)
	}
	good(t, w)
	shoot(t, w, "weeks")
}

// shoot keeps a picture of a window where somebody wants to look at it.
func shoot(t *testing.T, w *browse.Window, name string) {
	t.Helper()
	dir := os.Getenv("GREENLEVER_LOOKS")
	if dir == "" {
		return
	}
	raw, err := w.Shot()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(dir+"/"+strings.ReplaceAll(name, " ", "-")+".png", raw, 0o600); err != nil {
		t.Fatal(err)
	}
}
