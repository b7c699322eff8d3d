package main

import (
	"bytes"
	"context"
	"database/sql"

	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	_ "github.com/go-sql-driver/mysql" // of the floor's own transactions

	"greenlever.example/core/flag"
)

// benchChange measures a flag's change through the API against the bare transaction, one at a
// time and on 16 connections, and stops and changes while 2,000 instances report.
func benchChange(ctx context.Context, rounds int) ([]row, error) {
	const writers, perRound = 16, 8
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, writers+1); err != nil {
		return nil, err
	}
	dsn, err := s.Database().DSN("floor")
	if err != nil {
		return nil, err
	}
	db, err := bareTables(ctx, dsn)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var faults []error
	var mu sync.Mutex
	note := func(err error) {
		if err != nil {
			mu.Lock()
			faults = append(faults, err)
			mu.Unlock()
		}
	}
	bare := func() { note(bareChange(ctx, db)) }
	edits := make([]*edited, writers)
	for i := range edits {
		if edits[i], err = s.edit(fmt.Sprintf("flag-%d", i)); err != nil {
			return nil, err
		}
	}
	// p50 of one at a time.
	one := func(do func()) float64 {
		var all []time.Duration
		for range perRound {
			begun := time.Now()
			do()
			all = append(all, time.Since(begun))
		}
		return float64(percentile(all, 0.5))
	}
	o, f, ratio := inTurn(rounds, func() float64 { return one(func() { note(edits[0].again()) }) }, func() float64 {
		return one(bare)
	})
	rows := []row{{what: "a change through the API, p50", ours: short(o), floor: short(f), ratio: ratio, atMost: 2,
		note: "floor: one counter row, two rows, commit"}}
	// Commits a second on 16 connections.
	rate := func(do func(w int)) float64 {
		var group sync.WaitGroup
		begun := time.Now()
		for w := range writers {
			group.Go(func() {
				for range perRound {
					do(w)
				}
			})
		}
		group.Wait()
		return writers * perRound / time.Since(begun).Seconds()
	}
	o, f, ratio = inTurn(rounds, func() float64 { return rate(func(w int) { note(edits[w].again()) }) },
		func() float64 { return rate(func(int) { bare() }) })
	rows = append(rows, row{what: "changes on 16 connections", ours: fmt.Sprintf("%.0f/s", o),
		floor: fmt.Sprintf("%.0f/s", f), ratio: ratio, atLeast: 0.6})
	if len(faults) > 0 {
		return nil, errors.Join(faults...)
	}
	more, err := benchReporting(s, edits[0])
	return append(rows, more...), err
}

// bareChange is the least that a change can be: a counter, a row of the log and one of the audit.
func bareChange(ctx context.Context, db *sql.DB) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var n int64
	if err := tx.QueryRow("SELECT n FROM counter WHERE id = 1 FOR UPDATE").Scan(&n); err != nil {
		return err
	}
	for _, q := range []string{"UPDATE counter SET n = ? WHERE id = 1", "INSERT INTO log VALUES (?, REPEAT('x', 900))",
		"INSERT INTO entries VALUES (?, REPEAT('x', 1400))"} {
		if _, err := tx.Exec(q, n+1); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// edited is a flag that is changed again and again.
type edited struct {
	s        *service
	path     string
	document flag.Document
	version  int64
}

func (s *service) edit(key string) (*edited, error) {
	e := &edited{s: s, path: "/projects/pinecrest/environments/production/flags/" + key}
	var v struct {
		Document flag.Document
		Version  int64
	}
	err := s.call("GET", e.path, 0, nil, &v)
	e.document, e.version = v.Document, v.Version
	return e, err
}

func (e *edited) again() error { return e.because("") }

func (e *edited) because(reason string) error {
	e.document.Lever = flag.On
	if e.version%2 == 0 {
		e.document.Lever = flag.Off
	}
	var saved struct{ Version int64 }
	if err := e.s.call("PUT", e.path, e.version, object{"document": e.document, "reason": reason},
		&saved); err != nil {
		return err
	}
	e.version = saved.Version
	return nil
}

// benchReporting measures stops and changes idle, and while 2,000 instances report as fast as
// they are answered, as they do where revisions come one soon after the other.
func benchReporting(s *service, e *edited) ([]row, error) {
	const instances, reporters, tries = 2_000, 64, 100
	var id int
	stopAndLift := func() (time.Duration, error) {
		var stop struct{ Stop string }
		id++
		begun := time.Now()
		err := s.call("POST", "/projects/pinecrest/environments/production/stops", 0,
			map[string]any{"flags": []string{"flag-16"}, "reason": fmt.Sprint("try ", id)}, &stop)
		took := time.Since(begun)
		if err == nil {
			err = s.call("POST", "/projects/pinecrest/environments/production/lifts", 0,
				map[string]any{"stops": []string{stop.Stop}, "reason": "over"}, nil)
		}
		return took, err
	}
	measure := func() (stops, changes []time.Duration, err error) {
		for range tries {
			took, err := stopAndLift()
			if err != nil {
				return nil, nil, err
			}
			begun := time.Now()
			if err := e.again(); err != nil {
				return nil, nil, err
			}
			stops, changes = append(stops, took), append(changes, time.Since(begun))
		}
		return stops, changes, nil
	}
	idleStops, idleChanges, err := measure()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var group sync.WaitGroup
	var sent [reporters]int
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: reporters}}
	for g := range reporters {
		group.Go(func() {
			for sequence := 1; ctx.Err() == nil; sequence++ {
				for i := g; i < instances && ctx.Err() == nil; i += reporters {
					if s.report(ctx, client, i, sequence) == nil {
						sent[g]++
					}
				}
			}
		})
	}
	begun := time.Now()
	busyStops, busyChanges, err := measure()
	took := time.Since(begun)
	cancel()
	group.Wait()
	client.CloseIdleConnections()
	if err != nil {
		return nil, err
	}
	total := 0
	for _, n := range sent {
		total += n
	}
	compare := func(what string, busy, idle []time.Duration) row {
		a, b := float64(percentile(busy, 0.5)), float64(percentile(idle, 0.5))
		return row{what: what, ours: short(a), floor: short(b), ratio: a / b, atMost: 2,
			note: fmt.Sprintf("p99 %s (bar 1 s), idle %s; %.0f reports a second",
				short(float64(percentile(busy, 0.99))), short(float64(percentile(idle, 0.99))),
				float64(total)/took.Seconds())}
	}
	return []row{compare("a stop while 2,000 instances report", busyStops, idleStops),
		compare("a change while 2,000 instances report", busyChanges, idleChanges)}, nil
}

// report sends what one instance counted.
func (s *service) report(ctx context.Context, client *http.Client, instance, sequence int) error {
	body := fmt.Appendf(nil,
		`{"instance":"instance-%d","sequence":%d,"application":"bench","version":"1","started":1,"counts":[{"flag":"flag-1","variant":"on","count":40}]}`, instance, sequence)
	req, err := http.NewRequestWithContext(ctx, "POST", s.url()+"/follow/v1/report", bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+s.key)
	req.Header.Set("Content-Type", "application/json")
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != 200 {
		return fmt.Errorf("report: status %d", res.StatusCode)
	}
	return nil
}

func short(nanoseconds float64) string {
	return time.Duration(nanoseconds).Round(10 * time.Microsecond).String()
}
