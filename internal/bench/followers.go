package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/server"
)

// childAsks makes this program a service, in a process of its own so that its memory and its
// descriptors can be told from those of its followers.
const childAsks = "GREENLEVER_BENCH_CHILD"

// child runs a service until its standard input ends.
func child(ctx context.Context) error {
	var c struct{ Listen, DSN, Dir string }
	if os.Getenv(childAsks) == "loop" {
		return loopChild()
	}
	if err := json.Unmarshal([]byte(os.Getenv(childAsks)), &c); err != nil {
		return err
	}
	s, err := server.Start(ctx, server.Config{Listen: c.Listen, DSN: c.DSN, Dir: c.Dir, Log: quiet})
	if err != nil {
		return err
	}
	fmt.Println(s.URL(), s.SetUpCode)
	_, _ = io.Copy(io.Discard, os.Stdin)
	return s.Stop()
}

// apart is a service in a process of its own.
type apart struct {
	cmd   *exec.Cmd
	stdin io.WriteCloser
	url   string
	code  string
}

func startApart(listen, dsn, dir string) (*apart, error) {
	asks, _ := json.Marshal(map[string]string{"Listen": listen, "DSN": dsn, "Dir": dir})
	return startChild(string(asks))
}

func startChild(asks string) (*apart, error) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), childAsks+"="+asks)
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	a := &apart{cmd: cmd, stdin: stdin}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return nil, fmt.Errorf("the service did not start: %w", err)
	}
	a.url, a.code, _ = strings.Cut(strings.TrimSpace(line), " ")
	return a, nil
}

func (a *apart) stop() error {
	_ = a.stdin.Close()
	return a.cmd.Wait()
}

// resident is the memory of the process, in bytes.
func (a *apart) resident() int64 {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", a.cmd.Process.Pid))
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), "kB")), 10, 64)
			return kb << 10
		}
	}
	return 0
}

// crowd is many connections that wait for a mark in what they read. Each honours the spread
// that the last beat asked for, as the Go client does, when its connection ends.
type crowd struct {
	address string
	hello   string
	mark    []byte
	again   bool // come back when the connection ends

	seen   atomic.Int64 // marks
	open   atomic.Int64
	began  atomic.Int64 // Unix nanoseconds: when connections ended
	mu     sync.Mutex
	last   time.Time
	curve  []time.Duration // after which they were open again
	closed atomic.Bool
	conns  sync.Map
}

func (c *crowd) join(n int) error {
	limit := make(chan struct{}, 200)
	for range n {
		limit <- struct{}{}
		go func() {
			c.live(func() { <-limit })
		}()
	}
	return c.wait(n)
}

func (c *crowd) wait(n int) error {
	for deadline := time.Now().Add(2 * time.Minute); c.open.Load() < int64(n); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			return fmt.Errorf("%d of %d connections are open", c.open.Load(), n)
		}
	}
	return nil
}

func (c *crowd) live(joined func()) {
	once := sync.OnceFunc(joined)
	defer once()
	wait := 100 * time.Millisecond
	for !c.closed.Load() {
		spread, ok := c.read(once)
		if !c.again || c.closed.Load() {
			return
		}
		pause := wait/2 + rand.N(wait)
		if ok {
			wait = 100 * time.Millisecond
			if spread > pause {
				pause = rand.N(spread)
			}
		} else {
			wait = min(2*wait, 15*time.Second)
		}
		time.Sleep(pause) // what is measured
	}
}

// read reads one connection to its end, and gives the spread that it was last asked for.
func (c *crowd) read(joined func()) (spread time.Duration, ok bool) {
	conn, err := net.Dial("tcp", c.address)
	if err != nil {
		return 0, false
	}
	c.conns.Store(conn, true)
	defer func() { c.conns.Delete(conn); conn.Close() }()
	if _, err := io.WriteString(conn, c.hello); err != nil {
		return 0, false
	}
	b := make([]byte, 2048)
	for {
		n, err := conn.Read(b)
		if err != nil {
			if ok {
				c.open.Add(-1)
				c.began.CompareAndSwap(0, time.Now().UnixNano())
			}
			return spread, ok
		}
		if !ok {
			ok = true
			c.open.Add(1)
			if began := c.began.Load(); began > 0 {
				c.mu.Lock()
				c.curve = append(c.curve, time.Since(time.Unix(0, began)))
				c.mu.Unlock()
			}
			joined()
		}
		if _, rest, found := bytes.Cut(b[:n], []byte(`"spread":`)); found {
			var ms int
			_, _ = fmt.Sscan(string(bytes.TrimRight(rest[:min(6, len(rest))], "}\r\nabcdef,")), &ms)
			spread = min(time.Duration(ms)*time.Millisecond, 15*time.Second)
		}
		if bytes.Contains(b[:n], c.mark) {
			now := time.Now()
			c.mu.Lock()
			if now.After(c.last) {
				c.last = now
			}
			c.mu.Unlock()
			c.seen.Add(1)
		}
	}
}

func (c *crowd) close() {
	c.closed.Store(true)
	c.conns.Range(func(conn, _ any) bool { conn.(net.Conn).Close(); return true })
}

// reached waits until n marks were seen and gives when the last one was.
func (c *crowd) reached(n int64) (time.Time, error) {
	for deadline := time.Now().Add(time.Minute); c.seen.Load() < n; time.Sleep(200 * time.Microsecond) {
		if time.Now().After(deadline) {
			return time.Time{}, fmt.Errorf("%d of %d have it", c.seen.Load(), n)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.last, nil
}

// loopChild is the floor of a push: a bare server that writes the same bytes to each
// connection in turn, for each line that it reads.
func loopChild() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	var mu sync.Mutex
	var conns []net.Conn
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			conns = append(conns, c)
			mu.Unlock()
			_, _ = c.Write([]byte("ready"))
		}
	}()
	fmt.Println("http://" + l.Addr().String())
	frame := append([]byte("event: revision\n"), bytes.Repeat([]byte("x"), 400)...)
	for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
		mu.Lock()
		for _, c := range conns {
			_, _ = c.Write(frame)
		}
		mu.Unlock()
	}
	return l.Close()
}

// measure gives the median of some rounds, in milliseconds, after one to warm up.
func measure(rounds int, do func() (time.Duration, error)) (float64, error) {
	var all []float64
	for i := range rounds + 1 {
		d, err := do()
		if err != nil {
			return 0, err
		}
		if i > 0 {
			all = append(all, d.Seconds()*1000)
		}
	}
	return median(all), nil
}

// loopFloor measures the bare loop with n connections. It has its turn before ours, since a
// process has too few descriptors for both at once.
func loopFloor(n, rounds int) (float64, error) {
	bare, err := startChild("loop")
	if err != nil {
		return 0, err
	}
	defer func() { _ = bare.stop() }()
	floor := &crowd{address: strings.TrimPrefix(bare.url, "http://"), mark: []byte("event: revision")}
	defer floor.close()
	if err := floor.join(n); err != nil {
		return 0, err
	}
	return measure(rounds, func() (time.Duration, error) {
		want := floor.seen.Load() + int64(n)
		started := time.Now()
		if _, err := io.WriteString(bare.stdin, "push\n"); err != nil {
			return 0, err
		}
		last, err := floor.reached(want)
		return last.Sub(started), err
	})
}

// benchFollowers measures the push of a change to many idle followers, what a follower costs
// in memory, and how followers come back after a restart.
func benchFollowers(ctx context.Context, rounds int) (rows []row, err error) {
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
	a, err := startApart("127.0.0.1:0", dsn, dir)
	if err != nil {
		return nil, err
	}
	stopped := false
	defer func() {
		if !stopped {
			_ = a.stop()
		}
	}()
	s := &service{dir: dir, at: a.url}
	if err := s.setUp(ctx, a.code); err != nil {
		return nil, err
	}
	if err := s.addFlags(0, 1_000); err != nil {
		return nil, err
	}
	const path = "/projects/pinecrest/environments/production/flags/flag-77"
	var v struct {
		Document flag.Document
		Version  int64
	}
	if err := s.call("GET", path, 0, nil, &v); err != nil {
		return nil, err
	}
	flip := func() error {
		v.Document.Lever = map[flag.Lever]flag.Lever{flag.On: flag.Off, flag.Off: flag.On}[v.Document.Lever]
		var saved struct{ Version int64 }
		err := s.call("PUT", path, v.Version, map[string]any{"document": v.Document}, &saved)
		v.Version = saved.Version
		return err
	}
	hello := "GET /follow/v1/feed HTTP/1.1\r\nHost: bench\r\nAccept: text/event-stream\r\nAuthorization: Bearer " +
		s.key + "\r\n\r\n"
	address := strings.TrimPrefix(a.url, "http://")
	var people *crowd
	for _, n := range []int{1_000, 10_000} {
		if people != nil {
			people.close()
		}
		least, err := loopFloor(n, max(11, rounds/2))
		if err != nil {
			return nil, err
		}
		before := a.resident()
		people = &crowd{address: address, hello: hello, mark: []byte("event: revision"), again: true}
		if err := people.join(n); err != nil {
			return nil, err
		}
		each := (a.resident() - before) / int64(n)
		ours, err := measure(max(11, rounds/2), func() (time.Duration, error) {
			want := people.seen.Load() + int64(n)
			if err := flip(); err != nil {
				return 0, err
			}
			answered := time.Now()
			last, err := people.reached(want)
			return max(last.Sub(answered), time.Microsecond), err
		})
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{what: fmt.Sprintf("push of one change to %d idle followers", n),
			ours: fmt.Sprintf("%.1f ms", ours), floor: fmt.Sprintf("%.1f ms", least), ratio: ours / least, atMost: 2,
			note: fmt.Sprintf("the last one; %.1f KB of the service's memory each", float64(each)/1024)})
	}
	// A rolling restart: the process ends in order, another takes its address.
	fmt.Fprintln(os.Stderr, "waiting for a beat, which says over how long to come back ...")
	time.Sleep(17 * time.Second) // the beat's interval
	if err := a.stop(); err != nil {
		return nil, err
	}
	stopped = true
	next, err := startApart(address, dsn, dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = next.stop() }()
	const n = 10_000
	if err := people.wait(n); err != nil {
		return nil, err
	}
	people.close()
	seconds := map[int]int{}
	most, last := 0, 0
	for _, after := range people.curve {
		at := int(after.Seconds())
		seconds[at]++
		most, last = max(most, seconds[at]), max(last, at)
	}
	fmt.Printf("a rolling restart with %d streams: how many came back in each second after it\n\n", n)
	for at := range last + 1 {
		fmt.Printf("  %2d s %6d %s\n", at, seconds[at], strings.Repeat("#", (seconds[at]*60+most-1)/most))
	}
	fmt.Println()
	rows = append(rows, row{what: "rolling restart, 10,000 streams: in the busiest second",
		ours: fmt.Sprintf("%.0f %%", 100*float64(most)/n), note: fmt.Sprintf("the last came back after %d s", last+1)})
	return rows, nil
}

func firstError(a, b error) error {
	if a != nil {
		return a
	}
	return b
}
