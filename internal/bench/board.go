package main

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

// benchBoard measures the console at 2,000 flags in 20 environments: what its Board weighs in the browser,
// and how long it takes to find a flag and to open the palette.
func benchBoard(ctx context.Context, rounds int) ([]row, error) {
	const flags, environments = 2_000, 20
	s, err := newService(ctx, func(c *server.Config) { c.Limits = web.DefaultLimits(); c.Limits.SignIns = 10_000 })
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, flags); err != nil {
		return nil, err
	}
	for i := range environments - 1 {
		if err := s.call("POST", "/projects/pinecrest/environments", 0, object{"key": fmt.Sprintf("site-%d", i)},
			nil); err != nil {
			return nil, err
		}
	}
	b, err := browse.Start()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	w, err := b.Window(1280, 800)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	s.enter(w)
	before, err := w.ScriptTime() // it is counted from now on
	if err != nil {
		return nil, err
	}
	w.Go(s.url() + "/p/pinecrest").See("2,000 flags")
	var board struct {
		Nodes    int
		Heap     float64
		Script   float64 // seconds
		Requests int
		Bytes    float64
	}
	said := w.Eval(`JSON.stringify({Nodes: document.querySelectorAll("*").length, Heap: performance.memory.usedJSHeapSize,
		Requests: performance.getEntriesByType("resource").filter((e) => e.name.includes("/api/")).length,
		Bytes: performance.getEntriesByType("resource").filter((e) => e.name.includes("/api/")).reduce((s, e) => s + e.transferSize, 0)})`)
	if w.Err() != nil {
		return nil, w.Err()
	}
	if err := json.Unmarshal([]byte(said), &board); err != nil {
		return nil, err
	}
	script, err := w.ScriptTime()
	if err != nil {
		return nil, err
	}
	// From a key to the flags that it finds; from the keys of the palette to its flags.
	var finds, opens []float64
	for i := range rounds {
		took, err := since(w, fmt.Sprintf(`flag-%d`, 1_100+i))
		if err != nil {
			return nil, err
		}
		finds = append(finds, took)
	}
	w.Press("Escape").Go(s.url() + "/p/pinecrest").See("2,000 flags")
	for range rounds {
		took, err := opened(w)
		if err != nil {
			return nil, err
		}
		opens = append(opens, took)
	}
	view, err := s.againstBare(b, rounds, "2,000 flags")
	if err != nil {
		return nil, err
	}
	bound := func(what string, value float64, unit string, most float64) row {
		return row{what: "2,000 flags x 20: " + what, ours: fmt.Sprintf("%.0f %s", value, unit),
			floor: fmt.Sprintf("%.0f %s", most, unit), ratio: value / most, atMost: 1}
	}
	return []row{
		view.row("2,000 flags x 20: until the Board is seen"),
		bound("script until the Board is seen", 1000*(script-before), "ms", 1000),
		bound("nodes of the Board", float64(board.Nodes), "nodes", 3_000),
		bound("heap", board.Heap/1e6, "MB", 60),
		bound("from a key to what it finds", median(finds), "ms", 100),
		bound("from Ctrl K to the palette's flags", median(opens), "ms", 100),
		bound("requests of the first view", float64(board.Requests), "", 12),
		bound("bytes of the first view's data", board.Bytes/1000, "KB", 60),
	}, w.Err()
}

// watched has the page note when something stands on it: from the next key on, in milliseconds.
const watched = `(() => {
	const wanted = %q;
	window.seenAfter = 0;
	const is = () => [...document.querySelectorAll(%q)].some((e) => e.textContent.trim().startsWith(wanted));
	addEventListener("keydown", () => {
		const begun = performance.now();
		const look = () => (is() ? (window.seenAfter = performance.now() - begun) : requestAnimationFrame(look));
		look();
	}, { once: true, capture: true });
	return "";
})()`

func noted(w *browse.Window) (float64, error) {
	for range 500 {
		v, err := strconv.ParseFloat(w.Eval("String(window.seenAfter)"), 64)
		if err != nil || w.Err() != nil {
			return 0, fmt.Errorf("%w %w", err, w.Err())
		}
		if v > 0 {
			return v, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return 0, fmt.Errorf("it never came")
}

// since is how long it takes from the last key of what is looked for to the flag.
func since(w *browse.Window, key string) (float64, error) {
	w.Fill("find flags", key[:len(key)-1])
	w.Eval(fmt.Sprintf(watched, key, "[role=rowheader] .font-mono:only-child, [role=row]:nth-child(1) "+
		"[role=rowheader] .font-mono"))
	w.Press(key[len(key)-1:])
	return noted(w)
}

// opened is how long it takes from the keys of the palette to the flags in it.
func opened(w *browse.Window) (float64, error) {
	w.Eval(fmt.Sprintf(watched, "flag-", "[role=dialog] [role=option]"))
	w.Press("Ctrl+k")
	took, err := noted(w)
	w.Press("Escape").Gone("an environment")
	return took, err
}
