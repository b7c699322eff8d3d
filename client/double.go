package greenlever

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"

	"greenlever.example/core/flag"
)

// Double stands for a client in tests: it gives the values that it was told, and says how
// often it was asked. It needs no service, no file and no goroutine.
//
//	flags, err := greenlever.NewDouble(map[string]any{"one-touch-open": true})
//	door := NewDoor(flags.Client)
type Double struct {
	*Client
	mu     sync.Mutex
	values map[string]any
	asked  map[string]int
}

// NewDouble makes a double. A value is a bool, a string, a number or anything that is
// written as a JSON object; the error names one that is none of these.
func NewDouble(values map[string]any) (*Double, error) {
	d := &Double{values: map[string]any{}, asked: map[string]int{}}
	d.Client = &Client{log: slog.New(slog.DiscardHandler), changed: make(chan struct{}), nudge: make(chan struct{}, 1), disk: &disk{}}
	d.Client.options.File = "double"
	d.Client.cancel = func() {}
	d.Client.decided = d.decided
	for key, v := range values {
		d.values[key] = v
	}
	return d, d.put()
}

// Set changes what a flag gives; other flags stay as they are.
func (d *Double) Set(key string, value any) error {
	d.mu.Lock()
	before, had := d.values[key]
	d.values[key] = value
	d.mu.Unlock()
	err := d.put()
	if err != nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		if delete(d.values, key); had {
			d.values[key] = before
		}
	}
	return err
}

// Asked says how often a flag was asked for.
func (d *Double) Asked(key string) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asked[key]
}

func (d *Double) put() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	rs := &flag.Ruleset{Flags: map[string]json.RawMessage{}}
	for key, v := range d.values {
		raw, err := json.Marshal(v)
		if err != nil {
			return fmt.Errorf("greenlever: the value of %s: %w", key, err)
		}
		kind := flag.Type("")
		for _, t := range flag.Types() {
			if flag.CheckValue(t, raw) == "" {
				kind = t
				break
			}
		}
		if kind == "" {
			return fmt.Errorf("greenlever: the value of %s is %s: use a boolean, a string, a number, or what is written as a JSON object", key, raw)
		}
		doc := flag.Document{Key: key, Type: kind, Variants: map[string]json.RawMessage{"double": raw}, Visible: true, Lever: flag.On, Resting: "double", End: flag.Gives{Variant: "double"}}
		if rs.Flags[key], err = json.Marshal(doc); err != nil {
			return fmt.Errorf("greenlever: the value of %s: %w", key, err)
		}
	}
	d.Client.set(rs, FromFile)
	return nil
}

func (d *Double) decided(_ context.Context, _ Context, a Answer) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked[a.Flag]++
}
