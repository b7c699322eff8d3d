package accept

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
)

// A release on the command line alone: tried, started from options and from a file, watched, signed, held, edited,
// finished and rolled back; ladders and webhooks beside it.
func TestCommandLineReleases(t *testing.T) {
	s := gltest.Start(t, loopback)
	for _, key := range []string{"night-batching", "doors"} {
		s.Flag(t, key)
		s.Edit(t, "staging", key, func(d *flag.Document) { d.Lever = flag.On })
	}
	sh := newShell(t, s)
	sh.run(0, "sign-in --env staging")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}

	sh.run(4, "release show night-batching").says("!has no release in staging", "!release start night-batching")
	sh.run(2, "release start night-batching --shares 8,x").says("!--shares")
	sh.run(7, "release start night-batching --shares 30,8 --try").says("!must be more than the 30 %")
	sh.run(0, "release start night-batching --shares 8,30,100 --every 1h --by site.id --try").says("8 %",
		"units have on",
		"careful:")
	sh.run(0, "release list")
	sh.run(0,
		"release start night-batching --shares 8,30,100 --every 1h --by site.id --expected shorter --because now").
		says("!follow it:", "!take it back:")
	sh.run(5, "release start night-batching --shares 8,30").says("!runs here already")
	gltest.Eventually(t, "the next stage", func() bool { // it may go on by itself between a look and an act
		return cli.Run(t.Context(), strings.Fields("release next night-batching --because seen"), strings.NewReader(""),
			io.Discard, io.Discard) == 0
	})
	gltest.Eventually(t, "it is at a share", func() bool {
		sh.run(0, "release show night-batching")
		return strings.Contains(sh.out, "30 % of units by site.id for")
	})
	sh.says("expected: shorter", "to hand over:", "planned", "Ida Holm")
	sh.run(0, "release hold night-batching --because lunch").says("Held for a moment")
	sh.run(0, "release list").says("held", "night-batching")
	sh.run(5, "release sign night-batching").says("!it asks nobody to sign")
	sh.run(0, "release go-on night-batching")

	// Out, edited, and in again.
	sh.run(0, "release write night-batching").says("release: night-batching", "share: 8 %", "least: 1h")
	written := sh.out
	plan := file("release.yaml", strings.Replace(written, "least: 1h", "least: 2h", 3)+"  - name: more\n    share: "+
		"100 %\n")
	sh.run(7, "release edit night-batching -f "+plan).says("!line")
	text := strings.Replace(written, "name: 100 %\n      share: 100 %", "name: 65 %\n      share: 65 %", 1)
	sh.run(0, "release edit night-batching -f "+file("edited.yaml", text)+" --because slower")
	sh.run(5, "release finish night-batching").says("!--early")
	sh.run(0, "release finish night-batching --early --outcome 'a tenth shorter' --because done").says("Finished at")
	sh.run(0, "release follow night-batching").says("planned", "finished")
	sh.run(0, "release list --over").says("finished")

	sh.run(0, "release schema").says("A release of a flag")
	sh.run(2, "release schema nothing")
	sh.run(0, "release start -f "+file("doors.yaml", "release: doors\nenvironment: staging\nstages:\n- name: 8 %\n"+
		"  share: 8 %\n  signOff: [keeper]\n- {name: 100 %, share: 100 %, least: 1h}\nbecause: it is time\n"))
	sh.run(2, "release start night-batching -f "+filepath.Join(dir, "doors.yaml")).says("!the file is of a release " +
		"of doors")
	gltest.Eventually(t, "it asks", func() bool {
		sh.run(0, "release show doors")
		return strings.Contains(sh.out, "Waits for a keeper to sign")
	})
	sh.run(0, "release sign doors --because fine").says("100 % of units")
	sh.run(0, "release roll-back doors").says("Rolled back at")
	sh.run(1, "release follow doors").says("!the release is rolled-back")
	sh.run(0, "flag show doors").says("all get `off`")

	sh.run(0, "ladder write careful").says("ladder: careful", "asks: true")
	sh.run(0, "ladder save "+file("ours.yaml", strings.Replace(sh.out, "ladder: careful", "ladder: ours", 1)))
	sh.run(0, "ladder list").says("ours", "in-a-day")
	sh.run(7, "release start doors --ladder ours --try").says("!named")
	sh.run(0, "release start doors --ladder ours --named recipient-17 --try").says("self")
	sh.run(0, "ladder remove ours")
	sh.run(4, "ladder write ours")

	e := listen(t, nil)
	sh.run(0, "webhook make "+e.URL+" --name Tickets --kind release.*").says("whsec_")
	sh.run(0, "webhook list -o json")
	id, _, _ := strings.Cut(strings.SplitN(sh.out, `"id": "`, 2)[1], `"`)
	sh.run(0, "webhook edit "+id+" --kind flag.changed --in staging")
	sh.run(0, "flag turn doors off")
	gltest.Eventually(t, "it is told", func() bool { return len(e.heard()) == 1 })
	gltest.Eventually(t, "that is noted", func() bool {
		sh.run(0, "webhook events "+id)
		return strings.Contains(sh.out, "told")
	})
	sh.run(0, "webhook rotate "+id).says("whsec_")
	sh.run(0, "webhook replay "+id).says("!0 events are told again")
	sh.run(0, "webhook remove "+id)
	sh.run(4, "webhook events "+id)
}
