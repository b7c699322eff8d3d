package server

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"reflect"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/clock"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/store"
)

// knife stands between a service and its records, and cuts all connections at a message: before it is passed
// on, or after, so that its answer is lost.
type knife struct {
	net.Listener
	net   string
	to    string
	mu    sync.Mutex
	conns map[net.Conn]bool
	left  int // messages until it cuts; 0: it does not
	after bool
	cuts  int
}

func newKnife(t *testing.T, network, to string) *knife {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	k := &knife{Listener: l, net: network, to: to, conns: map[net.Conn]bool{}}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go k.pass(c)
		}
	}()
	return k
}

// arm has it cut at one of the messages that come.
func (k *knife) arm(message int, after bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.left, k.after = message, after
}

// due tells, of a message, whether everything ends before it is passed on, or after.
func (k *knife) due() (before, after bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.left == 0 {
		return false, false
	}
	if k.left--; k.left > 0 {
		return false, false
	}
	k.cuts++
	return !k.after, k.after
}

func (k *knife) cut() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for c := range k.conns {
		c.Close()
	}
}

func (k *knife) pass(c net.Conn) {
	defer c.Close()
	up, err := net.Dial(k.net, k.to)
	if err != nil {
		return
	}
	defer up.Close()
	k.mu.Lock()
	k.conns[c] = true
	k.mu.Unlock()
	defer func() {
		k.mu.Lock()
		delete(k.conns, c)
		k.mu.Unlock()
	}()
	go func() {
		_, _ = io.Copy(c, up)
		c.Close()
	}()
	b := make([]byte, 1<<20) // a message of the driver comes in one piece
	for {
		n, err := c.Read(b)
		if err != nil {
			return
		}
		before, after := k.due()
		if before {
			k.cut()
			return
		}
		if after { // the answer goes nowhere
			k.cut()
		}
		if _, err := up.Write(b[:n]); err != nil {
			return
		}
	}
}

const (
	releaseStages = 30
	points        = 47 // messages of a look, with those that open connections
)

// Connections to the records are cut at 200 and more points of the steps of releases, before a message and after
// it. Each step is taken once, in order, and what happened gives the state that stands.
func TestReleaseStepsSurviveEveryCut(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	db, err := localdb.Start(ctx, dir+"/db")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Stop() })
	dsn, err := db.DSN("greenlever")
	if err != nil {
		t.Fatal(err)
	}
	quiet := slog.New(slog.DiscardHandler)
	start := time.Now()
	flags := planned(t, dsn, dir, quiet, start)

	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		t.Fatal(err)
	}
	k := newKnife(t, c.Net, c.Addr)
	c.Net, c.Addr = "tcp", k.Addr().String()
	st, err := store.New(c.FormatDSN(), quiet)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	hours := 0
	now := func() time.Time { return time.Now().Add(time.Duration(hours) * time.Hour) }
	s := &Server{config: Config{Log: quiet, Now: now, Dir: dir}, store: st, clock: clock.New(st.Now), node: "cut"}
	s.wire()
	for i, key := range flags {
		hours = i + 1
		through := func() bool {
			rel, err := st.Running(ctx)
			return err == nil && rel[i].Flag == key && rel[i].State.Is == stage.Through
		}
		for n := 0; ; n++ {
			if n > 2_000 {
				t.Fatal("it does not get through")
			}
			k.arm(1+n%points, n/points%2 == 1)
			look, cancel := context.WithTimeout(ctx, 5*time.Second)
			_ = s.running.Look(look, func(int64, int64) {}) // what was cut is taken up by the next look
			cancel()
			k.arm(0, false)
			if through() {
				break
			}
		}
	}
	if k.cuts < 200 {
		t.Errorf("it was cut %d times", k.cuts)
	}
	t.Logf("%d releases of %d stages went through %d cuts", len(flags), releaseStages, k.cuts)
	all, err := st.Running(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		held(t, st, &all[i])
	}
	verified(t, dsn, dir, quiet)
}

type object = map[string]any

// doing calls the service as its keeper.
type doing func(method, path string, body, out any, version int64)

// turnOn turns a flag on.
func (do doing) turnOn(at string) {
	var v struct {
		Document flag.Document
		Version  int64
	}
	do("GET", at, nil, &v, 0)
	v.Document.Lever = flag.On
	do("PUT", at, object{"document": v.Document}, nil, v.Version)
}

// begun starts a service that was just set up, with a project of one environment.
func begun(t *testing.T, dsn, dir string, log *slog.Logger) (*Server, doing) {
	t.Helper()
	srv, err := Start(context.Background(), Config{DSN: dsn, Listen: "127.0.0.1:0", Dir: dir, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	const email, password = "ida.holm@pinecrest.example", "pinecrest-test"
	c := &apiclient.Client{URL: srv.URL()}
	do := func(method, path string, body, out any, version int64) {
		t.Helper()
		if err := c.Do(context.Background(), apiclient.Call{Method: method, Path: path, Body: body, Version: version},
			out); err != nil {
			t.Fatalf("%s %s: %v", method, path, err)
		}
	}
	do("POST", "/set-up", object{"code": srv.SetUpCode, "email": email, "name": "Ida Holm", "password": password}, nil,
		0)
	if c, err = apiclient.SignIn(context.Background(), apiclient.Client{URL: srv.URL()}, email, password, "test",
		2); err != nil {
		t.Fatal(err)
	}
	do("POST", "/projects", object{"key": "pinecrest"}, nil, 0)
	do("POST", "/projects/pinecrest/environments", object{"key": "staging"}, nil, 0)
	return srv, do
}

// planned makes flags, each with a release that begins some hours from now, and ends the service that made them.
func planned(t *testing.T, dsn, dir string, log *slog.Logger, now time.Time) (flags []string) {
	t.Helper()
	srv, do := begun(t, dsn, dir, log)
	defer srv.Stop()
	var stages []object
	for i := range releaseStages {
		stages = append(stages, object{"name": fmt.Sprint(i + 1), "share": (i + 1) * 30_000})
	}
	for i := range 4 {
		key := fmt.Sprintf("flag-%d", i+1)
		do("POST", "/projects/pinecrest/flags", object{"key": key, "goneBy": "stays"}, nil, 0)
		at := "/projects/pinecrest/environments/staging/flags/" + key
		do.turnOn(at)
		begin := now.Add(time.Duration(i+1)*time.Hour - 10*time.Minute)
		do("POST", at+"/releases", object{"stages": stages, "begin": begin.UnixMilli()}, nil, 0)
		flags = append(flags, key)
	}
	return flags
}

// held holds what happened to a release against how it stands.
func held(t *testing.T, st *store.Store, rel *app.Release) {
	t.Helper()
	steps, err := st.ReleaseSteps(context.Background(), rel.ID)
	if err != nil {
		t.Fatal(err)
	}
	state, at := stage.Begin(rel.State.Plan, "", 0, rel.Made), -1
	for i, one := range steps {
		if one.Sequence != int64(i+1) {
			t.Fatalf("%s: step %d is number %d", rel.Flag, i+1, one.Sequence)
		}
		if one.Tell == stage.Began || one.Tell == stage.StageBegan {
			if one.Stage != at+1 || one.Revision == 0 {
				t.Fatalf("%s: stage %d came after %d, with revision %d", rel.Flag, one.Stage, at, one.Revision)
			}
			at = one.Stage
		}
		if i == 0 {
			continue
		}
		if state, _, err = stage.Step(state, one.Event, one.At); err != nil {
			t.Fatal(err)
		}
	}
	state.Stops = rel.State.Stops
	if at != releaseStages-1 || !reflect.DeepEqual(state, rel.State) {
		t.Errorf("%s: what happened gives\n%+v\nand it stands\n%+v", rel.Flag, state, rel.State)
	}
	rec, err := st.Flag(context.Background(), rel.Environment, rel.Flag)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(rec.Document.Rules, rel.State.Plan.Group(rel.ID, releaseStages-1, rel.State.Run)) {
		t.Errorf("%s serves %+v", rel.Flag, rec.Document.Rules)
	}
}

// verified has the chains verified by a service that starts over the records.
func verified(t *testing.T, dsn, dir string, log *slog.Logger) {
	t.Helper()
	srv, err := Start(context.Background(), Config{DSN: dsn, Listen: "127.0.0.1:0", Dir: dir, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	defer srv.Stop()
	c, err := apiclient.SignIn(context.Background(), apiclient.Client{URL: srv.URL()}, "ida.holm@pinecrest.example",
		"pinecrest-test", "test", 2)
	if err != nil {
		t.Fatal(err)
	}
	for cursor := ""; ; {
		var r struct {
			Findings []struct{ What string }
			Cursor   string
		}
		if err := c.Do(context.Background(), apiclient.Call{Method: "GET", Path: "/projects/pinecrest/verify?cursor=" +
			cursor}, &r); err != nil {
			t.Fatal(err)
		}
		if len(r.Findings) > 0 {
			t.Fatalf("the audit: %v", r.Findings)
		}
		if cursor = r.Cursor; cursor == "" {
			return
		}
	}
}
