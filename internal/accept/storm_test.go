package accept

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
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

// program builds the program once for all tests of the package.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "gl-bin-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "greenlever")
	out, err := exec.Command("go", "build", "-o", path, "../../cmd/greenlever").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
})

// process is a service in a process of its own, which kill -9 can end.
type process struct {
	cmd  *exec.Cmd
	url  string
	code string // for the first account
}

// serve starts the program; the first start over a database also prints a code.
func serve(t *testing.T, listen, dsn, dir string, first bool) *process {
	t.Helper()
	path, err := program()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(path, "serve", "--listen", listen, "--dsn", dsn, "--dir", dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	pipe, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	p := &process{cmd: cmd}
	said := make(chan *process, 1)
	go func() {
		scan := bufio.NewScanner(pipe)
		for scan.Scan() {
			line := scan.Text()
			if _, url, ok := strings.Cut(line, `msg="the service listens" url=`); ok {
				said <- &process{url: strings.TrimSpace(url)}
			}
			if _, code, ok := strings.Cut(line, "/set-up?code="); ok {
				said <- &process{code: strings.TrimSpace(code)}
			}
		}
		_, _ = io.Copy(io.Discard, pipe)
		close(said)
	}()
	deadline := time.After(gltest.Patience)
	for p.url == "" || first && p.code == "" {
		select {
		case news, ok := <-said:
			if !ok {
				t.Fatal("the service ended while starting")
			}
			if news.url != "" {
				p.url = news.url
			} else {
				p.code = news.code
			}
		case <-deadline:
			t.Fatal("the service did not start in time")
		}
	}
	t.Cleanup(p.kill)
	return p
}

func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// kill -9 of the service, then of MariaDB, during a storm of 1,000 changes from 8 writers:
// every change that was answered with success is in flag, revision and audit, none is half
// there, revisions have no gap, and the chain verifies.
func TestKillDuringAStorm(t *testing.T) {
	const writers, changes = 8, 1_000
	dir := t.TempDir()
	db, err := localdb.Start(context.Background(), filepath.Join(dir, "db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Stop()
	dsn, err := db.DSN("storm")
	if err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(dir, "config")
	p := serve(t, "127.0.0.1:0", dsn, config, true)
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}}
	guest := gltest.Caller{URL: p.url}
	guest.Do(t, "POST", "/set-up", object{"code": p.code, "email": gltest.KeeperEmail, "name": "Ida Holm",
		"password": gltest.Password}, 201, nil)
	s.Keeper = tokenAt(t, p.url)
	s.Keeper.Do(t, "POST", "/projects", object{"key": "pinecrest"}, 201, nil)
	s.Environment(t, "production", false)
	for w := range writers {
		s.Flag(t, fmt.Sprintf("flag-%d", w))
	}

	// Each writer edits its own flag; what it gives is the number of the edit. A writer whose
	// request failed tries it again with the same idempotency key until it is answered.
	answers := make([][]answer, writers)
	var done atomic.Int64
	var storm sync.WaitGroup
	give := time.Now().Add(3 * time.Minute)
	for w := range writers {
		storm.Go(func() {
			key := fmt.Sprintf("flag-%d", w)
			var doc flag.Document
			version := int64(1)
			if raw, ok := try(s.Keeper, "GET", inProd+"/flags/"+key, nil, give); ok {
				var v gltest.View
				_ = json.Unmarshal(raw, &v)
				doc = *v.Document
			}
			for i := range changes / writers {
				doc.Rules = []flag.Rule{{ID: "r", Name: fmt.Sprintf("edit %d", i), Gives: flag.Gives{Variant: "on"}}}
				body, _ := json.Marshal(object{"document": doc})
				c := s.Keeper.With("If-Match", fmt.Sprint(version)).With("Idempotency-Key", fmt.Sprintf("%s-%d", key,
					i))
				raw, ok := try(c, "PUT", inProd+"/flags/"+key, body, give)
				if !ok {
					t.Errorf("%s edit %d was never answered: %s", key, i, raw)
					return
				}
				var saved gltest.Saved
				_ = json.Unmarshal(raw, &saved)
				answers[w] = append(answers[w], answer{saved.Version, saved.Revision})
				version = saved.Version
				done.Add(1)
			}
		})
	}
	address := strings.TrimPrefix(p.url, "http://")
	gltest.Eventually(t, "a third of the storm", func() bool { return done.Load() > changes/3 })
	p.kill()
	serve(t, address, dsn, config, false)
	gltest.Eventually(t, "two thirds of the storm", func() bool { return done.Load() > changes*2/3 })
	if err := db.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := db.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	storm.Wait()
	if t.Failed() {
		return
	}
	if n := done.Load(); n != changes {
		t.Errorf("%d of %d changes were answered", n, changes)
	}

	accounted(t, s, answers, int64(1+writers)) // behind the environment and its flags
}

// answer is what a writer was told of one of its changes.
type answer struct{ version, revision int64 }

// accounted checks that each change that was answered, writer by writer, is once in flag,
// revision and audit, and that the revisions behind the first have no gap; it gives the last.
func accounted(t *testing.T, s *gltest.Service, answers [][]answer, first int64) (last int64) {
	t.Helper()
	// In the audit: an entry for each. In the flag: the last version of each.
	entries := map[string]int64{} // by flag and version: revision
	seen := map[int64]bool{}
	last = first
	cursor := ""
	for {
		var page struct {
			Items []struct {
				Subject           string
				Action            string
				Version, Revision int64
			}
			Cursor string
		}
		s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=production&limit=200&cursor="+cursor, nil, 200,
			&page)
		for _, e := range page.Items {
			if e.Revision > first && e.Action != "environment.changed" {
				if seen[e.Revision] {
					t.Errorf("revision %d was given twice", e.Revision)
				}
				seen[e.Revision], last = true, max(last, e.Revision)
			}
			entries[fmt.Sprintf("%s/%d", e.Subject, e.Version)] = e.Revision
		}
		if cursor = page.Cursor; cursor == "" {
			break
		}
	}
	for r := first + 1; r <= last; r++ {
		if !seen[r] {
			t.Errorf("revision %d is missing", r)
		}
	}
	for w := range answers {
		key := fmt.Sprintf("flag-%d", w)
		for i, a := range answers[w] {
			if a.version != int64(i)+2 {
				t.Fatalf("%s: edit %d made version %d: it was done twice, or one was lost", key, i, a.version)
			}
			if entries[fmt.Sprintf("%s/%d", key, a.version)] != a.revision {
				t.Errorf("%s version %d: the audit says revision %d, the answer was %d", key, a.version,
					entries[fmt.Sprintf("%s/%d", key, a.version)], a.revision)
			}
		}
		n := len(answers[w])
		if v := s.Get(t, "production", key); v.Version != int64(n)+1 || n > 0 &&
			v.Document.Rules[0].Name != fmt.Sprintf("edit %d", n-1) {
			t.Errorf("%s ends at version %d after %d edits", key, v.Version, n)
		}
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the chain: %v", r.Findings)
	}
	return last
}

// try sends a request again and again until it is answered.
func try(c gltest.Caller, method, path string, body []byte, until time.Time) ([]byte, bool) {
	var raw []byte
	for time.Now().Before(until) {
		status, answer, _, err := c.Send(method, path, body)
		if err == nil && status < 400 {
			return answer, true
		}
		raw = answer
		if err == nil && status != 503 && status != 429 {
			return raw, false
		}
		time.Sleep(5 * time.Millisecond) // the service is being started again
	}
	return raw, false
}

func tokenAt(t *testing.T, url string) gltest.Caller {
	t.Helper()
	raw, _ := json.Marshal(object{"email": gltest.KeeperEmail, "password": gltest.Password})
	res, err := http.Post(url+"/api/v1/sign-in", "application/json", strings.NewReader(string(raw)))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var me struct{ CSRF string }
	_ = json.NewDecoder(res.Body).Decode(&me)
	var token struct{ Secret string }
	gltest.Caller{URL: url}.With("Cookie", res.Cookies()[0].String()).With("X-Greenlever-CSRF", me.CSRF).Do(t, "POST",
		"/me/tokens", object{"name": "x", "days": 1}, 201, &token)
	return gltest.Caller{URL: url}.With("Authorization", "Bearer "+token.Secret)
}
