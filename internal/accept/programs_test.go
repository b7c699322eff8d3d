package accept

import (
	"bufio"
	"os"
	"os/exec"
	"strings"
	"testing"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// Programs in other languages, with nothing but their standard libraries, through an outpost:
// one that follows, one that asks before each turn, one that lives for a second. They go on
// when nobody answers, and not knowing lets nothing happen.
func TestProgramsInOtherLanguages(t *testing.T) {
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "arrival-estimate", "type": "string",
		"resting": "timetable", "goneBy": "stays",
		"variants": []object{{"name": "timetable", "value": "timetable"}, {"name": "learned", "value": "learned"}}},
		201, nil)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "telemetry-interval", "type": "number",
		"resting": "minute", "goneBy": "stays",
		"variants": []object{{"name": "minute", "value": 60}, {"name": "quarter", "value": 900}}}, 201, nil)
	s.Flag(t, "chilled-compartments")
	s.Flag(t, "night-batching")
	o := station(t, s.URL(), []string{s.Keys["production"]})
	environment := append(os.Environ(), "GREENLEVER_URL="+o.URL(), "GREENLEVER_KEY="+s.Keys["production"])
	run := func(name string, args ...string) (said string, code int) {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env = environment
		raw, err := cmd.CombinedOutput()
		if err != nil && cmd.ProcessState == nil {
			t.Fatal(err)
		}
		return string(raw), cmd.ProcessState.ExitCode()
	}
	const python = "../../examples/python/"
	if said, code := run("python3", python+"nightly.py", "site-12"); code != 3 || !strings.Contains(said,
		"no night round") {
		t.Errorf("%d %s", code, said)
	}
	if said, _ := run("python3", python+"scale.py",
		"site-12"); said != "site-12: telemetry every 60 s, not chilled\n" {
		t.Error(said)
	}
	display := exec.Command("node", "../../examples/node/display.mjs", "site-12")
	display.Env = environment
	out, err := display.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := display.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = display.Process.Kill(); _ = display.Wait() }()
	lines := bufio.NewScanner(out)
	next := func(want string) {
		t.Helper()
		for lines.Scan() {
			if lines.Text() == want {
				return
			}
		}
		t.Fatalf("the display never said %q", want)
	}
	next("site-12: estimates are timetable, telemetry every 60 s")
	s.Edit(t, "production", "arrival-estimate", func(d *flag.Document) {
		d.Lever, d.End = flag.On, flag.Gives{Variant: "learned"}
	})
	next("site-12: estimates are learned, telemetry every 60 s")
	s.Edit(t, "production", "telemetry-interval", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Quiet sites", When: &condition.Node{Test: "string.one-of", Attribute: "site.id",
			Text: []string{"site-12"}}, Gives: flag.Gives{Variant: "quarter"}}}
	})
	next("site-12: estimates are learned, telemetry every 900 s")
	s.Edit(t, "production", "chilled-compartments", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Plus", When: &condition.Node{Test: "string.equals", Attribute: "site.plan",
			Text: []string{"plus"}}, Gives: flag.Gives{Variant: "on"}}}
	})
	saved := s.Edit(t, "production", "night-batching", crews)
	c := open(t, s, "production", through(o))
	until(t, c, "the edits", at(saved.Revision))
	if said, _ := run("python3", python+"scale.py", "site-12", "site-13"); said != "site-12: telemetry every 900 s, "+
		"chilled\nsite-13: telemetry every 60 s, chilled\n" {
		t.Error(said)
	}
	if said, code := run("python3", python+"nightly.py", "site-12"); code != 0 || !strings.Contains(said, "planned") {
		t.Errorf("%d %s", code, said)
	}
	if said, _ := run("node", "../../examples/node/display.mjs", "--once", "site-13"); said != "site-13: estimates "+
		"are learned, telemetry every 60 s\n" {
		t.Error(said)
	}
	if err := o.Stop(); err != nil {
		t.Fatal(err)
	}
	if said, code := run("python3", python+"nightly.py", "site-12"); code != 3 || !strings.Contains(said,
		"the fallback is used") {
		t.Errorf("without an outpost: %d %s", code, said)
	}
	if said, _ := run("node", "../../examples/node/display.mjs", "--once", "site-13"); !strings.Contains(said,
		"estimates are timetable, telemetry every 60 s") {
		t.Errorf("without an outpost: %s", said)
	}
}
