package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
)

// benchStart measures the start of a client with 10,000 flags against the decoding of its
// snapshot.
func benchStart(ctx context.Context, rounds int) ([]row, error) {
	dir, err := os.MkdirTemp("", "gl-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	snap := flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1, Segments: []json.RawMessage{},
		Stops: []flag.Stop{}}
	for i := range 10_000 {
		snap.Flags = append(snap.Flags,
			json.RawMessage(
				fmt.Sprintf(
					`{"key":"flag-%d","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off",`+
						`"rules":[{"id":"r1","name":"Crews","when":{"all":[{"test":"string.one-of","attribute":"site.region","text":["north","coast"]},{"test":"number.at-least","attribute":"crew_size","numbers":[%d]}]},"gives":{"variant":"on"}}],`+
						`"end":{"shares":{"by":["targetingKey"],"salt":"salt-%d","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[[0,80000]]},{"variant":"off","share":920000,"ranges":[[80000,1000000]]}]}}}`, i, i%9, i)))
	}
	raw, err := json.Marshal(snap)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "flags.json")
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		return nil, err
	}
	var failed error
	ours := func() float64 {
		started := time.Now()
		c, err := greenlever.Open(ctx, greenlever.Options{File: file, Logger: quiet})
		took := time.Since(started)
		if err != nil {
			failed = err
			return 1
		}
		if a := c.Answer(context.Background(), "flag-9999", greenlever.Unit("x")); a.Variant == "" {
			failed = fmt.Errorf("the client answers %+v", a)
		}
		_ = c.Close()
		return took.Seconds() * 1000
	}
	floor := func() float64 {
		started := time.Now()
		var all struct {
			Flags    []flag.Document
			Segments []flag.Segment
		}
		read, err := os.ReadFile(file)
		if err == nil {
			err = json.Unmarshal(read, &all)
		}
		failed = firstError(failed, err)
		return time.Since(started).Seconds() * 1000
	}
	o, f, ratio := inTurn(max(7, rounds/2), ours, floor)
	return []row{{what: "start of a client with 10,000 flags", ours: fmt.Sprintf("%.0f ms", o),
		floor: fmt.Sprintf("%.0f ms", f), ratio: ratio, atMost: 1.5, note: fmt.Sprintf("%.1f MB of JSON",
			float64(len(raw))/1e6)}}, failed
}
