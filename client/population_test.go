package greenlever

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
)

const bySite = `{"key":"by-site","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","end":{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[[0,80000]]},{"variant":"off","share":920000,"ranges":[[80000,1000000]]}]}}}`

// reported gathers what reports say of units, by what they are of.
func (s *service) reported() map[string]map[string]wire.UnitLine {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]map[string]wire.UnitLine{}
	for _, r := range s.reports {
		for _, u := range r.Units {
			if out[u.Of] == nil {
				out[u.Of] = map[string]wire.UnitLine{}
			}
			out[u.Of][u.Unit] = u
		}
	}
	return out
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
		if holds() {
			return
		}
		time.Sleep(5 * time.Millisecond) // between looks, not to wait
	}
	t.Fatalf("%s: not in time", what)
}

// Units are sampled as the service says, each told once, and nothing personal leaves.
func TestUnitsAreReported(t *testing.T) {
	s := newService(t, ruleset(1, 1, bySite))
	s.sampling = `{"seed":"2a","personal":{"email":"domain","phone":"","badge":"presence"},"limits":{}}`
	c := s.open(t, func(o *Options) { o.Report = 20 * time.Millisecond })
	ask := func() {
		for i := range 300 {
			c.Bool(context.Background(), "by-site", Unit(fmt.Sprint("recipient-", i),
				String("site.id", fmt.Sprint("site-", i%7)), String("email", "ida@pinecrest.example"),
				String("phone", "1"), String("badge", "B-7"), List("languages", "nb")), false)
		}
	}
	eventually(t, "all units", func() bool {
		ask()
		got := s.reported()
		return len(got["targetingKey"]) == 300 && len(got["site.id"]) == 7
	})
	for _, u := range s.reported()["targetingKey"] {
		var attributes map[string]any
		if err := json.Unmarshal(u.Attributes, &attributes); err != nil {
			t.Fatal(err)
		}
		if attributes["email"] != "@pinecrest.example" || attributes["phone"] != nil ||
			fmt.Sprint(attributes["badge"]) != "map[]" || fmt.Sprint(attributes["languages"]) != "[nb]" {
			t.Fatalf("%s", u.Attributes)
		}
		if u.Hash != fmt.Sprintf("%x", sample.Hash(0x2a, u.Unit)) || u.Seen == 0 {
			t.Errorf("%+v", u)
		}
	}
	s.mu.Lock()
	told := map[string]int{}
	contexts := uint64(0)
	for _, r := range s.reports {
		contexts += r.Contexts
		for _, u := range r.Units {
			told[u.Of+u.Unit]++
		}
		for _, a := range r.Seen {
			if (a.Name == "email" || a.Name == "phone") && len(a.Values) > 0 {
				t.Errorf("values of %s leave: %v", a.Name, a.Values)
			}
		}
	}
	s.mu.Unlock()
	for unit, n := range told {
		if n > 1 {
			t.Errorf("%s was told %d times", unit, n)
		}
	}
	if contexts == 0 {
		t.Error("no attributes were looked at")
	}
}

// Before the service said how, and where it is switched off, nothing is sampled.
func TestNothingIsSampledUnasked(t *testing.T) {
	for _, sampling := range []string{"", `{"off":true,"seed":"2a","personal":{},"limits":{}}`} {
		s := newService(t, ruleset(1, 1, bySite))
		s.sampling = sampling
		c := s.open(t, func(o *Options) { o.Report = 10 * time.Millisecond })
		eventually(t, "some reports", func() bool {
			c.Bool(context.Background(), "by-site", Unit("recipient-1", String("site.id", "site-1")), false)
			s.mu.Lock()
			defer s.mu.Unlock()
			return len(s.reports) > 5
		})
		if got := s.reported(); len(got) != 0 {
			t.Errorf("%q: %v", sampling, got)
		}
	}
}

// A flag that is alike for everybody is looked at in few calls, and still somebody is seen.
func TestPlainFlagsAreThinned(t *testing.T) {
	s := newService(t, ruleset(1, 1, boolean("plain", "on")))
	s.sampling = `{"seed":"2a","personal":{},"limits":{}}`
	c := s.open(t, func(o *Options) { o.Report = 20 * time.Millisecond })
	calls := 0
	eventually(t, "some units", func() bool {
		for range 200 {
			calls++
			c.Bool(context.Background(), "plain", Unit(fmt.Sprint("recipient-", calls)), false)
		}
		return len(s.reported()["targetingKey"]) > 20
	})
	if n := len(s.reported()["targetingKey"]); n > calls/8 {
		t.Errorf("%d of %d calls were looked at", n, calls)
	}
}

func segmented(digest string, count int, secret [16]byte) string {
	list := fmt.Sprintf(`{"key":"many","in":{"digest":%q,"count":%d,"secret":%q}}`, digest, count,
		base64.StdEncoding.EncodeToString(secret[:]))
	return fmt.Sprintf(
		`{"format":1,"epoch":1,"revision":1,"at":0,"flags":[{"key":"f","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","rules":[{"id":"1","name":"listed","when":{"test":"segment","segment":"many"},"gives":{"variant":"on"}}],"end":{"variant":"off"}}],"segments":[%s],"stops":[]}`, list)
}

// Long lists are fetched before a revision applies, as a difference where one is at hand,
// checked, and kept on disk.
func TestLongLists(t *testing.T) {
	var secret [16]byte
	copy(secret[:], "0123456789abcdef")
	keys := make([]string, 5_000)
	for i := range keys {
		keys[i] = fmt.Sprint("recipient-", i)
	}
	first := flag.HashUnits(secret, keys)
	second := flag.HashUnits(secret, append(keys[1:], "courier-1"))
	s := newService(t, segmented(first.Digest(), len(first), secret))
	s.lists = map[string][]byte{first.Digest(): first.Bytes(), second.Digest(): second.Delta(first)}
	dir := t.TempDir()
	c := s.open(t, func(o *Options) { o.Dir = dir })
	is := func(c *Client, unit string) bool { return c.Bool(context.Background(), "f", Unit(unit), false) }
	if !is(c, "recipient-0") || is(c, "courier-1") {
		t.Error("by the first list")
	}
	segment := func(h flag.Hashes) string {
		_, rest, _ := strings.Cut(segmented(h.Digest(), len(h), secret), `"segments":`)
		list, _, _ := strings.Cut(rest, `,"stops"`)
		return list
	}
	s.send(`event: revision` + "\n" + `data: {"format":1,"epoch":1,"revision":2,"at":0,"segments":` + segment(second) +
		"}\n\n")
	until(t, c, "the second list", revision(2))
	if is(c, "recipient-0") || !is(c, "courier-1") || !is(c, "recipient-7") {
		t.Error("by the second list")
	}
	s.mu.Lock()
	asked := strings.Join(s.asked, "; ")
	s.mu.Unlock()
	if want := first.Digest() + " from ; " + second.Digest() + " from " + first.Digest(); asked != want {
		t.Errorf("asked for %s", asked)
	}
	// A list that is not the one that was named is refused, and the one before stays.
	wrong := bytes.Repeat([]byte("0"), 64)
	s.mu.Lock()
	s.lists[string(wrong)] = first.Bytes()
	s.mu.Unlock()
	s.send(`event: revision` + "\n" +
		`data: {"format":1,"epoch":1,"revision":3,"at":0,"segments":[{"key":"many","in":{"digest":"` + string(wrong) +
		`","count":5000,"secret":"AAAA"}}]}` + "\n\n")
	until(t, c, "the refusal", func(s State) bool {
		return strings.Contains(s.LastError, "not the one that was asked for")
	})
	if c.State().Revision != 2 || !is(c, "courier-1") {
		t.Errorf("%+v", c.State())
	}
	s.set(segmented(second.Digest(), len(second), secret))
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	s.CloseClientConnections()
	s.Close()
	again := s.open(t, func(o *Options) { o.Dir, o.Wait = dir, -1 })
	if again.State().Source != FromDisk || !is(again, "courier-1") || is(again, "recipient-0") {
		t.Errorf("from disk: %+v", again.State())
	}
}

// The clock of a rule is the service's, not that of this machine.
func TestRulesWithAClock(t *testing.T) {
	at := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	s := newService(t,
		ruleset(1, 1,
			`{"key":"later","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","rules":[{"id":"1","name":"later","when":{"test":"clock.at-or-after","text":["`+at+`"]},"gives":{"variant":"on"}}],"end":{"variant":"off"}}`,
			`{"key":"always","type":"boolean","variants":{"on":true,"off":false},"lever":"on","resting":"off","rules":[{"id":"1","name":"week","when":{"test":"clock.weekly","weekly":{"days":["mon","tue","wed","thu","fri","sat","sun"],"from":"00:00","to":"24:00","zone":"Europe/Oslo"}},"gives":{"variant":"on"}}],"end":{"variant":"off"}}`))
	c := s.open(t)
	if c.Bool(context.Background(), "later", Unit("x"), true) || !c.Bool(context.Background(), "always", Unit("x"),
		false) {
		t.Error("before the hour")
	}
	s.send(fmt.Sprintf("event: beat\ndata: {\"now\":%d,\"epoch\":1,\"revision\":1}\n\n",
		time.Now().Add(2*time.Hour).UnixMilli()))
	eventually(t, "the clock", func() bool { return c.State().Skew > time.Hour })
	if !c.Bool(context.Background(), "later", Unit("x"), false) {
		t.Error("the service's clock is two hours on, and the rule does not hold")
	}
}

func TestSeeAs(t *testing.T) {
	seed := bytes.Repeat([]byte{3}, 32)
	snapshot := strings.Replace(ruleset(1, 1, boolean("f", "on")), `"stops":[]`,
		`"stops":[],"seeAs":"`+flag.SeeAsKey(seed)+`"`, 1)
	s := newService(t, snapshot)
	c := s.open(t)
	token, err := (&flag.SeeAs{Variants: map[string]string{"f": "off"},
		Until: time.Now().Add(time.Hour).UnixMilli()}).Sign(seed)
	if err != nil {
		t.Fatal(err)
	}
	if unit := Unit("me"); c.Bool(context.Background(), "f", c.SeeAs(unit, token), true) ||
		!c.Bool(context.Background(), "f", unit, false) || !c.Bool(context.Background(), "f", c.SeeAs(unit, token+"x"),
		false) || !c.Bool(context.Background(), "f", c.SeeAs(unit, ""), false) {
		t.Error("the override does not hold, or holds elsewhere")
	}
	if a := c.Answer(context.Background(), "f", c.SeeAs(Unit("me"), token)); a.Reason != "TARGETING_MATCH" ||
		a.Rule != "" {
		t.Errorf("%+v", a)
	}
}
