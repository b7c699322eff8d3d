package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/gltest"
)

// preview is what a dry run says that an edit would do.
type previewed struct {
	Document *flag.Document
	Preview  struct {
		Shifts []shift.Shift
		Drawn  map[string][]shift.Drawn
		Tests  []struct{ Flag, Unit, From, To string }
		Lint   []lint.Finding
		Types  []struct{ Rule, Says string }
	}
}

// tryEdit asks what an edit would do.
func tryEdit(t *testing.T, s *gltest.Service, env, key string, alter func(*flag.Document)) previewed {
	t.Helper()
	v := s.Get(t, env, key)
	alter(v.Document)
	var p previewed
	s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", "/projects/pinecrest/environments/"+env+"/flags/"+
		key+"?dryRun=true", object{"document": v.Document, "reason": "trying"}, 200, &p)
	return p
}

func recipient(i int) greenlever.Context {
	attributes := []greenlever.Attribute{greenlever.String("site.id", fmt.Sprint("site-", i%60)),
		greenlever.String("site.region", []string{"north", "east", "south"}[i%3]),
		greenlever.String("crew_size", "2"), greenlever.String("email", fmt.Sprintf("r%d@pinecrest.example", i))}
	if i%5 > 0 {
		attributes = append(attributes, greenlever.String("firmware", []string{"4.1.0", "4.2.0"}[i%2]))
	}
	return greenlever.Unit(fmt.Sprint("recipient-", i), attributes...)
}

func declare(t *testing.T, s *gltest.Service, name string, more object) {
	t.Helper()
	body := attributeBody(name, "string")
	for k, v := range more {
		body[k] = v
	}
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/attributes/"+name, body, 200, nil)
}

// populated starts a service whose production environment has seen so many recipients.
func populated(t *testing.T, units int) (*gltest.Service, *greenlever.Client) {
	t.Helper()
	s := gltest.Start(t)
	s.Flag(t, "night-batching")
	declare(t, s, "email", object{"personal": true, "derive": "domain"})
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "First sites", Gives: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: "on", Share: 80_000}, {GoesOn: true, Share: 920_000}}}}}}
	})
	c := open(t, s, "production", func(o *greenlever.Options) { o.Report = 100 * time.Millisecond })
	gltest.Eventually(t, "the population", func() bool {
		for i := range units { // the first calls come before the client was told how to sample
			c.Bool(context.Background(), "night-batching", recipient(i), false)
		}
		var p struct {
			Samples []struct {
				Of    string
				Units shift.Estimate
			}
		}
		s.Keeper.Do(t, "GET", inProd+"/population", nil, 200, &p)
		return len(p.Samples) == 2 && p.Samples[0].Units.Units == int64(units) && p.Samples[1].Units.Units == int64(
			min(units, 60))
	})
	return s, c
}

// Every edit shows what it would move, on the units that clients have seen.
func TestEveryEditShowsItsShift(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 900)
	s.Flag(t, "rounds-by-night")
	s.Edit(t, "production", "rounds-by-night", func(d *flag.Document) {
		d.Lever, d.End.Variant = flag.On, "on"
		d.Needs = []flag.Need{{Flag: "night-batching", Variant: "on"}}
	})
	widen := func(d *flag.Document) {
		d.Rules[0].Gives.Shares.Parts[0].Share, d.Rules[0].Gives.Shares.Parts[1].Share = 300_000, 700_000
	}
	p := tryEdit(t, s, "production", "night-batching", widen)
	if len(p.Preview.Shifts) != 2 || p.Preview.Shifts[1].Flag != "rounds-by-night" {
		t.Fatalf("shifts of %d flags", len(p.Preview.Shifts))
	}
	sh := p.Preview.Shifts[0]
	sites := p.Preview.Drawn[p.Document.Rules[0].ID][0]
	if sh.Units.Units != 900 || sites.Units.Units != 60 || sites.Parts["on"].Counted*15 != sh.After["on"].Counted {
		t.Errorf("%d of %d units at %d of %d sites", sh.After["on"].Counted, sh.Units.Units, sites.Parts["on"].Counted,
			sites.Units.Units)
	}
	if sh.Moved.Counted == 0 || len(sh.Moves) != 1 || sh.Moves[0].From != "off" || sh.Moves[0].To != "on" ||
		len(sh.Moves[0].Examples) == 0 {
		t.Errorf("%+v", sh.Moves)
	}
	// What was shown is what happens: to those named, and in number.
	get := func(unit string) string {
		t.Helper()
		var u struct {
			Answers []struct{ Flag, Variant string }
		}
		s.Keeper.Do(t, "POST", inProd+"/unit", object{"unit": unit}, 200, &u)
		return u.Answers[0].Variant
	}
	for _, unit := range sh.Moves[0].Examples {
		if got := get(unit); got != "off" {
			t.Errorf("before, %s gets %s", unit, got)
		}
	}
	s.Edit(t, "production", "night-batching", widen)
	for _, unit := range sh.Moves[0].Examples {
		if got := get(unit); got != "on" {
			t.Errorf("after, %s gets %s", unit, got)
		}
	}
	var track struct{ Shifts []shift.Shift }
	s.Keeper.Do(t, "GET", inProd+"/flags/night-batching/track", nil, 200, &track)
	if got, want := track.Shifts[0].After["on"].Counted, sh.Before["on"].Counted+sh.Moved.Counted; got != want {
		t.Errorf("%d units get on, %d were foretold", got, want)
	}
	// Nobody moves, and it says why.
	p = tryEdit(t, s, "production", "night-batching", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "Old firmware", When: &condition.Node{Test: "version.less",
			Attribute: "firmware", Text: []string{"4.0.0"}}, Gives: flag.Gives{Variant: "on"}})
	})
	if because := p.Preview.Shifts[0].Because; len(because) != 1 ||
		because[0].String() != `rule "Old firmware" matches nobody who was seen` {
		t.Errorf("because %q", because)
	}
	// A stop can be tried too.
	var stop previewed
	s.Keeper.Do(t, "POST", inProd+"/stops?dryRun=true", object{"flags": []string{"night-batching"}}, 201, &stop)
	if len(stop.Preview.Shifts) != 2 || stop.Preview.Shifts[0].After["on"].Counted != 0 || s.Get(t, "production",
		"night-batching").Sentence.String()[:7] == "Stopped" {
		t.Errorf("%+v", stop.Preview.Shifts)
	}
}

// A comparison that never fits what is sent is refused with the mend; so is one that does
// not fit what is declared.
func TestComparisonsThatCannotFit(t *testing.T) {
	t.Parallel()
	s, c := populated(t, 300)
	gltest.Eventually(t, "the attributes", func() bool {
		for i := range 3_000 {
			c.Bool(context.Background(), "night-batching", recipient(i%300), false)
		}
		var a struct {
			Contexts uint64
			Items    []struct {
				Name, Odd string
				Share     float64
				Seen      struct {
					Kinds  map[string]uint64
					Values []struct{ Value string }
				}
			}
		}
		s.Keeper.Do(t, "GET", inProd+"/attributes", nil, 200, &a)
		for _, one := range a.Items {
			switch {
			case one.Name == "email" && len(one.Seen.Values) > 0:
				t.Fatalf("values of a personal attribute are kept: %v", one.Seen.Values)
			case one.Name == "crew_size" && one.Seen.Kinds["string"] >= 40:
				return one.Odd == "is sent, but not declared" && one.Share == 1
			}
		}
		return false
	})
	v := s.Get(t, "production", "night-batching")
	refused := func(n condition.Node, want string) {
		t.Helper()
		d := *v.Document
		d.Rules = append(slices.Clone(d.Rules), flag.Rule{Name: "Big crews", When: &n,
			Gives: flag.Gives{Variant: "on"}})
		body, _ := json.Marshal(object{"document": d})
		status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT",
			inProd+"/flags/night-batching", body)
		if status != 400 || !strings.Contains(string(answer), want) || !strings.Contains(string(answer),
			"document.rules[1].when") {
			t.Errorf("%d %s, want %s", status, answer, want)
		}
	}
	refused(condition.Node{Test: "number.at-least", Attribute: "crew_size", Numbers: []float64{2}},
		"crew_size arrived as a string in")
	declare(t, s, "firmware", object{"type": "version", "loose": true})
	refused(condition.Node{Test: "number.at-least", Attribute: "firmware", Numbers: []float64{4}},
		"firmware is declared as a version")
	refused(condition.Node{Test: "number.at-least", Attribute: "targetingKey", Numbers: []float64{4}},
		"the key is a string")
	// What is declared of versions is taken over into the comparison.
	p := tryEdit(t, s, "production", "night-batching", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "New", When: &condition.Node{Test: "version.range",
			Attribute: "firmware", Text: []string{"4.2.x"}}, Gives: flag.Gives{Variant: "on"}})
	})
	if when := p.Document.Rules[1].When; len(when.All) != 2 || !when.All[0].Loose || when.All[1].Text[0] != "4.3.0-0" {
		t.Errorf("%s", when.Words())
	}
	// A segment is held to it too.
	body, _ := json.Marshal(object{"key": "crews", "when": object{"test": "number.more", "attribute": "crew_size",
		"numbers": []int{1}}})
	if status, answer, _, _ := s.Keeper.Send("POST", "/projects/pinecrest/segments", body); status != 400 ||
		!strings.Contains(string(answer), "crew_size arrived as a string") {
		t.Errorf("%d %s", status, answer)
	}
}

// Personal attributes never leave the client; what is derived from them does. Units can be
// erased, and the sampling switched off.
func TestPopulationKeepsNothingPersonal(t *testing.T) {
	t.Parallel()
	s, c := populated(t, 40)
	var units struct {
		Items []struct {
			Unit       string
			Attributes map[string]any
		}
	}
	s.Keeper.Do(t, "POST", inProd+"/population/units", object{}, 200, &units)
	if len(units.Items) != 40 {
		t.Fatalf("%d units", len(units.Items))
	}
	for _, u := range units.Items {
		if u.Attributes["email"] != "@pinecrest.example" {
			t.Errorf("%s: %v", u.Unit, u.Attributes["email"])
		}
	}
	s.Keeper.Do(t, "POST", inProd+"/population/units", object{"flag": "night-batching", "at": "end",
		"has": "recipient-1"}, 200, &units)
	for _, u := range units.Items {
		if !strings.HasPrefix(u.Unit, "recipient-1") {
			t.Errorf("%s", u.Unit)
		}
	}
	c.Close() // else the client tells of the unit again
	var erased struct{ Erased int }
	s.Keeper.Do(t, "POST", inProd+"/population/erase", object{"unit": "recipient-7",
		"reason": "asked to be forgotten"}, 200, &erased)
	s.Keeper.Do(t, "POST", inProd+"/population/units", object{"has": "recipient-7"}, 200, &units)
	if erased.Erased != 1 || len(units.Items) != 0 {
		t.Errorf("erased %d, left %v", erased.Erased, units.Items)
	}
	s.Keeper.Do(t, "PUT", inProd+"/population", object{"off": true, "days": 7}, 200, nil)
	var p struct {
		Off     bool
		Samples []struct{ Units shift.Estimate }
	}
	s.Keeper.Do(t, "GET", inProd+"/population", nil, 200, &p)
	if !p.Off || p.Samples[0].Units.Units != 0 {
		t.Errorf("%+v", p)
	}
}

// Everybody at once, in an environment that asks first, takes the number of units.
func TestSweepAsksForTheNumber(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 120)
	s.Keeper.Do(t, "PATCH", inProd, object{"askFirst": true, "reason": "from now on"}, 200, nil)
	s.Flag(t, "one-touch-open")
	v := s.Get(t, "production", "one-touch-open")
	d := *v.Document
	d.Lever, d.End.Variant = flag.On, "on"
	put := func(more object, want int) string {
		t.Helper()
		body := object{"document": d, "reason": "to everybody"}
		for k, x := range more {
			body[k] = x
		}
		raw, _ := json.Marshal(body)
		status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT",
			inProd+"/flags/one-touch-open", raw)
		if status != want {
			t.Errorf("%v: %d %s", more, status, answer)
		}
		return string(answer)
	}
	if said := put(nil, 400); !strings.Contains(said, `"sweep":120`) || !strings.Contains(said, `"place":"units"`) {
		t.Error(said)
	}
	put(object{"units": 50}, 400)
	put(object{"units": 118}, 200)
}

// See it as: a signed override for one's own session, which touches no rule.
func TestSeeItAs(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Environment(t, "night", false)
	s.Flag(t, "one-touch-open")
	s.Flag(t, "handover-photo")
	s.Edit(t, "production", "handover-photo", func(d *flag.Document) {
		d.Lever, d.End.Variant = flag.On, "on"
		d.Needs = []flag.Need{{Flag: "one-touch-open", Variant: "on"}}
	})
	dev := s.Person(t, "noor.berg", "developer")
	var issued struct {
		Token string
		Until int64
	}
	dev.Do(t, "POST", inProd+"/see-as", object{"variants": object{"one-touch-open": "on"}, "minutes": 30}, 201,
		&issued)
	remote := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+s.Keys["production"])
	ask := func(c gltest.Caller, key string) string {
		t.Helper()
		var a struct{ Variant, Reason string }
		c.Do(t, "POST", "/ofrep/v1/evaluate/flags/"+key, object{"context": object{"targetingKey": "me"}}, 200, &a)
		return a.Variant + " " + a.Reason
	}
	// While the lever is off the override waits.
	if got := ask(remote.With(flag.SeeAsHeader, issued.Token), "one-touch-open"); got != "off DISABLED" {
		t.Errorf("off: %s", got)
	}
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) { d.Lever = flag.On })
	for name, c := range map[string]struct {
		caller gltest.Caller
		want   string
	}{
		"without": {remote, "off STATIC"},
		"header":  {remote.With(flag.SeeAsHeader, issued.Token), "on TARGETING_MATCH"},
		"cookie":  {remote.With("Cookie", flag.SeeAsCookie+"="+issued.Token), "on TARGETING_MATCH"},
		"forged":  {remote.With(flag.SeeAsHeader, "x"+issued.Token), "off STATIC"},
		"elsewhere": {gltest.Caller{URL: s.URL()}.With("Authorization",
			"Bearer "+s.Keys["night"]).With(flag.SeeAsHeader, issued.Token), "off DISABLED"},
	} {
		if got := ask(c.caller, "one-touch-open"); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
	if got := ask(remote.With(flag.SeeAsHeader, issued.Token), "handover-photo"); got != "on DEFAULT" {
		t.Errorf("a flag that needs it: %s", got)
	}
	c := open(t, s, "production")
	until(t, c, "the lever", func(greenlever.State) bool {
		return c.Answer(context.Background(), "one-touch-open", greenlever.Unit("me")).Reason == "STATIC"
	})
	unit := greenlever.Unit("me", greenlever.String("role", "developer"))
	if !c.Bool(context.Background(), "one-touch-open", c.SeeAs(unit, issued.Token), false) ||
		c.Bool(context.Background(), "one-touch-open", unit, false) || c.Bool(context.Background(), "one-touch-open",
		c.SeeAs(unit, "nonsense"), false) {
		t.Error("the client sees it otherwise")
	}
	var history struct {
		Items []struct{ Action, Subject string }
	}
	s.Keeper.Do(t, "GET", "/projects/pinecrest/history?environment=production", nil, 200, &history)
	if !slices.ContainsFunc(history.Items, func(e struct{ Action, Subject string }) bool {
		return e.Action == "see-as.issued" && e.Subject == "one-touch-open"
	}) {
		t.Errorf("the override is not in the history: %+v", history.Items)
	}
	for _, bad := range []object{{"variants": object{}}, {"variants": object{"one-touch-open": "blue"}},
		{"variants": object{"nothing": "on"}}, {"variants": object{"one-touch-open": "on"}, "minutes": 600}} {
		raw, _ := json.Marshal(bad)
		if status, answer, _, _ := dev.Send("POST", inProd+"/see-as", raw); status != 400 {
			t.Errorf("%v: %d %s", bad, status, answer)
		}
	}
	s.Person(t, "eve.lund", "auditor").Do(t, "POST", inProd+"/see-as",
		object{"variants": object{"one-touch-open": "on"}}, 403, nil)
}

// A segment of a million units: saved, followed, decided, changed by a difference.
func TestMillionUnits(t *testing.T) {
	if testing.Short() {
		t.Skip("a million units")
	}
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "invited"}, 201, nil)
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Invited", When: &condition.Node{Test: "segment", Segment: "invited"},
			Gives: flag.Gives{Variant: "on"}}}
	})
	dir := t.TempDir()
	c := open(t, s, "production", func(o *greenlever.Options) { o.Dir = dir })
	is := func(unit string) bool {
		return c.Bool(context.Background(), "one-touch-open", greenlever.Unit(unit), false)
	}
	before := heap()
	const million = 1_000_000
	var file strings.Builder
	for i := range million {
		fmt.Fprintf(&file, "recipient-%d\n", i)
	}
	upload := func(mode, body string, want int) (answer struct {
		Revision int64
		Document flag.Segment
	}) {
		t.Helper()
		status, raw, _, err := s.Keeper.Send("PUT", inProd+"/segments/invited/lists/in?mode="+mode, []byte(body))
		if err != nil || status != want {
			t.Fatalf("%d %s %v", status, raw, err)
		}
		_ = json.Unmarshal(raw, &answer)
		return answer
	}
	saved := upload("replace", file.String(), 200)
	file.Reset()
	if saved.Document.In.Count != million || len(saved.Document.In.Units) != 0 {
		t.Fatalf("%+v", saved.Document.In)
	}
	until(t, c, "the list", at(saved.Revision))
	for i := range 2_000 {
		if !is(fmt.Sprint("recipient-", i*499)) || is(fmt.Sprint("courier-", i)) {
			t.Fatalf("recipient-%d or courier-%d is decided wrongly", i*499, i)
		}
	}
	// The service and the client of this process hold it once each.
	if grown := heap() - before; grown > 2*16<<20 {
		t.Errorf("the list takes %d MB in service and client together", grown>>20)
	} else {
		t.Logf("service and client together grew by %.1f MB", float64(grown)/(1<<20))
	}
	// One unit more travels as a difference.
	var event struct{ Document flag.Segment }
	more := upload("add", "courier-1\n", 200)
	event.Document = more.Document
	req, _ := http.NewRequest("GET", s.URL()+"/follow/v1/lists/"+more.Document.In.Digest+"?from="+
		saved.Document.In.Digest, nil)
	req.Header.Set("Authorization", "Bearer "+s.Keys["production"])
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != 200 || res.ContentLength > 200 {
		t.Errorf("the difference takes %d bytes (%d)", res.ContentLength, res.StatusCode)
	}
	until(t, c, "the difference", at(more.Revision))
	if !is("courier-1") || !is("recipient-7") {
		t.Error("after the difference")
	}
	less := upload("remove", "recipient-7\n\n", 200)
	until(t, c, "the removal", at(less.Revision))
	if is("recipient-7") || !is("recipient-8") || less.Document.In.Count != million {
		t.Error("after the removal")
	}
	// The list outlives a restart without the service.
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	s.Server.Stop()
	c = open(t, s, "production", func(o *greenlever.Options) { o.Dir = dir })
	if c.State().Source != greenlever.FromDisk || !is("recipient-8") || is("recipient-7") {
		t.Errorf("from disk: %+v", c.State())
	}
}

func heap() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// Short lists live in the document, and an edit of a segment shows its shift over all flags.
func TestSegmentsShowTheirShift(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 90)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/segments", object{"key": "pilot", "title": "Pilot",
		"in": object{"units": []string{"recipient-1"}}}, 201, nil)
	s.Edit(t, "production", "night-batching", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "Pilot", When: &condition.Node{Test: "segment", Segment: "pilot"},
			Gives: flag.Gives{Variant: "on"}}}
	})
	var p struct {
		Document flag.Segment
		Preview  struct{ Shifts []shift.Shift }
	}
	s.Keeper.With("If-Match", "1").Do(t, "PUT", inProd+"/segments/pilot?dryRun=true",
		object{"in": object{"units": []string{"recipient-2", "recipient-3"}},
			"out": object{"units": []string{"recipient-3"}}}, 200, &p)
	if len(p.Preview.Shifts) != 1 || p.Preview.Shifts[0].Moved.Counted != 2 {
		t.Errorf("%+v", p.Preview.Shifts)
	}
	if status, answer, _, _ := s.Keeper.Send("PUT", inProd+"/segments/pilot/lists/out?mode=add",
		[]byte("recipient-1\n")); status != 200 {
		t.Errorf("%d %s", status, answer)
	}
	var segments struct {
		Items []struct {
			Key      string
			Sentence words.Said
			UsedBy   []string
			Units    shift.Estimate
			Out      flag.List
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/segments", nil, 200, &segments)
	if one := segments.Items[0]; one.Sentence.String() != "1 listed unit; never 1 listed unit" ||
		!slices.Equal(one.UsedBy, []string{"night-batching"}) || one.Units.Counted != 0 || !slices.Equal(one.Out.Units,
		[]string{"recipient-1"}) {
		t.Errorf("%+v", one)
	}
	status, raw, _, _ := s.Keeper.Send("GET", inProd+"/segments/pilot/lists/out", nil)
	if status != 200 || string(raw) != "recipient-1\n" {
		t.Errorf("%d %q", status, raw)
	}
	for want, body := range map[string]string{"line 2": "a\n\xff\n", "line 1": strings.Repeat("x", 2_000)} {
		if status, answer, _, _ := s.Keeper.Send("PUT", inProd+"/segments/pilot/lists/in",
			[]byte(body)); status != 400 || !strings.Contains(string(answer), want) {
			t.Errorf("%d %s", status, answer)
		}
	}
}

// Shares refer to others, and are drawn anew on demand only.
func TestSharesLikeOthers(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	s.Flag(t, "b")
	shares := func(more func(*flag.Shares)) func(*flag.Document) {
		return func(d *flag.Document) {
			sh := &flag.Shares{By: []string{"site.id"}, Parts: []flag.Part{{Variant: "on", Share: 300_000},
				{Variant: "off", Share: 700_000}}}
			if d.End.Shares != nil {
				sh = d.End.Shares
			}
			if more != nil {
				more(sh)
			}
			d.Lever, d.End = flag.On, flag.Gives{Shares: sh}
		}
	}
	s.Edit(t, "production", "a", shares(nil))
	s.Edit(t, "production", "b", shares(func(sh *flag.Shares) { sh.By, sh.Like = nil, &flag.SharesAt{Flag: "a"} }))
	a, b := s.Get(t, "production", "a").Document.End.Shares, s.Get(t, "production", "b").Document.End.Shares
	if a.Salt != b.Salt || !slices.Equal(a.By, b.By) || b.Like == nil || a.Salt == "" {
		t.Fatalf("%+v and %+v", a, b)
	}
	try := func(key string, alter func(*flag.Document)) (int, string) {
		v := s.Get(t, "production", key)
		alter(v.Document)
		raw, _ := json.Marshal(object{"document": v.Document})
		status, answer, _, _ := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/"+key, raw)
		return status, string(answer)
	}
	if status, said := try("a", shares(func(sh *flag.Shares) { sh.DrawAnew = true })); status != 409 ||
		!strings.Contains(said, "flag b move together") {
		t.Errorf("%d %s", status, said)
	}
	if status, said := try("a", shares(func(sh *flag.Shares) { sh.Salt = "mine" })); status != 400 ||
		!strings.Contains(said, "drawAnew") {
		t.Errorf("%d %s", status, said)
	}
	if status, said := try("b", shares(func(sh *flag.Shares) {
		sh.Like = &flag.SharesAt{Flag: "nothing"}
	})); status != 400 || !strings.Contains(said, "no shares at that place") {
		t.Errorf("%d %s", status, said)
	}
	s.Edit(t, "production", "b", shares(func(sh *flag.Shares) { sh.Like = nil }))
	s.Edit(t, "production", "a", shares(func(sh *flag.Shares) { sh.DrawAnew = true }))
	if now := s.Get(t, "production", "a").Document.End.Shares; now.Salt == a.Salt || now.DrawAnew {
		t.Errorf("%+v", now)
	}
}

// Why compares two units, or one at two times, and says where the attributes come from.
func TestWhyCompares(t *testing.T) {
	t.Parallel()
	s, _ := populated(t, 60)
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/test-units",
		object{"units": []object{{"unit": "recipient-900", "name": "Test phone",
			"attributes": object{"site": object{"id": "site-1"}}, "expected": object{"night-batching": "on"}}}}, 200,
		nil)
	type why struct {
		Variant, From, Unit string
		Against             *struct{ Variant, From, Unit string }
		Differs             []string
	}
	ask := func(body object) (w why) {
		t.Helper()
		s.Keeper.Do(t, "POST", inProd+"/flags/night-batching/why", body, 200, &w)
		return w
	}
	if w := ask(object{"unit": "recipient-1"}); w.From != "seen" || w.Unit != "recipient-1" {
		t.Errorf("%+v", w)
	}
	if w := ask(object{"unit": "recipient-900"}); w.From != "test" {
		t.Errorf("%+v", w)
	}
	if w := ask(object{"unit": "nobody"}); w.From != "key" {
		t.Errorf("%+v", w)
	}
	w := ask(object{"unit": "recipient-1", "against": object{"context": object{"targetingKey": "x",
		"site.id": "site-2"}}})
	if w.Against == nil || w.Against.From != "given" || !slices.ContainsFunc(w.Differs, func(d string) bool {
		return strings.HasPrefix(d, "site.id:")
	}) {
		t.Errorf("%+v", w)
	}
	saved := s.Edit(t, "production", "night-batching", func(d *flag.Document) { d.Lever = flag.Off })
	w = ask(object{"unit": "recipient-1", "against": object{"revision": saved.Revision - 1}})
	if w.Against == nil || w.Against.Unit != "recipient-1" || !slices.ContainsFunc(w.Differs, func(d string) bool {
		return strings.HasPrefix(d, "because: the flag is off")
	}) {
		t.Errorf("%+v", w.Differs)
	}
	var r struct {
		Units []struct {
			Unit string
			Gets map[string]struct{ Variant, Expected string }
		}
		Chances map[string][]struct{ Low, High, Actual int }
	}
	s.Keeper.Do(t, "GET", inProd+"/roster", nil, 200, &r)
	if len(r.Units) != 1 || r.Units[0].Gets["night-batching"].Variant != "off" ||
		r.Units[0].Gets["night-batching"].Expected != "on" || len(r.Chances["night-batching"]) != 2 {
		t.Errorf("%+v", r)
	}
}

// Checks tell what is probably wrong, can be muted with a reason, and are in the history.
func TestLintIsToldAndMuted(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "one-touch-open")
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "All", Gives: flag.Gives{Variant: "on"}},
			{Name: "Staff", When: &condition.Node{Test: "present", Attribute: "badge"},
				Gives: flag.Gives{Variant: "off"}}}
	})
	var found struct{ Items []lint.Finding }
	s.Keeper.Do(t, "GET", inProd+"/flags/one-touch-open/lint", nil, 200, &found)
	if len(found.Items) != 1 || found.Items[0].Check != "shadowed" || found.Items[0].Place != "Staff" {
		t.Fatalf("%+v", found.Items)
	}
	edit := s.Keeper.With("If-Match", "1")
	raw := []byte(`{"muted":[{"check":"shadowed","reason":" "},{"check":"nothing","reason":"x"}]}`)
	if status, answer, _, _ := edit.Send("PATCH", "/projects/pinecrest/flags/one-touch-open", raw); status != 400 ||
		!strings.Contains(string(answer), "muted[1].check") || !strings.Contains(string(answer), "muted[0].reason") {
		t.Errorf("%d %s", status, answer)
	}
	edit.Do(t, "PATCH", "/projects/pinecrest/flags/one-touch-open",
		object{"muted": []object{{"check": "shadowed", "reason": "kept for next week"}}}, 200, nil)
	s.Keeper.Do(t, "GET", inProd+"/lint", nil, 200, &found)
	if len(found.Items) != 1 || found.Items[0].Muted != "kept for next week" {
		t.Errorf("%+v", found.Items)
	}
	var checks struct{ Items []lint.Check }
	s.Keeper.Do(t, "GET", "/checks", nil, 200, &checks)
	if len(checks.Items) != len(lint.Checks()) || checks.Items[0].Bad == "" {
		t.Errorf("%+v", checks.Items)
	}
}

// The text form over the API, both ways, with the place of what is wrong.
func TestConditionText(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	var v struct {
		When  *condition.Node
		Text  string
		Words words.Said
	}
	s.Keeper.Do(t, "POST", "/conditions/read", object{"text": `version(firmware) >= "4.2.0"  && ! present(badge)`},
		200, &v)
	if v.Text != `version(firmware) >= version("4.2.0") && !present(badge)` || len(v.When.All) != 2 {
		t.Errorf("%+v", v)
	}
	s.Keeper.Do(t, "POST", "/conditions/write", object{"when": v.When}, 200, &v)
	if v.Words.String() != "firmware is version ≥ 4.2.0 and badge is not present" {
		t.Errorf("%+v", v)
	}
	raw, _ := json.Marshal(object{"text": "role == \"a\" &&\n  firmware = 4"})
	status, answer, _, _ := s.Keeper.Send("POST", "/conditions/read", raw)
	var problem struct {
		Line, Column int
		Fields       []struct{ Place, Mend string }
	}
	if json.Unmarshal(answer, &problem); status != 400 || problem.Line != 2 || problem.Column != 12 ||
		!strings.Contains(problem.Fields[0].Mend, "write ==") {
		t.Errorf("%d %s", status, answer)
	}
	if status, answer, _, _ = s.Keeper.Send("POST", "/conditions/write",
		[]byte(`{"when":{"test":"odd"}}`)); status != 400 || !strings.Contains(string(answer), "when.test") {
		t.Errorf("%d %s", status, answer)
	}
}

// A browser may not claim what is server-only.
func TestServerOnlyAttributes(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": "one-touch-open", "goneBy": "stays",
		"visible": true}, 201, nil)
	declare(t, s, "badge", object{"serverOnly": true})
	s.Edit(t, "production", "one-touch-open", func(d *flag.Document) {
		d.Lever = flag.On
		d.Rules = []flag.Rule{{Name: "Staff", When: &condition.Node{Test: "present", Attribute: "badge"},
			Gives: flag.Gives{Variant: "on"}}}
	})
	var key struct{ Secret string }
	s.Keeper.Do(t, "POST", inProd+"/keys", object{"kind": "browser", "purpose": "desk"}, 201, &key)
	for secret, want := range map[string]string{key.Secret: "off", s.Keys["production"]: "on"} {
		gltest.Eventually(t, "an answer", func() bool {
			var a struct{ Variant string }
			status, raw, _, _ := gltest.Caller{URL: s.URL()}.With("Authorization", "Bearer "+secret).Send("POST",
				"/ofrep/v1/evaluate/flags/one-touch-open", []byte(`{"context":{"badge":"B-7"}}`))
			_ = json.Unmarshal(raw, &a)
			return status == 200 && a.Variant == want
		})
	}
}
