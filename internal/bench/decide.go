package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

const (
	flags = 1_000
	units = 1_000_000
	calls = 1 << 18 // in one measurement
)

// corpus is what the decisions are drawn from.
type corpus struct {
	keys     []string // of units, 36 bytes each
	contexts []greenlever.Context
	flag     []int32 // of each call
	unit     []int32
}

var attributes = []greenlever.Name{greenlever.Named("site.region"), greenlever.Named("site.plan"), greenlever.Named("role"), greenlever.Named("network"), greenlever.Named("country")}

func newCorpus() *corpus {
	rng := rand.New(rand.NewPCG(1, 2))
	c := &corpus{keys: make([]string, units), contexts: make([]greenlever.Context, units), flag: make([]int32, calls), unit: make([]int32, calls)}
	values := []string{"alpha", "bravo", "cedar", "delta", "ember", "fjord", "grove", "heath"}
	for i := range c.keys {
		c.keys[i] = fmt.Sprintf("%08x-%04x-%04x-%04x-%012x", rng.Uint32(), rng.Uint32N(1<<16), rng.Uint32N(1<<16), rng.Uint32N(1<<16), rng.Uint64N(1<<48))
		list := make([]greenlever.Attribute, len(attributes))
		for j, a := range attributes {
			list[j] = a.Text(values[rng.IntN(len(values))])
		}
		c.contexts[i] = greenlever.Unit(c.keys[i], list...)
	}
	for i := range c.flag {
		c.flag[i], c.unit[i] = rng.Int32N(flags), rng.Int32N(units)
	}
	return c
}

// document makes the flags of one row.
func document(kind string, i int) flag.Document {
	d := flag.Document{Key: fmt.Sprintf("%s-flag-%d", kind, i), Type: flag.Boolean, Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "on"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	if kind == "plain" {
		return d
	}
	s := &flag.Shares{By: []string{condition.KeyAttribute}, Salt: fmt.Sprint(kind, i), Hash: bucket.Scheme, Parts: []flag.Part{{Variant: "on", Share: 300_000}, {Variant: "off", Share: 700_000}}}
	if err := s.Arrange(nil, "off"); err != nil {
		panic(err)
	}
	d.End = flag.Gives{Shares: s}
	if kind == "equal" {
		for j, a := range []string{"site.region", "site.plan", "role", "network", "country"} {
			value := []string{"alpha", "bravo", "cedar", "delta", "ember", "fjord", "grove", "heath"}[(i+j)%8]
			d.Rules = append(d.Rules, flag.Rule{ID: fmt.Sprint(j), Name: fmt.Sprint("rule ", j), Gives: flag.Gives{Variant: "on"},
				When: &condition.Node{Test: "string.equals", Attribute: a, Text: []string{value}}})
		}
	}
	return d
}

// follow starts a client in its default configuration, with a feed to follow and reports
// that are taken.
func follow(kind string) (*greenlever.Client, []string, func(), error) {
	snap := flag.Snapshot{Format: flag.Format, Epoch: 1, Revision: 1}
	var keys []string
	for i := range flags {
		d := document(kind, i)
		raw, err := json.Marshal(d)
		if err != nil {
			return nil, nil, nil, err
		}
		snap.Flags, keys = append(snap.Flags, raw), append(keys, d.Key)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/follow/v1/snapshot", func(w http.ResponseWriter, _ *http.Request) { _ = json.NewEncoder(w).Encode(snap) })
	mux.HandleFunc("/follow/v1/report", func(w http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) })
	mux.HandleFunc("/follow/v1/feed", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	srv := httptest.NewServer(mux)
	c, err := greenlever.Open(context.Background(), greenlever.Options{URL: srv.URL, Key: "gls_bench", Dir: "/nonexistent", Wait: 10 * time.Second, Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return nil, nil, nil, err
	}
	if c.State().Source != greenlever.FromService {
		return nil, nil, nil, fmt.Errorf("the client did not follow: %+v", c.State())
	}
	return c, keys, func() { c.Close(); srv.CloseClientConnections(); srv.Close() }, nil
}

// entry is what the floor looks up: as little as an answer could be.
type entry struct{ on bool }

// The floors are calls like ours: they are handed the flag's key and the unit's context,
// and do nothing with them but what no answer could do without.

//go:noinline
func lookUp(table *atomic.Pointer[map[string]*entry], key string, _ greenlever.Context) bool {
	return (*table.Load())[key].on
}

//go:noinline
func lookUpAndHash(table *atomic.Pointer[map[string]*entry], key string, unit greenlever.Context, seed uint32) uint32 {
	h := bucket.Murmur3(unit.Key(), seed)
	if (*table.Load())[key].on {
		h++
	}
	return h
}

var sink atomic.Int64

func nanoseconds(n int, do func() int64) float64 {
	started := time.Now()
	sink.Add(do())
	return float64(time.Since(started).Nanoseconds()) / float64(n)
}

func benchDecide(_ context.Context, rounds int) ([]row, error) {
	c := newCorpus()
	var rows []row
	for _, kind := range []string{"plain", "shares", "equal"} {
		client, keys, end, err := follow(kind)
		if err != nil {
			return nil, err
		}
		more := decideRows(c, kind, client, keys, rounds)
		rows = append(rows, more...)
		end()
		runtime.GC()
	}
	// In the order of the table.
	return []row{rows[0], rows[1], rows[2], rows[3], rows[4]}, nil
}

func decideRows(c *corpus, kind string, client *greenlever.Client, keys []string, rounds int) []row {
	table := make(map[string]*entry, flags)
	for i, k := range keys {
		table[k] = &entry{i%2 == 0}
	}
	var pointer atomic.Pointer[map[string]*entry]
	pointer.Store(&table)
	names := make([]string, calls) // of each call, so that both sides find the key alike
	for i, f := range c.flag {
		names[i] = keys[f]
	}
	seed := bucket.Seed("floor")
	typed := func() float64 {
		return nanoseconds(calls, func() (n int64) {
			for i, name := range names {
				if client.Bool(name, c.contexts[c.unit[i]], false) {
					n++
				}
			}
			return n
		})
	}
	lookup := func() float64 {
		return nanoseconds(calls, func() (n int64) {
			for i, name := range names {
				if lookUp(&pointer, name, c.contexts[c.unit[i]]) {
					n++
				}
			}
			return n
		})
	}
	hashed := func() float64 {
		return nanoseconds(calls, func() (n int64) {
			for i, name := range names {
				n += int64(lookUpAndHash(&pointer, name, c.contexts[c.unit[i]], seed) & 1)
			}
			return n
		})
	}
	result := func(what string, ours, floor func() float64, bar float64) row {
		o, f, ratio := inTurn(rounds, ours, floor)
		return row{what: what, ours: fmt.Sprintf("%.1f ns", o), floor: fmt.Sprintf("%.1f ns", f), ratio: ratio, atMost: bar}
	}
	allocations := func(r row, do func()) row {
		r.note = fmt.Sprintf("%.0f allocations", testing.AllocsPerRun(1000, do))
		return r
	}
	switch kind {
	case "plain":
		first := allocations(result("boolean flag, no rules, typed call", typed, lookup, 1.5), func() { client.Bool(keys[7], c.contexts[9], false) })
		answer := func() float64 {
			return nanoseconds(calls, func() (n int64) {
				for i, name := range names {
					a := client.Answer(name, c.contexts[c.unit[i]])
					n += int64(len(a.Variant))
				}
				return n
			})
		}
		return []row{first, allocations(result("the same, full answer", answer, lookup, 2.5), func() { client.Answer(keys[7], c.contexts[9]) })}
	case "shares":
		return []row{allocations(result("shares only, typed call", typed, hashed, 1.6), func() { client.Bool(keys[7], c.contexts[9], false) })}
	}
	equal := allocations(result("5 equality rules + shares", typed, hashed, 3), func() { client.Bool(keys[7], c.contexts[9], false) })
	return []row{equal, cores(typed, rounds)}
}

// cores measures calls a second on two processors against one.
func cores(one func() float64, rounds int) row {
	two := func() float64 {
		var both sync.WaitGroup
		started := time.Now()
		for range 2 {
			both.Go(func() { one() })
		}
		both.Wait()
		return float64(time.Since(started).Nanoseconds()) / (2 * calls)
	}
	o, f, ratio := inTurn(rounds, two, one)
	return row{what: "two cores against one, counting on", ours: fmt.Sprintf("%.1f ns", o), floor: fmt.Sprintf("%.1f ns", f), ratio: 1 / ratio, atLeast: 1.8}
}
