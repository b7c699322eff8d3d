package openfeature

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	of "github.com/open-feature/go-sdk/openfeature"
	"github.com/open-feature/go-sdk/openfeature/telemetry"

	greenlever "greenlever.example/client"
)

var (
	_     of.FeatureProvider          = (*Provider)(nil)
	_     of.ContextAwareStateHandler = (*Provider)(nil)
	_     of.EventHandler             = (*Provider)(nil)
	_     of.Tracker                  = (*Provider)(nil)
	quiet                             = slog.New(slog.NewTextHandler(io.Discard, nil))
)

// use makes the provider the one of a domain and gives a client of the SDK.
func use(t *testing.T, p *Provider) *of.Client {
	t.Helper()
	domain := t.Name()
	if err := of.SetNamedProviderAndWait(domain, p); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Shutdown() })
	return of.NewClient(domain)
}

// fromFile makes a provider that decides by a file.
func fromFile(t *testing.T, snapshot []byte, hooks ...of.Hook) *Provider {
	t.Helper()
	path := filepath.Join(t.TempDir(), "flags.json")
	if err := os.WriteFile(path, snapshot, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("GREENLEVER_URL", "")
	p, err := NewProvider(greenlever.Options{File: path, Logger: quiet}, hooks...)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// The shared vectors, asked for through the SDK.
func TestVectors(t *testing.T) {
	raw, err := os.ReadFile("../testdata/vectors/decide.json")
	if err != nil {
		t.Fatal(err)
	}
	var v struct {
		Ruleset json.RawMessage
		Vectors []struct {
			Name, Flag, Variant, Reason, Missing string
			Context, Value                       json.RawMessage
		}
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatal(err)
	}
	kinds := map[string]string{}
	var rules struct{ Flags []struct{ Key, Type string } }
	if err := json.Unmarshal(v.Ruleset, &rules); err != nil {
		t.Fatal(err)
	}
	for _, f := range rules.Flags {
		kinds[f.Key] = f.Type
	}
	client := use(t, fromFile(t, v.Ruleset))
	ran := 0
	for _, row := range v.Vectors {
		var flat map[string]any
		dec := json.NewDecoder(bytes.NewReader(row.Context))
		dec.UseNumber()
		if err := dec.Decode(&flat); err != nil {
			t.Fatal(err)
		}
		unit := of.NewTargetlessEvaluationContext(flat)
		ctx := context.Background()
		var got any
		var d of.EvaluationDetails
		switch kinds[row.Flag] {
		case "boolean":
			r, _ := client.BooleanValueDetails(ctx, row.Flag, false, unit)
			got, d = r.Value, r.EvaluationDetails
		case "string":
			r, _ := client.StringValueDetails(ctx, row.Flag, "", unit)
			got, d = r.Value, r.EvaluationDetails
		case "number":
			r, _ := client.FloatValueDetails(ctx, row.Flag, 0, unit)
			got, d = r.Value, r.EvaluationDetails
		default:
			r, _ := client.ObjectValueDetails(ctx, row.Flag, nil, unit)
			got, d = r.Value, r.EvaluationDetails
		}
		ran++
		if d.Variant != row.Variant || string(d.Reason) != row.Reason {
			t.Errorf("%s: %s %s, want %s %s", row.Name, d.Variant, d.Reason, row.Variant, row.Reason)
		}
		if missing, _ := d.FlagMetadata.GetString("missing"); missing != row.Missing {
			t.Errorf("%s: missing %q, want %q", row.Name, missing, row.Missing)
		}
		var want any
		if row.Value != nil {
			_ = json.Unmarshal(row.Value, &want)
			a, _ := json.Marshal(got)
			if b, _ := json.Marshal(want); !bytes.Equal(a, b) {
				t.Errorf("%s: %s, want %s", row.Name, a, b)
			}
		}
	}
	if ran < 400 {
		t.Errorf("only %d vectors ran", ran)
	}
}

const flags = `"flags":[
 {"key":"a","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","end":{"variant":"on"}},
 {"key":"half","type":"number","variants":{"x":2.5,"y":0},"lever":"on","resting":"y","end":{"variant":"x"}},
 {"key":"three","type":"number","variants":{"x":3,"y":0},"lever":"on","resting":"y","end":{"variant":"x"}},
 {"key":"o","type":"object","variants":{"x":{"boxes":[1,2]},"y":{}},"lever":"on","resting":"y","end":{"variant":"x"}}],"segments":[],"stops":[]}`

// hook counts.
type hook struct {
	of.UnimplementedHook
	after, failed atomic.Int32
}

func (h *hook) After(context.Context, of.HookContext, of.InterfaceEvaluationDetails, of.HookHints) error {
	h.after.Add(1)
	return nil
}

func (h *hook) Error(context.Context, of.HookContext, error, of.HookHints) { h.failed.Add(1) }

// Types, errors and hooks.
func TestTypes(t *testing.T) {
	h := &hook{}
	client := use(t, fromFile(t, []byte(`{"format":1,"epoch":1,"revision":4,"at":0,`+flags), h))
	ctx, unit := context.Background(), of.NewEvaluationContext("recipient-17", map[string]any{"since": time.Now(),
		"crew": map[string]any{"size": 3}})
	if n, err := client.IntValue(ctx, "three", 0, unit); n != 3 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	o, err := client.ObjectValue(ctx, "o", nil, unit)
	if raw, _ := json.Marshal(o); string(raw) != `{"boxes":[1,2]}` || err != nil {
		t.Errorf("%s %v", raw, err)
	}
	if h.after.Load() != 2 {
		t.Errorf("the hook ran %d times", h.after.Load())
	}
	for name, c := range map[string]struct {
		ask  func() (of.EvaluationDetails, any)
		code of.ErrorCode
		want any
	}{
		"unknown": {func() (of.EvaluationDetails, any) {
			d, _ := client.BooleanValueDetails(ctx, "nowhere", true, unit)
			return d.EvaluationDetails, d.Value
		}, of.FlagNotFoundCode, true},
		"another type": {func() (of.EvaluationDetails, any) {
			d, _ := client.StringValueDetails(ctx, "a", "f", unit)
			return d.EvaluationDetails, d.Value
		}, of.TypeMismatchCode, "f"},
		"no whole number": {func() (of.EvaluationDetails, any) {
			d, _ := client.IntValueDetails(ctx, "half", 7, unit)
			return d.EvaluationDetails, d.Value
		}, of.TypeMismatchCode, int64(7)},
		"no object": {func() (of.EvaluationDetails, any) {
			d, _ := client.ObjectValueDetails(ctx, "a", "f", unit)
			return d.EvaluationDetails, d.Value
		}, of.TypeMismatchCode, "f"},
	} {
		d, v := c.ask()
		if d.ErrorCode != c.code || v != c.want || d.Reason != of.ErrorReason || d.Variant != "" {
			t.Errorf("%s: %+v gives %v", name, d, v)
		}
	}
	if h.failed.Load() != 4 {
		t.Errorf("the hook heard of %d errors", h.failed.Load())
	}
}

// The scenarios of evaluation by which the standard tells a provider that conforms (its Appendix B):
// values, details, a context that bears on the answer, a flag that is not there, one of another type.
func TestTheStandardsScenarios(t *testing.T) {
	document := func(key, kind, variants, end string, more ...string) string {
		return fmt.Sprintf(`{"key":%q,"type":%q,"variants":%s,"lever":"on","resting":%q,"end":{"variant":%q}%s}`, key,
			kind, variants, end, end, strings.Join(more, ""))
	}
	client := use(t, fromFile(t, []byte(`{"format":1,"epoch":1,"revision":1,"at":0,"segments":[],"stops":[],"flags":[`+
		strings.Join([]string{
			document("boolean-flag", "boolean", `{"on":true,"off":false}`, "on"),
			document("string-flag", "string", `{"greeting":"hi","parting":"bye"}`, "greeting"),
			document("integer-flag", "number", `{"one":1,"ten":10}`, "ten"),
			document("float-flag", "number", `{"tenth":0.1,"half":0.5}`, "half"),
			document("object-flag", "object",
				`{"empty":{},"template":{"showImages":true,"title":"Lockers","imagesPerPage":100}}`, "template"),
			document("wrong-flag", "string", `{"one":"uno","two":"dos"}`, "one"),
			document("context-aware", "string", `{"internal":"INTERNAL","external":"EXTERNAL"}`, "external",
				`,"rules":[{"id":"r","name":"R","gives":{"variant":"internal"},"when":{"all":[`+
					`{"test":"string.equals","attribute":"fn","text":["Ida"]},{"test":"string.equals","attribute":"ln","text":["Holm"]},{"test":"number.equals","attribute":"age","numbers":[29]},{"test":"boolean.false","attribute":"customer"}]}}]`),
		}, ",")+`]}`)))
	ctx, nobody := t.Context(), of.EvaluationContext{}
	ida := of.NewTargetlessEvaluationContext(map[string]any{"fn": "Ida", "ln": "Holm", "age": 29, "customer": false})
	for name, c := range map[string]struct {
		want string
		ask  func() (any, of.EvaluationDetails, error)
	}{
		"boolean": {`true on STATIC `, func() (any, of.EvaluationDetails, error) {
			d, err := client.BooleanValueDetails(ctx, "boolean-flag", false, nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"string": {`"hi" greeting STATIC `, func() (any, of.EvaluationDetails, error) {
			d, err := client.StringValueDetails(ctx, "string-flag", "bye", nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"integer": {`10 ten STATIC `, func() (any, of.EvaluationDetails, error) {
			d, err := client.IntValueDetails(ctx, "integer-flag", 1, nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"float": {`0.5 half STATIC `, func() (any, of.EvaluationDetails, error) {
			d, err := client.FloatValueDetails(ctx, "float-flag", 0.1, nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"object": {`{"imagesPerPage":100,"showImages":true,"title":"Lockers"} template STATIC `,
			func() (any, of.EvaluationDetails, error) {
				d, err := client.ObjectValueDetails(ctx, "object-flag", nil, nobody)
				return d.Value, d.EvaluationDetails, err
			}},
		"with a context": {`"INTERNAL" internal TARGETING_MATCH `, func() (any, of.EvaluationDetails, error) {
			d, err := client.StringValueDetails(ctx, "context-aware", "EXTERNAL", ida)
			return d.Value, d.EvaluationDetails, err
		}},
		"with an empty context": {`"EXTERNAL" external DEFAULT `, func() (any, of.EvaluationDetails, error) {
			d, err := client.StringValueDetails(ctx, "context-aware", "EXTERNAL", nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"a missing flag": {`"uh-oh"  ERROR FLAG_NOT_FOUND`, func() (any, of.EvaluationDetails, error) {
			d, err := client.StringValueDetails(ctx, "missing-flag", "uh-oh", nobody)
			return d.Value, d.EvaluationDetails, err
		}},
		"a wrong type": {`13  ERROR TYPE_MISMATCH`, func() (any, of.EvaluationDetails, error) {
			d, err := client.IntValueDetails(ctx, "wrong-flag", 13, nobody)
			return d.Value, d.EvaluationDetails, err
		}},
	} {
		v, d, err := c.ask()
		raw, _ := json.Marshal(v)
		if got := fmt.Sprintf("%s %s %s %s", raw, d.Variant, d.Reason, d.ErrorCode); got != c.want ||
			(err != nil) != (d.ErrorCode != "") {
			t.Errorf("%s: %s (%v), want %s", name, got, err, c.want)
		}
	}
}

// Changes, a lost service and its return are events.
func TestEvents(t *testing.T) {
	feed := make(chan string, 10)
	var revision atomic.Int64
	revision.Store(1)
	lose := make(chan struct{})
	var lost atomic.Bool
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/follow/v1/snapshot":
			fmt.Fprintf(w, `{"format":1,"epoch":1,"revision":%d,"at":0,%s`, revision.Load(), flags)
		case r.URL.Path == "/follow/v1/feed" && !lost.Load():
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
			for {
				_ = http.NewResponseController(w).Flush()
				select {
				case e := <-feed:
					_, _ = io.WriteString(w, e)
				case <-lose:
					return
				case <-r.Context().Done():
					return
				}
			}
		case r.URL.Path == "/follow/v1/report":
			_, _ = io.WriteString(w, `{"taken":true}`)
		default:
			w.WriteHeader(http.StatusBadGateway)
		}
	}))
	defer s.Close()
	p, err := NewProvider(greenlever.Options{URL: s.URL, Key: "gls_x", Dir: t.TempDir(), Logger: quiet})
	if err != nil {
		t.Fatal(err)
	}
	told := make(chan string, 100)
	for _, kind := range []of.EventType{of.ProviderReady, of.ProviderStale, of.ProviderConfigChange} {
		hear := func(d of.EventDetails) { told <- string(kind) }
		of.AddHandler(kind, &hear)
	}
	use(t, p)
	wait := func(want string) {
		t.Helper()
		for deadline := time.After(20 * time.Second); ; {
			select {
			case got := <-told:
				if got == want {
					return
				}
			case <-deadline:
				t.Fatalf("no %s", want)
			}
		}
	}
	wait("PROVIDER_READY")
	revision.Store(2)
	feed <- "event: snapshot\ndata: {}\n\n"
	wait("PROVIDER_CONFIGURATION_CHANGED")
	lost.Store(true)
	close(lose)
	wait("PROVIDER_STALE")
	if on, err := of.NewClient(t.Name()).BooleanValue(context.Background(), "a", false, of.NewEvaluationContext("x",
		nil)); !on || err != nil {
		t.Errorf("while stale: %v %v", on, err)
	}
	lost.Store(false)
	wait("PROVIDER_READY")
}

// Without a service and a copy the provider says so.
func TestNotReady(t *testing.T) {
	p, err := NewProvider(greenlever.Options{URL: "http://127.0.0.1:1", Key: "gls_x", Dir: t.TempDir(), Logger: quiet})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Shutdown()
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if err := p.InitWithContext(ctx, of.EvaluationContext{}); err == nil || !strings.Contains(err.Error(),
		"PROVIDER_NOT_READY") {
		t.Errorf("%v", err)
	}
	if d := p.BooleanEvaluation(context.Background(), "a", true,
		nil); d.ResolutionDetail().ErrorCode != of.ProviderNotReadyCode || !d.Value {
		t.Errorf("%+v", d)
	}
}

// A scope in the context says who the unit is and by which ruleset is decided.
func TestScope(t *testing.T) {
	d := greenlever.NewDouble(t, map[string]any{"a": true})
	p := On(d.Client)
	ctx := greenlever.WithScope(context.Background(), d.Scope(context.Background(), greenlever.Unit("x")))
	d.Set("a", false)
	if r := p.BooleanEvaluation(ctx, "a", false, nil); !r.Value {
		t.Errorf("in the scope: %+v", r)
	}
	if r := p.BooleanEvaluation(context.Background(), "a", true, nil); r.Value {
		t.Errorf("without it: %+v", r)
	}
}

// An event that is tracked is one of a metric: of the context's unit, or without one of that of the scope.
func TestTrack(t *testing.T) {
	var mu sync.Mutex
	got := map[string]float64{}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/follow/v1/snapshot":
			_, _ = io.WriteString(w, `{"format":1,"epoch":1,"revision":1,"at":0,"flags":[{"key":"a","type":"boolean",
				"variants":{"on":true,"off":false},"lever":"on","resting":"off","rules":[{"id":"rx-0","name":"",
				"gives":{"variant":"on"},"evidence":{"run":1,"stage":0,"by":["targetingKey"]}}],"end":{"variant":"off"}}]}`)
		case "/follow/v1/feed":
			_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
		case "/follow/v1/report":
			var report struct {
				Events []struct {
					Metric string
					Units  map[string]string
					Value  float64
				}
			}
			_ = json.NewDecoder(r.Body).Decode(&report)
			mu.Lock()
			defer mu.Unlock()
			for _, e := range report.Events {
				got[e.Metric+" of "+e.Units["targetingKey"]] += e.Value
			}
			_, _ = io.WriteString(w, `{"taken":true}`)
		}
	}))
	t.Cleanup(func() { service.CloseClientConnections(); service.Close() })
	p, err := NewProvider(greenlever.Options{URL: service.URL, Key: "gls_test", Logger: quiet, Dir: t.TempDir(),
		Report: 10 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	c := use(t, p)
	c.Track(context.Background(), "door-open-ms", of.NewEvaluationContext("recipient-1", nil),
		of.NewTrackingEventDetails(850))
	scope := p.Client().Scope(context.Background(), greenlever.Unit("recipient-2"))
	c.Track(greenlever.WithScope(context.Background(), scope), "door-open-failed", of.EvaluationContext{},
		of.NewTrackingEventDetails(1))
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) { // between looks, not to wait
		mu.Lock()
		done := got["door-open-ms of recipient-1"] == 850 && got["door-open-failed of recipient-2"] == 1
		mu.Unlock()
		if done {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("%v is reported", got)
		}
	}
}

// What an attribute cannot be is left out and logged once; the others count, and the key.
func TestOneOddAttributeSpoilsNothing(t *testing.T) {
	var log bytes.Buffer
	path := filepath.Join(t.TempDir(), "flags.json")
	snapshot := `{"format":1,"epoch":1,"revision":1,"at":0,"flags":[{"key":"a","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","end":{"variant":"off"},
		"rules":[{"id":"1","name":"staff","when":{"all":[{"test":"string.equals","attribute":"role","text":["staff"]},{"test":"string.equals","attribute":"targetingKey","text":["x"]}]},"gives":{"variant":"on"}}]}]}`
	if err := os.WriteFile(path, []byte(snapshot), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("GREENLEVER_URL", "")
	p, err := NewProvider(greenlever.Options{File: path, Logger: slog.New(slog.NewTextHandler(&log, nil))})
	if err != nil {
		t.Fatal(err)
	}
	client := use(t, p)
	for name, odd := range map[string]any{"nan": math.NaN(), "channel": make(chan int),
		"large": int64(9007199254740993), "huge": 1e300, "": "nameless", "function": func() {},
		"text": strings.Repeat("x", 70_000), "latin": "caf\xe9",
		"list": []string{"a", "\xff"}, "nested": map[string]any{"a": []any{"\xff"}}} {
		for range 3 {
			on, err := client.BooleanValue(context.Background(), "a", false, of.NewEvaluationContext("x",
				map[string]any{"role": "staff", name: odd}))
			if !on || err != nil {
				t.Errorf("%s: %t %v", name, on, err)
			}
		}
	}
	if n := strings.Count(log.String(), "cannot be read"); n < 8 || n > 10 {
		t.Errorf("logged %d times:\n%s", n, log.String())
	}
}

// A key that the service refuses is fatal at once; the wait does not last for ever.
func TestARefusedKeyIsFatal(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer s.Close()
	p, err := NewProvider(greenlever.Options{URL: s.URL, Key: "gls_wrong", Dir: t.TempDir(), Logger: quiet})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Shutdown()
	var fatal *of.ProviderInitError
	if err := of.SetNamedProviderAndWait(t.Name(), p); !errors.As(err, &fatal) ||
		fatal.ErrorCode != of.ProviderFatalCode || !strings.Contains(fatal.Message, "GREENLEVER_KEY") {
		t.Errorf("%v", err)
	}
	if client := of.NewClient(t.Name()); client.State() != of.FatalState {
		t.Errorf("state %s", client.State())
	}
	// The client of its own says so from Open.
	if _, err := greenlever.Open(context.Background(), greenlever.Options{URL: s.URL, Key: "gls_wrong",
		Dir: t.TempDir(), Logger: quiet}); err == nil || !strings.Contains(err.Error(), "GREENLEVER_KEY") {
		t.Errorf("Open: %v", err)
	}
}

// With a copy on disk the provider is ready and stale at once; without anything it is ready as
// soon as the service comes, and changes name their flags.
func TestReadyFromDiskAndLater(t *testing.T) {
	var up atomic.Bool
	var revision atomic.Int64
	revision.Store(1)
	feed := make(chan string, 10)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !up.Load():
			w.WriteHeader(http.StatusBadGateway)
		case r.URL.Path == "/follow/v1/snapshot":
			body := flags
			if revision.Load() > 1 {
				body = strings.Replace(flags, `"key":"a","type":"boolean","variants":{"on":true`,
					`"key":"a","type":"boolean","title":"x","variants":{"on":true`, 1)
			}
			fmt.Fprintf(w, `{"format":1,"epoch":1,"revision":%d,"at":0,%s`, revision.Load(), body)
		case r.URL.Path == "/follow/v1/feed":
			w.Header().Set("Content-Type", "text/event-stream")
			_, _ = io.WriteString(w, "event: snapshot\ndata: {}\n\n")
			for {
				_ = http.NewResponseController(w).Flush()
				select {
				case e := <-feed:
					_, _ = io.WriteString(w, e)
				case <-r.Context().Done():
					return
				}
			}
		default:
			_, _ = io.WriteString(w, `{"taken":true}`)
		}
	}))
	defer s.Close()
	dir := t.TempDir()
	told := make(chan of.EventDetails, 100)
	begin := func(name string, wait time.Duration) (*Provider, error) {
		p, err := NewProvider(greenlever.Options{URL: s.URL, Key: "gls_x", Dir: dir, Logger: quiet})
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(context.Background(), wait)
		defer cancel()
		return p, of.SetNamedProviderWithContextAndWait(ctx, name, p)
	}
	hear := func(name string, kind of.EventType) {
		f := func(d of.EventDetails) { told <- d }
		of.NewClient(name).AddHandler(kind, &f)
	}
	next := func(what string) of.EventDetails {
		t.Helper()
		select {
		case d := <-told:
			return d
		case <-time.After(20 * time.Second):
			t.Fatalf("no %s", what)
		}
		return of.EventDetails{}
	}
	first, err := begin("later", 100*time.Millisecond)
	if err == nil {
		t.Fatal("ready without anything to decide by")
	}
	hear("later", of.ProviderReady)
	up.Store(true)
	next("ready when the service comes")
	hear("later", of.ProviderConfigChange)
	for len(told) > 0 {
		<-told
	}
	revision.Store(2)
	feed <- "event: snapshot\ndata: {}\n\n"
	if d := next("change"); len(d.FlagChanges) == 0 || !slices.Contains(d.FlagChanges, "a") {
		t.Errorf("%+v", d)
	}
	first.Shutdown() // keeps the ruleset on disk
	up.Store(false)
	second, err := begin("disk", 5*time.Second)
	if err != nil {
		t.Fatalf("with a copy on disk: %v", err)
	}
	defer second.Shutdown()
	hear("disk", of.ProviderStale)
	next("stale")
	if state := of.NewClient("disk").State(); state != of.StaleState {
		t.Errorf("state %s", state)
	}
	if on, err := of.NewClient("disk").BooleanValue(context.Background(), "a", false, of.NewEvaluationContext("x",
		nil)); !on || err != nil {
		t.Errorf("%t %v", on, err)
	}
}

// The standard's own telemetry finds the version and the flag set.
func TestTelemetryOfTheStandard(t *testing.T) {
	p := fromFile(t, []byte(`{"format":1,"epoch":3,"revision":7,"at":0,`+flags))
	p.FlagSet = "pinecrest/production"
	var seen map[string]any
	hook := &finally{func(h of.HookContext, d of.InterfaceEvaluationDetails) {
		seen = telemetry.CreateEvaluationEvent(h, d).Attributes
	}}
	client := use(t, p)
	client.AddHooks(hook)
	if _, err := client.BooleanValue(context.Background(), "a", false, of.NewEvaluationContext("x", nil)); err != nil {
		t.Fatal(err)
	}
	if seen[telemetry.VersionKey] != "3.7" || seen[telemetry.FlagSetIDKey] != "pinecrest/production" ||
		seen[telemetry.ProviderNameKey] != "greenlever" {
		t.Errorf("%v", seen)
	}
}

type finally struct {
	tell func(of.HookContext, of.InterfaceEvaluationDetails)
}

func (f *finally) Before(context.Context, of.HookContext, of.HookHints) (*of.EvaluationContext, error) {
	return nil, nil
}
func (f *finally) After(context.Context, of.HookContext, of.InterfaceEvaluationDetails, of.HookHints) error {
	return nil
}
func (f *finally) Error(context.Context, of.HookContext, error, of.HookHints) {}
func (f *finally) Finally(_ context.Context, h of.HookContext, d of.InterfaceEvaluationDetails, _ of.HookHints) {
	f.tell(h, d)
}
