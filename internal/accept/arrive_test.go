package accept

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/server"
)

// line passes connections on until it is cut: then what was sent is swallowed, or one side is
// closed and the other never learns of it.
type line struct {
	net.Listener
	to   string
	dead atomic.Bool
	half atomic.Bool
	mu   sync.Mutex
	down []net.Conn // towards who connected
	all  []net.Conn
}

func newLine(t *testing.T, to string) *line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &line{Listener: l, to: to}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			up, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			w.mu.Lock()
			w.down, w.all = append(w.down, c), append(w.all, c, up)
			w.mu.Unlock()
			go w.copy(up, c)
			go w.copy(c, up)
		}
	}()
	t.Cleanup(func() {
		l.Close()
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, c := range w.all {
			c.Close()
		}
	})
	return w
}

func (w *line) copy(to, from net.Conn) {
	buffer := make([]byte, 64<<10)
	for {
		n, err := from.Read(buffer)
		if w.dead.Load() || w.half.Load() {
			if err != nil {
				return // and nobody is told
			}
			continue
		}
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			to.Close()
			return
		}
	}
}

// cutHalf closes the line towards who connected; the other side waits for ever.
func (w *line) cutHalf() {
	w.half.Store(true)
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range w.down {
		c.Close()
	}
}

// records is a database of a test's own, that is reached over loopback too.
func records(t *testing.T) *localdb.Server {
	t.Helper()
	db, err := localdb.Start(context.Background(), filepath.Join(t.TempDir(), "db"), localdb.OverTCP())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Stop() })
	return db
}

// over starts a service over a database of the test's own.
func over(t *testing.T, dsn string, change ...func(*server.Config)) *gltest.Service {
	t.Helper()
	s := &gltest.Service{DSN: dsn, Keys: map[string]string{}, Browse: map[string]string{}}
	s.Server = s.Serve(t, change...)
	s.SetUp(t)
	return s
}

// A process of the service that is frozen in the middle of a change, or whose line to the
// records is dead or half open, holds up a stop on another one for 10 seconds at most.
func TestStopBesideAFrozenNode(t *testing.T) {
	t.Parallel() // it waits more than it works
	db := records(t)
	dsn, err := db.DSN("frozen")
	if err != nil {
		t.Fatal(err)
	}
	s := over(t, dsn)
	s.Environment(t, "production", false)
	for i := range 4 {
		s.Flag(t, fmt.Sprintf("flag-%d", i))
	}
	root, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	// held tells whether somebody holds the environment's row.
	held := func() bool {
		tx, err := root.Begin()
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		_, err = tx.Exec("SELECT id FROM environments FOR UPDATE NOWAIT")
		return err != nil
	}
	for name, how := range map[string]struct{ freeze, thaw func(p *process, w *line) }{
		"frozen": {func(p *process, _ *line) { _ = p.cmd.Process.Signal(syscall.SIGSTOP) },
			func(p *process, _ *line) { _ = p.cmd.Process.Signal(syscall.SIGCONT) }},
		"dead line": {func(_ *process, w *line) { w.dead.Store(true) },
			func(_ *process, w *line) { w.dead.Store(false) }},
		"half open": {func(_ *process, w *line) { w.cutHalf() }, nil},
	} {
		found := false
		for try := 0; try < 20 && !found; try++ {
			w := newLine(t, db.TCPAddress())
			p := serve(t, "127.0.0.1:0", db.TCP("frozen", w.Addr().String()), t.TempDir(), false)
			stop := make(chan struct{})
			var writers sync.WaitGroup
			for i := range 4 {
				writers.Go(func() {
					there := gltest.Caller{URL: p.url, Header: s.Keeper.Header}
					for n := 0; ; n++ {
						select {
						case <-stop:
							return
						default:
						}
						body := fmt.Sprintf(`{"flags":["flag-%d"],"reason":"%s %d"}`, i, name, n)
						_, _, _, _ = there.Send("POST", inProd+"/stops", []byte(body))
					}
				})
			}
			seen := s.Get(t, "production", "flag-0").Revision
			gltest.Eventually(t, "the other node writes", func() bool {
				var page struct{ Revision int64 }
				s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &page)
				return page.Revision > seen+20
			})
			how.freeze(p, w)
			time.Sleep(150 * time.Millisecond) // what was under way elsewhere has ended
			if found = held(); found {
				started := time.Now()
				s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"flag-0"},
					"reason": "beside " + name}, 201, nil)
				took := time.Since(started)
				t.Logf("%s: the stop took %v", name, took.Round(10*time.Millisecond))
				if took > 10*time.Second {
					t.Errorf("%s: the stop took %v", name, took)
				}
			}
			close(stop)
			if how.thaw != nil {
				how.thaw(p, w)
			}
			p.kill()
			writers.Wait()
		}
		if !found {
			t.Errorf("%s: the row was never held", name)
		}
	}
}

// gate is a way to a service that the test opens and closes.
func gate(t *testing.T, to string) (url string, open func(bool)) {
	t.Helper()
	var is atomic.Bool
	is.Store(true)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	conns := map[net.Conn]bool{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if !is.Load() {
				c.Close()
				continue
			}
			up, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			mu.Lock()
			conns[c] = true
			mu.Unlock()
			go func() { _, _ = io.Copy(up, c); up.Close() }()
			go func() { _, _ = io.Copy(c, up); c.Close() }()
		}
	}()
	t.Cleanup(func() { l.Close() })
	return "http://" + l.Addr().String(), func(open bool) {
		is.Store(open)
		mu.Lock()
		defer mu.Unlock()
		for c := range conns {
			if !open {
				c.Close()
				delete(conns, c)
			}
		}
	}
}

// decides waits until a client gives a flag's answer.
func decides(t *testing.T, c *greenlever.Client, what, key string, want bool) {
	t.Helper()
	gltest.Eventually(t, what, func() bool {
		return c.Bool(context.Background(), key, greenlever.Unit("recipient-17"),
			!want) == want
	})
}

// After a restore a stop reaches those who had more than the records know, whether they came
// back before it or after it, and whether somebody saved something in between.
func TestStopAfterARestore(t *testing.T) {
	t.Parallel() // it waits more than it works
	for name, c := range map[string]struct{ before, saves bool }{
		"the follower is back first":    {before: true},
		"the stop is first":             {},
		"somebody saved before it came": {saves: true},
		"saved, and back before it":     {saves: true, before: true},
	} {
		t.Run(name, func(t *testing.T) {
			s := gltest.Start(t)
			s.Flag(t, "a")
			s.Flag(t, "b")
			s.Edit(t, "production", "a", turnOn)
			backup := dump(t, s.DSN)
			at, let := gate(t, s.Address)
			follower := open(t, s, "production", func(o *greenlever.Options) {
				o.URL, o.Report = at, 50*time.Millisecond
			})
			for i := range 3 { // what will be lost
				s.Edit(t, "production", "b", func(d *flag.Document) { d.Lever = []flag.Lever{flag.On, flag.Off}[i%2] })
			}
			lost := s.Edit(t, "production", "a", func(d *flag.Document) {
				d.Rules = []flag.Rule{{Name: "lost", Gives: flag.Gives{Variant: "on"}}}
			})
			until(t, follower, "what will be lost", func(st greenlever.State) bool {
				return st.Revision == lost.Revision
			})
			let(false)
			if err := s.Stop(); err != nil {
				t.Fatal(err)
			}
			restore(t, s.DSN, backup)
			address := s.Address
			s.Server = s.Serve(t, func(c *server.Config) { c.Listen = address })
			if c.saves { // past what the follower has: its number says nothing any more
				for i := range 6 {
					s.Edit(t, "production", "b", func(d *flag.Document) {
						d.Lever = []flag.Lever{flag.On, flag.Off}[i%2]
					})
				}
			}
			if c.before {
				let(true)
				gltest.Eventually(t, "the service learns that it was restored", func() bool {
					status, raw, _, err := s.Keeper.Send("GET", "/readyz?for=changes", nil)
					return err == nil && status == 503 && strings.Contains(string(raw), "epoch new")
				})
				gltest.Eventually(t, "the follower says so", func() bool { return follower.State().Stranded })
				decides(t, follower, "it goes on as it was", "a", true)
				v := s.Get(t, "production", "b")
				body, _ := json.Marshal(object{"document": v.Document})
				if status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT",
					inProd+"/flags/b", body); status != 409 || !strings.Contains(string(answer), "epoch new") {
					t.Errorf("a change: %d %s", status, answer)
				}
				var d struct{ OtherHistory, Delivered, Alive int }
				gltest.Eventually(t, "it is not counted as one that has it", func() bool {
					s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
					return d.OtherHistory == 1 && d.Delivered == 0
				})
			}
			s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}, "reason": "now"}, 201, nil)
			let(true)
			decides(t, follower, "the stop, in what the follower decides", "a", false)
			gltest.Eventually(t, "changes are taken again", func() bool {
				status, _, _, err := s.Keeper.Send("GET", "/readyz?for=changes", nil)
				return err == nil && status == 200
			})
			if follower.State().Stranded {
				t.Error("the follower still says that it is stranded")
			}
		})
	}
}

// A restore that is known of begins with a new epoch, and nobody has to do anything.
func TestServeRestored(t *testing.T) {
	s := gltest.Start(t)
	flagsOn(t, s, "a")
	backup := dump(t, s.DSN)
	lost := s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	c := open(t, s, "production")
	until(t, c, "what will be lost", at(lost.Revision))
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	restore(t, s.DSN, backup)
	address := s.Address
	s.Server = s.Serve(t, func(c *server.Config) { c.Listen, c.Restored = address, true })
	decides(t, c, "the restored state", "a", true)
	s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	decides(t, c, "an edit after it", "a", false)
}

// A service key that claims a revision of the future is an alarm that names the key, and
// blocks nothing.
func TestClaimsBlockNothing(t *testing.T) {
	var log gltest.Log
	s := gltest.Start(t, log.To)
	s.Flag(t, "a")
	var keys struct{ Items []struct{ ID, Kind string } }
	s.Keeper.Do(t, "GET", inProd+"/keys", nil, 200, &keys)
	for _, claim := range []string{"9999999999999.7", "1.999999999", "9223372036854775807.9223372036854775807",
		"1796000000000.88.1796000000000." + strings.Repeat("a", 64) + "." + strings.Repeat("b", 32)} {
		_, end := feed(t, s.URL(), s.Keys["production"], claim)
		defer end()
	}
	for _, k := range keys.Items {
		if k.Kind == "service" {
			gltest.Eventually(t, "an alarm that names the key", func() bool {
				return strings.Contains(log.String(), k.ID)
			})
		}
	}
	s.Keeper.Do(t, "GET", "/readyz?for=changes", nil, 200, nil)
	s.Edit(t, "production", "a", turnOn)
	var stop struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 201, &stop)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{stop.Stop}}, 201, nil)
}

// However many stops stand, all are shown and count, and the same stop again costs nothing.
func TestManyStops(t *testing.T) {
	s := gltest.Start(t)
	for _, key := range []string{"a", "b"} {
		s.Flag(t, key)
	}
	s.Edit(t, "production", "b", turnOn)
	var first, again struct {
		Stop     string
		Revision int64
	}
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"b"}}, 201, &first)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"b"}}, 201, &again)
	if first != again {
		t.Errorf("the same stop again: %+v, then %+v", first, again)
	}
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("INSERT INTO stops (id, environment_id, flags, by_id, at, reason, revision) SELECT "+
		"CONCAT('many-', seq), (SELECT environment_id FROM stops WHERE id = ?), '[\"a\"]', 'x', 1, CONCAT('reason "+
		"', seq), 1000 + seq FROM seq_1_to_10000", first.Stop); err != nil {
		t.Fatal(err)
	}
	var all struct{ Items []struct{ ID string } }
	s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &all)
	if len(all.Items) != 10_001 {
		t.Errorf("%d stops are shown", len(all.Items))
	}
	v := s.Get(t, "production", "b")
	if !strings.HasPrefix(v.Sentence.String(), "Stopped") {
		t.Errorf("behind 10,000 others: %s", v.Sentence)
	}
	v.Document.Resting = "on"
	s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", inProd+"/flags/b", object{"document": v.Document},
		409, nil)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{first.Stop}}, 201, nil)
	if v := s.Get(t, "production", "b"); strings.HasPrefix(v.Sentence.String(), "Stopped") {
		t.Errorf("lifted: %s", v.Sentence)
	}
}

// While the records are frozen, and after they are gone, whoever asks for a decision gets it
// at once: with a key that is known, and a refusal with one that is not.
func TestAnswersWhileTheRecordsAreFrozen(t *testing.T) {
	db := records(t)
	dsn, err := db.DSN("frozen")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	s := over(t, dsn, func(c *server.Config) { c.Dir = dir })
	s.Environment(t, "production", false)
	flagsOn(t, s, "a")
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/attributes/badge", attributeBody("badge", "string"), 200, nil)
	gltest.Eventually(t, "the copy on disk is up to date", func() bool {
		raw, err := os.ReadFile(filepath.Join(dir, "decide.json"))
		return err == nil && strings.Contains(string(raw), `"badge"`)
	})
	if err := db.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Signal(syscall.SIGCONT) }()
	quickly := func(what, url, key string, want int) {
		t.Helper()
		for range 5 {
			started := time.Now()
			req, _ := http.NewRequest("POST", url+"/ofrep/v1/evaluate/flags/a",
				strings.NewReader(`{"context":{"targetingKey":"x"}}`))
			req.Header.Set("Authorization", "Bearer "+key)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			if took := time.Since(started); res.StatusCode != want || took > 3*time.Second {
				t.Errorf("%s: %d after %v", what, res.StatusCode, took)
			}
		}
	}
	quickly("a known key", s.URL(), s.Keys["production"], 200)
	quickly("a browser", s.URL(), s.Browse["production"], 404) // the flag is not for browsers
	quickly("an unknown key", s.URL(), "gls_nobody", 401)
	quickly("a known key after it", s.URL(), s.Keys["production"], 200)
	bearer(s.URL(), s.Keys["production"]).Do(t, "GET", "/follow/v1/snapshot", nil, 200, nil)
	status, _, _, err := s.Keeper.Send("GET", "/readyz", nil)
	if err != nil || status != 200 {
		t.Errorf("ready for decisions: %d %v", status, err)
	}
	// A service that starts now decides by the copy on its disk, and takes no changes.
	started := time.Now()
	address := s.Address
	if err := db.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = s.Stop()
	began := time.Now()
	s.Server = s.Serve(t, func(c *server.Config) { c.Dir, c.Listen = dir, address })
	t.Logf("stopped after %v, started after %v", began.Sub(started).Round(time.Millisecond),
		time.Since(began).Round(time.Millisecond))
	quickly("from the copy", s.URL(), s.Keys["production"], 200)
	c := open(t, s, "production")
	decides(t, c, "a client of it", "a", true)
	if status, _, _, _ := s.Keeper.Send("GET", "/readyz?for=changes", nil); status != 503 {
		t.Errorf("ready for changes: %d", status)
	}
	if err := db.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "the records are reached", func() bool {
		status, _, _, err := s.Keeper.Send("GET", "/readyz?for=changes", nil)
		return err == nil && status == 200
	})
	gltest.Eventually(t, "a change is taken", func() bool {
		status, _, _, err := s.Keeper.Send("POST", inProd+"/stops", []byte(`{"flags":["a"]}`))
		return err == nil && status == 201
	})
	decides(t, c, "the stop", "a", false)
}

// A node that died is no lost instance: it is known by its lease, and says nothing of
// environments any more.
func TestDeadNodesAreNotLost(t *testing.T) {
	s := gltest.Start(t)
	p := serve(t, "127.0.0.1:0", s.DSN, t.TempDir(), false)
	var d struct {
		Lost  []any
		Nodes []struct {
			ID     string
			Silent int64
		}
	}
	gltest.Eventually(t, "two nodes", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		return len(d.Nodes) == 2
	})
	p.kill()
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("UPDATE nodes SET until = until - INTERVAL 1 HOUR"); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "one lives on, the other is silent and not lost", func() bool {
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		silent := 0
		for _, n := range d.Nodes {
			if n.Silent > 0 {
				silent++
			}
		}
		return len(d.Nodes) == 2 && silent == 1 && len(d.Lost) == 0
	})
}

// A new epoch records no delivery anew.
func TestEpochKeepsDeliveries(t *testing.T) {
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	s.Flag(t, "a")
	by.Store(int64(46 * time.Second)) // nobody was there for the first revisions
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	until(t, c, "the clocks are compared", func(st greenlever.State) bool { return st.Skew > 45*time.Second })
	saved := s.Edit(t, "production", "a", turnOn)
	until(t, c, "the edit", at(saved.Revision))
	count := func() int {
		_, raw, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/history?limit=200", nil)
		return strings.Count(string(raw), "revision.delivered")
	}
	gltest.Eventually(t, "its delivery is in the audit", func() bool { return count() > 0 })
	before := count()
	s.Keeper.Do(t, "POST", "/epoch", object{"reason": "restored"}, 200, nil)
	next := s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	until(t, c, "an edit of the new epoch", at(next.Revision))
	gltest.Eventually(t, "the next delivery", func() bool { return count() > before })
	if n := count(); n != before+1 {
		t.Errorf("%d deliveries before, %d after", before, n)
	}
}
