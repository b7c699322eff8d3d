package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/outpost"
	"greenlever.example/greenlever/internal/server"
)

// station starts an outpost of an address.
func station(t testing.TB, url string, keys []string, change ...func(*outpost.Config)) *outpost.Outpost {
	t.Helper()
	c := outpost.Config{URL: url, Keys: keys, Listen: "127.0.0.1:0", Admin: "127.0.0.1:0", Dir: t.TempDir(),
		Name: "yard", Version: "1", Log: quiet}
	for _, f := range change {
		f(&c)
	}
	o, err := outpost.Start(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.Stop() })
	return o
}

// through makes a client follow through an outpost.
func through(o *outpost.Outpost) func(*greenlever.Options) {
	return func(c *greenlever.Options) { c.URL = o.URL() }
}

func bearer(url, key string) gltest.Caller {
	return gltest.Caller{URL: url}.With("Authorization", "Bearer "+key)
}

// crews gives "on" to crews of two and more.
func crews(d *flag.Document) {
	d.Lever = flag.On
	d.Rules = []flag.Rule{{ID: "crews", Name: "Crews", When: &condition.Node{Test: "number.at-least",
		Attribute: "crew_size", Numbers: []float64{2}}, Gives: flag.Gives{Variant: "on"}}}
}

// An outpost answers as the service does, byte for byte, takes the same keys, and tells the
// service who is behind it and what they decided.
func TestOutpost(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	o := station(t, s.URL(), []string{s.Keys["production"], s.Keys["staging"]})
	c := open(t, s, "production", through(o), func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	saved := s.Edit(t, "production", "night-batching", crews)
	until(t, c, "the edit, through the outpost", at(saved.Revision))
	unit := greenlever.Unit("site-1", greenlever.Number("crew_size", 3))
	if !c.Bool(context.Background(), "night-batching", unit, false) {
		t.Error("through an outpost the rule does not apply")
	}
	const path = "/ofrep/v1/evaluate/flags"
	body := []byte(`{"context":{"targetingKey":"site-1","crew_size":3}}`)
	for _, key := range []string{s.Keys["production"], s.Browse["production"], s.Keys["staging"]} {
		for _, at := range []string{path, path + "/night-batching", path + "/handover-photo", path + "/nowhere"} {
			status, here, header, _ := bearer(s.URL(), key).Send("POST", at, body)
			there, remote, second, _ := bearer(o.URL(), key).Send("POST", at, body)
			if at == path { // the stream's address is another one
				here, remote = cutAt(here, `,"eventStreams"`), cutAt(remote, `,"eventStreams"`)
			}
			if status != there || !bytes.Equal(here, remote) || header.Get("ETag") != second.Get("ETag") {
				t.Errorf("%s: the service says %d %s, the outpost %d %s", at, status, here, there, remote)
			}
		}
	}
	var made struct{ ID, Secret string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service", "purpose": "a vendor"}, 201, &made)
	vendor := bearer(o.URL(), made.Secret)
	gltest.Eventually(t, "the outpost takes a new key", func() bool {
		status, _, _, _ := vendor.Send("POST", path+"/night-batching", body)
		return status == 200
	})
	s.Keeper.Do(t, "DELETE", inProd+"/keys/"+made.ID, nil, 200, nil)
	gltest.Eventually(t, "the outpost refuses a key that was revoked", func() bool {
		status, _, _, _ := vendor.Send("POST", path+"/night-batching", body)
		return status == 401
	})
	gltest.Eventually(t, "the service knows who is behind the outpost", func() bool {
		var d struct {
			Alive, Delivered int
			Instances        []struct{ ID, Kind, Via, Application string }
		}
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		via, outposts := "", ""
		for _, i := range d.Instances {
			if i.Application == "door" && i.ID == c.State().Instance {
				via = i.Via
			}
			if i.Kind == "outpost" && i.Application == "yard" {
				outposts = i.ID
			}
		}
		return d.Alive == 2 && d.Delivered == 2 && via != "" && via == outposts
	})
	_, page, _, _ := gltest.Caller{URL: o.AdminURL() + "/?"}.Send("GET", "", nil)
	for _, want := range []string{"pinecrest/production", "pinecrest/staging", "connected", "door",
		c.State().Instance} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the outpost's page lacks %q: %s", want, page)
		}
	}
	if strings.Contains(string(page), "night-batching") {
		t.Error("the outpost's page names a flag")
	}
	if err := o.Stop(); err != nil { // tells what it counted
		t.Fatal(err)
	}
	gltest.Eventually(t, "what was decided at the outpost is counted", func() bool {
		u := s.Keeper.Uses(t, "production")
		return u["night-batching on"] >= 3 && u["handover-photo off"] >= 1
	})
}

// cutAt gives what stands before a mark.
func cutAt(b []byte, mark string) []byte {
	before, _, _ := bytes.Cut(b, []byte(mark))
	return before
}

// What an outpost asks for again and again is answered in full only when it has changed.
func TestOutpostsAskForWhatMoved(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	from := bearer(s.URL(), s.Keys["production"])
	ask := func(tag string) (int, string) {
		status, _, header, _ := from.With("If-None-Match", tag).Send("GET", "/follow/v1/outpost", nil)
		return status, header.Get("ETag")
	}
	_, tag := ask("")
	for range 20 {
		if status, _ := ask(tag); status != 304 {
			t.Fatalf("unchanged, and %d", status)
		}
	}
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser"}, 201, nil)
	gltest.Eventually(t, "another key is told", func() bool { status, _ := ask(tag); return status == 200 })
}

// An outpost whose own key is revoked takes that key from nobody else; other keys go on.
func TestOutpostWhoseKeyIsRevoked(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	var made struct{ ID, Secret string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "service", "purpose": "north yard"}, 201, &made)
	o := station(t, s.URL(), []string{made.Secret}, func(c *outpost.Config) { c.Wait = gltest.Patience })
	const path = "/ofrep/v1/evaluate/flags/a"
	answers := func(key string, want int) func() bool {
		return func() bool {
			status, _, _, _ := bearer(o.URL(), key).Send("POST", path, nil)
			return status == want
		}
	}
	gltest.Eventually(t, "its own key is taken", answers(made.Secret, 200))
	s.Keeper.Do(t, "DELETE", inProd+"/keys/"+made.ID, nil, 200, nil)
	gltest.Eventually(t, "its own key is refused", answers(made.Secret, 401))
	if !answers(s.Keys["production"], 200)() {
		t.Error("another key is refused too")
	}
	res, err := http.Get(o.AdminURL())
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if raw, _ := io.ReadAll(res.Body); !strings.Contains(string(raw), "does not take this outpost&#39;s access key "+
		"any more") {
		t.Errorf("the page does not say so: %s", raw)
	}
}

// Without the service an outpost goes on, starts again from its copy, and serves clients
// that start; when the service comes back, all of them follow it again.
func TestOutpostWithoutService(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "handover-photo", "goneBy": "stays",
		"visible": true}, 201, nil)
	saved := s.Edit(t, "production", "handover-photo", turnOn)
	dir := t.TempDir()
	keys := []string{s.Keys["production"]}
	same := func(c *outpost.Config) { c.Dir, c.Wait = dir, 300*time.Millisecond }
	o := station(t, s.URL(), keys, same)
	first := open(t, s, "production", through(o))
	until(t, first, "the flag", at(saved.Revision))
	gltest.Eventually(t, "the outpost knows the keys", func() bool {
		status, _, _, _ := bearer(o.URL(), s.Browse["production"]).Send("POST",
			"/ofrep/v1/evaluate/flags/handover-photo", nil)
		return status == 200
	})
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := o.Stop(); err != nil {
		t.Log("the outpost could not say goodbye:", err)
	}
	again := station(t, s.URL(), keys, same)
	bearer(again.URL(), "").Do(t, "GET", "/readyz", nil, 200, nil)
	for _, key := range []string{s.Keys["production"], s.Browse["production"]} {
		var a struct{ Variant string }
		bearer(again.URL(), key).Do(t, "POST", "/ofrep/v1/evaluate/flags/handover-photo",
			`{"context":{"targetingKey":"r"}}`, 200, &a)
		if a.Variant != "on" {
			t.Errorf("without the service: %+v", a)
		}
	}
	late := open(t, s, "production", through(again))
	until(t, late, "a client that starts without the service", at(saved.Revision))
	if !late.Bool(context.Background(), "handover-photo", greenlever.Unit("r"), false) {
		t.Error("a client that starts without the service is answered otherwise")
	}
	if left := time.Since(late.State().Contact); left < 0 {
		t.Errorf("the service was heard of in %v", -left)
	}
	address := s.Address
	s.Server = s.Serve(t, func(c *server.Config) { c.Listen = address })
	next := s.Edit(t, "production", "handover-photo", func(d *flag.Document) { d.Lever = flag.Off })
	until(t, late, "the service is followed again", at(next.Revision))
}

// An outpost that never reached the service says so, to machines and people, and begins
// once it can.
func TestOutpostBeforeTheService(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	address := s.Address
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	o := station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) { c.Wait = -1 })
	for path, want := range map[string]string{"/readyz": "was not reached", "/": "never reached"} {
		at := o.URL()
		if path == "/" {
			at = o.AdminURL()
		}
		res, err := http.Get(at + path)
		if err != nil {
			t.Fatal(err)
		}
		raw, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !strings.Contains(string(raw), want) || path == "/readyz" && res.StatusCode != 503 {
			t.Errorf("%s: %d %s", path, res.StatusCode, raw)
		}
	}
	status, answer, _, _ := bearer(o.URL(), s.Keys["production"]).Send("POST", "/ofrep/v1/evaluate/flags/a", nil)
	if status != 503 || !strings.Contains(string(answer), "not reached the service") {
		t.Errorf("%d %s", status, answer)
	}
	s.Server = s.Serve(t, func(c *server.Config) { c.Listen = address })
	gltest.Eventually(t, "it begins", func() bool {
		status, _, _, _ := bearer(o.URL(), s.Keys["production"]).Send("POST", "/ofrep/v1/evaluate/flags/a", nil)
		return status == 200
	})
}

// Outposts can stand behind outposts; whoever is behind them is known at the service.
func TestOutpostBehindOutpost(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	near := station(t, s.URL(), []string{s.Keys["production"]})
	far := station(t, near.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) { c.Name = "hut" })
	c := open(t, s, "production", through(far), func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	saved := s.Edit(t, "production", "a", turnOn)
	until(t, c, "the edit", at(saved.Revision))
	c.Bool(context.Background(), "a", greenlever.Unit("x"), false)
	gltest.Eventually(t, "all three are known", func() bool {
		var d struct {
			Newest struct{ Expected, Reached int }
			Alive  int
		}
		s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &d)
		return d.Alive == 3
	})
}

// Answers of an outpost are never older than what those behind it have had.
func TestOutpostThatLags(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	saved := s.Edit(t, "production", "a", turnOn)
	dir := t.TempDir()
	o := station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) { c.Dir = dir })
	first := open(t, s, "production", through(o))
	until(t, first, "the first edit", at(saved.Revision))
	if err := o.Stop(); err != nil {
		t.Fatal(err)
	}
	newer := s.Edit(t, "production", "a", func(d *flag.Document) { d.Lever = flag.Off })
	mine := t.TempDir()
	c := open(t, s, "production", func(o *greenlever.Options) { o.Dir = mine })
	until(t, c, "the newer edit", at(newer.Revision))
	c.Close()
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	old := station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) { c.Dir, c.Wait = dir, -1 })
	// The copy on disk belongs to an address, so the client is told the same one by a proxy.
	proxy := &relayTo{to: old.URL()}
	c = open(t, s, "production", func(o *greenlever.Options) {
		o.Dir, o.HTTP, o.Wait = mine, &http.Client{Transport: proxy}, -1
	})
	until(t, c, "the outpost that lags", func(st greenlever.State) bool { return st.Connected })
	if st := c.State(); st.Revision != newer.Revision || c.Bool(context.Background(), "a", greenlever.Unit("x"),
		false) {
		t.Errorf("the client went back: %+v", st)
	}
}

// relayTo sends requests to another host.
type relayTo struct{ to string }

func (r *relayTo) RoundTrip(req *http.Request) (*http.Response, error) {
	next := req.Clone(req.Context())
	next.URL.Host = strings.TrimPrefix(r.to, "http://")
	return http.DefaultTransport.RoundTrip(next)
}

// Units, attributes and flags asked for in vain behind an outpost reach the service.
func TestOutpostReportsUnits(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	o := station(t, s.URL(), []string{s.Keys["production"]})
	remote := bearer(o.URL(), s.Keys["production"])
	for _, unit := range []string{"site-1", "site-2", "site-3"} {
		body, _ := json.Marshal(object{"context": object{"targetingKey": unit, "crew_size": 2}})
		remote.Do(t, "POST", "/ofrep/v1/evaluate/flags/a", body, 200, nil)
		remote.Do(t, "POST", "/ofrep/v1/evaluate/flags/b", body, 404, nil)
	}
	if err := o.Stop(); err != nil {
		t.Fatal(err)
	}
	var r struct {
		Unknown []struct {
			Flag    string
			Nearest string
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/radar", nil, 200, &r)
	if len(r.Unknown) != 1 || r.Unknown[0].Flag != "b" {
		t.Errorf("%+v", r)
	}
	_, raw, _, _ := s.Keeper.Send("POST", inProd+"/population/units", []byte(`{"of":"targetingKey"}`))
	for _, want := range []string{"site-1", "site-2", "site-3", "crew_size"} {
		if !strings.Contains(string(raw), want) {
			t.Errorf("the population lacks %s: %s", want, raw)
		}
	}
}

// cutLine is a way to the service that ends when the test says so.
type cutLine struct{ cut atomic.Bool }

func (l *cutLine) RoundTrip(req *http.Request) (*http.Response, error) {
	if l.cut.Load() {
		return nil, errors.New("the line is cut")
	}
	return http.DefaultTransport.RoundTrip(req)
}

// An outpost that dies takes nobody with it: who has another address goes there at once and who waits
// for the next outpost is found again; lost, by name, are the outpost and who left while it was dead.
func TestFollowersOfADeadOutpost(t *testing.T) {
	t.Parallel()
	var by atomic.Int64
	s := gltest.Start(t, shifted(&by))
	s.Flag(t, "a")
	var line cutLine
	dies := station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) {
		c.HTTP = &http.Client{Transport: &line}
		c.Name = "yard"
	})
	quick := func(c *greenlever.Options) { c.Report = 50 * time.Millisecond }
	back := open(t, s, "production", through(dies), quick, func(c *greenlever.Options) { c.Application = "back" })
	two := open(t, s, "production", quick, func(c *greenlever.Options) {
		c.Application, c.URL = "two", dies.URL()+","+s.URL()
	})
	gone := open(t, s, "production", through(dies), quick, func(c *greenlever.Options) { c.Application = "gone" })
	type list struct {
		Instances, Lost []struct{ ID, Application, Kind string }
	}
	look := func() (l list) { s.Keeper.Do(t, "GET", inProd+"/instances", nil, 200, &l); return l }
	gltest.Eventually(t, "all are known", func() bool { return len(look().Instances) == 4 })
	line.cut.Store(true)
	address := strings.TrimPrefix(dies.URL(), "http://")
	_ = dies.Stop() // and tells nobody
	_ = gone.Close()
	by.Add(int64(2 * time.Minute))
	stopped := stop(t, s, "a")
	defer stopped()
	gltest.Eventually(t, "all are lost but the one with two addresses, which the stop reaches", func() bool {
		l := look()
		return len(l.Instances) == 1 && l.Instances[0].ID == two.State().Instance && len(l.Lost) == 3 &&
			two.Answer(t.Context(), "a", greenlever.Unit("x")).Reason == "DISABLED"
	})
	station(t, s.URL(), []string{s.Keys["production"]}, func(c *outpost.Config) {
		c.Listen = address
		c.Name = "yard"
	})
	gltest.Eventually(t, "who comes back is found", func() bool {
		l := look()
		return slices.ContainsFunc(l.Instances, func(i struct{ ID, Application, Kind string }) bool {
			return i.ID == back.State().Instance
		}) && len(l.Lost) == 2
	})
	gltest.Eventually(t, "it knows of the stop", func() bool {
		return back.Answer(t.Context(), "a", greenlever.Unit("x")).Reason == "DISABLED"
	})
	for _, i := range look().Lost {
		if i.Kind != "outpost" && i.ID != gone.State().Instance {
			t.Errorf("%+v is lost", i)
		}
	}
}
