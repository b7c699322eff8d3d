package accept

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"

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
	for sent, kept := range map[string]bool{"yard-7/12": true, "": false, "two words": false, "line\tbreak": false,
		strings.Repeat("x", 101): false} {
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
	if res, err := http.Post(s.URL()+"/tripwire/glx_quiet-7731", "application/json", strings.NewReader("{}")); err != nil {
		t.Fatal(err)
	} else {
		res.Body.Close()
	}
	logged("method=POST path=/tripwire/… status=404")
	if res, err := http.Get(s.URL() + "/tripwire/glx_quiet-7731"); err != nil { // somebody opens it in a browser
		t.Fatal(err)
	} else {
		res.Body.Close()
	}
	logged("method=GET path=/tripwire/…")
	_, _, _, _ = guest.Send("GET", "/calendar/quiet-7731.ics", nil)
	logged("method=GET path=/calendar/…")
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
	if status, raw, _, _ := (gltest.Caller{URL: other.AdminURL()}).Send("GET", "/debug/pprof/", nil); status != 200 ||
		!strings.Contains(string(raw), "goroutine") {
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

// A request is a span of its caller's trace, called after its route, with the request's id; the log
// names the trace. Streams are none. Spans go to the collector that OpenTelemetry's variables name.
func TestRequestsAreSpans(t *testing.T) {
	kept := tracetest.NewInMemoryExporter()
	var log gltest.Log
	s := gltest.Start(t, log.To, func(c *server.Config) {
		c.LogOneOf, c.Tracer = 1, sdktrace.NewTracerProvider(sdktrace.WithSyncer(kept))
	})
	s.Flag(t, "one-touch-open")
	client := open(t, s, "production")
	kept.Reset()
	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	s.Keeper.With("Traceparent", "00-"+trace+"-00f067aa0ba902b7-01").With("X-Request-Id", "yard-9").Do(t, "GET",
		inProd+"/flags/one-touch-open?", nil, 200, nil)
	gltest.Eventually(t, "the span is there", func() bool {
		for _, span := range kept.GetSpans() {
			said := fmt.Sprint(span.Attributes)
			if span.SpanContext.TraceID().String() == trace {
				if span.Name != "GET /api/v1/projects/:project/environments/:environment/flags/:flag" ||
					!strings.Contains(said, "yard-9") {
					t.Errorf("%s %s", span.Name, said)
				}
				return true
			}
		}
		return false
	})
	gltest.Eventually(t, "the log names the trace", func() bool {
		return strings.Contains(log.String(), "trace="+trace)
	})
	if err := client.Close(); err != nil {
		t.Fatal(err)
	}
	if res, err := http.Post(s.URL()+"/tripwire/glx_quiet-7731", "application/json", strings.NewReader("{}")); err != nil {
		t.Fatal(err)
	} else {
		res.Body.Close()
	}
	for _, span := range kept.GetSpans() {
		if strings.Contains(fmt.Sprint(span), "quiet-7731") {
			t.Errorf("a secret is in a span: %v", span)
		}
		if strings.Contains(span.Name, "feed") {
			t.Errorf("a stream is a span: %s", span.Name)
		}
	}
	got := make(chan string, 10)
	collector := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		got <- r.URL.Path + " " + string(raw)
	}))
	defer collector.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", collector.URL)
	t.Setenv("OTEL_EXPORTER_OTLP_COMPRESSION", "none")
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var said gltest.Log
	ended := make(chan int, 1)
	go func() {
		ended <- cli.Run(ctx, []string{"serve", "--dsn", s.DSN, "--dir", t.TempDir(), "--listen", "127.0.0.1:0",
			"--admin", "", "--connections-pages", "3"}, strings.NewReader(""), io.Discard, &said)
	}()
	at := regexp.MustCompile(`the service listens" url=(\S+)`)
	gltest.Eventually(t, "it listens", func() bool { return at.MatchString(said.String()) })
	(gltest.Caller{URL: at.FindStringSubmatch(said.String())[1]}).Do(t, "GET", "/healthz", nil, 200, nil)
	cancel()
	if code := <-ended; code != 0 {
		t.Fatalf("%d %s", code, said.String())
	}
	if sent := <-got; !strings.HasPrefix(sent, "/v1/traces ") || !strings.Contains(sent, "GET /healthz") {
		t.Errorf("the collector got %q", sent)
	}
}

// A process that cannot read revisions although the records can be reached says that it is not ready:
// others decide by more. Its connections and its lag are among the metrics.
func TestStaleNodesAreNotReady(t *testing.T) {
	s := gltest.Start(t, func(c *server.Config) { c.ReadyStale = 100 * time.Millisecond })
	s.Flag(t, "one-touch-open")
	s.Keeper.Do(t, "GET", "/projects/pinecrest/board", nil, 200, nil) // the environments are in place
	lag := func() string {
		_, raw, _, err := gltest.Caller{URL: s.AdminURL()}.Send("GET", "/metrics", nil)
		if err != nil || !strings.Contains(string(raw), `go_sql_open_connections{db_name="feed"}`) {
			t.Fatalf("%v in %s", err, raw)
		}
		return regexp.MustCompile(`(?m)^greenlever_feed_lag_seconds .*$`).FindString(string(raw))
	}
	s.Keeper.Do(t, "GET", "/readyz", nil, 200, nil)
	if l := lag(); l != "greenlever_feed_lag_seconds 0" && l != "greenlever_feed_lag_seconds 0.0" {
		t.Error(l)
	}
	db, err := sql.Open("mysql", s.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("RENAME TABLE revisions TO revisions_away"); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "it is not ready", func() bool {
		status, raw, _, err := s.Keeper.Send("GET", "/readyz", nil)
		return err == nil && status == 503 && strings.Contains(string(raw), "revisions could not be read")
	})
	if l := lag(); strings.HasSuffix(l, " 0") {
		t.Error(l)
	}
	if _, err := db.Exec("RENAME TABLE revisions_away TO revisions"); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "it is ready again", func() bool {
		status, _, _, err := s.Keeper.Send("GET", "/readyz", nil)
		return err == nil && status == 200
	})
}

func TestOptionsOfLogsAndSecrets(t *testing.T) {
	file := filepath.Join(t.TempDir(), "dsn")
	if err := os.WriteFile(file, []byte("nobody@tcp(127.0.0.1:1)/x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for args, says := range map[string]string{
		"serve --log-level loud": "--log-level", "serve --log-format xml": "--log-format",
		"serve --dsn x --dsn-file " + file: "not both", "serve --dsn-file " + file + "x": "--dsn-file",
		"outpost --log-level loud":                                    "--log-level",
		"outpost --url http://a.example,http://b.example --key gls_x": "one address",
	} {
		var out bytes.Buffer
		if code := cli.Run(context.Background(), strings.Fields(args), strings.NewReader(""), &out, &out); code != 2 ||
			!strings.Contains(out.String(), says) {
			t.Errorf("%s: %d %s", args, code, out.String())
		}
	}
}
