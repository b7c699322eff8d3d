package emergency

import (
	"encoding/json"
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/feed"
)

// A place that is read asks the desk for orders, and the desk asks for places: neither waits for the other for ever.
func TestDeskAndHubDoNotWaitForEachOther(t *testing.T) {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	hub := feed.NewHub(nil, log)
	d := &Desk{Hub: hub, Path: filepath.Join(t.TempDir(), "emergency.json"), Now: time.Now, Log: log}
	if err := d.Open(); err != nil {
		t.Fatal(err)
	}
	hub.Held = d.Held
	const many = 3_000
	ended := make(chan bool, 2)
	go func() {
		for i := range many {
			hub.Put(int64(i+1), &flag.Ruleset{Flags: map[string]json.RawMessage{}}, nil)
		}
		ended <- true
	}()
	go func() {
		for range many {
			if err := d.forget(); err != nil {
				t.Error(err)
			}
		}
		ended <- true
	}()
	for range 2 {
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Fatal("they wait for each other")
		}
	}
}
