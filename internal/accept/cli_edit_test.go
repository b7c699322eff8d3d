package accept

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
)

// What was made is found, edited, copied and taken away on the command line alone.
func TestCommandLineEdits(t *testing.T) {
	s := gltest.Start(t)
	s.Environment(t, "night", true)
	sh := newShell(t, s)
	sh.run(0, "sign-in --project pinecrest --env staging")
	sh.run(0, "flag make arrival-estimate --type string --resting timetable --variant timetable=timetable --variant "+
		"learned=learned --gone-by stays --because first")
	sh.run(0, "flag make doors --gone-by 2027-06-30 --owner door-team --tag door --because first")

	sh.run(0, "flag list").says("arrival-estimate", "doors", "door-team", "staging")
	sh.run(0, "flag list tag:door").says("doors")
	if strings.Contains(sh.out, "arrival-estimate") {
		t.Errorf("tag:door finds more: %s", sh.out)
	}
	sh.run(0, "flag list -- -tag:door").says("arrival-estimate")
	sh.run(0, "flag list nothing-like-it").says("!none of the 2 flags")

	sh.run(2, "flag edit doors").says("!say what to edit")
	sh.run(2, "flag edit doors --visible perhaps").says("!true or false")
	sh.run(2, "flag edit doors --variant half").says("!NAME=VALUE")
	sh.run(4, "flag edit dors --title x")
	sh.run(0, "flag edit doors --title 'Doors at night' --owner door-team,night-team --tag door --loses 'the light' "+
		"--description 'whether they open' --gone-by stays").says("Doors at night", "door-team, night-team", "the light",
		"whether they open", "stays", "version  2")
	sh.run(0, "flag edit doors --title 'Doors at night'").says("!nothing was changed")
	sh.run(0, "flag edit arrival-estimate --variant guessed=guessed --because more").says("guessed")
	sh.run(0, "flag show arrival-estimate").says("guessed")
	sh.run(0, "flag edit arrival-estimate --remove-variant guessed --because less")
	if v := s.Get(t, "night", "arrival-estimate"); len(v.Document.Variants) != 2 {
		t.Errorf("variants at night: %v", v.Document.Variants)
	}

	sh.run(0, "flag rule doors --name Crews --when 'crew_size >= 2' --gets on")
	sh.run(0, "flag turn doors on")
	sh.run(2, "flag copy doors").says("!--from and --to")
	sh.run(0, "flag copy doors --to production --try").says("!in production:", "!Crews")
	if v := s.Get(t, "production", "doors"); len(v.Document.Rules) != 0 {
		t.Error("trying has copied")
	}
	sh.run(0, "flag copy doors --to production").says("production: ")
	sh.run(0, "flag copy doors --to production").says("!the same there already")
	sh.run(2, "flag copy doors --from staging --to night")
	sh.run(0, "flag copy doors --from staging --to night --yes --because 'it held'").says("night: ")
	if v := s.Get(t, "night", "doors"); len(v.Document.Rules) != 1 || v.Document.Lever != flag.Off {
		t.Errorf("at night: %+v", v.Document)
	}

	sh.run(2, "environment edit staging").says("!say what to edit")
	sh.run(2, "environment edit staging --ask-first maybe").says("!true or false")
	sh.run(0, "environment edit staging --title 'The yard' --ask-first true --because 'it is shown to many'").says(
		"The yard", "asks first: true")
	sh.run(0, "environment list").says("The yard")

	file := filepath.Join(t.TempDir(), "recipe.yaml")
	sh.run(4, "recipe write nothing")
	sh.run(0, "recipe write switch").says("needsLoses: true")
	if err := os.WriteFile(file, []byte(strings.NewReplacer("recipe: switch", "recipe: night-switch",
		"A switch for bad nights", "A switch of ours").Replace(sh.out)), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(2, "recipe save "+file+".none").says("!the file that is to be read")
	sh.run(0, "recipe save "+file).says("!begin a flag with it")
	sh.run(0, "recipe list").says("night-switch", "A switch of ours")
	sh.run(0, "flag make lights --recipe night-switch --owner x --loses 'the light' --because first")
	sh.run(0, "recipe remove night-switch --yes").says("!is taken away")
	sh.run(0, "recipe list")
	if strings.Contains(sh.out, "night-switch") {
		t.Errorf("it is there: %s", sh.out)
	}
}

// projectless are commands that are of no project.
var projectless = []string{"files compare", "files load", "serve", "demo", "outpost", "init", "sign-in", "project", "migrate", "person", "team", "robot", "token", "epoch", "words",
	"openapi", "condition", "emergency", "check list", "release schema", "verify", "export", "completion"}

var readsFile = regexp.MustCompile(`\.(yaml|json|jsonl|txt)\b|metric send`)

// Who has roles in two projects is told by every command which option says which one is meant, before anything is done.
func TestTwoProjects(t *testing.T) {
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects", object{"key": "night-market", "title": "Night market"}, 201, nil)
	newShell(t, s)
	t.Chdir(t.TempDir())
	for path, lines := range cli.Examples() {
		first, _, _ := strings.Cut(path, " ")
		if slices.Contains(projectless, path) || slices.Contains(projectless, first) {
			continue
		}
		for _, line := range lines {
			line, _, _ = strings.Cut(line, " > ")
			if readsFile.MatchString(line) {
				continue // a file that is not there is told of first
			}
			code, out, errs := ran(line + " --yes --because why" + after[path])
			if code != 2 || !strings.Contains(errs, "--project") || !strings.Contains(errs, "night-market") {
				t.Errorf("greenlever %s: exit code %d\n%s%s", line, code, out, errs)
			}
		}
	}
}

// A command that watches shows what there is, and shows it again once it is another.
func TestCommandLineWatches(t *testing.T) {
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	newShell(t, s)
	ctx, cancel := context.WithCancel(t.Context())
	said, ended := &slate{}, make(chan int, 1)
	go func() {
		ended <- cli.Run(ctx, strings.Fields("flag list --watch --project pinecrest --env production"),
			strings.NewReader(""), said, said)
	}()
	gltest.Eventually(t, "the list", func() bool { return strings.Contains(said.String(), "off") })
	s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.On })
	gltest.Eventually(t, "the list anew", func() bool { return strings.Count(said.String(), "night-batching") == 2 })
	cancel()
	if code := <-ended; code != 0 {
		t.Errorf("exit code %d", code)
	}
	if lines := strings.Split(said.String(), "\n"); len(lines) < 4 || !strings.HasSuffix(lines[3], "on") {
		t.Errorf("%s", said)
	}
}

// local are commands that ask no service.
var local = []string{"files compare", "files load", "serve", "demo", "outpost", "init", "sign-in", "migrate", "epoch", "words", "openapi", "release schema", "check list",
	"emergency stop", "emergency lift"}

// Every command that asks the service tells by its exit code that there is no connection, and that it is not let in.
func TestExitCodes(t *testing.T) {
	s := gltest.Start(t)
	newShell(t, s)
	t.Chdir(t.TempDir())
	t.Setenv("GREENLEVER_PROJECT", "pinecrest")
	t.Setenv("GREENLEVER_INGEST_KEY", "gli_nobody")
	for name, of := range map[string]struct {
		url, token string
		code       int
	}{
		"no connection": {"http://127.0.0.1:1", "glt_x", 6},
		"not let in":    {s.URL(), "glt_nobody", 3},
	} {
		t.Setenv("GREENLEVER_URL", of.url)
		t.Setenv("GREENLEVER_TOKEN", of.token)
		var all sync.WaitGroup
		few := make(chan struct{}, 8)
		for path, lines := range cli.Examples() {
			if first, _, _ := strings.Cut(path, " "); slices.Contains(local, path) || slices.Contains(local, first) {
				continue
			}
			for _, line := range lines {
				line, _, _ = strings.Cut(line, " > ")
				if readsFile.MatchString(line) {
					continue
				}
				all.Go(func() {
					few <- struct{}{}
					defer func() { <-few }()
					ctx, cancel := context.WithTimeout(t.Context(), time.Second) // a change is tried again until then
					defer cancel()
					if code, out, errs := ranFor(ctx, line+" --yes --because why"+after[path]); code != of.code {
						t.Errorf("%s: greenlever %s: exit code %d\n%s%s", name, line, code, out, errs)
					}
				})
			}
		}
		all.Wait()
	}
}
