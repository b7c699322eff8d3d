package reminders

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// place is a project with a flag that should be gone, and a freeze that ends.
type place struct{ thaws time.Time }

func (place) Projects(context.Context) ([]app.Project, error) { return []app.Project{{ID: 1}}, nil }

func (p place) Environments(context.Context, int64) ([]app.Environment, error) {
	return []app.Environment{{Key: "production", Freezes: app.Freezes{{ID: "f", Reason: "fair", From: 1,
		To: p.thaws.UnixMilli()}}}}, nil
}

func (place) Definitions(context.Context, int64) ([]app.Definition, error) {
	return []app.Definition{{Key: "doors", GoneBy: "2026-12-01"}, {Key: "lasting", GoneBy: "stays"}}, nil
}

// However often it is looked, each is told of once, although results of requests are forgotten after a day.
func TestToldOnce(t *testing.T) {
	now := time.Date(2026, 11, 29, 7, 0, 0, 0, time.UTC)
	told, known := map[string]int{}, map[string]time.Time{}
	s := &Service{Records: place{time.Date(2026, 12, 3, 18, 0, 0, 0, time.UTC)}, Now: func() time.Time { return now },
		Apply: func(_ context.Context, r commit.Request, all ...commit.Change) (json.RawMessage, error) {
			if at, is := known[r.ID]; is && now.Sub(at) <= 24*time.Hour {
				return nil, nil
			}
			known[r.ID] = now
			told[all[0].Of]++
			return nil, nil
		}}
	for range 7 * 24 * 12 {
		if err := s.Tell(context.Background()); err != nil {
			t.Fatal(err)
		}
		now = now.Add(5 * time.Minute)
	}
	if len(told) != 2 || told["doors"] != 1 || told["production"] != 1 {
		t.Errorf("%v", told)
	}
}
