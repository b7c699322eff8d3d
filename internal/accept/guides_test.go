package accept

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/gltest"
)

// notHere are beginnings of lines of the guides that run the service itself, or what is beside it: other tests do.
var notHere = []string{"serve", "outpost"}

// otherwise are lines of the guides that end with another exit code than 0 in a story that has nobody but their reader.
var otherwise = map[string]int{
	"release start -f night-batching.yaml":                                                  5, // one is under way by then
	"emergency stop weather-holds --project pinecrest --env production --key emergency.pem": 6, // nobody is there
}

// firsts are what a guide takes for granted.
var firsts = map[string][]string{
	"evidence.md": {"metric save door-open-ms.yaml", "metric save help-called.yaml", "metric save pickup-completed.yaml"},
	"targeting.md": {"flag rule one-touch-open --name First --gets on --env production --because first --yes",
		"flag rule one-touch-open --name Second --gets on --env production --because first --yes",
		"segment make old-firmware", "segment make invited"},
	"releases.md": {"segment make pilot-sites"},
}

// Every command of the README and of the guides runs as it stands there, in a clean home on a fresh installation, one
// after the other.
func TestGuidesRun(t *testing.T) {
	guides, err := filepath.Glob("../../docs/guide/*.md")
	if err != nil || len(guides) < 9 {
		t.Fatal(guides, err)
	}
	texts := map[string]string{}
	for _, path := range append(guides, "../../README.md") {
		raw, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		texts[filepath.Base(path)] = string(raw)
	}
	lines := 0
	for name, text := range texts {
		t.Run(name, func(t *testing.T) {
			commands, files := blocks(text)
			if len(commands) == 0 {
				return
			}
			s := gltest.Start(t, loopback)
			sh := newShell(t, s)
			t.Chdir(t.TempDir())
			settle(t, s, sh, name, files)
			for _, line := range commands {
				if slices.ContainsFunc(notHere, func(begins string) bool { return strings.HasPrefix(line, begins) }) {
					continue
				}
				lines++
				tryLine(t, s, line)
			}
		})
	}
	if lines < 25 {
		t.Errorf("only %d lines were run", lines)
	}
}

var (
	fenced  = regexp.MustCompile("(?ms)^ *```[a-z]*\n(.*?)^ *```$")
	called  = regexp.MustCompile(`(?m)^(?:metric|release): (\S+)$`)
	command = regexp.MustCompile(`^ *(?:bin/)?greenlever (.*)$`)
	remark  = regexp.MustCompile(`\s+# .*$`)
	goesTo  = regexp.MustCompile(`\s+> (\S+)$`)
)

// blocks gives the commands of a guide in their order, and the files that it shows.
func blocks(text string) (commands []string, files map[string]string) {
	files = map[string]string{}
	for _, block := range fenced.FindAllStringSubmatch(text, -1) {
		if name := called.FindStringSubmatch(block[1]); name != nil {
			files[name[1]+".yaml"] = block[1]
			continue
		}
		for line := range strings.Lines(strings.ReplaceAll(block[1], "\\\n", "")) {
			if m := command.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
				commands = append(commands, remark.ReplaceAllString(m[1], ""))
			}
		}
	}
	return commands, files
}

// settle makes what a guide's reader has by then.
func settle(t *testing.T, s *gltest.Service, sh *shell, guide string, files map[string]string) {
	t.Helper()
	files["alert.json"] = `{"subject":"weather","data":{"alert":"slow"}}`
	files["more.txt"] = "site-3\n"
	files["events.jsonl"] = `{"metric":"door-open-failed","context":{"targetingKey":"recipient-17"},"value":1}` + "\n"
	for _, metric := range []string{"door-open-ms", "help-called", "pickup-completed"} {
		files[metric+".yaml"] = "metric: " + metric + "\ntitle: " + metric + "\nkind: rate\nbetter: lower\nwindow: 10m\ngrace: 1m\n" +
			"tolerance: {relative: 0.1}\n"
	}
	sh.run(0, "sign-in --project pinecrest")
	for name, text := range files {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if guide == "developer.md" {
		sh.run(0, "flag make night-batching --gone-by stays")
		return
	}
	for _, key := range []string{"night-batching", "weather-holds", "one-touch-open", "chilled-compartments"} {
		sh.run(0, "flag make "+key+" --gone-by stays")
		sh.run(0, "flag turn "+key+" on --env production --yes --because first")
	}
	sh.run(0, "flag make arrival-estimate --type string --resting timetable --gone-by stays --variant timetable=timetable "+
		"--variant traffic-aware=traffic-aware --variant learned=learned")
	sh.run(0, "flag turn arrival-estimate on --env production --yes --because first")
	for _, line := range firsts[guide] {
		sh.run(0, line)
	}
	sh.run(0, "emergency key --out emergency.pem --yes")
	t.Setenv("GREENLEVER_EMERGENCY_KEY", "emergency.pem")
	t.Setenv("GREENLEVER_EMERGENCY_TO", s.URL())
	sh.run(0, "key make --kind ingest --env production --yes --because measures")
	t.Setenv("GREENLEVER_INGEST_KEY", regexp.MustCompile(`gli_\S+`).FindString(sh.out))
}

// tryLine runs a line of a guide as its reader would who says yes.
func tryLine(t *testing.T, s *gltest.Service, line string) {
	t.Helper()
	want := 0
	for begins, code := range otherwise {
		if strings.HasPrefix(line, begins) {
			want = code
		}
	}
	line = strings.ReplaceAll(line, `--because "`, `--because '`)
	if strings.Contains(line, "--because '") {
		line = strings.TrimSuffix(line, `"`)
	}
	var hooks struct{ Items []struct{ ID string } }
	if strings.Contains(line, "WEBHOOK") {
		s.Keeper.Do(t, "GET", "/projects/pinecrest/webhooks", nil, 200, &hooks)
		line = strings.ReplaceAll(line, "WEBHOOK", hooks.Items[0].ID)
	}
	into := goesTo.FindStringSubmatch(line)
	line = goesTo.ReplaceAllString(line, "")
	run := line + " --yes"
	if !strings.Contains(line, "--because") {
		run += " --because tried"
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	if strings.HasPrefix(line, "release follow") { // until its reader has seen enough
		ctx, cancel = context.WithTimeout(t.Context(), time.Second)
		defer cancel()
	}
	code, out, errs := ranFor(ctx, run)
	if code != want {
		t.Errorf("greenlever %s: exit code %d, want %d\n%s%s", line, code, want, out, errs)
	}
	if into != nil {
		if err := os.WriteFile(into[1], []byte(out), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
