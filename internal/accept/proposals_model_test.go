package accept

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

// histories has people do at random what they do with proposals, and holds what was made against a few lines of what
// may be made.
type histories struct {
	t       *testing.T
	s       *gltest.Service
	r       *rand.Rand
	people  map[string]gltest.Caller
	clock   *ahead
	open    []string
	frozen  string // id of the freeze
	refuses bool   // a policy refuses shares over 40 %
	need    int
	made    map[string]bool // proposals that were answered as made
	said    map[string]int  // what each answered proposal was said to have: comments that were answered
}

func (h *histories) someone(of ...string) (string, gltest.Caller) {
	who := of[h.r.IntN(len(of))]
	return who, h.people[who]
}

func (h *histories) pick() string {
	if len(h.open) == 0 {
		return ""
	}
	last := h.open[max(0, len(h.open)-4):] // others mostly stand on what moved
	return last[h.r.IntN(len(last))]
}

// share edits a flag so that a part of all gets on; half of those are more than the policy takes.
func (h *histories) share() func(*flag.Document) {
	part := []uint32{20_000, 80_000, 300_000, 650_000}[h.r.IntN(4)] + uint32(h.r.IntN(1_000))
	return func(d *flag.Document) {
		d.Lever, d.End = flag.On, flag.Gives{Shares: &flag.Shares{Parts: []flag.Part{{Variant: "on", Share: part},
			{Variant: "off", Share: 1_000_000 - part}}}}
	}
}

func (h *histories) step() {
	t, s := h.t, h.s
	key := fmt.Sprintf("flag-%d", h.r.IntN(3))
	id := h.pick()
	at := atProposals + "/" + id
	switch k := h.r.IntN(20); {
	case k < 5 || id == "":
		_, who := h.someone("noor", "per", "tove")
		v := s.Get(t, "production", key)
		d := *v.Document
		h.share()(&d)
		raw, _ := json.Marshal(object{"document": d, "reason": "model", "units": 0})
		status, answer, _, err := who.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/"+key+"?propose=new", raw)
		var made struct{ ID string }
		if err != nil || status != 202 && status != 400 || json.Unmarshal(answer, &made) != nil {
			t.Fatalf("propose: %d %s %v", status, answer, err)
		}
		if status == 202 {
			h.open = append(h.open, made.ID)
		}
	case k < 9:
		_, who := h.someone("noor", "per", "tove", "juno", "ida")
		var v manage.ProposalView
		who.Do(t, "GET", at, nil, 200, &v)
		_, _, _, _ = who.Send("POST", at+"/signatures", mustJSON(t, object{"digest": v.Digest}))
	case k < 11:
		_, who := h.someone("noor", "per", "juno")
		if status, _, _, err := who.Send("POST", at+"/comments", mustJSON(t, object{"text": "hm"})); err == nil && status == 200 {
			h.said[id]++
		}
	case k < 12: // into it, which drops signatures
		_, who := h.someone("noor", "per")
		v := s.Get(t, "production", key)
		d := *v.Document
		h.share()(&d)
		_, _, _, _ = who.With("If-Match", fmt.Sprint(v.Version)).Send("PUT", inProd+"/flags/"+key+"?propose="+id,
			mustJSON(t, object{"document": d, "reason": "model"}))
	case k < 16:
		h.apply(id)
	case k < 17:
		if h.frozen == "" {
			var f struct{ ID string }
			s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "model", "to": h.clock.Now().Add(time.Hour).UnixMilli()}}, 201, &f)
			h.frozen = f.ID
		} else {
			s.Keeper.Do(t, "POST", inProd+"/freezes/"+h.frozen+"/remove", nil, 200, nil)
			h.frozen = ""
		}
	case k < 18:
		h.refuses = !h.refuses
		savePolicy(t, s, app.Policy{Key: "small-steps", Title: "Small steps", Nouns: []string{"flag"}, When: "difference.step > 40.0",
			Outcome: app.Refuse, Mend: "smaller", Dry: !h.refuses})
	case k < 19:
		h.need = h.r.IntN(3)
		signing := object{"need": h.need}
		if h.need > 0 {
			signing["roles"] = []string{"releaser", "keeper"}
		}
		s.Keeper.Do(t, "PATCH", inProd, object{"signing": signing}, 200, nil)
	default:
		_, who := h.someone("noor", "per", "tove")
		_, _, _, _ = who.Send("POST", at+"/withdraw", nil)
	}
}

// apply has a proposal made, and says why it should not have been where it was.
func (h *histories) apply(id string) {
	h.t.Helper()
	before := proposal(h.t, h.s.Keeper, id)
	versions := map[string]int64{}
	for _, item := range before.Items {
		versions[item.Of] = h.s.Get(h.t, "production", item.Of).Version
	}
	_, who := h.someone("noor", "juno", "ida")
	status, answer, _, err := who.Send("POST", atProposals+"/"+id+"/apply", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	after := proposal(h.t, h.s.Keeper, id)
	if status != 200 {
		for key, v := range versions {
			if now := h.s.Get(h.t, "production", key).Version; now != v || after.State == "done" && before.State != "done" {
				h.t.Fatalf("%s was refused (%s) and changed %s from %d to %d", id, answer, key, v, now)
			}
		}
		return
	}
	counts, able := 0, 0 // of those who count: juno and ida, and never the author; and of those who may do it themselves
	for _, one := range before.Signatures {
		if one.Name != "tove.ek" && one.Name != before.Author {
			able++
		}
		if (one.Name == "juno.lind" || one.Name == "Ida Holm") && one.Name != before.Author {
			counts++
		}
	}
	switch {
	case h.made[id] || before.State == "done" || before.State == "withdrawn":
		h.t.Fatalf("%s was made, and was %s", id, before.State)
	case counts < h.need:
		h.t.Fatalf("%s was made with %d of %d signatures: %+v", id, counts, h.need, before.Signatures)
	case h.frozen != "" && (counts <= h.need && h.need > 0 || able == 0):
		h.t.Fatalf("%s was made in a freeze with %d of %d signatures", id, counts, h.need)
	case before.Author == "tove.ek" && able == 0:
		h.t.Fatalf("%s of one who may not do it was made with nobody's right", id)
	}
	for key, v := range versions {
		if now := h.s.Get(h.t, "production", key); now.Version != v+1 {
			h.t.Fatalf("%s made %s version %d of %d", id, key, now.Version, v)
		}
	}
	if h.refuses && strings.Contains(string(answer), "refuses") {
		h.t.Fatalf("%s was made against a policy: %s", id, answer)
	}
	h.made[id] = true
}

// Whatever people do with proposals: nothing is made unsigned, by its author's own signature, in a freeze, against a
// policy or twice, what is refused changes nothing, and nothing that was answered is lost.
func TestProposalHistories(t *testing.T) {
	t.Parallel()
	steps := 300
	if os.Getenv("GREENLEVER_TORTURE") != "" {
		steps = 40_000
	}
	clock := &ahead{}
	s := gltest.Start(t, func(c *server.Config) { c.Now = clock.Now })
	for i := range 3 {
		s.Flag(t, fmt.Sprintf("flag-%d", i))
	}
	h := &histories{t: t, s: s, r: rand.New(rand.NewPCG(16, 5)), clock: clock, made: map[string]bool{}, said: map[string]int{},
		people: map[string]gltest.Caller{"noor": s.Person(t, "noor.berg", "developer"), "per": s.Person(t, "per.lund", "developer"),
			"tove": s.Person(t, "tove.ek", "on-call"), "juno": s.Person(t, "juno.lind", "releaser"), "ida": s.Keeper}}
	for range steps {
		h.step()
	}
	for id, n := range h.said {
		if got := len(proposal(t, s.Keeper, id).Comments); got != n {
			t.Errorf("%s has %d comments, and %d were answered", id, got, n)
		}
	}
	for id := range h.made {
		if p := proposal(t, s.Keeper, id); p.State != "done" || p.Change == "" {
			t.Errorf("%s was made and is %s", id, p.State)
		}
	}
	if len(h.made) < steps/100 {
		t.Errorf("only %d of %d were made", len(h.made), len(h.open))
	}
	t.Logf("%d proposals, %d made", len(h.open), len(h.made))
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// A process that is killed at whatever moment while it makes a proposal has made all of it or nothing; asked again, it is
// made once.
func TestProposalsUnderKills(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	noor := s.Person(t, "noor.berg", "developer")
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1}}, 200, nil)
	dir, made, nothing := t.TempDir(), 0, 0
	for round := range 10 {
		end := flag.Gives{Variant: []string{"off", "on"}[round%2]}
		id := proposedPut(t, noor, s, "new", "doors", func(d *flag.Document) { d.End = end })
		proposedPut(t, noor, s, id, "lights", func(d *flag.Document) { d.End = end })
		signIt(t, s.Keeper, id, 200)
		doors, lights := s.Get(t, "production", "doors").Version, s.Get(t, "production", "lights").Version
		c := &child{at: freeAddress(t)}
		c.args = []string{"serve", "--listen", c.at, "--admin", "127.0.0.1:0", "--dsn", s.DSN, "--dir", dir}
		c.start(t)
		c.up(t)
		asked := make(chan bool)
		go func() {
			_, _, _, _ = gltest.Caller{URL: "http://" + c.at, Header: noor.Header}.Send("POST", atProposals+"/"+id+"/apply", nil)
			asked <- true
		}()
		time.Sleep(time.Duration(round*12) * time.Millisecond) // the moment is what is tried
		c.kill()
		<-asked
		moved := s.Get(t, "production", "doors").Version - doors
		if other := s.Get(t, "production", "lights").Version - lights; other != moved || moved > 1 {
			t.Fatalf("round %d: doors moved by %d, lights by %d", round, moved, other)
		}
		state := string(proposal(t, noor, id).State)
		if moved == 1 != (state == "done") {
			t.Fatalf("round %d: it moved by %d and is %s", round, moved, state)
		}
		want := 409 // it is made
		if moved == 0 {
			want, nothing = 200, nothing+1
		} else {
			made++
		}
		noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, want, nil)
		if v := s.Get(t, "production", "doors").Version; v != doors+1 {
			t.Fatalf("round %d: version %d after %d", round, v, doors)
		}
	}
	t.Logf("killed before %d and after %d", nothing, made)
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}
