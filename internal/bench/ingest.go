package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// The load: 89 of 100 events are of units that lie on no side, 10 of units that are exposed, and one exposes a unit
// first.
const (
	perReport   = 500
	openUnits   = 30_000
	ingesters   = 64
	ingestEach  = 6 // reports of each in a round
	overMinutes = time.Minute
)

// measured is what the load is made of.
type measuredLoad struct {
	release   *app.Release
	rule      string
	outside   []string // units on no side
	open      []string
	sequences [ingesters]int64
	key       string
}

// report is a client's report of events.
func (m *measuredLoad) report(worker int, fresh func() string) []byte {
	m.sequences[worker]++
	now := time.Now().UnixMilli()
	r := wire.Report{Status: wire.Status{Instance: fmt.Sprint("door-", worker), Sequence: m.sequences[worker],
		Application: "door", Version: "1"}, Counts: []wire.CountLine{}, Unknown: []wire.UnknownLine{}}
	for i := range perReport {
		n := int(m.sequences[worker])*perReport*ingesters + worker*perReport + i
		unit := m.outside[n%len(m.outside)]
		switch {
		case i%100 == 0:
			unit = fresh()
			r.Exposures = append(r.Exposures, wire.ExposureLine{Flag: "night-batching", Rule: m.rule, Run: 1,
				Unit: unit, At: now})
		case i%10 == 0:
			unit = m.open[n*7%len(m.open)]
		}
		r.Events = append(r.Events, wire.EventLine{Metric: "door-open-failed",
			Units: map[string]string{"targetingKey": unit},
			Value: float64(i % 2), At: now, ID: fmt.Sprint(worker, "-", n)})
	}
	r.Measures = []wire.MeasureLine{{Metric: "door-open-failed", Count: perReport, Bad: perReport / 2,
		Sum: perReport / 2}}
	raw, _ := json.Marshal(&r) // plain values
	return raw
}

// inside gives units that lie on a side of the release, and those that lie on none, from a number on.
func (m *measuredLoad) side(from, n int, inside bool) (out []string) {
	setup, seed := m.release.State.Setup(), bucket.Seed(m.release.State.Plan.Salt)
	for i := from; len(out) < n; i++ {
		unit := fmt.Sprintf("recipient-%d", i)
		if arm, _ := setup.Place(bucket.Of(unit, seed), 0); (arm != evidence.NoArm) == inside {
			out = append(out, unit)
		}
	}
	return out
}

func (s *service) watchedRelease(ctx context.Context) (*measuredLoad, error) {
	const at = "/projects/pinecrest/environments/production/flags/night-batching"
	do := func(method, path string, body, out any, version int64) error {
		return s.ask(ctx, method, path, version, body, out)
	}
	if err := do("POST", "/projects/pinecrest/flags", object{"key": "night-batching", "goneBy": "stays"}, nil,
		0); err != nil {
		return nil, err
	}
	if err := do("PUT", "/projects/pinecrest/metrics/door-open-failed", object{"metric": object{"title": "Failed",
		"kind": "rate", "window": "10m"}}, nil, 0); err != nil {
		return nil, err
	}
	var v struct {
		Document flag.Document
		Version  int64
	}
	if err := do("GET", at, nil, &v, 0); err != nil {
		return nil, err
	}
	v.Document.Lever = flag.On
	if err := do("PUT", at, object{"document": v.Document}, nil, v.Version); err != nil {
		return nil, err
	}
	m := &measuredLoad{key: s.key, release: &app.Release{}}
	if err := do("POST", at+"/releases", object{"stages": []object{{"name": "10 %", "share": 100_000, "least": "1h"},
		{"name": "100 %", "share": 1_000_000}}, "watches": []object{{"metric": "door-open-failed", "onHarm": "tell"}}},
		m.release, 0); err != nil {
		return nil, err
	}
	for m.release.State.Is != stage.Underway {
		if err := do("GET", "/projects/pinecrest/environments/production/releases/"+m.release.ID, nil, m.release,
			0); err != nil {
			return nil, err
		}
	}
	m.rule = m.release.State.Plan.Group(m.release.ID, 0, 1)[0].ID
	m.outside, m.open = m.side(0, 100_000, false), m.side(0, openUnits, true)
	return m, nil
}

// send posts reports and gives how many events a second were answered.
func send(url, key string, reports [][]byte) (perSecond float64, failed int64) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: ingesters}}
	var bad atomic.Int64
	var all sync.WaitGroup
	began := time.Now()
	for w := range ingesters {
		all.Go(func() {
			for i := w; i < len(reports); i += ingesters {
				req, err := http.NewRequest(http.MethodPost, url+"/follow/v1/report", bytes.NewReader(reports[i]))
				if err != nil {
					bad.Add(1)
					continue
				}
				req.Header.Set("Authorization", "Bearer "+key)
				res, err := client.Do(req)
				if err != nil {
					bad.Add(1)
					continue
				}
				if _, _ = io.Copy(io.Discard, res.Body); res.StatusCode != http.StatusOK {
					bad.Add(1)
				}
				res.Body.Close()
			}
		})
	}
	all.Wait()
	return float64(len(reports)*perReport) / time.Since(began).Seconds(), bad.Load()
}

// draining is a handler that reads the body and folds as many values as it holds, which are ready.
func draining() (url string, end func(), err error) {
	e := echo.New()
	var mu sync.Mutex
	sums := map[int]float64{}
	e.POST("/follow/v1/report", func(c *echo.Context) error {
		if _, err := io.ReadAll(c.Request().Body); err != nil {
			return err
		}
		mu.Lock()
		for i := range perReport {
			sums[i] += float64(i & 1)
		}
		mu.Unlock()
		return c.JSONBlob(http.StatusOK, []byte(`{"taken":true}`))
	})
	return serving(e)
}

func benchIngest(ctx context.Context, rounds int) ([]row, error) {
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, 1); err != nil {
		return nil, err
	}
	m, err := s.watchedRelease(ctx)
	if err != nil {
		return nil, err
	}
	next := openUnits * 4
	fresh := func() string {
		next++
		return fmt.Sprintf("fresh-%d", next)
	}
	var first [][]byte // the open units are exposed
	for at := 0; at < len(m.open); at += perReport {
		i := at
		raw := m.report(0, func() string { i++; return m.open[i%len(m.open)] })
		var r wire.Report
		if err := json.Unmarshal(raw, &r); err != nil {
			return nil, err
		}
		r.Events, r.Exposures = nil, nil
		for _, unit := range m.open[at : at+perReport] {
			r.Exposures = append(r.Exposures, wire.ExposureLine{Flag: "night-batching", Rule: m.rule, Run: 1,
				Unit: unit,
				At:   time.Now().UnixMilli()})
		}
		raw, _ = json.Marshal(&r)
		first = append(first, raw)
	}
	if _, failed := send(s.url(), m.key, first); failed > 0 {
		return nil, fmt.Errorf("%d reports were refused", failed)
	}
	floor, end, err := draining()
	if err != nil {
		return nil, err
	}
	defer end()
	made := func(n int) (all [][]byte) {
		for i := range n {
			all = append(all, m.report(i%ingesters, fresh))
		}
		return all
	}
	var failures int64
	ours := func() float64 {
		perSecond, failed := send(s.url(), m.key, made(ingesters*ingestEach))
		failures += failed
		return 1e6 / perSecond
	}
	flat := made(ingesters * ingestEach)
	a, b, ratio := inTurn(min(rounds, 9), ours, func() float64 {
		perSecond, _ := send(floor, m.key, flat)
		return 1e6 / perSecond
	})
	if failures > 0 {
		return nil, fmt.Errorf("%d reports were refused", failures)
	}
	rows := []row{{what: "metric events, reports of 500", ours: fmt.Sprintf("%.2f µs", a),
		floor: fmt.Sprintf("%.2f µs", b),
		ratio: ratio, atMost: 8, note: fmt.Sprintf("(%.0f events a second, in the records when answered)", 1e6/a)}}
	more, err := s.storm(ctx, m, made)
	return append(rows, more...), err
}

// storm sends 50,000 events a second for a minute, as far as the machine can, and looks at stops meanwhile.
func (s *service) storm(ctx context.Context, m *measuredLoad, made func(n int) [][]byte) ([]row, error) {
	const perTick = 10 // reports in a tenth of a second
	idle, err := s.stops(ctx, 20)
	if err != nil {
		return nil, err
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	rowsBefore, err := s.ledgerRows()
	if err != nil {
		return nil, err
	}
	var sent, failed atomic.Int64
	load, done := context.WithTimeout(ctx, overMinutes)
	defer done()
	var busy sync.WaitGroup
	busy.Go(func() {
		tick := time.NewTicker(100 * time.Millisecond)
		defer tick.Stop()
		for load.Err() == nil {
			reports := made(perTick)
			busy.Go(func() {
				_, bad := send(s.url(), m.key, reports)
				sent.Add(perTick * perReport)
				failed.Add(bad)
			})
			select {
			case <-load.Done():
			case <-tick.C:
			}
		}
	})
	under, err := s.stops(ctx, 40)
	busy.Wait()
	runtime.ReadMemStats(&after)
	if err != nil {
		return nil, err
	}
	rowsAfter, err := s.ledgerRows()
	if err != nil {
		return nil, err
	}
	seconds := overMinutes.Seconds()
	return []row{{what: "a stop while metric events arrive, p99", ours: under.String(), floor: idle.String(),
		ratio: float64(under) / float64(idle), note: fmt.Sprintf("(%.0f events a second for a minute, %d refused, "+
			"%.0f new rows a second, heap %+.0f MB)", float64(sent.Load())/seconds, failed.Load(),
			float64(rowsAfter-rowsBefore)/seconds,
			float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/(1<<20))}}, nil
}

// stops stops and lifts a flag so many times, and gives the 99 % point of how long a stop takes.
func (s *service) stops(ctx context.Context, n int) (time.Duration, error) {
	const at = "/projects/pinecrest/environments/production"
	var took []time.Duration
	for range n {
		began := time.Now()
		var st struct{ Stop string }
		if err := s.ask(ctx, "POST", at+"/stops", 0, object{"flags": []string{"flag-0"}, "reason": "bench"},
			&st); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began))
		if err := s.ask(ctx, "POST", at+"/lifts", 0, object{"stops": []string{st.Stop}, "reason": "bench"},
			nil); err != nil {
			return 0, err
		}
	}
	return percentile(took, .99), nil
}

func (s *service) ledgerRows() (n int64, err error) {
	dsn, err := s.Database().DSN("greenlever")
	if err != nil {
		return 0, err
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	err = db.QueryRow("SELECT COUNT(*) FROM exposures").Scan(&n)
	return n, err
}
