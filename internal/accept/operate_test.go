package accept

import (
	"bytes"
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

// Each request has an id, its caller's where that is plain; what fails here is logged with it, and of
// what goes well one of so many.
func TestRequestsAreLogged(t *testing.T) {
	var log gltest.Log
	s := gltest.Start(t, log.To, func(c *server.Config) { c.LogOneOf = 1 })
	guest := gltest.Caller{URL: s.URL()}
	for sent, kept := range map[string]bool{"yard-7/12": true, "": false, "two words": false, "line\tbreak": false, strings.Repeat("x", 101): false} {
		_, _, header, _ := guest.With("X-Request-Id", sent).Send("GET", "/healthz", nil)
		if id := header.Get("X-Request-Id"); (id == sent) != kept || id == "" || strings.ContainsAny(id, " \t") {
			t.Errorf("%q became %q", sent, id)
		}
	}
	logged := func(text string) { // a moment after the answer
		t.Helper()
		gltest.Eventually(t, text, func() bool { return strings.Contains(log.String(), text) })
	}
	logged("level=INFO msg=request id=yard-7/12 method=GET path=/healthz status=200 bytes=3 took=")
	status, _, header, _ := guest.Send("GET", "/nowhere?token=quiet-7731", nil)
	logged("id=" + header.Get("X-Request-Id") + " method=GET path=/api/v1/nowhere status=404")
	if status != 404 || strings.Contains(log.String(), "quiet-7731") {
		t.Errorf("%d\n%s", status, log.String())
	}
	var calm gltest.Log
	other := s.Serve(t, calm.To)
	for range 50 {
		(gltest.Caller{URL: other.URL()}).Do(t, "GET", "/healthz", nil, 200, nil)
	}
	if strings.Contains(calm.String(), "msg=request") {
		t.Error(calm.String())
	}
}

// Who ends says so first, and answers meanwhile; profiles are for operators alone.
func TestEndingIsSaid(t *testing.T) {
	s := gltest.Start(t)
	other := s.Serve(t, func(c *server.Config) { c.Drain = 2 * time.Second })
	at := gltest.Caller{URL: other.URL()}
	at.Do(t, "GET", "/readyz", nil, 200, nil)
	if status, raw, _, _ := (gltest.Caller{URL: other.AdminURL()}).Send("GET", "/debug/pprof/", nil); status != 200 || !strings.Contains(string(raw), "goroutine") {
		t.Errorf("profiles: %d", status)
	}
	if _, raw, _, _ := at.Send("GET", "/debug/pprof/", nil); strings.Contains(string(raw), "goroutine") {
		t.Error("profiles are for everybody")
	}
	ended := make(chan error, 1)
	go func() { ended <- other.Stop() }()
	gltest.Eventually(t, "it says that it ends", func() bool {
		status, raw, _, err := at.Send("GET", "/readyz?for=changes", nil)
		return err == nil && status == 503 && strings.Contains(string(raw), "this process ends")
	})
	key := at.With("Authorization", "Bearer "+s.Keys["production"])
	key.Do(t, "POST", "/ofrep/v1/evaluate/flags", nil, 200, nil)
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if _, err := http.Get(other.URL() + "/healthz"); err == nil {
		t.Error("it goes on listening")
	}
}

func TestOptionsOfLogsAndSecrets(t *testing.T) {
	file := filepath.Join(t.TempDir(), "dsn")
	if err := os.WriteFile(file, []byte("nobody@tcp(127.0.0.1:1)/x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for args, says := range map[string]string{
		"serve --log-level loud": "--log-level", "serve --log-format xml": "--log-format", "serve --dsn x --dsn-file " + file: "not both", "serve --dsn-file " + file + "x": "--dsn-file", "outpost --log-level loud": "--log-level",
		"outpost --url http://a.example,http://b.example --key gls_x": "one address",
	} {
		var out bytes.Buffer
		if code := cli.Run(context.Background(), strings.Fields(args), strings.NewReader(""), &out, &out); code != 2 || !strings.Contains(out.String(), says) {
			t.Errorf("%s: %d %s", args, code, out.String())
		}
	}
}
