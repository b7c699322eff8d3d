// Package gltest starts real services on a real MariaDB for tests, and speaks to them as
// their callers do.
//
//	func TestMain(m *testing.M) { gltest.Main(m) }
//
//	s := gltest.Start(t)
//	s.Keeper.Do(t, "GET", "/projects", nil, 200, &out)
package gltest

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/server"
)

// Patience is how long a test waits for what must come.
const Patience = 20 * time.Second

var database struct {
	sync.Mutex
	server *localdb.Server
	dir    string
	next   int
}

// Main runs a package's tests and ends what they started.
func Main(m *testing.M, ends ...func()) {
	code := m.Run()
	for _, end := range ends {
		end()
	}
	if database.server != nil {
		if err := database.server.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, "stop MariaDB:", err)
			code = 1
		}
		os.RemoveAll(database.dir)
	}
	os.Exit(code)
}

// Database is the MariaDB server that the tests of this package share.
func Database(t testing.TB) *localdb.Server {
	t.Helper()
	database.Lock()
	defer database.Unlock()
	if database.server == nil {
		dir, err := os.MkdirTemp("", "gl-test-")
		if err != nil {
			t.Fatal(err)
		}
		if database.server, err = localdb.Start(context.Background(), dir); err != nil {
			t.Fatal(err)
		}
		database.dir = dir
	}
	return database.server
}

// DSN is the address of a fresh database. What is entered there is held against what the verifier expects.
func DSN(t testing.TB) string {
	t.Helper()
	dsn := Bare(t)
	t.Cleanup(func() { spoken(t, dsn) })
	return dsn
}

// Bare is the address of a fresh database for tests that write into it beside the service, entries too.
func Bare(t testing.TB) string {
	t.Helper()
	db := Database(t)
	database.Lock()
	database.next++
	name := fmt.Sprintf("t%d", database.next)
	database.Unlock()
	dsn, err := db.DSN(name)
	if err != nil {
		t.Fatal(err)
	}
	return dsn
}

// spoken holds what a test wrote into the audit against what the verifier expects: it must know each action whose
// entries speak of records, or it takes rows that such an entry left out for rewritten ones. (An action of a test's
// own has no dot.)
func spoken(t testing.TB, dsn string) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT chain, action, entry LIKE '%\"records\":[%', COALESCE(JSON_VALUE(entry, " +
		"'$.change'), '') " +
		"FROM audit WHERE action LIKE '%.%' ORDER BY chain, sequence")
	if err != nil {
		return // the test never made the tables, or left the server away
	}
	defer rows.Close()
	found := map[string]bool{}
	for said := ""; rows.Next(); { // the change whose records an entry before spoke of
		var chain, action, change string
		var speaks bool
		if err := rows.Scan(&chain, &action, &speaks, &change); err != nil {
			t.Fatal(err)
		}
		switch {
		case speaks:
			if said = chain + change; !audit.SpeaksOfRecords(action) && action != audit.Adopted {
				found["entries of "+action+" speak of records, and the verifier of the audit does not expect "+
					"it"] = true
			}
		case audit.SpeaksOfRecords(action) && said != chain+change &&
			!(action == "environment.made" && strings.HasPrefix(chain, "project")):
			found["entries of "+action+" speak of no records, and the verifier of the audit expects it"] = true
		}
	}
	for what := range found {
		t.Error(what)
	}
}

// Service is a running service with a project, environments and somebody to call it.
type Service struct {
	*server.Server
	DSN    string
	Keeper Caller
	Keys   map[string]string // of kind service, by environment
	Browse map[string]string // of kind browser
	// Emergency is the private half of the key for emergency orders, in PEM.
	Emergency string
	Dir       string // of a service that starts again with what it kept; for tests that set it
}

// Password is everybody's.
const Password = "pinecrest-test"

// KeeperEmail is the first account's.
const KeeperEmail = "ida.holm@pinecrest.example"

// Start starts a service over a fresh database with project "pinecrest" and environments
// "staging" and "production".
func Start(t testing.TB, change ...func(*server.Config)) *Service {
	t.Helper()
	s := &Service{DSN: DSN(t), Keys: map[string]string{}, Browse: map[string]string{}}
	s.Server = s.Serve(t, change...)
	s.SetUp(t)
	for _, env := range []string{"staging", "production"} {
		s.Environment(t, env, false)
	}
	return s
}

// SetUp makes the first account and project "pinecrest".
func (s *Service) SetUp(t testing.TB) {
	t.Helper()
	var first struct{ EmergencyKey string }
	Caller{URL: s.URL()}.Do(t, "POST", "/set-up", map[string]string{"code": s.SetUpCode, "email": KeeperEmail,
		"name": "Ida Holm", "password": Password}, 201, &first)
	s.Emergency = first.EmergencyKey
	s.Keeper = s.Token(t, KeeperEmail)
	s.Keeper.Do(t, "POST", "/projects", map[string]string{"key": "pinecrest", "title": "Pinecrest Lockers"}, 201, nil)
}

// Log gathers what a service logs, for tests that read it.
type Log struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// To has a service log into it.
func (l *Log) To(c *server.Config) { c.Log = slog.New(slog.NewTextHandler(l, nil)) }

// Serve starts one more process' worth of service over the same database.
func (s *Service) Serve(t testing.TB, change ...func(*server.Config)) *server.Server {
	t.Helper()
	c := server.Config{Listen: "127.0.0.1:0", Admin: "127.0.0.1:0", DSN: s.DSN, Dir: t.TempDir(),
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	for _, f := range change {
		f(&c)
	}
	// Who starts again at an address must not be taken for the one before, to which lines are kept.
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
	srv, err := server.Start(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := srv.Stop(); err != nil && !t.Failed() {
			t.Logf("stop: %v", err)
		}
	})
	return srv
}

// Environment makes an environment and keeps its keys.
func (s *Service) Environment(t testing.TB, key string, askFirst bool) {
	t.Helper()
	var made struct {
		Keys []struct{ Kind, Secret string }
	}
	s.Keeper.Do(t, "POST", "/projects/pinecrest/environments", map[string]any{"key": key, "askFirst": askFirst}, 201,
		&made)
	for _, k := range made.Keys {
		if k.Kind == "service" {
			s.Keys[key] = k.Secret
		} else {
			s.Browse[key] = k.Secret
		}
	}
}

// Session signs somebody in, as a browser does.
func (s *Service) Session(t testing.TB, email string) Caller {
	t.Helper()
	raw, _ := json.Marshal(map[string]string{"email": email, "password": Password})
	res, err := http.Post(s.URL()+"/api/v1/sign-in", "application/json", bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var me struct{ CSRF string }
	if err := json.NewDecoder(res.Body).Decode(&me); err != nil || res.StatusCode != 200 {
		t.Fatalf("sign in: %s %v", res.Status, err)
	}
	c := Caller{URL: s.URL(), Header: http.Header{"Cookie": {res.Cookies()[0].String()},
		"X-Greenlever-Csrf": {me.CSRF}}}
	return c
}

// Token signs somebody in and makes a token.
func (s *Service) Token(t testing.TB, email string) Caller {
	t.Helper()
	var token struct{ Secret string }
	s.Session(t, email).Do(t, "POST", "/me/tokens", map[string]any{"name": "test", "days": 7}, 201, &token)
	return Caller{URL: s.URL(), Header: http.Header{"Authorization": {"Bearer " + token.Secret}}}
}

// Person makes an account with roles in the project and gives its caller.
func (s *Service) Person(t testing.TB, name string, roles ...string) Caller {
	t.Helper()
	email := name + "@pinecrest.example"
	s.Keeper.Do(t, "POST", "/accounts", map[string]string{"email": email, "name": name, "password": Password}, 201,
		nil)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/people/"+s.Account(t, email), map[string]any{"roles": roles}, 200, nil)
	return s.Token(t, email)
}

// Account is the id of somebody's account.
func (s *Service) Account(t testing.TB, email string) string {
	t.Helper()
	var found struct{ Account string }
	s.Keeper.Do(t, "POST", "/accounts/find", map[string]string{"email": email}, 200, &found)
	return found.Account
}

// Flag makes a boolean flag.
func (s *Service) Flag(t testing.TB, key string) {
	t.Helper()
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", map[string]any{"key": key, "goneBy": "2027-03-31",
		"reason": "test"}, 201, nil)
}

// View is a flag as the API shows it.
type View struct {
	Document *flag.Document
	Version  int64
	Revision int64
	Sentence words.Said
}

// Get reads a flag.
func (s *Service) Get(t testing.TB, env, key string) View {
	t.Helper()
	var v View
	s.Keeper.Do(t, "GET", "/projects/pinecrest/environments/"+env+"/flags/"+key, nil, 200, &v)
	return v
}

// Saved is the answer to a change of a flag.
type Saved struct {
	Version, Revision int64
	Sentence          words.Said
	Difference        []words.Said
	Document          *flag.Document
}

// Edit changes a flag.
func (s *Service) Edit(t testing.TB, env, key string, alter func(*flag.Document)) Saved {
	t.Helper()
	v := s.Get(t, env, key)
	alter(v.Document)
	var saved Saved
	s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", "/projects/pinecrest/environments/"+env+"/flags/"+
		key, map[string]any{"document": v.Document, "reason": "test"}, 200, &saved)
	return saved
}

// Uses sums what was decided in an environment in the last hour, by flag and variant, such
// as "one-touch-open on".
func (c Caller) Uses(t testing.TB, env string) map[string]uint64 {
	t.Helper()
	var u struct {
		Now []struct {
			Flag, Variant string
			Total         uint64
		}
	}
	c.Do(t, "GET", "/projects/pinecrest/environments/"+env+"/usage", nil, 200, &u)
	sums := map[string]uint64{}
	for _, l := range u.Now {
		sums[l.Flag+" "+l.Variant] = l.Total
	}
	return sums
}

// Caller calls the management API as one person.
type Caller struct {
	URL    string
	Header http.Header
}

// With adds a header.
func (c Caller) With(name, value string) Caller {
	h := c.Header.Clone()
	if h == nil {
		h = http.Header{}
	}
	h.Set(name, value)
	return Caller{c.URL, h}
}

// Send sends a request and gives status and body; path begins below /api/v1 unless it
// names another surface.
func (c Caller) Send(method, path string, body []byte) (status int, answer []byte, header http.Header, err error) {
	return c.Over(http.DefaultClient, method, path, body)
}

// Over is Send with a client of one's own, such as one with a time limit.
func (c Caller) Over(client *http.Client, method, path string,
	body []byte) (status int, answer []byte, header http.Header, err error) {
	at := c.URL + "/api/v1" + path
	for _, other := range []string{"/ofrep/", "/follow/", "/browser/", "/ingest/", "/metrics", "/jobs", "/debug/",
		"/emergency/", "/readyz", "/healthz", "/calendar/"} {
		if len(path) >= len(other) && path[:len(other)] == other {
			at = c.URL + path
		}
	}
	req, err := http.NewRequest(method, at, bytes.NewReader(body))
	if err != nil {
		return 0, nil, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	for k, v := range c.Header {
		req.Header[k] = v
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil, nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return res.StatusCode, raw, res.Header, err
}

// Do sends a request and fails the test unless the status is the one wanted.
func (c Caller) Do(t testing.TB, method, path string, body any, want int, out any) {
	t.Helper()
	var raw []byte
	switch b := body.(type) {
	case nil:
	case []byte:
		raw = b
	case string:
		raw = []byte(b)
	default:
		var err error
		if raw, err = json.Marshal(body); err != nil {
			t.Fatal(err)
		}
	}
	status, answer, _, err := c.Send(method, path, raw)
	if err != nil {
		t.Fatalf("%s %s: %v", method, path, err)
	}
	if status != want {
		t.Fatalf("%s %s: status %d, want %d: %s", method, path, status, want, answer)
	}
	if out != nil {
		if err := json.Unmarshal(answer, out); err != nil {
			t.Fatalf("%s %s: %v in %s", method, path, err, answer)
		}
	}
}

// Eventually waits until a condition holds.
func Eventually(t testing.TB, what string, holds func() bool) {
	t.Helper()
	deadline := time.Now().Add(Patience)
	for !holds() {
		if time.Now().After(deadline) {
			t.Fatalf("%s: not within %v", what, Patience)
		}
		time.Sleep(2 * time.Millisecond)
	}
}
