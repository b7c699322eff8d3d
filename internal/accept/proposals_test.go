package accept

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/server"
)

const atProposals = "/projects/pinecrest/proposals"

// ahead is a clock that goes, and can be moved ahead.
type ahead struct{ by atomic.Int64 }

func (a *ahead) Now() time.Time        { return time.Now().Add(time.Duration(a.by.Load())) }
func (a *ahead) move(by time.Duration) { a.by.Add(int64(by)) }

// proposedPut proposes a flag's document as it is after an edit; into is new, or an id.
func proposedPut(t testing.TB, who gltest.Caller, s *gltest.Service, into, key string,
	edit func(*flag.Document)) (id string) {
	t.Helper()
	v := s.Get(t, "production", key)
	d := *v.Document
	d.Rules = slices.Clone(d.Rules)
	edit(&d)
	var made struct{ ID string }
	who.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", inProd+"/flags/"+key+"?propose="+into,
		object{"document": d, "reason": "handover needs it"}, 202, &made)
	return made.ID
}

func proposal(t testing.TB, who gltest.Caller, id string) (v manage.ProposalView) {
	t.Helper()
	who.Do(t, "GET", atProposals+"/"+id, nil, 200, &v)
	return v
}

func signIt(t testing.TB, who gltest.Caller, id string, want int) {
	t.Helper()
	who.Do(t, "POST", atProposals+"/"+id+"/signatures", object{"digest": proposal(t, who, id).Digest}, want, nil)
}

// Production wants a signature: nobody changes it alone, others sign what they have seen, and it is made once, in the
// right of who may. A stop waits for nobody.
func TestProposals(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors", "lights")
	noor := s.Person(t, "noor.berg", "developer")
	juno := s.Person(t, "juno.lind", "releaser")
	tove := s.Person(t, "tove.ek", "on-call")
	ask := s.Person(t, "ask.vik", "auditor")
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1, "roles": []string{"releaser", "keeper"},
		"lever": true}, "reason": "nobody alone"}, 200, nil)
	// Alone: refused, with what to do. The lever may be turned, and a stop stops.
	v := s.Get(t, "production", "doors")
	d := *v.Document
	d.End = flag.Gives{Variant: "off"}
	var refused struct{ Detail string }
	s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", inProd+"/flags/doors", object{"document": d,
		"reason": "x"}, 409, &refused)
	if !strings.Contains(refused.Detail, "wants 1 signature of releaser, keeper") {
		t.Error(refused.Detail)
	}
	s.Keeper.With("If-Match", fmt.Sprint(v.Version)).Do(t, "PUT", inProd+"/flags/doors?dryRun=true",
		object{"document": d, "reason": "x"}, 200, nil)
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Lever = flag.Off })
	s.Edit(t, "production", "doors", func(d *flag.Document) { d.Lever = flag.On })
	var st struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"doors"}, "reason": "x"}, 201, &st)
	s.Keeper.Do(t, "POST", inProd+"/stops?propose=new", object{"flags": []string{"doors"}, "reason": "x"}, 400, nil)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{st.Stop}, "reason": "x"}, 201, nil)
	// Proposed by one who may not do it alone.
	id := proposedPut(t, noor, s, "new", "doors", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
	ask.With("If-Match", "1").Do(t, "PUT", inProd+"/flags/doors?propose=new", object{"document": d}, 403, nil)
	p := proposal(t, juno, id)
	if p.State != "open" || !p.ForMe || len(p.Items) != 1 || p.Items[0].Was.String() == p.Items[0].Is.String() ||
		len(p.Previews) != 1 || p.Blocked != "" || !slices.Equal(p.Signers, []string{"Ida Holm", "juno.lind"}) {
		t.Fatalf("%+v", p)
	}
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 409, nil)
	noor.Do(t, "POST", atProposals+"/"+id+"/signatures", object{"digest": p.Digest}, 403, nil) // her own
	tove.Do(t, "POST", atProposals+"/"+id+"/signatures", object{"digest": p.Digest}, 403, nil) // does not count
	juno.Do(t, "POST", atProposals+"/"+id+"/signatures", object{"digest": "old"}, 412, nil)
	ask.Do(t, "POST", atProposals+"/"+id+"/comments", object{"text": "who asked for it?"}, 200, nil)
	signIt(t, juno, id, 200)
	// A second item: the signature falls.
	if again := proposedPut(t, noor, s, id, "lights", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} }); again != id {
		t.Error("another proposal")
	}
	if p = proposal(t, juno, id); len(p.Signatures) != 0 || len(p.Items) != 2 || len(p.Comments) != 1 {
		t.Fatalf("%+v", p)
	}
	signIt(t, juno, id, 200)
	if p = proposal(t, noor, id); p.State != "signed" || !p.Could["apply"] {
		t.Fatalf("%+v", p.State)
	}
	before := s.Get(t, "production", "doors").Version
	var all sync.WaitGroup // at once, several times: it is made once
	for range 6 {
		all.Go(func() { _, _, _, _ = noor.Send("POST", atProposals+"/"+id+"/apply", nil) })
	}
	all.Wait()
	p = proposal(t, noor, id)
	v = s.Get(t, "production", "doors")
	if p.State != "done" || p.Change == "" || v.Version != before+1 || v.Document.End.Variant != "off" ||
		s.Get(t, "production", "lights").Document.End.Variant != "off" {
		t.Errorf("%s: version %d after %d", p.State, v.Version, before)
	}
	juno.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 409, nil)
	signIt(t, s.Keeper, id, 409)
	var history struct{ Items []manage.Changed }
	s.Keeper.Do(t, "GET", "/projects/pinecrest/changes?limit=20", nil, 200, &history)
	at := slices.IndexFunc(history.Items, func(c manage.Changed) bool { return c.Change == p.Change })
	if at < 0 || len(history.Items[at].In) != 3 || history.Items[at].Name != "noor.berg" ||
		!strings.HasSuffix(history.Items[at].Says.String(), `, signed by "juno.lind"`) ||
		history.Items[at].Actor.OnBehalfOf != s.Account(t, "juno.lind@pinecrest.example") {
		t.Errorf("the history: %+v", history.Items)
	}
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
}

// What a proposal stands on moves: what others left is carried over with its signatures, what both edited is a conflict
// with both sides, and what means something else by now takes new signatures.
func TestProposalOnMovedGround(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	s.Edit(t, "production", "doors", func(d *flag.Document) {
		d.Rules = []flag.Rule{{Name: "one", When: tests("string.equals", "targetingKey", "a"), Gives: flag.Gives{Variant: "off"}},
			{Name: "two", When: tests("string.equals", "targetingKey", "b"), Gives: flag.Gives{Variant: "off"}}}
	})
	noor := s.Person(t, "noor.berg", "developer")
	juno := s.Person(t, "juno.lind", "releaser")
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1}, "reason": "nobody alone"}, 200, nil)
	alone := func(edit func(*flag.Document)) { // somebody else's edit, signed and made meanwhile
		t.Helper()
		other := proposedPut(t, juno, s, "new", "doors", edit)
		signIt(t, s.Keeper, other, 200)
		juno.Do(t, "POST", atProposals+"/"+other+"/apply", nil, 200, nil)
	}
	rename := func(at int, name string) func(*flag.Document) {
		return func(d *flag.Document) { d.Rules[at].Name = name }
	}
	// Another rule: carried over, with its signature.
	id := proposedPut(t, noor, s, "new", "doors", rename(0, "first"))
	signIt(t, juno, id, 200)
	alone(rename(1, "second"))
	if p := proposal(t, juno, id); !p.Items[0].Moved || p.Items[0].Changed || p.State != "signed" || p.Blocked != "" {
		t.Errorf("%+v", p.Items)
	}
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 200, nil)
	d := s.Get(t, "production", "doors").Document
	if d.Rules[0].Name != "first" || d.Rules[1].Name != "second" {
		t.Errorf("%s and %s", d.Rules[0].Name, d.Rules[1].Name)
	}
	// The same field: a conflict with both sides; proposed anew into it, it can be made.
	id = proposedPut(t, noor, s, "new", "doors", rename(0, "ours"))
	signIt(t, juno, id, 200)
	alone(rename(0, "theirs"))
	p := proposal(t, juno, id)
	if c := p.Items[0].Conflicts; len(c) != 1 || string(c[0].Theirs) != `"theirs"` || string(c[0].Ours) != `"ours"` ||
		string(c[0].Base) != `"first"` || p.Blocked == "" {
		t.Errorf("%+v %s", p.Items[0].Conflicts, p.Blocked)
	}
	var refused struct{ Detail string }
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 409, &refused)
	if !strings.Contains(refused.Detail, "of item 1") {
		t.Error(refused.Detail)
	}
	proposedPut(t, noor, s, id, "doors", rename(0, "both"))
	if p := proposal(t, juno, id); len(p.Items) != 1 || len(p.Signatures) != 0 || len(p.Items[0].Conflicts) != 0 {
		t.Errorf("%+v", p)
	}
	signIt(t, juno, id, 200)
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 200, nil)
	// A new rule behind one that is gone: it means something else, so it is signed again.
	id = proposedPut(t, noor, s, "new", "doors", func(d *flag.Document) {
		d.Rules = append(d.Rules, flag.Rule{Name: "three", When: tests("string.equals", "targetingKey", "c"),
			Gives: flag.Gives{Variant: "off"}})
	})
	signIt(t, juno, id, 200)
	alone(func(d *flag.Document) { d.Rules = d.Rules[:1] })
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 409, &refused)
	if p = proposal(t, juno, id); !strings.Contains(refused.Detail, "carried over") || len(p.Signatures) != 0 || p.Items[0].Moved {
		t.Errorf("%s %+v", refused.Detail, p)
	}
	signIt(t, juno, id, 200)
	noor.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 200, nil)
	if d = s.Get(t, "production", "doors").Document; len(d.Rules) != 2 || d.Rules[1].Name != "three" {
		t.Errorf("%+v", d.Rules)
	}
}

// A proposal is made when it is time, if it may be then; a freeze, a lost right and a disabled signer hold it, and it
// says so until it is too late.
func TestProposalWhenItIsTime(t *testing.T) {
	t.Parallel()
	clock := &ahead{}
	s := gltest.Start(t, func(c *server.Config) { c.Now = clock.Now })
	flagsOn(t, s, "doors")
	noor := s.Person(t, "noor.berg", "developer")
	juno := s.Person(t, "juno.lind", "releaser")
	s.Keeper.Do(t, "PATCH", inProd, object{"signing": object{"need": 1}, "reason": "nobody alone"}, 200, nil)
	plan := func(at time.Time, edit func(*flag.Document)) string {
		t.Helper()
		id := proposedPut(t, noor, s, "new", "doors", edit)
		noor.With("If-Match", fmt.Sprint(proposal(t, noor, id).Version)).Do(t, "PATCH", atProposals+"/"+id,
			object{"at": at.UnixMilli(), "latest": at.Add(time.Hour).UnixMilli()}, 200, nil)
		return id
	}
	state := func(id, want string) {
		t.Helper()
		gltest.Eventually(t, "the proposal is "+want, func() bool { return string(proposal(t, noor, id).State) == want })
	}
	start := clock.Now()
	id := plan(start.Add(time.Hour), func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
	signIt(t, juno, id, 200)
	state(id, "due")
	late := plan(start.Add(2*time.Hour), func(d *flag.Document) { d.RestAfter = 5 })
	var fr struct{ ID string }
	s.Keeper.Do(t, "POST", inProd+"/freezes", object{"freeze": object{"reason": "fair", "from": start.UnixMilli(),
		"to": start.Add(70 * time.Minute).UnixMilli()}}, 201, &fr)
	clock.move(61 * time.Minute)
	gltest.Eventually(t, "it says that it is frozen", func() bool {
		return strings.Contains(proposal(t, noor, id).Waits, "frozen")
	})
	clock.move(10 * time.Minute)
	state(id, "done")
	if s.Get(t, "production", "doors").Document.End.Variant != "off" {
		t.Error("it was not made")
	}
	clock.move(50 * time.Minute) // nobody signed the other
	gltest.Eventually(t, "it says what it lacks", func() bool {
		return strings.Contains(proposal(t, noor, late).Waits, "wants 1 signature")
	})
	clock.move(time.Hour)
	state(late, "expired")
	// Who signed may not any more: the signature does not count.
	id = plan(clock.Now().Add(time.Hour), func(d *flag.Document) { d.End = flag.Gives{Variant: "on"} })
	signIt(t, juno, id, 200)
	s.Keeper.Do(t, "PATCH", "/accounts/"+s.Account(t, "juno.lind@pinecrest.example"), object{"disabled": true}, 200, nil)
	state(id, "open")
	clock.move(61 * time.Minute)
	gltest.Eventually(t, "it waits", func() bool { return proposal(t, noor, id).Waits != "" })
	signIt(t, s.Keeper, id, 200)
	state(id, "done")
	if r := verify(t, s); !r.Sound() {
		t.Errorf("the audit: %v", r.Findings)
	}
	raw, _ := json.Marshal(proposal(t, noor, id))
	if strings.Contains(string(raw), "null") {
		t.Errorf("a list is null: %s", raw)
	}
}

// A token that is held to less proposes no way around that: what it proposed is made with no more than it may.
func TestProposalOfANarrowToken(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	flagsOn(t, s, "doors")
	s.Person(t, "noor.berg", "developer")
	var made struct{ Secret string }
	s.Session(t, "noor.berg@pinecrest.example").Do(t, "POST", "/me/tokens", object{"name": "ci", "days": 3, "only": []object{
		{"project": "pinecrest", "environment": "staging", "role": "developer"}}}, 201, &made)
	narrow := bearer(s.URL(), made.Secret)
	id := proposedPut(t, narrow, s, "new", "doors", func(d *flag.Document) { d.End = flag.Gives{Variant: "off"} })
	for _, who := range []gltest.Caller{narrow, s.Keeper} { // whoever asks for it
		who.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 403, nil)
	}
	if p := proposal(t, s.Keeper, id); p.State != "open" || len(p.Wants) != 1 || p.Wants[0].Action != app.ReleaseIt {
		t.Errorf("%+v", p)
	}
	signIt(t, s.Keeper, id, 200)
	narrow.Do(t, "POST", atProposals+"/"+id+"/apply", nil, 200, nil)
}
