package greenlever

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// TB is what a double needs of a test: a *testing.T, a *testing.B or the like.
type TB interface {
	Helper()
	Fatalf(format string, args ...any)
}

// Double stands for a client in tests: it gives the values that it was told, and says how
// often it was asked. It needs no service, no file and no goroutine.
//
//	flags := greenlever.NewDouble(t, map[string]any{"one-touch-open": true})
//	door := NewDoor(flags.Client)
type Double struct {
	*Client
	t      TB
	mu     sync.Mutex
	values map[string]any
	asked  map[string]int
}

// DoubleFlag is what a double gives of a flag, where one value for all is not enough.
type DoubleFlag struct {
	Variants map[string]any    // the values, by the names of the variants
	Gives    string            // the variant of every unit
	To       map[string]string // the variant of some units, by their keys
}

// NewDouble makes a double. A value is a bool, a string, a number, anything that is
// written as a JSON object, or a [DoubleFlag]; one that is none of these fails the test.
func NewDouble(t TB, values map[string]any) *Double {
	t.Helper()
	d := &Double{t: t, values: map[string]any{}, asked: map[string]int{}}
	d.Client = &Client{log: slog.New(slog.DiscardHandler), changed: make(chan struct{}), nudge: make(chan struct{}, 1),
		disk: &disk{}}
	d.Client.options.File = "double"
	d.Client.cancel = func() {}
	d.Client.decided = d.decided
	for key, v := range values {
		d.values[key] = v
	}
	if err := d.put(); err != nil {
		t.Fatalf("%v", err)
	}
	return d
}

// Set changes what a flag gives; other flags stay as they are. A value that is none fails the test,
// and nothing is changed.
func (d *Double) Set(key string, value any) {
	d.t.Helper()
	d.mu.Lock()
	before, had := d.values[key]
	d.values[key] = value
	d.mu.Unlock()
	if err := d.put(); err != nil {
		d.mu.Lock()
		if delete(d.values, key); had {
			d.values[key] = before
		}
		d.mu.Unlock()
		d.t.Fatalf("%v", err)
	}
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
	rs := &flag.Ruleset{Flags: map[string]json.RawMessage{}, Segments: map[string]json.RawMessage{}}
	for key, v := range d.values {
		of, ok := v.(DoubleFlag)
		if !ok {
			of = DoubleFlag{Variants: map[string]any{"double": v}, Gives: "double"}
		}
		doc, err := of.document(key)
		if err == nil {
			rs.Flags[key], err = json.Marshal(doc)
		}
		if err != nil {
			return fmt.Errorf("greenlever: what the double gives of %s: %w", key, err)
		}
	}
	d.Client.set(rs, FromFile)
	return nil
}

func (of *DoubleFlag) document(key string) (*flag.Document, error) {
	doc := &flag.Document{Key: key, Variants: map[string]json.RawMessage{}, Visible: true, Lever: flag.On,
		Resting: of.Gives, End: flag.Gives{Variant: of.Gives}}
	for name, v := range of.Variants {
		raw, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		kind := slices.IndexFunc(flag.Types(), func(t flag.Type) bool { return flag.CheckValue(t, raw) == "" })
		switch {
		case kind < 0:
			return nil, fmt.Errorf("the value is %s: use a boolean, a string, a number, or what is written as a "+
				"JSON object", raw)
		case doc.Type != "" && doc.Type != flag.Types()[kind]:
			return nil, errors.New("its values are of several types")
		}
		doc.Type, doc.Variants[name] = flag.Types()[kind], raw
	}
	units := map[string][]string{}
	for unit, variant := range of.To {
		units[variant] = append(units[variant], unit)
	}
	for _, variant := range slices.Sorted(maps.Keys(units)) {
		doc.Rules = append(doc.Rules, flag.Rule{ID: variant, Name: variant, Gives: flag.Gives{Variant: variant},
			When: &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute, Text: units[variant]}})
	}
	for variant := range units {
		if doc.Variants[variant] == nil {
			return nil, fmt.Errorf("there is no variant %s", variant)
		}
	}
	if doc.Variants[of.Gives] == nil {
		return nil, fmt.Errorf("there is no variant %q to give to every unit", of.Gives)
	}
	return doc, nil
}

func (d *Double) decided(_ context.Context, _ Context, a Answer) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked[a.Flag]++
}
