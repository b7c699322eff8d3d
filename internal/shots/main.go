// Command shots takes the pictures of docs/screenshots from a running demo; with -all one of each page and
// dialog, on both sizes, light and dark, for looking at.
//
//	go run ./internal/shots -dir docs/screenshots
//	go run ./internal/shots -all -dir /tmp/looks
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/browse"
)

func main() {
	dir := flag.String("dir", "docs/screenshots", "where the pictures go")
	demo := flag.String("demo", ".demo/demo.json", "what the demo tells of itself")
	only := flag.String("only", "", "one picture's name")
	every := flag.Bool("all", false, "every page and dialog in every way, and sheets of them; -only names a way")
	flag.Parse()
	if err := run(*dir, *demo, *only, *every); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// picture is one page: where it is, what to do there, and what tells that it is drawn.
type picture struct {
	name          string
	width, height int
	dark          bool
	path          string
	do            func(w *browse.Window)
}

var pictures = []picture{
	{"board", 1280, 800, false, "/p/pinecrest",
		func(w *browse.Window) { w.See("weather-holds").See("delivered to 7 of 7") }},
	{"flag", 1280, 800, false, "/p/pinecrest/production/flags/one-touch-open",
		func(w *browse.Window) { w.See("First sites").See("Given in the last hour") }},
	{"why", 1280, 1000, false,
		"/p/pinecrest/production/why?flag=one-touch-open&unit=recipient-18&with=site.id%20%3D%20site-7%0Afirmware%20%3D%204.3.1", func(w *browse.Window) { w.See("Step by step") }},
	{"history", 1280, 800, false, "/p/pinecrest/history",
		func(w *browse.Window) { w.See("stiff doors").Click("Verify the chains").See("sound:") }},
	{"stop", 1280, 800, false, "/p/pinecrest/production/stop",
		func(w *browse.Window) { w.See("Who has it").See("delivered to 7 of 7") }},
	{"stop-phone", 390, 844, false, "/p/pinecrest/production/stop",
		func(w *browse.Window) { w.See("Live in production") }},
	{"flag-rule", 1280, 1250, false, "/p/pinecrest/production/flags/one-touch-open", func(w *browse.Window) {
		w.See("First sites").Click("edit First sites").Click("only some").Fill("condition as text",
			`version(app_version) >= version("7.0.0") && !inSegment("old-firmware")`).Fill("share of on in percent",
			"30").See("one-touch-open: moves").See("values of").See("app_version is version")
	}},
	{"segments", 1280, 800, false, "/p/pinecrest/production/population",
		func(w *browse.Window) { w.See("pilot-sites").See("Recently seen") }},
	{"release", 1280, 1000, false, "/p/pinecrest/releases",
		func(w *browse.Window) { w.Click("one-touch-open").See("What it watches").See("decisions by variant") }},
	{"release-harm", 1280, 1000, false, "/p/pinecrest/releases", func(w *browse.Window) {
		w.Click("one-touch-open").See("What it watches").Click("the one before").See("Rolled back at")
	}},
	{"metric", 1280, 800, false, "/p/pinecrest/production/usage/metrics?metric=door-open-failed",
		func(w *browse.Window) { w.See("By version of the application").See("door 2.3.1") }},
	{"proposal", 1280, 800, false, "/p/pinecrest/proposals",
		func(w *browse.Window) { w.Click("Handover photo for our own people").See("by Depot crews first") }},
	{"bundle", 1280, 800, false, "/p/pinecrest/bundles/opening", func(w *browse.Window) {
		w.See("What a recipient meets").Click("Promote to ...").See("rules and the end").Click("production").See("Then: ")
	}},
	{"usage", 1280, 900, false, "/p/pinecrest/production/usage?flag=arrival-estimate",
		func(w *browse.Window) { w.See("By application").Gone("reading the chart") }},
	{"processes", 1280, 800, false, "/p/pinecrest/production/usage/processes",
		func(w *browse.Window) { w.See("north-yard") }},
	{"calendar", 1280, 800, false, "/p/pinecrest/calendar",
		func(w *browse.Window) { w.See("production is frozen: the holidays") }},
	{"desk", 1280, 800, false, "{desk}", func(w *browse.Window) {
		w.Choose("The caller is", "recipient-18, coast, plus plan").See("Chilled compartments").See(
			"by the newest answers")
	}},
	{"outpost", 1280, 800, false, "{outpost}",
		func(w *browse.Window) { w.See("pinecrest/production").See("connected") }},
}

func run(dir, demo, only string, every bool) error {
	var d struct{ URL, Password, Desk, Page string }
	raw, err := os.ReadFile(demo)
	if err != nil {
		return fmt.Errorf("start the demo first: %w", err)
	}
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	b, err := browse.Start()
	if err != nil {
		return err
	}
	defer b.Close()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if every {
		return all(dir, b, d.URL, d.Password, only)
	}
	for i, p := range pictures {
		if only != "" && p.name != only {
			continue
		}
		if only == "" && i > 8 {
			time.Sleep(6 * time.Second) // the service takes ten sign-ins a minute
		}
		p.path = strings.NewReplacer("{desk}", d.Desk, "{outpost}", d.Page).Replace(p.path)
		if err := take(b, p, d.URL, d.Password, dir); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		fmt.Println(p.name)
	}
	return nil
}

func take(b *browse.Browser, p picture, url, password, dir string) error {
	w, err := b.Window(p.width, p.height)
	if err != nil {
		return err
	}
	defer w.Close()
	if p.dark {
		w.Dark()
	}
	if strings.HasPrefix(p.path, "http") {
		p.do(w.Go(p.path))
	} else {
		w.Go(url+"/sign-in").Fill("E-mail", "ida.holm@pinecrest.example").Fill("Password",
			password).Click("Sign in").See("Board")
		p.do(w.Go(url + p.path))
	}
	raw, err := w.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, p.name+".png"), raw, 0o644)
}
