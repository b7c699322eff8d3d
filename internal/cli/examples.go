package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are those of commands that say none where they are made, by the command's path.
var examples = map[string]string{
	"attribute list":         "attribute list --env production",
	"attribute remove":       "attribute remove firmware",
	"check list":             "check list",
	"check mute":             "check mute one-touch-open shadowed --because 'it is asked for from March on'",
	"check unmute":           "check unmute one-touch-open shadowed",
	"demo":                   "demo",
	"environment archive":    "environment archive trial --because 'the trial is over'",
	"environment bring-back": "environment bring-back trial --because 'once more'",
	"environment list":       "environment list",
	"environment make":       "environment make trial --title 'A trial'",
	"environment remove":     "environment remove trial --because 'it is over'",
	"epoch new":              "epoch new --yes",
	"export":                 "export > audit.jsonl",
	"flag draw-anew":         "flag draw-anew night-batching --rule Shares --env development",
	"flag end": "flag end arrival-estimate timetable\nflag end arrival-estimate timetable=90% " +
		"learned=10% --by site.id",
	"flag name":        "flag name one-touch-open recipient-17 --env development",
	"flag order":       "flag order one-touch-open Crews --env development",
	"flag park":        "flag park one-touch-open Crews --env development",
	"flag remove-rule": "flag remove-rule one-touch-open Crews --env development",
	"flag rest-after":  "flag rest-after one-touch-open 30 --env development",
	"flag save":        "flag save one-touch-open document.json --env development",
	"flag show":        "flag show one-touch-open --env production",
	"flag snippet":     "flag snippet one-touch-open --env production",
	"history":          "history --flag one-touch-open\nhistory --person ida.holm@pinecrest.example",
	"instances gone":   "instances gone 3f1c --env production --because 'the machine was taken away'",
	"key list":         "key list --env production",
	"key make":         "key make --kind service --purpose 'the doors' --env production",
	"key revoke":       "key revoke 3f1c --env production",
	"migrate":          "migrate --check",
	"openapi":          "openapi > openapi.json",
	"outpost":          "outpost --url http://127.0.0.1:8090 --key $GREENLEVER_KEY",
	"person list":      "person list",
	"person make":      "person make per.lund@pinecrest.example --name 'Per Lund'",
	"person password":  "person password per.lund@pinecrest.example",
	"person sessions":  "person sessions",
	"population erase": "population erase recipient-17 --env production --because 'she asked for it'",
	"population set":   "population set --days 14 --env production",
	"population show":  "population show --env production",
	"population units": "population units --env production",
	"project list":     "project list",
	"project make":     "project make pinecrest --title 'Pinecrest Lockers'",
	"radar define":     "radar define handover-photos --env production",
	"roster":           "roster --env production",
	"see-as":           "see-as one-touch-open=on --env production",
	"segment list":     "segment list --env production",
	"segment make":     "segment make crews --when 'crew_size >= 2'",
	"segment save":     "segment save crews --when 'crew_size >= 3' --env development",
	"segment units":    "segment units crews --env production",
	"serve":            "serve --dir /var/lib/greenlever",
	"token list":       "token list",
	"token remove":     "token remove 3f1c",
	"unit list":        "unit list",
	"unit remove":      "unit remove recipient-17",
	"unit show":        "unit show recipient-17 --env production",
	"usage":            "usage one-touch-open --env production",
	"verify":           "verify\nverify --file audit.jsonl",
}

// exemplify gives each command below one its example.
func exemplify(c *cobra.Command) {
	_, path, _ := strings.Cut(c.CommandPath(), " ")
	if said, is := examples[path]; is && c.Example == "" {
		for i, line := range strings.Split(said, "\n") {
			if i > 0 {
				c.Example += "\n"
			}
			c.Example += "  greenlever " + line
		}
	}
	for _, child := range c.Commands() {
		exemplify(child)
	}
}

// Examples are the lines that help shows, by the command's path, such as "flag make".
func Examples() map[string][]string {
	all := map[string][]string{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Runnable() && !c.HasSubCommands() && c.Name() != "help" && c.Parent().Name() != "completion" {
			_, path, _ := strings.Cut(c.CommandPath(), " ")
			all[path] = []string{}
			for line := range strings.Lines(strings.ReplaceAll(c.Example, "\\\n", "")) {
				if line = strings.TrimSpace(line); line != "" {
					all[path] = append(all[path], strings.TrimPrefix(line, "greenlever "))
				}
			}
		}
		for _, child := range c.Commands() {
			walk(child)
		}
	}
	walk((&session{}).root())
	return all
}
