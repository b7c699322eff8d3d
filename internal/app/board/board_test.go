package board_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/board"
)

var now = time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)

func ago(d time.Duration) int64 { return now.Add(-d).UnixMilli() }

const day = 24 * time.Hour

func rows() []board.Row {
	return []board.Row{
		{Definition: &app.Definition{Key: "one-touch-open", Title: "One-touch open", Type: flag.Boolean,
			GoneBy: "2026-12-10", Owners: []string{"Juno Lind"}, Tags: []string{"door"}, Visible: true},
			In: map[string]board.In{"production": {Lever: flag.On, Changed: ago(2 * day), Asked: ago(time.Minute)},
				"staging": {Lever: flag.On, Changed: ago(time.Hour), Moving: true}}},
		{Definition: &app.Definition{Key: "night-batching", Title: "Night batching", Type: flag.Boolean,
			GoneBy: "2027-02-28", Owners: []string{"Ida Holm", "Juno Lind"}, Tags: []string{}},
			In: map[string]board.In{"production": {Lever: flag.Off, Changed: ago(90 * day)},
				"staging": {Lever: flag.On, Changed: ago(90 * day), Asked: ago(40 * day)}}},
		{Definition: &app.Definition{Key: "weather-holds", Title: "Weather holds", Type: flag.Boolean, GoneBy: "stays",
			Description: "asks before a round starts", Owners: []string{}, Tags: []string{"rounds", "door"}},
			In: map[string]board.In{"production": {Lever: flag.On, Stopped: true, Changed: ago(30 * day),
				Asked: ago(time.Hour)}, "staging": {Lever: flag.On, Changed: ago(30 * day)}}},
		{Definition: &app.Definition{Key: "door-retries", Title: "Door retries", Type: "object", GoneBy: "2026-11-01",
			Owners: []string{}, Tags: []string{}},
			In: map[string]board.In{"production": {Lever: flag.On, Changed: ago(3 * time.Hour)}}},
	}
}

func TestWordsFindFlags(t *testing.T) {
	for text, want := range map[string]string{
		"":                               "one-touch-open night-batching weather-holds door-retries",
		"door":                           "one-touch-open weather-holds door-retries",
		"DOOR -retries":                  "one-touch-open weather-holds",
		`"night batch"`:                  "night-batching",
		"before round":                   "weather-holds",
		"owner:juno":                     "one-touch-open night-batching",
		`owner:"Ida Holm"`:               "night-batching",
		"tag:door tag:rounds":            "weather-holds",
		"tag:doo":                        "",
		"type:object":                    "door-retries",
		"on:production":                  "one-touch-open door-retries",
		"off:production":                 "night-batching",
		"stopped:production":             "weather-holds",
		"moving:staging":                 "one-touch-open",
		"-on:staging":                    "door-retries",
		"on:nowhere":                     "",
		"changed:<4h":                    "one-touch-open door-retries",
		"changed:>4w":                    "night-batching weather-holds",
		"asked:<7d":                      "one-touch-open weather-holds",
		"asked:>7d":                      "night-batching door-retries",
		"asked:never":                    "door-retries",
		"gone-by:<30d":                   "one-touch-open door-retries",
		"gone-by:>30d":                   "night-batching",
		"gone-by:stays":                  "weather-holds",
		"visible:yes":                    "one-touch-open",
		"owner:juno  -gone-by:<30d\tnig": "night-batching",
	} {
		q, err := board.Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var got []string
		for _, r := range rows() {
			if q.Match(&r, now) {
				got = append(got, r.Definition.Key)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %v, want %s", text, got, want)
		}
	}
}

func TestWordsThatAreNoneSayTheMend(t *testing.T) {
	for text, want := range map[string]string{
		"owner:":        "say what stands behind owner:",
		"colour:green":  "there is no word colour:, those are asked:, bundle:, changed:, gone-by:, moving:, off:, on:, owner:, ",
		"type:bool":     "a type is boolean, string, number or object",
		"visible:maybe": "say yes or no",
		"changed:7d":    "write <7d, >12h or <2w",
		"changed:<":     "write <7d, >12h or <2w",
		"changed:<7y":   "write <7d, >12h or <2w",
		"changed:<-7d":  "write <7d, >12h or <2w",
		"asked:ever":    "write <7d, >12h or <2w, or never",
		"gone-by:soon":  "write <7d, >12h or <2w, or stays",
		`owner:"Ida`:    "the quote is not closed",
	} {
		if _, err := board.Parse("door " + text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
}

func TestEveryWordIsExplained(t *testing.T) {
	var all strings.Builder
	for _, w := range board.Words() {
		all.WriteString(w[0] + " " + w[1] + "\n")
	}
	_, err := board.Parse("nothing:here")
	_, list, _ := strings.Cut(err.Error(), "those are ")
	for _, name := range strings.Split(list, ", ") {
		if !strings.Contains(all.String(), name) {
			t.Errorf("%s is not explained", name)
		}
	}
}

func TestOrder(t *testing.T) {
	for _, c := range []struct {
		by     board.Sort
		group  board.Group
		pinned []string
		want   string
	}{
		{board.ByKey, "", nil, "door-retries night-batching one-touch-open weather-holds"},
		{board.ByAttention, "", nil, "weather-holds one-touch-open door-retries night-batching"},
		{board.ByChanged, "", nil, "one-touch-open door-retries weather-holds night-batching"},
		{board.ByGoneBy, "", nil, "door-retries one-touch-open night-batching weather-holds"},
		{board.ByKey, "", []string{"weather-holds"}, "weather-holds door-retries night-batching one-touch-open"},
		{board.ByKey, board.ByOwner, nil, "Ida Holm/night-batching Juno Lind/night-batching Juno Lind/one-touch-open " +
			"door-retries weather-holds"},
		{board.ByKey, board.ByTag, []string{"night-batching"}, "night-batching door/one-touch-open door/weather-holds " +
			"rounds/weather-holds door-retries"},
	} {
		var got []string
		for _, s := range board.Arrange(rows(), c.by, c.group, c.pinned, now) {
			name := s.Row.Definition.Key
			if s.Group != "" {
				name = s.Group + "/" + name
			}
			got = append(got, name)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s by %q, pinned %v: %v, want %s", c.by, c.group, c.pinned, got, c.want)
		}
	}
	// The order is one: the same whatever order the rows come in.
	a, b := rows(), rows()
	slices.Reverse(b)
	for _, by := range board.Sorts() {
		x, y := board.Arrange(a, by, "", nil, now), board.Arrange(b, by, "", nil, now)
		for i := range x {
			if x[i].Row.Definition.Key != y[i].Row.Definition.Key {
				t.Errorf("by %s, place %d is %s or %s", by, i, x[i].Row.Definition.Key, y[i].Row.Definition.Key)
			}
		}
	}
}
