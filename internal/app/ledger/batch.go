package ledger

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/evidence"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Batch are measurements as anybody may send them, with an access key that may.
type Batch struct {
	// Batch tells it from others: sent again, it counts once. Without it each event should have an id.
	Batch       string  `json:"batch,omitempty"`
	Application string  `json:"application,omitempty"` // that it measured, and its version
	Version     string  `json:"version,omitempty"`
	Events      []Event `json:"events"`
}

// Event is one measurement of one unit.
type Event struct {
	Metric string `json:"metric"`
	// Context is what is known of the unit, as flags are asked with it; only the key and what shares are drawn by is
	// used.
	Context json.RawMessage `json:"context"`
	// Value is a number, or of a rate true or false.
	Value json.RawMessage `json:"value"`
	// At is when it happened, in Unix milliseconds or as RFC 3339; absent: now.
	At json.RawMessage `json:"at,omitempty"`
	ID string          `json:"id,omitempty"`
}

// Told is what became of a batch.
type Told struct {
	Taken   bool      `json:"taken"`  // false: it was taken before
	Events  int       `json:"events"` // that were taken
	Refused []Refused `json:"refused,omitempty"`
}

// Refused are events that were not taken, for one cause.
type Refused struct {
	Why   string `json:"why"`
	Count int    `json:"count"`
	Event int    `json:"event"` // the place of the first one, from 0
}

// MaxEvents is how many events a batch takes.
const MaxEvents = 5_000

// most causes that are told apart.
const mostCauses = 20

// TakeBatch takes a batch, each event that can be taken, and waits until it is in the records.
func (s *Service) TakeBatch(ctx context.Context, environment int64, key string, in *Batch, size int) (*Told, error) {
	switch {
	case app.CheckText(in.Batch, 0, 200) != "":
		return nil, app.InvalidField("batch", "must be at most 200 bytes of plain text")
	case app.CheckText(in.Application, 0, 100) != "":
		return nil, app.InvalidField("application", "must be at most 100 bytes of plain text")
	case app.CheckText(in.Version, 0, 100) != "":
		return nil, app.InvalidField("version", "must be at most 100 bytes of plain text")
	case len(in.Events) == 0 || len(in.Events) > MaxEvents:
		return nil, app.InvalidField("events", "has %d events, takes 1 to %d", len(in.Events), MaxEvents)
	}
	metrics, err := s.Metrics(ctx, environment)
	if err != nil {
		return nil, err
	}
	r := &wire.Report{}
	r.Application, r.Version = in.Application, in.Version
	told := &Told{}
	sums := map[string]*wire.MeasureLine{}
	now := s.Now().UnixMilli()
	for i := range in.Events {
		line, why := in.Events[i].line(metrics, now)
		if why != "" {
			told.refuse(why, i)
			continue
		}
		r.Events = append(r.Events, *line)
		m := sums[line.Metric]
		if m == nil {
			m = &wire.MeasureLine{Metric: line.Metric}
			sums[line.Metric] = m
		}
		m.Add(line.Value)
	}
	told.Events = len(r.Events)
	for _, m := range sums {
		r.Measures = append(r.Measures, *m)
	}
	if told.Events == 0 {
		return told, nil
	}
	id, source := "", rand.Text()
	if in.Batch != "" {
		id = key + "/" + in.Batch
		source = id
	}
	brought, err := s.Look(ctx, environment, r, source)
	if err != nil {
		return nil, err
	}
	told.Taken, err = s.Batches.Take(ctx, environment, app.Batch{ID: id, Evidence: brought}, size)
	return told, err
}

func (t *Told) refuse(why string, at int) {
	i := slices.IndexFunc(t.Refused, func(r Refused) bool { return r.Why == why })
	if i < 0 && len(t.Refused) >= mostCauses {
		i = len(t.Refused) - 1
	}
	if i < 0 {
		t.Refused = append(t.Refused, Refused{Why: why, Event: at})
		i = len(t.Refused) - 1
	}
	t.Refused[i].Count++
}

// line reads an event, and says what is wrong with it.
func (e *Event) line(metrics []evidence.Metric, now int64) (*wire.EventLine, string) {
	at := slices.IndexFunc(metrics, func(m evidence.Metric) bool { return m.Key == e.Metric })
	if at < 0 {
		return nil, fmt.Sprintf("metric: there is no metric %.100q in this project", e.Metric)
	}
	out := &wire.EventLine{Metric: e.Metric, ID: e.ID, At: now, Units: map[string]string{}}
	if app.CheckText(e.ID, 0, maxID) != "" {
		return nil, fmt.Sprintf("id: must be at most %d bytes of plain text", maxID)
	}
	var did bool
	switch {
	case json.Unmarshal(e.Value, &did) == nil && string(e.Value) != "null":
		if did {
			out.Value = 1
		}
		if metrics[at].Kind != evidence.Rate {
			return nil, "value: must be a number, since the metric is no rate"
		}
	case len(e.Value) == 0 || string(e.Value) == "null" || json.Unmarshal(e.Value, &out.Value) != nil:
		return nil, "value: must be a number, or true or false of a rate"
	}
	if mend := metrics[at].Takes(out.Value); mend != "" {
		return nil, "value: " + mend
	}
	if why := e.time(out, now); why != "" {
		return nil, why
	}
	c, err := condition.ParseContext(e.Context)
	if err != nil {
		return nil, "context: " + err.Error()
	}
	c.Share(func(name, key string) {
		if len(key) <= decide.MaxUnit {
			out.Units[name] = key
		}
	})
	if len(out.Units) == 0 {
		return nil, `context: must say of which unit it is, such as {"targetingKey":"recipient-17"}`
	}
	return out, ""
}

func (e *Event) time(out *wire.EventLine, now int64) string {
	if len(e.At) == 0 || string(e.At) == "null" {
		return ""
	}
	var text string
	if json.Unmarshal(e.At, &text) == nil {
		at, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return "at: must be Unix milliseconds, or RFC 3339 such as 2026-12-01T08:00:00+01:00"
		}
		out.At = at.UnixMilli()
	} else if json.Unmarshal(e.At, &out.At) != nil {
		return "at: must be Unix milliseconds, or RFC 3339 such as 2026-12-01T08:00:00+01:00"
	}
	switch {
	case out.At > now+skew:
		return "at: lies in the future: a clock is wrong, or the unit of time"
	case out.At < now-oldest:
		return "at: is more than a day ago: units whose outcome has closed count no more"
	}
	return ""
}
