package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/tripwires"
	"greenlever.example/greenlever/internal/app/webhooks"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
)

// paper is a browser without scripts: it follows links and sends forms.
type paper struct {
	t      *testing.T
	at     string
	client *http.Client
	status int
	text   string
}

func newPaper(t *testing.T, at string) *paper {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	return &paper{t: t, at: at, client: &http.Client{Jar: jar}}
}

func (p *paper) take(res *http.Response, err error) *paper {
	p.t.Helper()
	if err != nil {
		p.t.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	if len(raw) > 15<<10 || strings.Contains(string(raw), "<script") ||
		!strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src 'none'") {
		p.t.Errorf("%s is of %d bytes under %q", res.Request.URL, len(raw), res.Header.Get("Content-Security-Policy"))
	}
	p.status, p.text = res.StatusCode, string(raw)
	return p
}

func (p *paper) open(path string) *paper {
	p.t.Helper()
	return p.take(p.client.Get(p.at + path))
}

func (p *paper) send(path string, form url.Values) *paper {
	p.t.Helper()
	return p.take(p.client.PostForm(p.at+path, form))
}

func (p *paper) says(status int, texts ...string) *paper {
	p.t.Helper()
	for _, text := range texts {
		if !strings.Contains(p.text, text) {
			p.t.Errorf("the page does not say %q:\n%s", text, p.text)
		}
	}
	if p.status != status {
		p.t.Errorf("status %d, want %d:\n%s", p.status, status, p.text)
	}
	return p
}

// hidden is the value of a form's hidden field.
func (p *paper) hidden(name string) string {
	_, after, _ := strings.Cut(p.text, `name="`+name+`" value="`)
	value, _, _ := strings.Cut(after, `"`)
	return value
}

// Whoever has a phone and a bad line stops on a page without scripts: find, press, confirm, see who has it, and lift.
func TestStopWithoutScripts(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "weather-holds", "doors")
	c := open(t, s, "production")
	until(t, c, "the flags", func(st greenlever.State) bool { return st.Revision >= 4 })
	p := newPaper(t, s.URL())
	p.open("/stop").says(200, "Password")
	p.send("/stop/sign-in", url.Values{"email": {gltest.KeeperEmail}, "password": {"wrong"}}).says(401,
		"the e-mail address or the password is wrong")
	p.send("/stop/sign-in", url.Values{"email": {gltest.KeeperEmail}, "password": {gltest.Password}}).says(200,
		"Ida Holm", "weather-holds", "doors", "pinecrest/staging")
	p.open("/stop?at=pinecrest/production&find=weather").says(200, "flag=weather-holds")
	if strings.Contains(p.text, "flag=doors") {
		t.Error("it finds what was not looked for")
	}
	p.open("/stop?at=pinecrest/production&flag=weather-holds").says(200, "Stop weather-holds now", "all get <code>off</code>")
	form := url.Values{"token": {p.hidden("token")}, "at": {p.hidden("at")}, "flag": {p.hidden("flag")}}
	p.send("/stop", url.Values{"token": {"x"}, "at": form["at"], "flag": form["flag"]}).says(403, "of another session")
	p.send("/stop", url.Values{"token": form["token"], "at": form["at"], "flag": {"nowhere"}}).says(400,
		"there is no flag &#34;nowhere&#34;")
	p.send("/stop", form).says(200, "Stopped: weather-holds", "Stopped by Ida Holm")
	gltest.Eventually(t, "who has it", func() bool {
		return strings.Contains(p.open(p.last()).text, "1 of 1 processes have it")
	})
	if c.Bool(t.Context(), "weather-holds", greenlever.Unit("x"), true) {
		t.Error("it is not stopped")
	}
	s.Edit(t, "production", "weather-holds", func(d *flag.Document) { d.Lever = flag.Off })
	id := p.client.Jar.Cookies(mustURL(t, s.URL())) // the session alone
	if len(id) != 1 {
		t.Errorf("cookies: %v", id)
	}
	var all struct{ Items []manage.StopView }
	s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &all)
	p.open("/stop?at=pinecrest/production").says(200, "Standing stops", all.Items[0].ID)
	p.open("/stop?at=pinecrest/production&done="+all.Items[0].ID+"&lift="+all.Items[0].ID).says(200,
		"Changed since", "Lift now")
	form = url.Values{"token": {p.hidden("token")}, "at": {p.hidden("at")}, "stop": {p.hidden("stop")}}
	p.send("/stop/lift", form).says(200, "Lifted: weather-holds")
	p.send("/stop/lift", form).says(400, "was lifted already")
	req, err := http.NewRequest("POST", s.URL()+"/stop", strings.NewReader(form.Encode()))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	res, err := p.client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != 403 {
		t.Errorf("a form of another site: %d", res.StatusCode)
	}
	auditor := s.Person(t, "ask.vik", "auditor")
	_ = auditor
	other := newPaper(t, s.URL())
	other.send("/stop/sign-in", url.Values{"email": {"ask.vik@pinecrest.example"}, "password": {gltest.Password}}).says(200,
		"You may look here")
	other.open("/stop?at=pinecrest/production&flag=doors")
	other.send("/stop", url.Values{"token": {other.hidden("token")}, "at": {"pinecrest/production"},
		"flag": {"doors"}}).says(403)
	if v := s.Get(t, "production", "doors"); strings.HasPrefix(v.Sentence.String(), "Stopped") {
		t.Error("an auditor has stopped it")
	}
}

func (p *paper) last() string {
	_, after, _ := strings.Cut(p.text, "&amp;done=")
	id, _, _ := strings.Cut(after, "&")
	return "/stop?at=pinecrest/production&done=" + id
}

func mustURL(t *testing.T, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

// From the first look at the Board, a flag's page, a release's page or the page without scripts two presses lead to a
// stopped flag, and none of them wants the pointer to rest anywhere.
func TestStopTakesTwoPresses(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "weather-holds")
	s.Edit(t, "production", "weather-holds", func(d *flag.Document) { d.Lever = flag.On })
	var rel manage.ReleaseView
	s.Keeper.Do(t, "POST", inProd+"/flags/weather-holds/releases", obj{"stages": []obj{{"name": "8 %", "share": 80_000,
		"least": "1d"}, {"name": "30 %", "share": 300_000}}, "reason": "try it"}, 201, &rel)
	for _, size := range [][2]int{{1280, 800}, {360, 780}} {
		w := window(t, s, size[0], size[1])
		for _, one := range []struct{ path, first, second string }{
			{"/p/pinecrest", "Stop weather-holds in production", "Stop weather-holds now"},
			{"/p/pinecrest/production/flags/weather-holds", "Stop weather-holds in production", "Stop weather-holds now"},
			{"/p/pinecrest/production/releases/" + rel.ID, "Stop weather-holds in production", "Stop weather-holds now"},
			{"/p/pinecrest/production/stop", "Stop weather-holds", "Stop weather-holds now"},
			{"/stop", "Stop weather-holds", "Stop weather-holds now"},
		} {
			w.Go(s.URL() + one.path).Click(one.first).Click(one.second)
			gltest.Eventually(t, fmt.Sprintf("%s at %d", one.path, size[0]), func() bool {
				return len(standingStops(t, s)) == 1
			})
			good(t, w)
			for _, id := range standingStops(t, s) {
				s.Keeper.Do(t, "POST", inProd+"/lifts", obj{"stops": []string{id}, "reason": "again"}, 201, nil)
			}
		}
	}
}

func standingStops(t *testing.T, s *gltest.Service) (ids []string) {
	t.Helper()
	var all struct{ Items []json.RawMessage }
	s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &all)
	for _, raw := range all.Items {
		var one manage.StopView
		if err := json.Unmarshal(raw, &one); err != nil {
			t.Fatal(err)
		}
		if one.LiftedAt == 0 {
			ids = append(ids, one.ID)
		}
	}
	return ids
}

// ring calls a tripwire's address.
func ring(t *testing.T, s *gltest.Service, secret string, headers map[string]string, body string, want int) tripwires.Told {
	t.Helper()
	req, err := http.NewRequest("POST", s.URL()+"/tripwire/"+secret, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for k, v := range headers {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(res.Body)
	if res.StatusCode != want {
		t.Fatalf("%s: status %d, want %d: %s", body, res.StatusCode, want, raw)
	}
	var told tripwires.Told
	if want == 200 {
		if err := json.Unmarshal(raw, &told); err != nil {
			t.Fatal(err)
		}
	}
	return told
}

func wired(t *testing.T, s *gltest.Service, w object) tripwires.Saved {
	t.Helper()
	var made tripwires.Saved
	s.Keeper.Do(t, "POST", inProd+"/tripwires", object{"tripwire": w, "reason": "nights are short"}, 201, &made)
	return made
}

// A monitoring system stops one flag and nothing else: each alert once, until it is over or somebody arms the tripwire
// again.
func TestTripwires(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "weather-holds", "doors")
	c := open(t, s, "production")
	w := wired(t, s, object{"title": "Weather is slow", "flags": []string{"weather-holds"},
		"when": `alert.subject == "weather"`, "identity": "alert.data.alert"})
	const began = `{"specversion":"1.0","id":"1","source":"/watch","type":"example.alert","subject":"weather","data":` +
		`{"status":"began","alert":"a1","title":"Slow answers","link":"https://watch.pinecrest.example/rules/7"}}`
	stop := func(told tripwires.Told, outcome tripwires.Outcome) string {
		t.Helper()
		if told.Outcome != outcome {
			t.Fatalf("it is %s, want %s", told.Outcome, outcome)
		}
		return told.Stop
	}
	stop(ring(t, s, w.Secret, nil, `{"subject":"doors","data":{"status":"began","alert":"b"}}`, 200),
		tripwires.Ignored)
	ring(t, s, w.Secret, nil, `{"data":{"status":"began","alert":"b"}}`, 400) // what cannot be judged stops nothing
	ring(t, s, w.Secret, nil, `[1`, 400)
	stop(ring(t, s, w.Secret, nil, strings.Replace(began, "began", "resolved", 1), 200), tripwires.Ignored)
	if n := len(standingStops(t, s)); n != 0 {
		t.Fatalf("%d stops stand", n)
	}
	id := stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stopped)
	gltest.Eventually(t, "the stop", func() bool {
		return !c.Bool(t.Context(), "weather-holds", greenlever.Unit("x"), true)
	})
	if !c.Bool(t.Context(), "doors", greenlever.Unit("x"), false) {
		t.Error("it stopped another flag")
	}
	if again := stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stands); again != id {
		t.Errorf("the same alert names stop %s, want %s", again, id)
	}
	var story manage.StopStory
	s.Keeper.Do(t, "GET", inProd+"/stops/"+id, nil, 200, &story)
	if story.ByName != "tripwire Weather is slow" || !strings.Contains(story.Markdown,
		"Slow answers (https://watch.pinecrest.example/rules/7)") {
		t.Errorf("its story: %+v", story.Told)
	}
	lift := func(id string) {
		t.Helper()
		s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{id}, "reason": "seen"}, 201, nil)
	}
	lift(id)
	stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stands) // it was lifted by somebody who knows better
	stop(ring(t, s, w.Secret, nil, strings.Replace(began, "began", "Resolved", 1), 200), tripwires.IsOver)
	lift(stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stopped))
	s.Keeper.Do(t, "POST", inProd+"/tripwires/"+w.ID+"/arm", object{"reason": "mended"}, 200, nil)
	lift(stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stopped))
	lift(stop(ring(t, s, w.Secret, nil, strings.Replace(began, "a1", "a2", 1), 200), tripwires.Stopped))

	// Without an identity it is one alert, armed by hand; on trial it only records; several calls are counted.
	one := wired(t, s, object{"title": "One", "flags": []string{"doors"}})
	lift(stop(ring(t, s, one.Secret, nil, `{"a":1}`, 200), tripwires.Stopped))
	stop(ring(t, s, one.Secret, nil, `{"status":"ok"}`, 200), tripwires.Ignored)
	stop(ring(t, s, one.Secret, nil, `{"a":2}`, 200), tripwires.Stands)
	trial := wired(t, s, object{"title": "Trial", "flags": []string{"doors"}, "trial": true})
	stop(ring(t, s, trial.Secret, nil, `{}`, 200), tripwires.Tried)
	several := wired(t, s, object{"title": "Several", "flags": []string{"doors"}, "least": 3, "within": "1m"})
	stop(ring(t, s, several.Secret, nil, `{}`, 200), tripwires.Counted)
	stop(ring(t, s, several.Secret, nil, `{}`, 200), tripwires.Counted)
	lift(stop(ring(t, s, several.Secret, nil, `{}`, 200), tripwires.Stopped))

	// Who calls from elsewhere, or cannot sign, is refused, and one entry a minute says so.
	far := wired(t, s, object{"title": "Far", "flags": []string{"doors"}, "sources": []string{"192.0.2.0/24"}})
	signed := wired(t, s, object{"title": "Signed", "flags": []string{"doors"}, "signed": true})
	for range 5 {
		ring(t, s, far.Secret, nil, `{}`, 403)
		ring(t, s, signed.Secret, nil, `{}`, 401)
		ring(t, s, "glx_nowhere", nil, `{}`, 404)
	}
	headers := map[string]string{}
	sign, err := webhooks.Sign([]app.Secret{{Text: signed.Signing}}, "m1", time.Now(), []byte(`{"x":1}`))
	if err != nil {
		t.Fatal(err)
	}
	for k := range sign {
		headers[k] = sign.Get(k)
	}
	ring(t, s, signed.Secret, headers, `{"x":2}`, 401)
	lift(stop(ring(t, s, signed.Secret, headers, `{"x":1}`, 200), tripwires.Stopped))
	refused := 0
	var page struct{ Items []struct{ Action string } }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=production&limit=200", nil, 200, &page)
	for _, e := range page.Items {
		if e.Action == "tripwire.refused" {
			refused++
		}
	}
	if refused < 3 || refused > 6 { // of three tripwires, in a minute or two
		t.Errorf("%d entries of refused calls", refused)
	}

	// A new address; the old one is taken for a day.
	var rotated tripwires.Saved
	s.Keeper.Do(t, "POST", inProd+"/tripwires/"+w.ID+"/rotate", object{"reason": "it was seen"}, 200, &rotated)
	s.Keeper.Do(t, "POST", inProd+"/tripwires/"+w.ID+"/arm", object{"reason": "again"}, 200, nil)
	gltest.Eventually(t, "the new address", func() bool {
		res, err := http.Post(s.URL()+"/tripwire/"+rotated.Secret, "application/json", strings.NewReader(began))
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res.StatusCode == 200
	})
	stop(ring(t, s, w.Secret, nil, began, 200), tripwires.Stands)
	for _, wrong := range []struct {
		w     object
		place string
	}{{object{"title": "x", "flags": []string{"nowhere"}}, "tripwire.flags[0]"},
		{object{"title": "x", "flags": []string{"doors"}, "when": "alert.a =="}, "tripwire.when"},
		{object{"title": "x", "flags": []string{"doors"}, "identity": "1 + 1"}, "tripwire.identity"},
		{object{"title": "x", "flags": []string{"doors"}, "least": 3}, "tripwire.within"},
		{object{"title": "x", "flags": []string{"doors"}, "sources": []string{"here"}}, "tripwire.sources[0]"}} {
		var p manage.Problem
		s.Keeper.Do(t, "POST", inProd+"/tripwires", object{"tripwire": wrong.w, "reason": "x"}, 400, &p)
		if len(p.Fields) != 1 || p.Fields[0].Place != wrong.place {
			t.Errorf("%v: %+v", wrong.w, p)
		}
	}
	s.Keeper.Do(t, "POST", inProd+"/tripwires/"+one.ID+"/remove", object{"reason": "done"}, 200, nil)
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A storm of wrong secrets does not keep the right one from stopping.
func TestTripwireAmongGarbage(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	w := wired(t, s, object{"title": "Doors", "flags": []string{"doors"}})
	ctx, end := context.WithCancel(t.Context())
	var all sync.WaitGroup
	var sent atomic.Int64
	for i := range 16 {
		all.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				res, err := http.Post(fmt.Sprintf("%s/tripwire/glx_%d-%d", s.URL(), i, n), "application/json",
					strings.NewReader(`{"status":"firing"}`))
				if err != nil {
					continue
				}
				res.Body.Close()
				sent.Add(1)
			}
		})
	}
	gltest.Eventually(t, "a storm", func() bool { return sent.Load() > 2_000 })
	began := time.Now()
	told := ring(t, s, w.Secret, nil, `{"status":"firing"}`, 200)
	took := time.Since(began)
	end()
	all.Wait()
	if told.Outcome != tripwires.Stopped || took > 5*time.Second {
		t.Errorf("it is %s after %s", told.Outcome, took)
	}
	t.Logf("%d calls with wrong secrets; the right one took %s", sent.Load(), took)
}

// stopsModel is all that there is to know of a flag's stops: whose stand, oldest first, and where its lever is. The same
// person's stop for the same reason is the one that stands.
type stopsModel struct {
	standing string // a letter for each
	on       bool
}

// stopsMoves are what can be done, and what comes of it.
var stopsMoves = []struct {
	name string
	next func(m stopsModel) stopsModel
}{
	{"stop by a", func(m stopsModel) stopsModel { return m.with("a") }},
	{"stop by an order", func(m stopsModel) stopsModel { return m.with("o") }},
	{"lift the oldest", func(m stopsModel) stopsModel { m.standing = m.standing[min(1, len(m.standing)):]; return m }},
	{"lift the newest", func(m stopsModel) stopsModel {
		m.standing = m.standing[:max(0, len(m.standing)-1)]
		return m
	}},
	{"lift the newest by an order", func(m stopsModel) stopsModel {
		m.standing = m.standing[:max(0, len(m.standing)-1)]
		return m
	}},
	{"lift one that was lifted", func(m stopsModel) stopsModel { return m }},
	{"turn the lever", func(m stopsModel) stopsModel { m.on = !m.on; return m }},
	{"edit the end", func(m stopsModel) stopsModel { return m }},
	{"begin an epoch", func(m stopsModel) stopsModel { return m }},
}

func (m stopsModel) with(who string) stopsModel {
	if !strings.Contains(m.standing, who) {
		m.standing += who
	}
	return m
}

// stopsReal does the same with the service.
type stopsReal struct {
	t      *testing.T
	s      *gltest.Service
	order  string   // that was given last
	ids    []string // that stand, oldest first
	letter map[string]string
	lifted string
	edits  int
}

func (r *stopsReal) do(name string) {
	r.t.Helper()
	lift := func(id string, want int) {
		r.s.Keeper.Do(r.t, "POST", inProd+"/lifts", object{"stops": []string{id}, "reason": "model"}, want, nil)
		if want == 201 {
			r.lifted = id
			r.ids = slices.DeleteFunc(r.ids, func(o string) bool { return o == id })
		}
	}
	switch name {
	case "stop by a":
		var st struct{ Stop string }
		r.s.Keeper.Do(r.t, "POST", inProd+"/stops", object{"flags": []string{"doors"}, "reason": "model"}, 201, &st)
		if !slices.Contains(r.ids, st.Stop) {
			r.ids, r.letter[st.Stop] = append(r.ids, st.Stop), "a"
		}
	case "stop by an order":
		if r.order != "" {
			r.once(r.order)
		}
		if slices.ContainsFunc(r.ids, func(id string) bool { return r.letter[id] == "o" }) {
			return
		}
		var id string
		id, r.order = ordered(r.t, keyOf(r.t, r.s), stopping("doors"))
		give(r.t, r.s.URL(), r.order, 200)
		r.ids, r.letter[id] = append(r.ids, id), "o"
		r.recorded(id, true)
	case "lift the newest by an order":
		if len(r.ids) == 0 {
			return
		}
		id := r.ids[len(r.ids)-1]
		_, text := ordered(r.t, keyOf(r.t, r.s), lifting(id))
		give(r.t, r.s.URL(), text, 200)
		r.ids = r.ids[:len(r.ids)-1]
		r.recorded(id, false)
	case "lift the oldest":
		if len(r.ids) > 0 {
			lift(r.ids[0], 201)
		}
	case "lift the newest":
		if len(r.ids) > 0 {
			lift(r.ids[len(r.ids)-1], 201)
		}
	case "lift one that was lifted":
		if r.lifted != "" {
			lift(r.lifted, 400)
		}
	case "turn the lever":
		r.s.Edit(r.t, "production", "doors", func(d *flag.Document) {
			d.Lever = map[flag.Lever]flag.Lever{flag.On: flag.Off, flag.Off: flag.On}[d.Lever]
		})
	case "edit the end":
		r.edits++
		r.s.Edit(r.t, "production", "doors", func(d *flag.Document) {
			d.Rules = []flag.Rule{{Name: fmt.Sprint("edit ", r.edits), When: tests("string.equals", "targetingKey", "nobody"),
				Gives: flag.Gives{Variant: "off"}}}
		})
	case "begin an epoch":
		r.s.Keeper.Do(r.t, "POST", "/epoch", object{"reason": "model"}, 200, nil)
	}
}

// once gives an order that was recorded: it stops once, whether its stop still stands or not. A process refuses it from
// the revision on that tells of it, and until then says that it has it.
func (r *stopsReal) once(order string) {
	r.t.Helper()
	gltest.Eventually(r.t, "an order that was recorded is refused", func() bool {
		status, answer, _, err := gltest.Caller{URL: r.s.URL()}.Send("POST", edge.EmergencyPath, []byte(order))
		if err != nil || status != 409 && !strings.Contains(string(answer), `"again":true`) {
			r.t.Fatalf("an order again: %d %s %v", status, answer, err)
		}
		return status == 409
	})
}

// recorded waits until the records have what an order did.
func (r *stopsReal) recorded(id string, stands bool) {
	r.t.Helper()
	gltest.Eventually(r.t, "the order is recorded", func() bool {
		return slices.Contains(standingStops(r.t, r.s), id) == stands
	})
}

// stands says how it is, as the service decides and as it shows it.
func (r *stopsReal) stands() (m stopsModel, gives string) {
	r.t.Helper()
	var v manage.FlagView
	r.s.Keeper.Do(r.t, "GET", inProd+"/flags/doors", nil, 200, &v)
	m.on = v.Document.Lever == flag.On
	for _, st := range v.Stops {
		m.standing = r.letter[st.ID] + m.standing // newest first
	}
	var answer struct{ Variant string }
	status, raw, _, err := bearer(r.s.URL(), r.s.Keys["production"]).Send("POST", "/ofrep/v1/evaluate/flags/doors",
		[]byte(`{"context":{"targetingKey":"x"}}`))
	if err != nil || status != 200 || json.Unmarshal(raw, &answer) != nil {
		r.t.Fatalf("%d %s %v", status, raw, err)
	}
	return m, answer.Variant
}

func (r *stopsReal) holds(what string, m stopsModel) {
	r.t.Helper()
	is, gives := r.stands()
	should := "off"
	if m.standing == "" && m.on {
		should = "on"
	}
	if is != m || gives != should {
		r.t.Fatalf("after %s it stands as %+v and gives %s; the model has %+v and gives %s", what, is, gives, m, should)
	}
}

// Whatever comes after a stop, it stands until a lift names it: every move from every state that there is, and walks at
// random, against a model of a few lines.
func TestStopsAreAsTheirModel(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	r := &stopsReal{t: t, s: s, letter: map[string]string{}}
	begin := stopsModel{on: true}
	paths := map[stopsModel][]string{begin: nil}
	back := func(m stopsModel) {
		for ; m.standing != ""; m.standing = m.standing[1:] {
			r.do("lift the oldest")
		}
		if !m.on {
			r.do("turn the lever")
		}
	}
	moves, at := 0, begin
	for todo := []stopsModel{begin}; len(todo) > 0; todo = todo[1:] {
		for _, move := range stopsMoves {
			back(at)
			for _, name := range paths[todo[0]] {
				r.do(name)
			}
			r.do(move.name)
			at = move.next(todo[0])
			moves++
			r.holds(fmt.Sprint(paths[todo[0]], " ", move.name), at)
			if _, known := paths[at]; !known {
				paths[at] = append(slices.Clone(paths[todo[0]]), move.name)
				todo = append(todo, at)
			}
		}
	}
	if len(paths) != 10 { // none, a, o, ao, oa; on and off
		t.Errorf("there are %d states: %v", len(paths), paths)
	}
	walks := 60
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		walks = 2_000
	}
	rng := rand.New(rand.NewPCG(4, 14))
	for range walks {
		for range 6 {
			move := stopsMoves[rng.IntN(len(stopsMoves))]
			r.do(move.name)
			at = move.next(at)
		}
		r.holds("a walk", at)
	}
	t.Logf("%d moves from %d states, %d walks", moves, len(paths), walks)
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A stop stands whatever goes on beside it at the same moment: edits, lifts of older stops, other stops, a release's
// steps and roll backs.
func TestAStopAmongEverythingElse(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	other := s.Person(t, "juno.lind", "releaser")
	c := open(t, s, "production")
	older := ""
	for round := range 12 {
		var rel manage.ReleaseView
		if round%3 == 0 {
			for _, id := range standingStops(t, s) {
				s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{id}, "reason": "x"}, 201, nil)
			}
			older = ""
			s.Edit(t, "production", "doors", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
			s.Keeper.Do(t, "POST", inProd+"/flags/doors/releases", obj{"to": "on", "reason": "again", "stages": []obj{
				{"name": "8 %", "share": 80_000}, {"name": "30 %", "share": 300_000}, {"name": "65 %",
					"share": 650_000}}}, 201, &rel)
		}
		var all sync.WaitGroup
		var st struct{ Stop string }
		all.Go(func() {
			s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"doors"}, "reason": fmt.Sprint(round)}, 201, &st)
		})
		all.Go(func() {
			_, _, _, _ = other.Send("POST", inProd+"/stops", []byte(`{"flags":["doors"],"reason":"other"}`))
		})
		if older != "" {
			all.Go(func() {
				_, _, _, _ = other.Send("POST", inProd+"/lifts", fmt.Appendf(nil, `{"stops":[%q],"reason":"x"}`, older))
			})
		}
		all.Go(func() {
			if v := s.Get(t, "production", "doors"); rel.Release == nil {
				d := *v.Document
				d.Lever = flag.On
				raw, _ := json.Marshal(object{"document": d, "reason": "beside it"})
				_, _, _, _ = s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/doors", raw)
			} else {
				_, _, _, _ = s.Keeper.Send("POST", inProd+"/releases/"+rel.ID+"/halts",
					[]byte(`{"do":"roll-back","reason":"beside it"}`))
			}
		})
		all.Wait()
		if ids := standingStops(t, s); !slices.Contains(ids, st.Stop) {
			t.Fatalf("round %d: stop %s does not stand among %v", round, st.Stop, ids)
		}
		v := s.Get(t, "production", "doors")
		until(t, c, "all of it", func(state greenlever.State) bool { return state.Revision >= v.Revision })
		if c.Bool(t.Context(), "doors", greenlever.Unit("x"), true) {
			t.Fatalf("round %d: it is stopped, and gives on", round)
		}
		if rel.Release != nil {
			_, _, _, _ = s.Keeper.Send("POST", inProd+"/releases/"+rel.ID+"/halts", []byte(`{"do":"roll-back"}`))
		}
		for _, id := range standingStops(t, s) { // one stays, to be lifted beside the next
			if older = st.Stop; id != st.Stop {
				s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{id}, "reason": "x"}, 201, nil)
			}
		}
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A stop in one line: what changed, the first bad outcome after it, who saw it, the stop, and that all have it; what was
// bad of the resting variant, or before the change, is not in it.
func TestAStopInOneLine(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/metrics/door-open-failed", object{"metric": object{
		"title": "Doors that stayed shut", "kind": "rate", "better": "lower", "window": "10s", "grace": "10s",
		"tolerance": object{"relative": .1}}}, 200, nil)
	flagsOn(t, s, "doors")
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	var made struct{ Secret string }
	s.Keeper.Do(t, "POST", inProd+"/tripwires", object{"tripwire": object{"title": "Doors jam",
		"flags": []string{"doors"}}}, 201, &made)
	report := func(sequence int, variant string, bad int) {
		t.Helper()
		bearer(s.URL(), s.Keys["production"]).Do(t, "POST", "/follow/v1/report", object{"instance": "i-line",
			"sequence": sequence, "application": "door", "leaving": true, "measures": []object{{"metric": "door-open-failed", "flag": "doors",
				"variant": variant, "count": 9, "bad": bad}}}, 200, nil)
	}
	report(1, "off", 4) // it rests: no reason to look at the flag
	line := func(stop string) (whats []string, story manage.StopStory) {
		t.Helper()
		s.Keeper.Do(t, "GET", inProd+"/stops/"+stop, nil, 200, &story)
		for _, m := range story.Line {
			whats = append(whats, m.What)
		}
		return whats, story
	}
	var st struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"doors"}, "reason": "a look"}, 201, &st)
	gltest.Eventually(t, "a person's stop", func() bool {
		whats, _ := line(st.Stop)
		return slices.Equal(whats, []string{"change", "stop", "delivered"})
	})
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{st.Stop}}, 201, nil)
	report(2, "on", 2)
	until(t, c, "the lift", func(greenlever.State) bool {
		return c.Bool(t.Context(), "doors", greenlever.Unit("x"), false)
	})
	status, raw, _, err := gltest.Caller{URL: s.URL() + "/tripwire/" + made.Secret + "?"}.Send("POST", "",
		[]byte(`{"title":"doors stay shut"}`))
	var told tripwires.Told
	if err != nil || status != 200 || json.Unmarshal(raw, &told) != nil || told.Outcome != tripwires.Stopped {
		t.Fatalf("%d %s %v", status, raw, err)
	}
	gltest.Eventually(t, "a tripwire's stop", func() bool {
		whats, story := line(told.Stop)
		slices.Sort(whats)
		return slices.Equal(whats, []string{"bad", "change", "delivered", "seen", "stop"}) &&
			strings.Contains(story.InLine, "first bad door-open-failed of who got on") &&
			strings.Contains(story.InLine, "seen by tripwire Doors jam: doors stay shut") &&
			strings.Contains(story.InLine, "all 1 processes have it") && strings.Contains(story.Markdown, story.InLine)
	})
}
