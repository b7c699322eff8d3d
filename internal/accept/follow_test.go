package accept

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// open starts a client of an environment.
func open(t testing.TB, s *gltest.Service, env string, change ...func(*greenlever.Options)) *greenlever.Client {
	t.Helper()
	o := greenlever.Options{URL: s.URL(), Key: s.Keys[env], Dir: t.TempDir(), Application: "door", Version: "1",
		Logger: quiet, Wait: gltest.Patience}
	for _, f := range change {
		f(&o)
	}
	c, err := greenlever.Open(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// until waits for a client's state.
func until(t testing.TB, c *greenlever.Client, what string, holds func(greenlever.State) bool) {
	t.Helper()
	timeout := time.After(gltest.Patience)
	for {
		changed := c.Changed()
		if holds(c.State()) {
			return
		}
		select {
		case <-changed:
		case <-timeout:
			t.Fatalf("%s: not within %v; the state is %+v", what, gltest.Patience, c.State())
		}
	}
}

func at(revision int64) func(greenlever.State) bool {
	return func(s greenlever.State) bool { return s.Revision >= revision && s.Source == greenlever.FromService }
}

func TestClientFollows(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	c := open(t, s, "production")
	unit := greenlever.Unit("recipient-17")
	if c.Bool(context.Background(), "one-touch-open", unit, true) {
		t.Error("the lever is off, the client says on")
	}
	saved := s.Edit(t, "production", "one-touch-open", turnOn)
	until(t, c, "the edit", at(saved.Revision))
	if a := c.Answer(context.Background(), "one-touch-open", unit); a.Variant != "on" || a.Reason != "STATIC" ||
		a.Revision != saved.Revision {
		t.Errorf("%+v", a)
	}
	var stop struct {
		Stop     string
		Revision int64
	}
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"one-touch-open"}}, 201, &stop)
	until(t, c, "the stop", at(stop.Revision))
	if a := c.Answer(context.Background(), "one-touch-open", unit); a.Variant != "off" || a.Reason != "DISABLED" {
		t.Errorf("stopped: %+v", a)
	}
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{stop.Stop}}, 201, nil)
	until(t, c, "the lift", at(stop.Revision+1))
	if !c.Bool(context.Background(), "one-touch-open", unit, false) {
		t.Error("lifted, and still off")
	}
	if a := c.Answer(context.Background(), "no-such-flag", unit); a.Code != "FLAG_NOT_FOUND" || a.Reason != "ERROR" {
		t.Errorf("%+v", a)
	}
	if c.String(context.Background(), "one-touch-open", unit, "fallback") != "fallback" ||
		c.Number(context.Background(), "no-such-flag", unit, 7) != 7 {
		t.Error("no fallback for another type or an unknown flag")
	}
	// The service learns who has the newest revision.
	gltest.Eventually(t, "delivery", func() bool {
		var d struct{ Alive, Delivered int }
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		return d.Alive == 1 && d.Delivered == 1
	})
	if err := c.Close(); err != nil {
		t.Error(err)
	}
	gltest.Eventually(t, "the client that left is gone, its counts are there", func() bool {
		var d struct{ Alive int }
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		sum := s.Keeper.Uses(t, "production")
		return d.Alive == 0 && sum["one-touch-open on"] == 2 && sum["one-touch-open off"] == 2 &&
			sum["one-touch-open "] == 1
	})
}

// The service, and MariaDB with it, may go away: deciding goes on, and a restart meanwhile
// starts from disk.
func TestClientWithoutService(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	saved := s.Edit(t, "production", "one-touch-open", turnOn)
	dir := t.TempDir()
	same := func(o *greenlever.Options) { o.Dir = dir }
	c := open(t, s, "production", same)
	until(t, c, "the ruleset", at(saved.Revision))
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	until(t, c, "that the service is gone", func(st greenlever.State) bool {
		return !st.Connected && st.LastError != ""
	})
	if !c.Bool(context.Background(), "one-touch-open", greenlever.Unit("x"), false) {
		t.Error("without the service the answer changed")
	}
	c.Close()
	again := open(t, s, "production", same)
	if st := again.State(); st.Source != greenlever.FromDisk || st.Revision != saved.Revision {
		t.Fatalf("restarted: %+v", st)
	}
	if !again.Bool(context.Background(), "one-touch-open", greenlever.Unit("x"), false) {
		t.Error("from disk the answer changed")
	}
	// The file is for its owner alone, whole, and of this address and key.
	files, _ := filepath.Glob(filepath.Join(dir, "ruleset-*"))
	if len(files) != 1 {
		t.Fatalf("files: %v", files)
	}
	if info, _ := os.Stat(files[0]); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v", info.Mode())
	}
	again.Close()
	raw, _ := os.ReadFile(files[0])
	for name, damage := range map[string][]byte{"cut": raw[:len(raw)-9], "altered": bytes.Replace(raw,
		[]byte(`"lever":"on"`), []byte(`"lever":"of"`), 1), "empty": nil} {
		if err := os.WriteFile(files[0], damage, 0o600); err != nil {
			t.Fatal(err)
		}
		d := open(t, s, "production", same, func(o *greenlever.Options) { o.Wait = -1 })
		if st := d.State(); st.Source != greenlever.FromNowhere {
			t.Errorf("%s: %+v", name, st)
		}
		if a := d.Answer(context.Background(), "one-touch-open",
			greenlever.Unit("x")); a.Code != "PROVIDER_NOT_READY" {
			t.Errorf("%s: %+v", name, a)
		}
		d.Close()
	}
	if err := os.WriteFile(files[0], raw, 0o600); err != nil {
		t.Fatal(err)
	}
	other := open(t, s, "staging", same, func(o *greenlever.Options) { o.Wait = -1 })
	if st := other.State(); st.Source != greenlever.FromNowhere {
		t.Errorf("another key's file was read: %+v", st)
	}
}

func TestClientFromAFileAlone(t *testing.T) {
	t.Setenv("GREENLEVER_URL", "")
	t.Setenv("GREENLEVER_KEY", "")
	path := filepath.Join(t.TempDir(), "flags.json")
	write := func(lever string) {
		doc := fmt.Sprintf(
			`{"format":1,"flags":[{"key":"f","type":"boolean","variants":{"on":true,"off":false},"lever":%q,"resting":"off","end":{"variant":"on"}}]}`, lever)
		if err := os.WriteFile(path+".new", []byte(doc), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(path+".new", path); err != nil {
			t.Fatal(err)
		}
	}
	write("off")
	c, err := greenlever.Open(context.Background(), greenlever.Options{File: path, Logger: quiet})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if c.Bool(context.Background(), "f", greenlever.Unit("x"), true) || c.State().Source != greenlever.FromFile {
		t.Errorf("%+v", c.State())
	}
	write("on")
	gltest.Eventually(t, "the saved file", func() bool {
		return c.Bool(context.Background(), "f", greenlever.Unit("x"), false)
	})
	if err := os.WriteFile(path, []byte("{broken"), 0o600); err != nil {
		t.Fatal(err)
	}
	if !c.Bool(context.Background(), "f", greenlever.Unit("x"), false) {
		t.Error("a broken file took the ruleset away")
	}
	if _, err := greenlever.Open(context.Background(), greenlever.Options{File: path, Logger: quiet}); err == nil ||
		!strings.Contains(err.Error(), path) {
		t.Errorf("starting from a broken file: %v", err)
	}
}

func TestClientConfigurationErrors(t *testing.T) {
	for name, c := range map[string]struct{ url, key, says string }{
		"nothing": {"", "", "GREENLEVER_URL"}, "no key": {"http://127.0.0.1:1", "", "GREENLEVER_KEY"},
		"no address": {"flags.pinecrest", "gls_x", "flags.pinecrest"},
	} {
		t.Setenv("GREENLEVER_URL", c.url)
		t.Setenv("GREENLEVER_KEY", c.key)
		t.Setenv("GREENLEVER_FILE", "")
		if _, err := greenlever.Open(context.Background(), greenlever.Options{}); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// feed opens a raw feed and gives its events.
func feed(t testing.TB, url, key, last string) (<-chan [2]string, func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	req, _ := http.NewRequestWithContext(ctx, "GET", url+"/follow/v1/feed", nil)
	req.Header.Set("Authorization", "Bearer "+key)
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	if res.StatusCode != 200 {
		t.Fatalf("feed: %s", res.Status)
	}
	events := make(chan [2]string, 1000)
	go func() {
		defer close(events)
		defer res.Body.Close()
		scan := bufio.NewScanner(res.Body)
		scan.Buffer(nil, 16<<20)
		name := ""
		for scan.Scan() {
			if n, ok := strings.CutPrefix(scan.Text(), "event: "); ok {
				name = n
			} else if d, ok := strings.CutPrefix(scan.Text(), "data: "); ok {
				events <- [2]string{name, d}
			}
		}
	}()
	t.Cleanup(cancel)
	return events, cancel
}

func next(t testing.TB, events <-chan [2]string, name string) string {
	t.Helper()
	timeout := time.After(gltest.Patience)
	for {
		select {
		case e, ok := <-events:
			if !ok {
				t.Fatalf("the feed ended before %s", name)
			}
			if e[0] == name {
				return e[1]
			}
		case <-timeout:
			t.Fatalf("no %s within %v", name, gltest.Patience)
		}
	}
}

// One change among many flags is small on the wire, and a follower that does not read
// delays nobody.
func TestChangesAreSmallAndStalledFollowersHarmless(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for i := range 300 {
		s.Flag(t, fmt.Sprintf("flag-%d", i))
	}
	// A follower that opens its feed and never reads.
	u, _ := url.Parse(s.URL())
	stalled, err := net.Dial("tcp", u.Host)
	if err != nil {
		t.Fatal(err)
	}
	defer stalled.Close()
	fmt.Fprintf(stalled, "GET /follow/v1/feed HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n",
		s.Keys["production"])

	events, _ := feed(t, s.URL(), s.Keys["production"], "")
	next(t, events, "snapshot")
	saved := s.Edit(t, "production", "flag-7", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "First sites", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: "on", Share: 80_000}, {GoesOn: true, Share: 920_000}}}}}}
	})
	got := next(t, events, "revision")
	if len(got) >= 1_000 {
		t.Errorf("one change is %d bytes on the wire: %s", len(got), got)
	}
	var e flag.Event
	if err := json.Unmarshal([]byte(got), &e); err != nil || e.Revision != saved.Revision || e.Format != flag.Format ||
		len(e.Flags) != 1 {
		t.Errorf("%+v %v", e, err)
	}
	c := open(t, s, "production")
	for i := range 200 {
		s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"flag-9"},
			"reason": fmt.Sprint(i, strings.Repeat("x", 1000))}, 201, nil)
	}
	until(t, c, "200 changes beside a stalled follower", at(saved.Revision+200))
}

// A reader resumes where it stopped; one from another epoch, or from too long ago, is told
// to fetch a snapshot.
func TestFeedResumes(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	v := s.Edit(t, "production", "a", turnOn)
	events, _ := feed(t, s.URL(), s.Keys["production"], "")
	var head struct{ Now, Epoch, Revision int64 }
	if err := json.Unmarshal([]byte(next(t, events, "beat")), &head); err != nil || head.Now == 0 {
		t.Fatal(err)
	}
	s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	s.Edit(t, "production", "a", turnOn)
	next(t, events, "revision")
	next(t, events, "revision")
	resumed, _ := feed(t, s.URL(), s.Keys["production"], fmt.Sprintf("%d.%d", head.Epoch, v.Revision+1))
	var e flag.Event
	if err := json.Unmarshal([]byte(next(t, resumed, "revision")), &e); err != nil || e.Revision != v.Revision+2 {
		t.Errorf("resumed with %+v", e)
	}
	old, _ := feed(t, s.URL(), s.Keys["production"], fmt.Sprintf("%d.%d", head.Epoch-5, v.Revision+2))
	next(t, old, "snapshot")
	for _, bad := range []string{"x", "1", "1.x", "-1.2"} {
		c := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"]).With("Last-Event-ID",
			bad)
		c.Do(t, "GET", "/follow/v1/feed", nil, 400, nil)
	}
}

func TestSnapshot(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	c := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	gltest.Eventually(t, "the flag in the snapshot", func() bool {
		_, raw, _, _ := c.Send("GET", "/follow/v1/snapshot", nil)
		rs, err := flag.ReadSnapshot(raw)
		return err == nil && rs.Flags["a"] != nil
	})
	_, _, header, _ := c.Send("GET", "/follow/v1/snapshot", nil)
	c.With("If-None-Match", header.Get("ETag")).Do(t, "GET", "/follow/v1/snapshot", nil, 304, nil)
	b := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Browse["production"])
	for _, path := range []string{"/follow/v1/snapshot", "/follow/v1/feed"} {
		b.Do(t, "GET", path, nil, 403, nil)
	}
	b.Do(t, "POST", "/follow/v1/report", `{"instance":"x","sequence":1}`, 403, nil)
}

// A revoked key ends its streams, on the other node too, and is taken nowhere.
func TestRevokedKeys(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	other := s.Serve(t)
	var made struct{ ID, Secret string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service"}, 201, &made)
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service"}, 409, nil) // two at a time
	here, _ := feed(t, s.URL(), made.Secret, "")
	there, _ := feed(t, other.URL(), made.Secret, "")
	next(t, here, "beat")
	next(t, there, "beat")
	s.Keeper.Do(t, "DELETE", inProd+"/keys/"+made.ID, nil, 200, nil)
	for name, events := range map[string]<-chan [2]string{"here": here, "there": there} {
		timeout := time.After(5 * time.Second)
		for open := true; open; {
			select {
			case _, open = <-events:
			case <-timeout:
				t.Fatalf("the stream %s did not end within 5 s", name)
			}
		}
	}
	for _, u := range []string{s.URL(), other.URL()} {
		c := gltest.Caller{URL: u}.With("Authorization", "Bearer "+made.Secret)
		c.Do(t, "POST", "/ofrep/v1/evaluate/flags/a", `{}`, 401, nil)
		c.Do(t, "GET", "/follow/v1/snapshot", nil, 401, nil)
	}
}

// Reports are taken once, whatever is sent again, and odd ones are refused with the field.
func TestReports(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	c := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	report := `{"instance":"i1","sequence":%d,"application":"door","epoch":1,"revision":1,"source":"service","counts":[{"flag":"a","variant":"on","count":5},{"flag":"nowhere","variant":"on","count":5}]}`
	var taken struct{ Taken bool }
	gltest.Eventually(t, "the flag is known", func() bool {
		_, raw, _, _ := c.Send("POST", "/ofrep/v1/evaluate/flags/a", []byte("{}"))
		return strings.Contains(string(raw), "off")
	})
	for i, want := range []bool{true, false, false} {
		c.Do(t, "POST", "/follow/v1/report", fmt.Sprintf(report, 1), 200, &taken)
		if taken.Taken != want {
			t.Errorf("report %d: taken %t", i, taken.Taken)
		}
	}
	if sum := s.Keeper.Uses(t, "production"); len(sum) != 1 || sum["a on"] != 5 {
		t.Errorf("%v", sum)
	}
	for body, says := range map[string]string{`{"sequence":1}`: "instance",
		`{"instance":"x","sequence":0}`: "sequence", `{"instance":"x","sequence":1,"counts":[{"count":-1}]}`: "counts",
		`{"x":1}`: "sequence", `[]`: "no report"} {
		status, answer, _, _ := c.Send("POST", "/follow/v1/report", []byte(body))
		if status != 400 || !strings.Contains(string(answer), says) {
			t.Errorf("%s: %d %s", body, status, answer)
		}
	}
}

// Two processes over one database: a change on one reaches the followers of both.
func TestTwoServices(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	other := s.Serve(t)
	here := open(t, s, "production")
	there := open(t, s, "production", func(o *greenlever.Options) { o.URL = other.URL() })
	saved := s.Edit(t, "production", "a", turnOn)
	until(t, here, "the change here", at(saved.Revision))
	until(t, there, "the change there", at(saved.Revision))
	c := gltest.Caller{URL: other.URL(), Header: s.Keeper.Header}
	c.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 201, nil)
	until(t, here, "the stop from there", at(saved.Revision+1))
	if here.Bool(context.Background(), "a", greenlever.Unit("x"), true) {
		t.Error("stopped there, on here")
	}
}

// A service that was restored from a backup takes no changes but stops until a new epoch
// is started, and followers then take the restored state.
func TestRestoredBackup(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	saved := s.Edit(t, "production", "a", turnOn)
	backup := dump(t, s.DSN)
	lost := s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	c := open(t, s, "production")
	until(t, c, "what will be lost", at(lost.Revision))
	behind := open(t, s, "production", through(station(t, s.URL(), []string{s.Keys["production"]})))
	until(t, behind, "what will be lost, through an outpost", at(lost.Revision))
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	restore(t, s.DSN, backup)
	address := s.Address
	restored := s.Serve(t, func(c *server.Config) { c.Listen = address })
	gltest.Eventually(t, "the service learns that it was restored", func() bool {
		status, raw, _, err := s.Keeper.Send("GET", "/readyz?for=changes", nil)
		return err == nil && status == 503 && strings.Contains(string(raw), "epoch new")
	})
	if restored.Address != address {
		t.Fatalf("listens on %s", restored.Address)
	}
	v := s.Get(t, "production", "a")
	body, _ := json.Marshal(object{"document": v.Document})
	status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/a", body)
	if status != 409 || !strings.Contains(string(answer), "epoch new") {
		t.Errorf("a change: %d %s", status, answer)
	}
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}, "reason": "still taken"}, 201, nil)
	if st := c.State(); st.Revision != lost.Revision {
		t.Errorf("the follower went back: %+v", st)
	}
	var epoch struct{ Epoch int64 }
	s.Keeper.Do(t, "POST", "/epoch", object{"reason": "restored"}, 200, &epoch)
	for _, follower := range []*greenlever.Client{c, behind} {
		until(t, follower, "the new epoch", func(st greenlever.State) bool {
			return st.Epoch == epoch.Epoch && st.Revision == saved.Revision+1
		})
	}
	s.Keeper.Do(t, "GET", "/readyz?for=changes", nil, 200, nil)
	s.Edit(t, "production", "a", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "r", Gives: flag.Gives{Variant: "on"}}}
	})
}

// An older client lives with what a newer service sends.
func TestOfNewerServices(t *testing.T) {
	t.Parallel()
	revision := `{"format":1,"epoch":5,"revision":2,"at":0,"comet":true,"flags":[{"key":"a","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","mood":"new","rules":[{"id":"1","name":"r","when":{"test":"moon.phase","attribute":"x","moon":"full"},"gives":{"variant":"on"}}],"end":{"variant":"off"}}]}`
	mux := http.NewServeMux()
	mux.HandleFunc("/follow/v1/snapshot", func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, `{"format":1,"epoch":5,"revision":1,"flags":[],"segments":[],"stops":[],"comets":[1]}`)
	})
	mux.HandleFunc("/follow/v1/feed", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		io.WriteString(w, ": hello\nevent: snapshot\ndata: {\"epoch\":5,\"revision\":1}\n\nevent: comet\ndata: "+
			"x\n\nevent: revision\nid: 5.2\ndata: "+revision+"\n\n")
		http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	mux.HandleFunc("/follow/v1/report", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "{}") })
	srv := &http.Server{Handler: mux}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go srv.Serve(l)
	defer srv.Close()
	dir := t.TempDir()
	c, err := greenlever.Open(context.Background(), greenlever.Options{URL: "http://" + l.Addr().String(),
		Key: "gls_x", Dir: dir, Logger: quiet})
	if err != nil {
		t.Fatal(err)
	}
	until(t, c, "the revision", at(2))
	if c.Bool(context.Background(), "a", greenlever.Unit("u"), true) {
		t.Error("an unknown leaf let somebody in")
	}
	c.Close()
	files, _ := filepath.Glob(filepath.Join(dir, "ruleset-*"))
	raw, err := os.ReadFile(files[0])
	if err != nil || !strings.Contains(string(raw), `"moon":"full"`) {
		t.Errorf("what the client does not understand is not kept: %s %v", raw, err)
	}
}

// Attributes that cannot be sent as they are count as absent, never as something else.
func TestOddNumbers(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	saved := s.Edit(t, "production", "a", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "r", When: &condition.Node{Test: "number.more", Attribute: "n",
			Numbers: []float64{1}}, Gives: flag.Gives{Variant: "on"}}}
	})
	c := open(t, s, "production")
	until(t, c, "the edit", at(saved.Revision))
	for n, want := range map[int64]bool{5: true, 1 << 53: false, -(1 << 60): false, 1<<53 - 1: true} {
		if got := c.Bool(context.Background(), "a", greenlever.Unit("x", greenlever.Int("n", n)), false); got != want {
			t.Errorf("%d: %t", n, got)
		}
	}
}
