package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/outpost"
)

// benchStop measures a stop from the confirmation to the moment at which every one of 1,000 clients decides the resting
// variant, directly and through outposts, and stops while 8 writers change flags and 2,000 instances report.
func benchStop(ctx context.Context, rounds int) ([]row, error) {
	rows, err := benchWave(ctx, max(11, rounds))
	if err != nil {
		return nil, err
	}
	more, err := benchCrowded(ctx)
	if err != nil {
		return nil, err
	}
	garbage, err := benchGarbage(ctx)
	return append(append(rows, more...), garbage...), err
}

// benchGarbage measures alerts that a tripwire stops for, alone and beside 1,000 calls a second that mean nothing: half
// of them with secrets that there are not, half with the tripwire's own and no signature.
func benchGarbage(ctx context.Context) ([]row, error) {
	const tries, callers, perSecond = 50, 20, 1_000
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, 2); err != nil {
		return nil, err
	}
	make := func(wire object) (secret string, err error) {
		var made struct{ Secret string }
		wire["flags"] = []string{"flag-1"}
		err = s.call("POST", "/projects/pinecrest/environments/production/tripwires", 0, object{"tripwire": wire}, &made)
		return made.Secret, err
	}
	genuine, err := make(object{"title": "genuine", "identity": "alert.id"})
	if err != nil {
		return nil, err
	}
	signed, err := make(object{"title": "signed", "signed": true})
	if err != nil {
		return nil, err
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers + 1}}
	defer client.CloseIdleConnections()
	call := func(secret, body string) (int, error) {
		res, err := client.Post(s.url()+"/tripwire/"+secret, "application/json", strings.NewReader(body))
		if err != nil {
			return 0, err
		}
		return res.StatusCode, res.Body.Close()
	}
	n := 0
	alerts := func() (took []time.Duration, err error) {
		for range tries {
			n++
			begun := time.Now()
			status, err := call(genuine, fmt.Sprintf(`{"id":"alert %d"}`, n))
			if err != nil || status != http.StatusOK {
				return nil, fmt.Errorf("an alert: status %d, %w", status, err)
			}
			took = append(took, time.Since(begun))
		}
		return took, nil
	}
	idle, err := alerts()
	if err != nil {
		return nil, err
	}
	run, end := context.WithCancel(ctx)
	defer end()
	var load sync.WaitGroup
	var sent atomic.Int64
	for c := range callers {
		load.Go(func() {
			tick := time.NewTicker(callers * time.Second / perSecond)
			defer tick.Stop()
			for i := 0; ; i++ {
				select {
				case <-run.Done():
					return
				case <-tick.C:
				}
				secret := signed
				if i%2 == 0 {
					secret = fmt.Sprintf("glt_nobody-%d-%d", c, i)
				}
				if status, err := call(secret, `{"garbage":true}`); err == nil && status >= 400 {
					sent.Add(1)
				}
			}
		})
	}
	begun := time.Now()
	for time.Since(begun) < 3*time.Second && sent.Load() < perSecond { // until it flows
		time.Sleep(10 * time.Millisecond)
	}
	begun, before := time.Now(), sent.Load()
	busy, err := alerts()
	rate := float64(sent.Load()-before) / time.Since(begun).Seconds()
	end()
	load.Wait()
	if err != nil {
		return nil, err
	}
	ours, floor := percentile(busy, .5), percentile(idle, .5)
	return []row{{what: "an alert that stops, beside 1,000 garbage calls/s", ours: short(float64(ours)),
		floor: short(float64(floor)), ratio: float64(ours) / float64(floor), atMost: 2,
		note: fmt.Sprintf("p99 %s; %.0f garbage calls a second were refused meanwhile; floor: alone",
			short(float64(percentile(busy, .99))), rate)}}, nil
}

// bareTables are what bareChange works on.
func bareTables(ctx context.Context, dsn string) (*sql.DB, error) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxIdleConns(16)
	for _, q := range []string{"CREATE TABLE counter (id INT PRIMARY KEY, n BIGINT NOT NULL)",
		"INSERT INTO counter VALUES (1, 0)", "CREATE TABLE log (n BIGINT PRIMARY KEY, body TEXT NOT NULL)",
		"CREATE TABLE entries (n BIGINT PRIMARY KEY, body TEXT NOT NULL)"} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return nil, errors.Join(err, db.Close())
		}
	}
	return db, nil
}

// bareStop is the least that a stop can be: the environment's row is held, as it must be, and two rows are written.
func bareStop(ctx context.Context, db *sql.DB) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var id, n int64
	if err := tx.QueryRow("SELECT id FROM greenlever.environments WHERE environment_key = 'production' FOR UPDATE").
		Scan(&id); err != nil {
		return err
	}
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

// benchWave measures stops with as many clients as there are, in a process of their own.
func benchWave(ctx context.Context, rounds int) ([]row, error) {
	const n = 1_000
	dir, err := os.MkdirTemp("", "gl-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	db, err := localdb.Start(ctx, filepath.Join(dir, "mariadb"))
	if err != nil {
		return nil, err
	}
	defer db.Stop()
	dsn, err := db.DSN("bench")
	if err != nil {
		return nil, err
	}
	floorDSN, err := db.DSN("floor")
	if err != nil {
		return nil, err
	}
	bare, err := bareTables(ctx, floorDSN)
	if err != nil {
		return nil, err
	}
	defer bare.Close()
	push, err := loopFloor(n, rounds)
	if err != nil {
		return nil, err
	}
	commit, err := measure(rounds, func() (time.Duration, error) {
		begun := time.Now()
		err := bareChange(ctx, bare)
		return time.Since(begun), err
	})
	if err != nil {
		return nil, err
	}
	a, err := startApart("127.0.0.1:0", dsn, dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = a.stop() }()
	s := &service{dir: dir, at: a.url}
	if err := s.setUp(ctx, a.code); err != nil {
		return nil, err
	}
	if err := s.addFlags(0, 100); err != nil {
		return nil, err
	}
	e, err := s.edit("flag-77")
	if err != nil {
		return nil, err
	}
	e.document.Rules, e.document.End = nil, flag.Gives{Variant: "on"}
	for e.document.Lever != flag.On {
		if err := e.again(); err != nil {
			return nil, err
		}
	}
	var rows []row
	for _, outposts := range []int{0, 2} {
		urls, through, all := []string{a.url}, "", []*outpost.Outpost(nil)
		for i := range outposts {
			o, err := outpost.Start(ctx, outpost.Config{URL: a.url, Keys: []string{s.key}, Listen: "127.0.0.1:0",
				Dir: filepath.Join(dir, fmt.Sprint("outpost-", i)), Name: "yard", Log: quiet})
			if err != nil {
				return nil, err
			}
			if all = append(all, o); i == 0 {
				urls, through = nil, fmt.Sprintf(", through %d outposts", outposts)
			}
			urls = append(urls, o.URL())
		}
		lines, err := s.lines(n, urls, rounds)
		if err != nil {
			return nil, err
		}
		took, err := s.waves(ctx, n, urls, rounds)
		for _, o := range all {
			err = errors.Join(err, o.Stop())
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{what: fmt.Sprintf("a stop until it is on %d lines%s", n, through),
			ours: fmt.Sprintf("%.1f ms", lines), floor: fmt.Sprintf("%.1f ms", commit+push),
			ratio: lines / (commit + push), atMost: 2,
			note: fmt.Sprintf("from the confirmation to the last; floor: a commit (%.1f ms) and bytes to as many (%.1f ms)",
				commit, push)})
		rows = append(rows, row{what: fmt.Sprintf("until %d Go clients decide by it%s", n, through),
			ours: fmt.Sprintf("%.1f ms", median(took[2])),
			note: fmt.Sprintf("the last; half after %.1f ms, 99 %% after %.1f ms; all of them share this machine's processors",
				median(took[0]), median(took[1]))})
	}
	return rows, nil
}

// stopAndLift stops and lifts a flag; between says when the stop was answered.
func (s *service) stopAndLift(reason string, between func() error) error {
	var stop struct{ Stop string }
	if err := s.call("POST", "/projects/pinecrest/environments/production/stops", 0,
		object{"flags": []string{"flag-77"}, "reason": reason}, &stop); err != nil {
		return err
	}
	if err := between(); err != nil {
		return err
	}
	return s.call("POST", "/projects/pinecrest/environments/production/lifts", 0,
		object{"stops": []string{stop.Stop}, "reason": "over"}, nil)
}

// lines gives how long a stop takes from the confirmation until it is on the last of many lines, in milliseconds.
func (s *service) lines(n int, urls []string, rounds int) (float64, error) {
	hello := "GET /follow/v1/feed HTTP/1.1\r\nHost: bench\r\nAccept: text/event-stream\r\nAuthorization: Bearer " +
		s.key + "\r\n\r\n"
	var all []*crowd
	for _, url := range urls {
		c := &crowd{address: strings.TrimPrefix(url, "http://"), hello: hello, mark: []byte(`"stops":[`)}
		defer c.close()
		if err := c.join(n / len(urls)); err != nil {
			return 0, err
		}
		all = append(all, c)
	}
	round := 0
	return measure(rounds, func() (took time.Duration, err error) {
		round++
		time.Sleep(200 * time.Millisecond) // the lift of the round before is on its way
		var want []int64
		for _, c := range all {
			want = append(want, c.seen.Load()+int64(n/len(urls)))
		}
		begun := time.Now()
		err = s.stopAndLift(fmt.Sprint("line ", round, urls), func() error {
			for i, c := range all {
				last, err := c.reached(want[i])
				if err != nil {
					return err
				}
				took = max(took, last.Sub(begun))
			}
			return nil
		})
		return took, err
	})
}

// waves stops and lifts with many clients, and gives for each stop when half of them, 99 % and the last decided the
// resting variant, in milliseconds since it was asked for.
func (s *service) waves(ctx context.Context, n int, urls []string, rounds int) (took [3][]float64, err error) {
	clients := make([]*greenlever.Client, n)
	defer func() {
		var all sync.WaitGroup
		for _, c := range clients {
			if c != nil {
				all.Go(func() { _ = c.Close() })
			}
		}
		all.Wait()
	}()
	for _, name := range []string{"HOME", "XDG_CACHE_HOME"} { // as many disks as clients there are not
		if err := os.Unsetenv(name); err != nil {
			return took, err
		}
	}
	var opening sync.WaitGroup
	limit := make(chan struct{}, 64)
	for i := range clients {
		limit <- struct{}{}
		opening.Go(func() {
			defer func() { <-limit }()
			c, e := greenlever.Open(ctx, greenlever.Options{URL: urls[i%len(urls)], Key: s.key, Application: "bench",
				Logger: quiet, HTTP: &http.Client{Transport: &http.Transport{}}, Wait: time.Minute})
			if e == nil {
				clients[i] = c
			} else {
				err = e
			}
		})
	}
	opening.Wait()
	if err != nil {
		return took, err
	}
	unit := greenlever.Unit("recipient-17")
	// all waits until every client decides something, and gives when each began to.
	all := func(want bool) []time.Duration {
		at := make([]time.Duration, n)
		begun := time.Now()
		var group sync.WaitGroup
		for i, c := range clients {
			group.Go(func() {
				for {
					changed := c.Changed()
					if c.Bool(ctx, "flag-77", unit, !want) == want {
						at[i] = time.Since(begun)
						return
					}
					<-changed
				}
			})
		}
		group.Wait()
		return at
	}
	all(true)
	for i := range rounds + 1 {
		time.Sleep(2 * time.Second) // a stop comes upon processes that are at rest: what is told of the lift was told by then
		failed, decided := make(chan error, 1), make(chan bool)
		go func() {
			failed <- s.stopAndLift(fmt.Sprint("round ", i, " of ", urls), func() error { <-decided; return nil })
		}()
		at := all(false)
		close(decided)
		if err := <-failed; err != nil {
			return took, err
		}
		all(true)
		if i == 0 {
			continue // to warm up
		}
		for j, p := range []float64{.5, .99, 1} {
			took[j] = append(took[j], percentile(at, p).Seconds()*1000)
		}
	}
	return took, nil
}

// benchCrowded measures 200 stops while 8 writers change flags as fast as they can and 2,000 instances report, against
// the bare transaction of a stop under the same load, and against a change that nothing disturbs.
func benchCrowded(ctx context.Context) ([]row, error) {
	const writers, reporters, instances, tries = 8, 64, 2_000, 200
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, writers+2); err != nil {
		return nil, err
	}
	dsn, err := s.Database().DSN("floor")
	if err != nil {
		return nil, err
	}
	bare, err := bareTables(ctx, dsn)
	if err != nil {
		return nil, err
	}
	defer bare.Close()
	edits := make([]*edited, writers+1)
	for i := range edits {
		if edits[i], err = s.edit(fmt.Sprintf("flag-%d", i)); err != nil {
			return nil, err
		}
	}
	var idle []time.Duration
	for range 40 {
		begun := time.Now()
		if err := edits[writers].again(); err != nil {
			return nil, err
		}
		idle = append(idle, time.Since(begun))
	}
	run, end := context.WithCancel(ctx)
	defer end()
	var load sync.WaitGroup
	var changed [writers]int
	for w := range writers {
		load.Go(func() {
			for run.Err() == nil {
				if edits[w].again() == nil {
					changed[w]++
				}
			}
		})
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: reporters}}
	for g := range reporters {
		load.Go(func() {
			for sequence := 1; run.Err() == nil; sequence++ {
				for i := g; i < instances && run.Err() == nil; i += reporters {
					_ = s.report(run, client, i, sequence)
				}
			}
		})
	}
	var stops, floors []time.Duration
	begun := time.Now()
	for i := range tries {
		at := time.Now()
		var stop struct{ Stop string }
		if err := s.call("POST", "/projects/pinecrest/environments/production/stops", 0,
			object{"flags": []string{fmt.Sprintf("flag-%d", writers+1)}, "reason": fmt.Sprint("try ", i)},
			&stop); err != nil {
			return nil, err
		}
		stops = append(stops, time.Since(at))
		if err := s.call("POST", "/projects/pinecrest/environments/production/lifts", 0,
			object{"stops": []string{stop.Stop}, "reason": "over"}, nil); err != nil {
			return nil, err
		}
		at = time.Now()
		if err := bareStop(ctx, bare); err != nil {
			return nil, err
		}
		floors = append(floors, time.Since(at))
	}
	took := time.Since(begun)
	end()
	load.Wait()
	client.CloseIdleConnections()
	total := 0
	for _, c := range changed {
		total += c
	}
	ours, floor, alone := percentile(stops, .5), percentile(floors, .5), percentile(idle, .5)
	note := fmt.Sprintf("p99 %s (bar 1 s); %.0f changes a second meanwhile", short(float64(percentile(stops, .99))),
		float64(total)/took.Seconds())
	return []row{
		{what: "a stop under 8 writers and 2,000 reporters, p50", ours: short(float64(ours)), floor: short(float64(floor)),
			ratio: float64(ours) / float64(floor), atMost: 2, note: note + "; floor: a bare one that holds the environment too"},
		{what: "the same against a change that nothing disturbs", ours: short(float64(ours)),
			floor: short(float64(alone)), ratio: float64(ours) / float64(alone)},
	}, nil
}
