package main

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"os"
	"path/filepath"
	"strings"

	"greenlever.example/greenlever/internal/browse"
)

// scene is a page, or a dialog over it.
type scene struct {
	name, path string
	do         func(w *browse.Window)
}

// scenes are all pages and dialogs, as they are looked at by eye: on both sizes, light and dark.
var scenes = []scene{
	{"board", "/p/pinecrest", func(w *browse.Window) { w.See("weather-holds") }},
	{"board-nothing", "/p/pinecrest?find=nothing", func(w *browse.Window) { w.See("None of the") }},
	{"board-wrong", "/p/pinecrest?find=colour:green", func(w *browse.Window) { w.See("there is no word colour") }},
	{"board-groups", "/p/pinecrest?group=owner", func(w *browse.Window) { w.See("weather-holds") }},
	{"new-flag", "/p/pinecrest/new-flag", func(w *browse.Window) { w.See("A change step by step") }},
	{"flag", "/p/pinecrest/production/flags/one-touch-open",
		func(w *browse.Window) { w.See("Given in the last hour") }},
	{"flag-many", "/p/pinecrest/production/flags/arrival-estimate",
		func(w *browse.Window) { w.See("Given in the last hour") }},
	{"flag-off", "/p/pinecrest/production/flags/night-batching",
		func(w *browse.Window) { w.See("Given in the last hour") }},
	{"flag-edit", "/p/pinecrest/production/flags/one-touch-open", func(w *browse.Window) {
		w.See("units come in").Click("edit First sites").Fill("share of on in percent", "30").See("moves")
	}},
	{"flag-new-rule", "/p/pinecrest/production/flags/one-touch-open", func(w *browse.Window) {
		w.See("units come in").Click("Add a rule").See("takes nobody until it says whom")
	}},
	{"copy-rules", "/p/pinecrest/production/flags/one-touch-open", func(w *browse.Window) {
		w.See("Track").Click("Copy the rules to").Click("development").See("Then:")
	}},
	{"why", "/p/pinecrest/production/why?flag=one-touch-open&unit=recipient-18",
		func(w *browse.Window) { w.See("Step by step") }},
	{"releases", "/p/pinecrest/releases", func(w *browse.Window) { w.See("Going out") }},
	{"release", "/p/pinecrest/releases", func(w *browse.Window) { w.Click("night-batching").See("To hand over") }},
	{"release-watched", "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("one-touch-open").See("What it watches")
	}},
	{"release-harm", "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("one-touch-open").See("What it watches").Click("the one before").See("Rolled back at")
	}},
	{"metrics", "/p/pinecrest/production/usage/metrics", func(w *browse.Window) { w.See("Doors that stayed shut") }},
	{"metric-edit", "/p/pinecrest/production/usage/metrics", func(w *browse.Window) {
		w.Click("edit metric Doors that stayed shut").See("Events of one unit become")
	}},
	{"metric", "/p/pinecrest/production/usage/metrics?metric=door-open-failed", func(w *browse.Window) {
		w.See("By version of the application").See("door 2.3.1")
	}},
	{"release-new-watched", "/p/pinecrest/releases/new?flag=one-touch-open&environment=staging",
		func(w *browse.Window) {
			w.See("Doors that stayed shut").Fill("Named units", "recipient-17").See("units have")
		}},
	{"release-sign", "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("telemetry-interval").See("To hand over").Click("Hold").See("Nobody loses")
	}},
	{"release-new", "/p/pinecrest/releases/new?flag=arrival-estimate&environment=production",
		func(w *browse.Window) { w.See("Named units").Fill("Named units", "recipient-17").See("units have") }},
	{"history", "/p/pinecrest/history", func(w *browse.Window) { w.See("stiff doors") }},
	{"then", "/p/pinecrest/history?action=flag.changed", func(w *browse.Window) {
		w.Click("as it stood then").See("Changed since")
	}},
	{"stop", "/p/pinecrest/production/stop", func(w *browse.Window) { w.See("Who has it") }},
	{"stop-armed", "/p/pinecrest/production/stop",
		func(w *browse.Window) { w.Click("Stop weather-holds").See("Leave it on") }},
	{"segments", "/p/pinecrest/production/population", func(w *browse.Window) { w.See("pilot-sites") }},
	{"segment-edit", "/p/pinecrest/production/population",
		func(w *browse.Window) { w.Click("edit segment pilot-sites").See("The lists name") }},
	{"attributes", "/p/pinecrest/production/population/attributes", func(w *browse.Window) { w.See("crew_size") }},
	{"unit", "/p/pinecrest/production/population/unit?unit=recipient-17",
		func(w *browse.Window) { w.See("What it gets") }},
	{"roster", "/p/pinecrest/production/population/roster", func(w *browse.Window) { w.See("would be usual") }},
	{"usage", "/p/pinecrest/production/usage", func(w *browse.Window) { w.See("Decisions in the last") }},
	{"usage-flag", "/p/pinecrest/production/usage?flag=arrival-estimate",
		func(w *browse.Window) { w.See("By application").Gone("reading the chart") }},
	{"processes", "/p/pinecrest/production/usage/processes", func(w *browse.Window) { w.See("north-yard") }},
	{"radar", "/p/pinecrest/production/usage/radar", func(w *browse.Window) { w.See("Asked for, but not defined") }},
	{"settings", "/p/pinecrest/settings", func(w *browse.Window) { w.See("Tove Ek") }},
	{"account", "/account", func(w *browse.Window) { w.See("sessions and tokens") }},
	{"nowhere", "/p/pinecrest/production/flags/nowhere", func(w *browse.Window) { w.See("there is no flag") }},
	{"palette", "/p/pinecrest", func(w *browse.Window) { w.See("weather-holds").Click("Go to").See("Flags") }},
}

// all takes a picture of each scene in four ways, and lays those of a way out on sheets. only names a way, and
// behind a slash how the scenes begin, such as wide-light/release.
func all(dir string, b *browse.Browser, url, password, only string) error {
	only, begin, _ := strings.Cut(only, "/")
	for _, way := range []struct {
		name          string
		width, height int
		dark          bool
	}{{"wide-light", 1280, 800, false}, {"wide-dark", 1280, 800, true}, {"phone-light", 360, 780, false},
		{"phone-dark", 360, 780, true}} {
		if only != "" && !strings.Contains(way.name, only) {
			continue
		}
		w, err := b.Window(way.width, way.height)
		if err != nil {
			return err
		}
		if way.dark {
			w.Dark()
		}
		w.Go(url+"/sign-in").Fill("E-mail", "ida.holm@pinecrest.example").Fill("Password",
			password).Click("Sign in").See("Board")
		var shots []image.Image
		for _, s := range scenes {
			if !strings.HasPrefix(s.name, begin) {
				continue
			}
			s.do(w.Go(url + s.path))
			raw, err := w.Shot()
			if err != nil {
				w.Close()
				return fmt.Errorf("%s, %s: %w", s.name, way.name, err)
			}
			// The next scene begins without this one's edits.
			w.Eval(
				`addEventListener("beforeunload", (e) => e.stopImmediatePropagation(), true); sessionStorage.clear(); ""`)
			if err := os.WriteFile(filepath.Join(dir, s.name+"-"+way.name+".png"), raw, 0o644); err != nil {
				return err
			}
			shot, err := png.Decode(bytes.NewReader(raw))
			if err != nil {
				return err
			}
			shots = append(shots, shot)
		}
		w.Close()
		across, down := 3, 3
		if way.width < 800 {
			across, down = 8, 2
		}
		for i := 0; i*across*down < len(shots); i++ {
			part := shots[i*across*down : min((i+1)*across*down, len(shots))]
			if err := sheet(filepath.Join(dir, fmt.Sprintf("sheet-%s-%d.png", way.name, i+1)), part,
				across); err != nil {
				return err
			}
		}
		fmt.Println(way.name)
	}
	return nil
}

// sheet lays pictures out side by side, at half their size.
func sheet(path string, shots []image.Image, across int) error {
	size := shots[0].Bounds().Size().Div(2).Add(image.Pt(8, 8))
	rows := (len(shots) + across - 1) / across
	out := image.NewRGBA(image.Rect(0, 0, size.X*min(across, len(shots)), size.Y*rows))
	draw.Draw(out, out.Bounds(), image.NewUniform(color.Gray{Y: 128}), image.Point{}, draw.Src)
	for i, s := range shots {
		at := image.Pt(i%across*size.X, i/across*size.Y)
		for y := range s.Bounds().Dy() / 2 {
			for x := range s.Bounds().Dx() / 2 {
				out.Set(at.X+x, at.Y+y, mean(s, 2*x, 2*y))
			}
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, out); err != nil {
		return err
	}
	return os.WriteFile(path, b.Bytes(), 0o644)
}

// mean is the colour of four pixels.
func mean(s image.Image, x, y int) color.Color {
	var r, g, b uint32
	for _, p := range []image.Point{{X: x, Y: y}, {X: x + 1, Y: y}, {X: x, Y: y + 1}, {X: x + 1, Y: y + 1}} {
		pr, pg, pb, _ := s.At(p.X, p.Y).RGBA()
		r, g, b = r+pr/4, g+pg/4, b+pb/4
	}
	return color.RGBA64{R: uint16(r), G: uint16(g), B: uint16(b), A: 0xffff}
}
