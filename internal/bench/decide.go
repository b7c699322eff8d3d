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
	listed = 8 // flags with a list, where all of them would not fit in memory
	flags  = 1_000
	units  = 1_000_000
	calls  = 1 << 18 // in one measurement
)

// corpus is what the decisions are drawn from.
type corpus struct {
	keys     []string // of units, 36 bytes each
	contexts []greenlever.Context
	flag     []int32 // of each call
	unit     []int32
}

var (
	attributes = []greenlever.Name{greenlever.Named("site.region"), greenlever.Named("site.plan"),
		greenlever.Named("role"), greenlever.Named("network"), greenlever.Named("country")}
	siteID = greenlever.Named("site.id")
	values = []string{"alpha", "bravo", "cedar", "delta", "ember", "fjord", "grove", "heath"}
)

func newCorpus() *corpus {
	rng := rand.New(rand.NewPCG(1, 2))
	c := &corpus{keys: make([]string, units), contexts: make([]greenlever.Context, units), flag: make([]int32, calls),
		unit: make([]int32, calls)}
	for i := range c.keys {
		c.keys[i] = fmt.Sprintf("%08x-%04x-%04x-%04x-%012x", rng.Uint32(), rng.Uint32N(1<<16), rng.Uint32N(1<<16),
			rng.Uint32N(1<<16), rng.Uint64N(1<<48))
	}
	for i := range c.flag {
		c.flag[i], c.unit[i] = rng.Int32N(flags), rng.Int32N(units)
	}
	return c
}

// prepare gives the units the attributes that a kind of flags asks for. Of every list, half
// of the units are inside.
func (c *corpus) prepare(kind string) {
	rng := rand.New(rand.NewPCG(3, 4))
	site := func(of int) greenlever.Attribute { return siteID.String(fmt.Sprint("site-", rng.IntN(of))) }
	for i, key := range c.keys {
		switch kind {
		case "mixed":
			c.contexts[i] = greenlever.Unit(key, site(2_000), greenlever.String("firmware",
				fmt.Sprintf("%d.%d.%d", 3+rng.IntN(4), rng.IntN(10), rng.IntN(5))),
				greenlever.Int("parcels_this_month", rng.Int64N(40)), greenlever.String("network",
					fmt.Sprintf("10.%d.%d.%d", rng.IntN(40), rng.IntN(256), rng.IntN(256))),
				attributes[0].String(values[rng.IntN(8)]), attributes[2].String(values[rng.IntN(8)]))
		case "ten":
			c.contexts[i] = greenlever.Unit(key, site(20))
		case "many":
			c.contexts[i] = greenlever.Unit(key, site(200_000))
		default:
			list := make([]greenlever.Attribute, len(attributes))
			for j, a := range attributes {
				list[j] = a.String(values[rng.IntN(len(values))])
			}
			c.contexts[i] = greenlever.Unit(key, list...)
		}
	}
}

// sites lists the first n of twice as many.
func sites(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprint("site-", i)
	}
	return out
}

// mixedRules are five rules of different kinds, with the shares of the end behind them.
func mixedRules(i int) []flag.Rule {
	leaf := func(test, attribute string, text ...string) condition.Node {
		return condition.Node{Test: test, Attribute: attribute, Text: text}
	}
	few := condition.Node{Test: "number.at-least", Attribute: "parcels_this_month", Numbers: []float64{36}}
	conditions := []condition.Node{
		{All: []condition.Node{leaf("string.one-of", "site.id", sites(1_000)...), leaf("string.equals", "role",
			values[i%8])}},
		leaf("version.less", "firmware", "3.2.0"),
		few,
		leaf("address.in", "network", "10.7.0.0/16", "10.21.64.0/18", "192.0.2.0/24"),
		{Any: []condition.Node{{All: []condition.Node{leaf("string.equals", "site.region", values[(i+1)%8]),
			{Not: &few}}}, leaf("string.begins", "role", "zz")}},
	}
	rules := make([]flag.Rule, len(conditions))
	for j := range conditions {
		rules[j] = flag.Rule{ID: fmt.Sprint(j), Name: fmt.Sprint("rule ", j), Gives: flag.Gives{Variant: "on"},
			When: &conditions[j]}
	}
	return rules
}

func keyOf(kind string, i int) string { return fmt.Sprintf("%s-flag-%d", kind, i) }

// document makes the flags of one row.
func document(kind string, i int) flag.Document {
	d := flag.Document{Key: keyOf(kind, i), Type: flag.Boolean, Lever: flag.On, Resting: "off",
		End:      flag.Gives{Variant: "on"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	if kind == "plain" {
		return d
	}
	s := &flag.Shares{By: []string{condition.KeyAttribute}, Salt: fmt.Sprint(kind, i), Hash: bucket.Scheme,
		Parts: []flag.Part{{Variant: "on", Share: 300_000}, {Variant: "off", Share: 700_000}}}
	if err := s.Arrange(nil, "off"); err != nil {
		panic(err)
	}
	d.End = flag.Gives{Shares: s}
	switch kind {
	case "mixed":
		d.Rules = mixedRules(i)
	case "ten", "many":
		n := map[string]int{"ten": 10, "many": 100_000}[kind]
		if i < listed {
			d.Rules = []flag.Rule{{ID: "1", Name: "listed", Gives: flag.Gives{Variant: "on"},
				When: &condition.Node{Test: "string.one-of", Attribute: "site.id", Text: sites(n)}}}
		}
	case "texts":
		leaf := func(test string, ignoreCase bool, text ...string) *condition.Node {
			return &condition.Node{Test: test, Attribute: "site.region", IgnoreCase: ignoreCase, Text: text}
		}
		for j, when := range []*condition.Node{leaf("string.equals", true, "ALPHA"), leaf("string.one-of", true,
			"BRAVO", "CEDAR"), leaf("string.begins", true, "DEL"),
			leaf("string.matches", false, "^[e-f][a-z]+$"), leaf("string.matches", true, "^G.*E$")} {
			d.Rules = append(d.Rules, flag.Rule{ID: fmt.Sprint(j), Name: fmt.Sprint("rule ", j),
				Gives: flag.Gives{Variant: "on"}, When: when})
		}
	case "equal":
		for j, a := range []string{"site.region", "site.plan", "role", "network", "country"} {
			value := []string{"alpha", "bravo", "cedar", "delta", "ember", "fjord", "grove", "heath"}[(i+j)%8]
			d.Rules = append(d.Rules, flag.Rule{ID: fmt.Sprint(j), Name: fmt.Sprint("rule ", j),
				Gives: flag.Gives{Variant: "on"},
				When:  &condition.Node{Test: "string.equals", Attribute: a, Text: []string{value}}})
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
	mux.HandleFunc("/follow/v1/snapshot", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(snap)
	})
	mux.HandleFunc("/follow/v1/report", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		// sampling on, as shipped
		_, _ = io.WriteString(w, `{"taken":true,"sampling":{"seed":"5ee0ca7d3ba1f2c9","personal":{},"limits":{}}}`)
	})
	mux.HandleFunc("/follow/v1/feed", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	srv := httptest.NewServer(mux)
	c, err := greenlever.Open(context.Background(), greenlever.Options{URL: srv.URL, Key: "gls_bench",
		Dir: "/nonexistent", Wait: 10 * time.Second, Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
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

//go:noinline
func readSlot(table *atomic.Pointer[[]*entry], slot int32, _ greenlever.Context) bool {
	return (*table.Load())[slot].on
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
	for _, kind := range []string{"plain", "shares", "equal", "texts", "mixed"} {
		if kind == "plain" || kind == "mixed" {
			c.prepare(kind)
		}
		c := c
		if kind == "texts" { // a sample's worth of units, all at work
			few := *c
			few.unit = make([]int32, len(c.unit))
			for i := range few.unit {
				few.unit[i] = c.unit[i] % 1_500
			}
			c = &few
		}
		handles := make([]greenlever.BoolFlag, flags) // programs declare them before they follow
		for i := range handles {
			handles[i] = greenlever.NewBoolFlag(keyOf(kind, i), false)
		}
		client, keys, end, err := follow(kind)
		if err != nil {
			return nil, err
		}
		more := decideRows(c, kind, client, keys, rounds)
		if kind == "plain" {
			more = append(more, handleRow(c, client, handles, rounds))
		}
		rows = append(rows, more...)
		end()
		runtime.GC()
	}
	lists, err := benchLists(c, rounds)
	if err != nil {
		return nil, err
	}
	// In the order of the table.
	return []row{rows[0], rows[1], rows[2], rows[3], rows[4], rows[6], rows[7], lists, rows[5]}, nil
}

// benchLists measures one-of over 100,000 against over 10. Both sides have units of their
// own, since half of them are to be inside each list.
func benchLists(c *corpus, rounds int) (row, error) {
	many := &corpus{keys: c.keys, contexts: make([]greenlever.Context, units), flag: c.flag, unit: c.unit}
	many.prepare("many")
	c.prepare("ten")
	calls := map[string]func() float64{}
	for kind, units := range map[string]*corpus{"ten": c, "many": many} {
		client, keys, end, err := follow(kind)
		if err != nil {
			return row{}, err
		}
		defer end()
		names := make([]string, len(units.flag))
		for i, f := range units.flag {
			names[i] = keys[f%listed]
		}
		calls[kind] = func() float64 {
			return nanoseconds(len(names), func() (n int64) {
				for i, name := range names {
					if client.Bool(context.Background(), name, units.contexts[units.unit[i]], false) {
						n++
					}
				}
				return n
			})
		}
	}
	o, f, ratio := inTurn(rounds, calls["many"], calls["ten"])
	return row{what: "one-of over 100,000 against over 10", ours: fmt.Sprintf("%.1f ns", o),
		floor: fmt.Sprintf("%.1f ns", f), ratio: ratio, atMost: 2.5}, nil
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
				if client.Bool(context.Background(), name, c.contexts[c.unit[i]], false) {
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
		return row{what: what, ours: fmt.Sprintf("%.1f ns", o), floor: fmt.Sprintf("%.1f ns", f), ratio: ratio,
			atMost: bar}
	}
	allocations := func(r row, do func()) row {
		r.note = fmt.Sprintf("%.0f allocations", testing.AllocsPerRun(1000, do))
		return r
	}
	switch kind {
	case "plain":
		first := allocations(result("boolean flag, no rules, typed call", typed, lookup, 1.5),
			func() { client.Bool(context.Background(), keys[7], c.contexts[9], false) })
		answer := func() float64 {
			return nanoseconds(calls, func() (n int64) {
				for i, name := range names {
					a := client.Answer(context.Background(), name, c.contexts[c.unit[i]])
					n += int64(len(a.Variant))
				}
				return n
			})
		}
		return []row{first, allocations(result("the same, full answer", answer, lookup, 2.5),
			func() { client.Answer(context.Background(), keys[7], c.contexts[9]) })}
	case "texts":
		return []row{allocations(result("5 rules ignoring case or by pattern, 1,500 units", typed, hashed, 25),
			func() {
				for _, u := range c.unit[:2_000] {
					client.Bool(context.Background(), keys[7], c.contexts[u], false)
				}
			})}
	case "mixed":
		return []row{allocations(result("5 mixed rules + shares", typed, hashed, 4.5),
			func() { client.Bool(context.Background(), keys[7], c.contexts[9], false) })}
	case "shares":
		return []row{allocations(result("shares only, typed call", typed, hashed, 1.6),
			func() { client.Bool(context.Background(), keys[7], c.contexts[9], false) })}
	}
	equal := allocations(result("5 equality rules + shares", typed, hashed, 3),
		func() { client.Bool(context.Background(), keys[7], c.contexts[9], false) })
	return []row{equal, cores(typed, rounds)}
}

// handleRow measures calls through handles, which programs declare once for each flag.
func handleRow(c *corpus, client *greenlever.Client, handles []greenlever.BoolFlag, rounds int) row {
	slots := make([]*entry, flags)
	for i := range slots {
		slots[i] = &entry{i%2 == 0}
	}
	var pointer atomic.Pointer[[]*entry]
	pointer.Store(&slots)
	called := func() float64 {
		return nanoseconds(calls, func() (n int64) {
			for i, f := range c.flag {
				if handles[f].For(context.Background(), client, c.contexts[c.unit[i]]) {
					n++
				}
			}
			return n
		})
	}
	read := func() float64 {
		return nanoseconds(calls, func() (n int64) {
			for i, f := range c.flag {
				if readSlot(&pointer, f, c.contexts[c.unit[i]]) {
					n++
				}
			}
			return n
		})
	}
	o, f, ratio := inTurn(rounds, called, read)
	return row{what: "a handle's call, no rules", ours: fmt.Sprintf("%.1f ns", o), floor: fmt.Sprintf("%.1f ns", f),
		ratio: ratio, atMost: 3,
		note: fmt.Sprintf("%.0f allocations; floor: an atomic pointer load and a slice read",
			testing.AllocsPerRun(1000, func() { handles[7].For(context.Background(), client, c.contexts[9]) }))}
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
	return row{what: "two cores against one, counting on", ours: fmt.Sprintf("%.1f ns", o),
		floor: fmt.Sprintf("%.1f ns", f), ratio: 1 / ratio, atLeast: 1.8}
}
