package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/sim"
)

// runDemo runs the demo until stop is called, which gives what it returned.
func runDemo(t *testing.T, dir, listen string) (d *sim.Demo, stop func() error) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan *sim.Demo, 1), make(chan error, 1)
	go func() {
		ended <- sim.Run(ctx, sim.Config{Dir: dir, Listen: listen, Out: io.Discard,
			Ready: func(d *sim.Demo) { ready <- d }})
	}()
	t.Cleanup(cancel)
	select {
	case d = <-ready:
	case err := <-ended:
		t.Fatal(err)
	case <-time.After(time.Minute):
		t.Fatal("the demo did not start")
	}
	return d, func() error { cancel(); return <-ended }
}

// The demo starts with five flags in three environments and live traffic, goes on with its
// data at the second start, and the minimal example follows it and outlives it.
func TestDemoAndExample(t *testing.T) {
	dir := t.TempDir()
	d, stop := runDemo(t, dir, "127.0.0.1:0")
	address := strings.TrimPrefix(d.URL, "http://")
	keeper := gltest.Caller{URL: d.URL}.With("Authorization", "Bearer "+d.Tokens["keeper"])
	var board struct {
		Environments []struct{ Instances, Delivered int }
		Flags        []struct{ Key string }
	}
	keeper.Do(t, "GET", "/projects/pinecrest/board", nil, 200, &board)
	if len(board.Flags) != 10 || len(board.Environments) != 3 {
		t.Errorf("%+v", board)
	}
	gltest.Eventually(t, "the door service has the rulesets", func() bool {
		keeper.Do(t, "GET", "/projects/pinecrest/board", nil, 200, &board)
		return board.Environments[2].Instances == 7 && board.Environments[2].Delivered == 7
	})
	env, err := os.ReadFile(filepath.Join(dir, "keys.env"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"GREENLEVER_URL=" + d.URL, "GREENLEVER_KEY=gls_", "GREENLEVER_BROWSER_KEY=glb_",
		"GREENLEVER_TOKEN=glt_"} {
		if !strings.Contains(string(env), name) {
			t.Errorf("keys.env has no %s:\n%s", name, env)
		}
	}
	if _, err := localdb.Start(context.Background(), filepath.Join(dir, "mariadb")); err == nil ||
		!strings.Contains(err.Error(), "in use") {
		t.Errorf("a second server on the same data: %v", err)
	}
	if err := sim.Run(context.Background(), sim.Config{Dir: t.TempDir(), Listen: address,
		Out: io.Discard}); err == nil || !strings.Contains(err.Error(), "choose another address") {
		t.Errorf("a taken port: %v", err)
	}

	example := filepath.Join(t.TempDir(), "minimal")
	build := exec.Command("go", "build", "-o", example, ".")
	build.Dir = "../../examples/minimal"
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	cache := t.TempDir()
	run := func(vars ...string) (ask func(path string) string, end func()) {
		port := freePort(t)
		cmd := exec.Command(example)
		cmd.Env = append(os.Environ(), append(vars, "LISTEN="+port, "GREENLEVER_DIR="+cache)...)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		ask = func(path string) string {
			res, err := http.Get("http://" + port + path)
			if err != nil {
				return ""
			}
			defer res.Body.Close()
			raw, _ := io.ReadAll(res.Body)
			return string(raw)
		}
		gltest.Eventually(t, "the example answers", func() bool { return ask("/state") != "" })
		return ask, func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }
	}
	const opens = "The door opens"
	ask, end := run("GREENLEVER_URL="+d.URL, "GREENLEVER_KEY="+d.Keys["production"])
	gltest.Eventually(t, "the example follows", func() bool {
		return strings.HasPrefix(ask("/state"), "deciding from service")
	})
	closed := 0
	for i := range 10 { // some may be in the part that its release has reached
		if !strings.HasPrefix(ask(fmt.Sprintf("/door?recipient=somebody-%d&site=x", i)), opens) {
			closed++
		}
	}
	if !strings.HasPrefix(ask("/door?recipient=recipient-17"), opens) || closed == 0 {
		t.Errorf("the example decides otherwise: %d doors of 10 stay shut", closed)
	}
	if err := stop(); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "the example sees that the service is gone", func() bool {
		return strings.Contains(ask("/state"), "connected false")
	})
	if !strings.HasPrefix(ask("/door?recipient=recipient-17"), opens) {
		t.Error("without the service the example decides otherwise")
	}
	end()
	ask, end = run("GREENLEVER_URL="+d.URL, "GREENLEVER_KEY="+d.Keys["production"])
	if !strings.HasPrefix(ask("/state"), "deciding from disk") ||
		!strings.HasPrefix(ask("/door?recipient=recipient-17"), opens) {
		t.Errorf("restarted without the service: %s", ask("/state"))
	}
	// The demo comes back with its data, and the example finds it by itself.
	again, stopAgain := runDemo(t, dir, address)
	if again.Keys["production"] != d.Keys["production"] {
		t.Error("the second start made other keys")
	}
	gltest.Eventually(t, "the example recovers", func() bool {
		return strings.HasPrefix(ask("/state"), "deciding from service")
	})
	end()
	if err := stopAgain(); err != nil {
		t.Fatal(err)
	}
	alone, err := filepath.Abs("../../examples/minimal/flags.json")
	if err != nil {
		t.Fatal(err)
	}
	ask, end = run("GREENLEVER_URL=", "GREENLEVER_KEY=", "GREENLEVER_FILE="+alone)
	defer end()
	if !strings.HasPrefix(ask("/state"), "deciding from file") ||
		!strings.HasPrefix(ask("/door?recipient=recipient-17"), opens) {
		t.Errorf("from a file alone: %s", ask("/state"))
	}
}

func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// The program stops cleanly on a signal, with MariaDB and all.
func TestDemoStopsOnASignal(t *testing.T) {
	path, err := program()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	cmd := exec.Command(path, "demo", "--dir", dir, "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	said := make([]byte, 0, 4096)
	buffer := make([]byte, 512)
	for !bytes.Contains(said, []byte("Ctrl-C")) {
		n, err := out.Read(buffer)
		if err != nil {
			t.Fatalf("the demo ended: %s", said)
		}
		said = append(said, buffer[:n]...)
	}
	pid, err := os.ReadFile(filepath.Join(dir, "mariadb", "pid"))
	if err != nil {
		t.Fatal(err)
	}
	_ = cmd.Process.Signal(os.Interrupt)
	_, _ = io.Copy(io.Discard, out)
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	if _, err := os.Stat("/proc/" + strings.TrimSpace(string(pid))); err == nil {
		t.Error("MariaDB still runs")
	}
	var d sim.Demo
	raw, _ := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err := json.Unmarshal(raw, &d); err != nil || d.Password == "" {
		t.Errorf("%v %s", err, raw)
	}
}
