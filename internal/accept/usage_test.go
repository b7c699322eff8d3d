package accept

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/store"
)

// decided makes a service on which something was decided, asked for in vain, and lost.
func decided(t *testing.T, by *atomic.Int64) *gltest.Service {
	t.Helper()
	s := gltest.Start(t, shifted(by))
	s.Flag(t, "night-batching")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "arrival-estimate", "type": "string",
		"title": "Arrival estimate", "resting": "timetable", "goneBy": "2027-06-30",
		"variants": []object{{"name": "timetable", "value": "timetable"},
			{"name": "learned", "value": "learned */ \n x"}}}, 201, nil)
	saved := s.Edit(t, "production", "night-batching", crews)
	bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "f00dfeed",
		"sequence": 1, "application": "rounds", "version": "7", "epoch": 1, "revision": 1, "source": "disk",
		"tooOld": []string{"night-batching"}}, 200, nil)
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	until(t, c, "the edit", at(saved.Revision))
	for range 30 {
		c.Bool(context.Background(), "night-batching", greenlever.Unit("site-1", greenlever.Number("crew_size", 3)),
			false)
	}
	c.Bool(context.Background(), "night-batching", greenlever.Unit("site-1"), false)
	c.String(context.Background(), "greeting", greenlever.Unit("x"), "hello")
	c.Number(context.Background(), "night-batching", greenlever.Unit("x"), 1)
	gltest.Eventually(t, "all of it is reported", func() bool {
		u := s.Keeper.Uses(t, "production")
		var r struct{ Unknown []struct{ Flag string } }
		s.Keeper.Do(t, "GET", inProd+"/radar", nil, 200, &r)
		return u["night-batching on"] == 30 && len(r.Unknown) == 1
	})
	by.Store(int64(46 * time.Second))
	gltest.Eventually(t, "one is lost", func() bool {
		var d spread
		return len(d.read(t, s).Lost) == 1
	})
	return s
}

func TestCommandLineOfUsage(t *testing.T) {
	var by atomic.Int64
	s := decided(t, &by)
	sh := newShell(t, s)
	t.Setenv("GREENLEVER_PROJECT", "pinecrest")
	sh.run(0, "usage --env production").says("night-batching", "30", "93.8 %")
	sh.run(0, "usage night-batching --env production --span 15m").says("TARGETING_MATCH", "Crews", "door 1", "DEFAULT",
		"(fallback)")
	sh.run(7, "usage --env production --span 2h").says("!must be 15m, 1h")
	sh.run(0, "usage --env staging").says("nothing was decided in staging")
	sh.run(0, "usage --env production --output json").says(`"variant": "on"`, `"total": 30`)
	sh.run(0, "instances --env production").says("delivered to 1 of 1, 1 lost", "lost     rounds", "f00dfeed",
		"has it   door")
	sh.run(4, "instances gone nobody --env production --because x").says("!there is no instance")
	sh.run(0, "instances gone f00dfeed --env production --because scrapped").says("!rounds 7 f00dfeed is counted " +
		"as gone")
	sh.run(0, "instances --env production").says("0 lost")
	sh.run(0, "radar --env production").says("greeting", "string", `"hello"`, "Asked for as another type",
		"night-batching")
	sh.run(4, "radar define nothing --env production").says("!nobody asks in vain")
	sh.run(0, "radar define greeting --env production").says("!flag greeting made (string, resting on fallback)")
	sh.run(0, "flag rest-after night-batching 60 --env production --because 'night crews'").says(
		"nothing from the service for")
	sh.run(7, "flag rest-after night-batching 999999 --env production --because x").says("!must be 0 to 10080")
	if d := s.Get(t, "production", "night-batching").Document; d.RestAfter != 60 || len(d.Requires) != 1 {
		t.Errorf("%+v", d)
	}
	sh.run(0, "flag rest-after night-batching 0 --env production --because x")
	if d := s.Get(t, "production", "night-batching").Document; d.RestAfter != 0 || len(d.Requires) != 0 {
		t.Errorf("%+v", d)
	}
	sh.run(0, "key make --kind browser --origin https://desk.pinecrest.example --env production").says("glb_")
	sh.run(0, "key list --env production").says("https://desk.pinecrest.example")

	dir := filepath.Join(t.TempDir(), "pinecrest")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "flags.go")
	sh.run(8, "generate go --check --out "+file).says("!is not there")
	sh.run(0, "generate go --out "+file).says("!3 flags")
	sh.run(0, "generate go --check --out "+file).says("!is current")
	source, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"package pinecrest\n",
		`var NightBatching = greenlever.NewBoolFlag("night-batching", false)`,
		`ArrivalEstimateLearned   = "learned */ \n x"`,
		`var ArrivalEstimate = greenlever.NewStringFlag("arrival-estimate", "timetable")`, "gone by 2027-06-30",
		"DO NOT EDIT."} {
		if !strings.Contains(string(source), want) {
			t.Errorf("the source lacks %q:\n%s", want, source)
		}
	}
	compiles(t, dir)
	s.Flag(t, "door-retries")
	sh.run(8, "generate go --check --out "+file).says("!is stale: it carries definitions")
	sh.run(0, "generate go --out "+file)
	if err := os.WriteFile(file, append(source, "// by hand\n"...), 0o644); err != nil {
		t.Fatal(err)
	}
	sh.run(8, "generate go --check --out "+file)
	sh.run(2, "generate go --package 9x").says("!no name for a Go package")
	sh.run(2, "generate go --check").says("!name it with --out")

	t.Setenv("GREENLEVER_KEY", "")
	sh.run(2, "outpost --listen 127.0.0.1:0 --dir "+t.TempDir()).says("!needs an access key")
	config := filepath.Join(t.TempDir(), "outpost.yaml")
	if err := os.WriteFile(config, []byte("listen: 300.0.0.1:1\nkey: [gls_a, gls_b]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	// the keys were read
	sh.run(2, "outpost --dir "+t.TempDir()+" --config "+config).says("!cannot listen on 300.0.0.1:1")
	t.Setenv("GREENLEVER_OUTPOST_LIMIT_STREAMS", "many")
	sh.run(2, "outpost --listen 127.0.0.1:0").says("!GREENLEVER_OUTPOST_LIMIT_STREAMS")
}

// compiles builds a generated package in a module of its own.
func compiles(t *testing.T, dir string) {
	t.Helper()
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	mod := "module pinecrest.example/pinecrest\n\ngo 1.25\n\nrequire (\n\tgreenlever.example/client " +
		"v0.0.0\n\tgreenlever.example/core v0.0.0\n)\n\nreplace (\n\tgreenlever.example/client => " +
		root + "/client\n\tgreenlever.example/core => " + root + "/core\n)\n"
	if err := os.WriteFile(filepath.Join(dir, "go.mod"), []byte(mod), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("go", "vet", ".")
	cmd.Dir = dir
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("what was generated does not compile: %v: %s", err, said)
	}
}

func TestConsoleUsage(t *testing.T) {
	t.Parallel()
	var by atomic.Int64
	s := decided(t, &by)
	w := window(t, s, 1280, 900)
	w.Go(s.URL() + "/p/pinecrest/production/flags/night-batching").See("One process is too old for this flag and " +
		"gives off: rounds 7")
	w.Click("Usage").See("Decisions").Click("production").See("night-batching").See("93.8 %").Click("night-batching")
	w.See("32 decisions").See("TARGETING_MATCH").See("door").See("93.8 %")
	w.Click("15m").See("in the last 15m: 32 decisions")
	w.Click("Processes").See("delivered to 1 of 1").See("lost").See("rounds 7").Click("it is gone").Fill(
		"how do you know that rounds 7 is gone", "the machine was scrapped").Click("Take it off the list")
	w.Gone("rounds 7").See("has it")
	w.Click("Radar").See("greeting").See(`as string, fallback "hello"`).See("Asked for as another type").Click(
		"Define it so").See("Every flag that code asks for is defined.")
	good(t, w)
	w.Go(s.URL()+"/p/pinecrest/production/flags/night-batching").Choose("without contact",
		"gives off").See("hears nothing from the service for 60 minutes").Fill("minutes without contact",
		"30").See("30 min").Click("Save in production").Gone("This edit changes")
	good(t, w)
	if d := s.Get(t, "production", "night-batching").Document; d.RestAfter != 30 {
		t.Errorf("%+v", d)
	}
}

// Old counts are gathered into longer spans, and no count is lost on the way, however often
// that is done.
func TestUsageThinsOut(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	st, err := store.Open(t.Context(), s.DSN, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	envs, _, err := st.AllEnvironments(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	env := envs[len(envs)-1].ID
	const minute, day = int64(60_000), int64(24 * 3_600_000)
	now := time.Now().UnixMilli() / day * day
	total := uint64(0)
	for _, age := range []int64{0, minute, day, 3 * day, 3*day + minute, 3*day + 59*minute, 40 * day, 40*day + minute,
		100 * day} {
		total += 5
		if err := st.AddCounts(t.Context(), env, now-age, []wire.CountLine{{Flag: "night-batching", Variant: "on",
			Reason: "DEFAULT", Count: 5}}, nil); err != nil {
			t.Fatal(err)
		}
	}
	sum := func() (n uint64, rows int) {
		all, err := st.Uses(t.Context(), env, "night-batching", now/minute-200*24*60, now/minute+1, 1)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range all {
			n += r.Count
		}
		return n, len(all)
	}
	if n, rows := sum(); n != total || rows != 9 {
		t.Fatalf("%d in %d rows", n, rows)
	}
	for range 3 {
		if err := st.ThinUses(t.Context(), now); err != nil {
			t.Fatal(err)
		}
		// the last days by the minute, three days ago by the hour, older by the day
		if n, rows := sum(); n != total || rows != 8 {
			t.Errorf("after thinning: %d in %d rows", n, rows)
		}
	}
	if err := errors.Join(st.ThinUses(t.Context(), now+400*day), st.Forget(t.Context(), now+400*day,
		nil)); err != nil {
		t.Fatal(err)
	}
	if n, _ := sum(); n >= total {
		t.Errorf("after more than a year %d are still there", n)
	}
}
