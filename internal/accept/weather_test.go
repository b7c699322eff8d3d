package accept

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
)

// storm is how long the storm goes on; GREENLEVER_STORM says otherwise, such as 10m.
const storm = 22 * time.Second

// pair is two processes of the service; a call goes to the other one where the first does not
// answer in time.
type pair struct {
	urls   [2]string
	header http.Header
	client *http.Client
}

// send tries until it is answered, with success or with what no other try would change.
func (p *pair) send(method, path string, body any, headers map[string]string, first int,
	until time.Time) ([]byte, error) {
	raw, _ := json.Marshal(body)
	err := fmt.Errorf("no try")
	for try := first; time.Now().Before(until); try++ {
		var answer []byte
		var status int
		if answer, status, err = p.once(method, p.urls[try%2], path, raw, headers); err == nil && status < 400 {
			return answer, nil
		}
		if err == nil && status != 503 && status != 429 {
			return answer, fmt.Errorf("status %d: %s", status, answer)
		}
		time.Sleep(5 * time.Millisecond) // between tries
	}
	return nil, fmt.Errorf("was never answered: %w", err)
}

func (p *pair) once(method, url, path string, body []byte, headers map[string]string) ([]byte, int, error) {
	c := gltest.Caller{URL: url, Header: p.header}
	for name, value := range headers {
		c = c.With(name, value)
	}
	status, answer, _, err := c.Over(p.client, method, path, body)
	return answer, status, err
}

// A minute of everything at once: two processes of the service, 16 writers, the reports of 500
// instances, stops and lifts, and followers, while MariaDB is killed and frozen, the line to it
// is slow, cut, and dead, and the services are killed and frozen. Every change that was answered
// is once in flag, revision and audit; followers end at the last revision and none goes back;
// stops arrive; nothing is left over.
//
// Once the records' disk is full, too: the server gets no more room until it is started again.
func TestStorm(t *testing.T) {
	var full atomic.Bool
	dir := filepath.Join(t.TempDir(), "db")
	db, err := localdb.Start(context.Background(), dir, localdb.OverTCP(), localdb.With(func() []string {
		room := int64(1 << 10)
		if info, err := os.Stat(filepath.Join(dir, "data", "ibdata1")); err == nil && full.Load() {
			room = info.Size() >> 20
		}
		return []string{"--innodb-file-per-table=0", "--innodb-autoextend-increment=1",
			fmt.Sprintf("--innodb-data-file-path=ibdata1:12M:autoextend:max:%dM", room)}
	}))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Stop() })
	if _, err := db.DSN("storm"); err != nil {
		t.Fatal(err)
	}
	again := func() {
		if err := db.Again(context.Background()); err != nil {
			t.Error(err)
		}
	}
	kill := func() { _ = db.Kill() }
	blow(t, sky{dsn: [2]string{db.TCP("storm", ""), db.TCP("storm", "")}, tcp: db.TCPAddress(),
		through: func(at string) string { return db.TCP("storm", at) }, troubles: []trouble{
			{kill, again},
			{func() { _ = db.Signal(syscall.SIGSTOP) }, func() { _ = db.Signal(syscall.SIGCONT) }},
			{func() { kill(); full.Store(true); again(); fill(t, db) }, func() { kill(); full.Store(false); again() }},
		}})
	if said, err := os.ReadFile(filepath.Join(dir, "log")); err != nil || !strings.Contains(string(said), "is full") {
		t.Errorf("the disk was never full: %v\n%s", err, said[max(0, len(said)-2000):])
	}
}

// fill writes beside the storm until the disk is full, so that it is however little the storm
// writes meanwhile.
func fill(t *testing.T, db *localdb.Server) {
	dsn, err := db.DSN("filler")
	if err != nil { // full already
		return
	}
	filler, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Error(err)
		return
	}
	defer filler.Close()
	if _, err := filler.Exec("CREATE TABLE IF NOT EXISTS filler (body LONGTEXT)"); err != nil {
		return
	}
	for range 1_000 {
		if _, err := filler.Exec("INSERT INTO filler VALUES (REPEAT('x', 200000))"); err != nil {
			return
		}
	}
	t.Error("1,000 rows of 200 kB found room on a disk that should be full")
}

// sky is where a storm comes from: records for two processes, and what befalls them.
type sky struct {
	dsn      [2]string
	tcp      string                 // where the second one's records listen
	through  func(at string) string // their address by way of a line
	troubles []trouble
}

// trouble is an outage of the records, from begin to over.
type trouble struct{ begin, over func() }

func blow(t *testing.T, from sky) {
	t.Helper()
	const writers, instances, followers = 16, 500, 10
	length := storm
	if d, err := time.ParseDuration(os.Getenv("GREENLEVER_STORM")); err == nil {
		length = d
	}
	dir := t.TempDir()
	first := serve(t, "127.0.0.1:0", from.dsn[0], filepath.Join(dir, "a"), true)
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}}
	gltest.Caller{URL: first.url}.Do(t, "POST", "/set-up", object{"code": first.code, "email": gltest.KeeperEmail,
		"name": "Ida Holm", "password": gltest.Password}, 201, nil)
	s.Keeper = tokenAt(t, first.url)
	s.Keeper.Do(t, "POST", "/projects", object{"key": "pinecrest"}, 201, nil)
	s.Environment(t, "production", false)
	for w := range writers {
		s.Flag(t, fmt.Sprintf("flag-%d", w))
	}
	s.Flag(t, "halted")
	first.kill()

	goroutines := runtime.NumGoroutine()
	line := newCable(t, from.tcp) // of the second process
	var nodes [2]*child
	for i, dsn := range []string{from.dsn[0], from.through(line.Addr().String())} {
		at := freeAddress(t)
		nodes[i] = &child{at: at, args: []string{"serve", "--listen", at, "--admin", "", "--dsn", dsn, "--dir",
			filepath.Join(dir, fmt.Sprint("s", i)), "--limit-rate", "100000"}}
		nodes[i].start(t)
		defer nodes[i].kill()
	}
	for _, n := range nodes {
		n.up(t)
	}
	both := &pair{urls: [2]string{"http://" + nodes[0].at, "http://" + nodes[1].at}, header: s.Keeper.Header,
		client: &http.Client{Timeout: 12 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 100}}}
	urgent := &pair{urls: both.urls, header: both.header, client: &http.Client{Timeout: time.Second,
		Transport: &http.Transport{MaxIdleConnsPerHost: 10}}}

	var all []*watched
	for i := range followers {
		w := &watched{url: both.urls[i%2], dir: filepath.Join(dir, fmt.Sprint("c", i)), key: s.Keys["production"]}
		w.open(t)
		all = append(all, w)
	}
	end, give := time.Now().Add(length), time.Now().Add(length+2*time.Minute)

	// The weather. bad is not zero while MariaDB is away or far, or a process that may hold rows is frozen.
	var bad, faults atomic.Int64
	var changes sync.WaitGroup
	changes.Go(func() {
		calm := func(d time.Duration) { time.Sleep(min(d, max(0, time.Until(end)))) } // how long a fault lasts
		spell := func(outage bool, begin, over func()) {
			if outage {
				bad.Add(1)
			}
			begin()
			calm(2500 * time.Millisecond)
			over()
			faults.Add(1)
			if outage {
				calm(3 * time.Second) // connections are made anew
				bad.Add(-1)
			}
			calm(1500 * time.Millisecond)
		}
		for time.Now().Before(end) {
			spell(false, nodes[1].kill, func() { nodes[1].start(t) })
			for _, one := range from.troubles {
				spell(true, one.begin, one.over)
			}
			spell(true, func() { line.bad.Store(true) }, func() { line.bad.Store(false) })
			spell(true, func() { _ = nodes[0].cmd.Process.Signal(syscall.SIGSTOP) }, func() {
				_ = nodes[0].cmd.Process.Signal(syscall.SIGCONT)
			})
			spell(false, func() { line.drop(0.5) }, func() { line.drop(1) })
			spell(false, nodes[0].kill, func() { nodes[0].start(t) })
		}
	})

	answers := make([][]answer, writers)
	for w := range writers {
		changes.Go(func() {
			key := fmt.Sprintf("flag-%d", w)
			raw, err := both.send("GET", inProd+"/flags/"+key, nil, nil, w, give)
			if err != nil {
				t.Error(key, err)
				return
			}
			var v gltest.View
			_ = json.Unmarshal(raw, &v)
			for i := 0; time.Now().Before(end); i++ {
				v.Document.Rules = []flag.Rule{{ID: "r", Name: fmt.Sprintf("edit %d", i),
					Gives: flag.Gives{Variant: "on"}}}
				raw, err := both.send("PUT", inProd+"/flags/"+key, object{"document": v.Document},
					map[string]string{"If-Match": fmt.Sprint(i + 1), "Idempotency-Key": fmt.Sprintf("%s-%d", key, i)},
					w, give)
				if err != nil {
					t.Errorf("%s, edit %d: %v", key, i, err)
					return
				}
				var saved gltest.Saved
				_ = json.Unmarshal(raw, &saved)
				answers[w] = append(answers[w], answer{saved.Version, saved.Revision})
			}
		})
	}
	var reports atomic.Int64
	for g := range 10 {
		changes.Go(func() {
			reporter := &pair{urls: both.urls,
				header: http.Header{"Authorization": {"Bearer " + s.Keys["production"]}}, client: both.client}
			for sequence := 1; time.Now().Before(end); sequence++ {
				for i := g; i < instances && time.Now().Before(end); i += 10 {
					_, err := reporter.send("POST", "/follow/v1/report", object{"instance": fmt.Sprint("instance-", i),
						"sequence": sequence, "application": "door", "version": "2.3.1", "started": 1,
						"counts": []object{{"flag": "halted", "variant": "off", "count": 4}}}, nil, i, give)
					if err != nil {
						t.Error("report:", err)
						return
					}
					reports.Add(1)
				}
				time.Sleep(min(time.Second, max(0, time.Until(end)))) // instances report now and then
			}
		})
	}
	var took, worst []time.Duration
	var stopped []string
	changes.Go(func() {
		for n := 0; time.Now().Before(end); n++ {
			before, begun := bad.Load(), time.Now()
			raw, err := urgent.send("POST", inProd+"/stops", object{"flags": []string{"halted"},
				"reason": fmt.Sprint("storm ", n)}, map[string]string{"Idempotency-Key": fmt.Sprint("stop-", n)}, n,
				give)
			if err != nil {
				t.Errorf("stop %d: %v", n, err)
				return
			}
			if d := time.Since(begun); before+bad.Load() == 0 {
				took = append(took, d)
			} else {
				worst = append(worst, d)
			}
			var stop struct{ Stop string }
			_ = json.Unmarshal(raw, &stop)
			stopped = append(stopped, stop.Stop)
			if _, err := urgent.send("POST", inProd+"/lifts", object{"stops": []string{stop.Stop},
				"reason": fmt.Sprint("over ", n)}, map[string]string{"Idempotency-Key": fmt.Sprint("lift-", n)}, n,
				give); err != nil {
				t.Errorf("lift %d: %v", n, err)
				return
			}
			time.Sleep(100 * time.Millisecond) // a hand that stops and lifts
		}
	})
	changes.Wait()
	for _, n := range nodes {
		n.up(t)
	}
	s.Keeper.URL = both.urls[0]
	last := accounted(t, s, answers, int64(1+writers+1))
	slices.Sort(took)
	slices.Sort(worst)
	edits := 0
	for _, a := range answers {
		edits += len(a)
	}
	if len(took) == 0 || len(worst) == 0 || faults.Load() < 5 || edits < 100 {
		t.Fatalf("%d stops in calm and %d in outages, %d faults, %d edits: no storm", len(took), len(worst),
			faults.Load(), edits)
	}
	p99 := took[len(took)*99/100]
	t.Logf(
		"%v of storm: %d faults, %d edits, %d reports, %d stops; outside outages p50 %v, p99 %v, in them at most %v",
		length, faults.Load(), edits, reports.Load(), len(stopped),
		took[len(took)/2].Round(time.Millisecond), p99.Round(time.Millisecond),
		worst[len(worst)-1].Round(time.Millisecond))
	if p99 > 2*time.Second {
		t.Errorf("of the stops outside outages, one in a hundred took %v", p99)
	}
	slices.Sort(stopped)
	if n := len(slices.Compact(slices.Clone(stopped))); n != len(stopped) {
		t.Errorf("%d stops were answered, and %d are different ones", len(stopped), n)
	}

	gltest.Eventually(t, "all followers have the last revision", func() bool {
		for _, w := range all {
			if w.State().Revision < last {
				return false
			}
		}
		return true
	})
	for _, w := range all {
		if w.mu.Lock(); w.backwards != "" {
			t.Errorf("a follower went back: %s", w.backwards)
		}
		w.mu.Unlock()
		_ = w.Close()
	}
	for _, n := range nodes {
		n.kill()
	}
	line.close()
	both.client.CloseIdleConnections()
	urgent.client.CloseIdleConnections()
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
	gltest.Eventually(t, "no goroutine is left over", func() bool { return runtime.NumGoroutine() <= goroutines+5 })
	own, err := sql.Open("mysql", from.dsn[0])
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	gltest.Eventually(t, "no transaction is left over", func() bool {
		var n int
		return own.QueryRow("SELECT COUNT(*) FROM information_schema.innodb_trx").Scan(&n) == nil && n == 0
	})
}
