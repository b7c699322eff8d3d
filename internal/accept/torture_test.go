package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/client/relay"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
)

// cable passes connections on to an address, and can be made a bad one.
type cable struct {
	net.Listener
	to    string
	bad   atomic.Bool
	mu    sync.Mutex
	conns map[net.Conn]bool
	done  sync.WaitGroup
}

func newCable(t *testing.T, to string) *cable {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &cable{Listener: l, to: to, conns: map[net.Conn]bool{}}
	w.done.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			w.done.Go(func() { w.pass(c) })
		}
	})
	return w
}

func (w *cable) url() string { return "http://" + w.Addr().String() }

func (w *cable) pass(c net.Conn) {
	defer c.Close()
	up, err := net.Dial("tcp", w.to)
	if err != nil {
		return
	}
	defer up.Close()
	w.mu.Lock()
	w.conns[c] = true
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		delete(w.conns, c)
		w.mu.Unlock()
	}()
	var both sync.WaitGroup
	both.Go(func() { w.copy(up, c) })
	w.copy(c, up)
	both.Wait()
}

// copy passes bytes on, in a storm late and in pieces.
func (w *cable) copy(to, from net.Conn) {
	defer to.Close()
	b := make([]byte, 4096)
	for {
		n, err := from.Read(b)
		for at := 0; at < n; {
			some := n - at
			if w.bad.Load() {
				time.Sleep(rand.N(30 * time.Millisecond)) // the delay is what is tested
				some = 1 + rand.N(some)
			}
			if _, err := to.Write(b[at : at+some]); err != nil {
				return
			}
			at += some
		}
		if err != nil {
			return
		}
	}
}

// drop ends about a share of the connections.
func (w *cable) drop(share float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.conns {
		if rand.Float64() < share {
			c.Close()
		}
	}
}

func (w *cable) close() {
	w.Listener.Close()
	w.drop(1)
	w.done.Wait()
}

// child is a process that ends by kill -9 and is started again.
type child struct {
	args []string
	env  []string
	at   string // where it listens
	cmd  *exec.Cmd
}

func (c *child) start(t *testing.T) {
	t.Helper()
	path, err := program()
	if err != nil {
		t.Fatal(err)
	}
	c.cmd = exec.Command(path, c.args...)
	c.cmd.Env = append(os.Environ(), c.env...)
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	said := &gltest.Log{}
	c.cmd.Stderr = said
	t.Cleanup(func() { // what failed there says why a request was answered with 500
		if !t.Failed() {
			return
		}
		for line := range strings.Lines(said.String()) {
			if strings.Contains(line, "request failed") && strings.Contains(line, "status=500") {
				t.Log(strings.TrimSpace(line))
			}
		}
	})
	if err := c.cmd.Start(); err != nil {
		t.Fatal(err)
	}
}

func (c *child) kill() {
	_ = c.cmd.Process.Kill()
	_ = c.cmd.Wait()
}

func (c *child) up(t *testing.T) {
	t.Helper()
	gltest.Eventually(t, c.args[0]+" answers", func() bool {
		res, err := http.Get("http://" + c.at + "/readyz")
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == 200
	})
}

// descriptors counts the open files of a process.
func descriptors(pid int) int {
	all, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	return len(all)
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// watched is a client that checks that it never goes back.
type watched struct {
	*greenlever.Client
	url, dir   string
	epoch, had int64
	mu         sync.Mutex
	backwards  string
	key        string
}

func (w *watched) applied(rs *flag.Ruleset, _ *flag.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if rs.Epoch == w.epoch && rs.Revision < w.had {
		w.backwards = fmt.Sprintf("%d.%d after %d.%d", rs.Epoch, rs.Revision, w.epoch, w.had)
	}
	w.epoch, w.had = rs.Epoch, rs.Revision
}

func (w *watched) open(t *testing.T) {
	t.Helper()
	var err error
	w.Client, err = greenlever.Open(context.Background(),
		(&relay.Relay{Applied: w.applied}).In(greenlever.Options{URL: w.url, Key: w.key, Dir: w.dir,
			Application: "door", Version: "1", Logger: quiet, Wait: -1,
			Report: time.Second, HTTP: &http.Client{Transport: &http.Transport{}}}))
	if err != nil {
		t.Fatal(err)
	}
}

// torture is how long the storm goes on; GREENLEVER_TORTURE says otherwise, such as 2m.
const torture = 15 * time.Second

// 200 clients behind three outposts and two processes of the service, which end by
// kill -9 and are started again at random while flags change and connections are delayed and dropped: no
// client goes back, all have the last revision within two seconds of quiet, and nothing leaks.
func TestTorture(t *testing.T) {
	const clients, bar = 200, 2 * time.Second
	length := torture
	if d, err := time.ParseDuration(os.Getenv("GREENLEVER_TORTURE")); err == nil {
		length = d
	}
	dsn, dir := gltest.DSN(t), t.TempDir()
	first := serve(t, "127.0.0.1:0", dsn, filepath.Join(dir, "a"), true)
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}}
	guest := gltest.Caller{URL: first.url}
	guest.Do(t, "POST", "/set-up", object{"code": first.code, "email": gltest.KeeperEmail, "name": "Ida Holm",
		"password": gltest.Password}, 201, nil)
	s.Keeper = tokenAt(t, first.url)
	s.Keeper.Do(t, "POST", "/projects", object{"key": "pinecrest"}, 201, nil)
	s.Environment(t, "production", false)
	s.Flag(t, "a")
	first.kill()

	goroutines, files := runtime.NumGoroutine(), descriptors(os.Getpid())
	var children []*child
	var wires []*cable
	for i := range 2 {
		at := freeAddress(t)
		children = append(children, &child{at: at, args: []string{"serve", "--listen", at, "--dsn", dsn, "--dir",
			filepath.Join(dir, fmt.Sprint("s", i))}})
	}
	for i := range 2 {
		wires = append(wires, newCable(t, children[i].at))
	}
	for i := range 3 {
		at := freeAddress(t)
		children = append(children, &child{at: at, env: []string{"GREENLEVER_KEY=" + s.Keys["production"]},
			args: []string{"outpost", "--url", wires[i%2].url(), "--listen", at, "--dir",
				filepath.Join(dir, fmt.Sprint("o", i)), "--name", fmt.Sprint("yard-", i)}})
		wires = append(wires, newCable(t, at))
	}
	for _, c := range children {
		c.start(t)
		defer c.kill()
	}
	for _, c := range children {
		c.up(t)
	}
	var all []*watched
	for i := range clients {
		w := &watched{url: wires[i%len(wires)].url(), dir: filepath.Join(dir, fmt.Sprint("c", i)),
			key: s.Keys["production"]}
		w.open(t)
		all = append(all, w)
	}
	open := true
	closeAll := func() {
		if open {
			var closing sync.WaitGroup
			for _, w := range all {
				closing.Go(func() { w.Close() })
			}
			closing.Wait()
		}
		open = false
	}
	defer closeAll()

	// edit changes the flag through whichever process takes it.
	edit := func(lever flag.Lever) (revision int64) {
		for deadline := time.Now().Add(gltest.Patience); time.Now().Before(deadline); {
			caller := gltest.Caller{URL: "http://" + children[rand.N(2)].at, Header: s.Keeper.Header}
			var v gltest.View
			status, raw, _, err := caller.Send("GET", inProd+"/flags/a", nil)
			if err == nil && status == 200 && json.Unmarshal(raw, &v) == nil {
				v.Document.Lever, v.Document.End = lever, flag.Gives{Variant: "on"}
				body, _ := json.Marshal(object{"document": v.Document, "reason": "torture"})
				var saved gltest.Saved
				status, raw, _, err = caller.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/a",
					body)
				if err == nil && status == 200 && json.Unmarshal(raw, &saved) == nil {
					return saved.Revision
				}
			}
			time.Sleep(20 * time.Millisecond) // between tries
		}
		return 0
	}
	for _, w := range wires {
		w.bad.Store(true)
	}
	kills, drops, edits, reopened := 0, 0, 0, 0
	for begun := time.Now(); time.Since(begun) < length; {
		switch rand.N(6) {
		case 0:
			c := children[rand.N(len(children))]
			c.kill()
			if rand.N(2) == 0 {
				time.Sleep(rand.N(time.Second)) // it is away for a while
			}
			c.start(t)
			kills++
		case 1, 2:
			wires[rand.N(len(wires))].drop(0.5)
			drops++
		case 3:
			w := all[rand.N(len(all))]
			_ = w.Close() // it may not reach anybody to say goodbye to
			w.mu.Lock()
			w.epoch, w.had = 0, 0 // it begins from its disk
			before := w.State().Revision
			w.mu.Unlock()
			w.open(t)
			if st := w.State(); before > 0 && st.Source != greenlever.FromNowhere && st.Revision < before {
				t.Errorf("opened again at %d after %d", st.Revision, before)
			}
			reopened++
		default:
			if edit([]flag.Lever{flag.On, flag.Off}[edits%2]) > 0 {
				edits++
			}
		}
	}
	for _, w := range wires {
		w.bad.Store(false)
	}
	for _, c := range children {
		c.up(t)
	}
	connected := func() (n int) {
		for _, w := range all {
			if w.State().Connected {
				n++
			}
		}
		return n
	}
	calm := time.Now()
	gltest.Eventually(t, "all are connected again", func() bool { return connected() == clients })
	back := time.Since(calm)
	edit(flag.Off)
	last := edit(flag.On)
	quietSince := time.Now()
	gltest.Eventually(t, "all have the last revision", func() bool {
		for _, w := range all {
			if st := w.State(); st.Revision < last || st.Source != greenlever.FromService {
				return false
			}
		}
		return true
	})
	took := time.Since(quietSince)
	t.Logf("%v of storm: %d kills, %d drops, %d edits, %d opened again; all connected %v after it, all at revision "+
		"%d in %v", length, kills, drops, edits, reopened, back.Round(time.Millisecond), last,
		took.Round(time.Millisecond))
	if took > bar {
		t.Errorf("all had the last revision %v after quiet", took)
	}
	if kills == 0 || edits < 5 || last == 0 {
		t.Errorf("%d kills, %d edits: no storm", kills, edits)
	}
	for _, w := range all {
		if w.mu.Lock(); w.backwards != "" {
			t.Errorf("a client went back: %s", w.backwards)
		}
		w.mu.Unlock()
		if !w.Bool(context.Background(), "a", greenlever.Unit("x"), false) {
			t.Error("a client has the last revision and another answer")
		}
	}
	closeAll()
	for _, w := range wires {
		w.close()
	}
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
	gltest.Eventually(t, "no goroutine and no descriptor is left over here", func() bool {
		return runtime.NumGoroutine() <= goroutines+5 && descriptors(os.Getpid()) <= files+10
	})
	gltest.Eventually(t, "no descriptor is left over in the children", func() bool {
		for _, c := range children {
			if descriptors(c.cmd.Process.Pid) > 40 {
				return false
			}
		}
		return true
	})
}
