package accept

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/server"
)

// keyOf is the emergency key of a service.
func keyOf(t testing.TB, s *gltest.Service) ed25519.PrivateKey {
	t.Helper()
	key, err := orders.ReadKey([]byte(s.Emergency))
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// ordered signs an order of production.
func ordered(t testing.TB, key ed25519.PrivateKey, change func(*flag.Order)) (id, text string) {
	t.Helper()
	now := time.Now()
	o := &flag.Order{ID: uuid.NewString(), Of: "pinecrest/production", Reason: "no round starts",
		Issued: now.UnixMilli(), Expires: now.Add(time.Hour).UnixMilli()}
	change(o)
	text, err := o.Sign(key)
	if err != nil {
		t.Fatal(err)
	}
	return o.ID, text
}

func stopping(keys ...string) func(*flag.Order) { return func(o *flag.Order) { o.Flags = keys } }

func lifting(ids ...string) func(*flag.Order) { return func(o *flag.Order) { o.Lifts = ids } }

// give posts an order to an address.
func give(t testing.TB, url, text string, want int) string {
	t.Helper()
	status, answer, _, err := gltest.Caller{URL: url}.Send("POST", edge.EmergencyPath, []byte(text))
	if err != nil || status != want {
		t.Fatalf("an order: %d %s %v", status, answer, err)
	}
	return string(answer)
}

// apart is a service over a database of its own, which can be taken away.
func apart(t *testing.T) (*gltest.Service, *localdb.Server, func()) {
	t.Helper()
	db, err := localdb.Start(context.Background(), filepath.Join(t.TempDir(), "db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Stop() })
	s := &gltest.Service{Keys: map[string]string{}, Browse: map[string]string{}}
	if s.DSN, err = db.DSN("apart"); err != nil {
		t.Fatal(err)
	}
	s.Dir = t.TempDir()
	listen := "127.0.0.1:0"
	serve := func() {
		s.Server = s.Serve(t, func(c *server.Config) { c.Dir, c.Listen = s.Dir, listen })
		listen = s.Address
	}
	serve()
	s.SetUp(t)
	s.Environment(t, "production", false)
	return s, db, func() {
		if err := s.Stop(); err != nil {
			t.Log(err)
		}
		serve()
	}
}

// The drill with the records away: orders stop at once, everywhere, over restarts and for newcomers; what is not
// genuine is refused; once the records are back the orders are ordinary stops, and none of them ever stops again.
func TestEmergency(t *testing.T) {
	t.Parallel()
	s, db, again := apart(t)
	for _, key := range []string{"a", "b", "c"} {
		s.Flag(t, key)
		s.Edit(t, "production", key, turnOn)
	}
	var old struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"c"}}, 201, &old)
	soon := func(o *greenlever.Options) { o.Report = 50 * time.Millisecond }
	o := station(t, s.URL(), []string{s.Keys["production"]})
	dir := t.TempDir()
	near := open(t, s, "production", soon, func(o *greenlever.Options) { o.Dir = dir })
	far := open(t, s, "production", soon, through(o))
	decides(t, near, "before", "a", true)
	decides(t, far, "before", "c", false)
	gltest.Eventually(t, "the copy to decide from is of now", func() bool {
		raw, err := os.ReadFile(filepath.Join(s.Dir, "decide.json"))
		return err == nil && strings.Contains(string(raw), fmt.Sprintf(`"revision":%d,`, near.State().Revision))
	})
	if err := db.Kill(); err != nil {
		t.Fatal(err)
	}
	key := keyOf(t, s)
	_, other, _ := ed25519.GenerateKey(rand.Reader)
	first, text := ordered(t, key, stopping("a", "nowhere"))
	refused := func(what, text string, want int, says string) {
		t.Helper()
		for _, url := range []string{s.URL(), o.URL()} {
			if answer := give(t, url, text, want); !strings.Contains(answer, says) {
				t.Errorf("%s: %s", what, answer)
			}
		}
	}
	_, strange := ordered(t, other, stopping("a"))
	refused("another installation's", strange, 403, "another key")
	refused("altered", altered(t, text), 403, "altered")
	refused("nothing", "a.b.c", 403, "no emergency order")
	refused("too long", strings.Repeat("a", flag.MaxOrder+1), 413, "")
	_, late := ordered(t, key, func(o *flag.Order) {
		o.Flags, o.Issued, o.Expires = []string{"a"}, o.Issued-7_200_000, o.Issued-60_000 // a clock may step
	})
	refused("expired", late, 409, "expired")
	_, early := ordered(t, key, func(o *flag.Order) {
		o.Flags, o.Issued, o.Expires = []string{"a"}, o.Issued+3_600_000, o.Issued+7_200_000
	})
	refused("of the future", early, 409, "future")
	_, elsewhere := ordered(t, key, func(o *flag.Order) { o.Flags, o.Of = []string{"a"}, "pinecrest/staging" })
	refused("of another environment", elsewhere, 404, "no ruleset of that")
	_, guess := ordered(t, other, func(o *flag.Order) { o.Flags, o.Of = []string{"a"}, "pinecrest/guess" })
	refused("of whoever looks for names", guess, 403, "another key")
	events := changes(t, streamOf(t, s, s.Keys["production"]))
	decides(t, near, "after what was refused", "a", true)

	if answer := give(t, s.URL(), text, 200); !strings.Contains(answer, `"unknown":["nowhere"]`) {
		t.Errorf("taken: %s", answer)
	}
	if answer := give(t, s.URL(), text, 200); !strings.Contains(answer, `"again":true`) {
		t.Errorf("taken twice: %s", answer)
	}
	remote := bearer(s.URL(), s.Keys["production"])
	off := func(what string, c gltest.Caller, key string) {
		t.Helper()
		gltest.Eventually(t, what, func() bool {
			status, answer, _, _ := c.Send("POST", "/ofrep/v1/evaluate/flags/"+key, []byte(`{}`))
			return status == 200 && strings.Contains(string(answer), `"value":false`)
		})
	}
	off("who asks the service", remote, "a")
	if told := toldBy(t, events); !strings.Contains(told, "refetchEvaluation") {
		t.Errorf("a page is told %q", told)
	}
	decides(t, near, "who follows the service", "a", false)
	decides(t, far, "who follows an outpost of it", "a", false)
	off("who asks the outpost", bearer(o.URL(), s.Keys["production"]), "a")
	decides(t, near, "nothing else is stopped", "b", true)

	second, at := ordered(t, key, stopping("b"))
	give(t, o.URL(), at, 200) // the outpost alone
	decides(t, far, "who follows the outpost", "b", false)
	decides(t, near, "by what the outpost tells the service", "b", false)
	_, take := ordered(t, key, lifting(old.Stop))
	give(t, s.URL(), take, 200)
	decides(t, near, "an order lifts a stop of before", "c", true)
	decides(t, far, "an order lifts a stop of before", "c", true)

	if err := near.Close(); err != nil {
		t.Fatal(err)
	}
	alone := open(t, s, "production", func(o *greenlever.Options) {
		o.Dir, o.HTTP = dir, &http.Client{Transport: nowhere{}}
	})
	if s := alone.State(); s.Source != greenlever.FromDisk {
		t.Errorf("alone it decides from %s", s.Source)
	}
	decides(t, alone, "who starts from its disk", "a", false)
	again()
	off("after a restart without the records", remote, "a")
	near = open(t, s, "production", soon)
	decides(t, near, "a newcomer", "a", false)
	decides(t, near, "a newcomer", "c", true)
	s.Keeper.Do(t, "GET", "/readyz?for=changes", nil, 503, nil)

	if err := db.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	var all struct {
		Items []struct {
			ID, ByName, LiftedByName, Reason string
			Flags                            []string
			LiftedAt                         int64
		}
	}
	gltest.Eventually(t, "the records have all orders", func() bool {
		status, raw, _, err := s.Keeper.Send("GET", inProd+"/stops", nil)
		return err == nil && status == 200 && json.Unmarshal(raw, &all) == nil && len(all.Items) == 3 &&
			!slices.ContainsFunc(all.Items, func(i struct {
				ID, ByName, LiftedByName, Reason string
				Flags                            []string
				LiftedAt                         int64
			}) bool {
				return i.ID == old.Stop && i.LiftedAt == 0
			})
	})
	for _, i := range all.Items {
		switch i.ID {
		case first:
			if i.ByName != "an emergency order" || i.Reason != "no round starts" || !slices.Equal(i.Flags, []string{"a"}) {
				t.Errorf("recorded as %+v", i)
			}
		case old.Stop:
			if i.LiftedByName != "an emergency order" {
				t.Errorf("lifted as %+v", i)
			}
		}
	}
	decides(t, near, "an ordinary stop", "a", false)
	decides(t, far, "an ordinary stop", "b", false)
	gltest.Eventually(t, "nothing is held any more", func() bool {
		answer := give(t, s.URL(), text, 409)
		return strings.Contains(answer, "an order stops once")
	})
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{first, second}}, 201, nil)
	for _, c := range []*greenlever.Client{near, far} {
		decides(t, c, "lifted by its id", "a", true)
		decides(t, c, "lifted by its id", "b", true)
	}
	give(t, s.URL(), text, 409)
	give(t, o.URL(), text, 409)
	give(t, o.URL(), at, 409)
	decides(t, far, "an old order", "b", true)
	sound(t, s)
}

// nowhere is a line to nobody.
type nowhere struct{}

func (nowhere) RoundTrip(*http.Request) (*http.Response, error) {
	return nil, fmt.Errorf("there is no line")
}

// altered changes what an order stops, and leaves its signature.
func altered(t *testing.T, text string) string {
	t.Helper()
	parts := strings.Split(text, ".")
	body, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		t.Fatal(err)
	}
	parts[1] = base64.RawURLEncoding.EncodeToString([]byte(strings.Replace(string(body), `"a"`, `"b"`, 1)))
	return strings.Join(parts, ".")
}

// A restore is no lift: a stop that the records have lost stands, for those who have it and for all others once one of
// them has told of it. What was lifted stays lifted, also for who was away meanwhile.
func TestStopsSurviveARestore(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	for _, key := range []string{"a", "b"} {
		s.Flag(t, key)
		s.Edit(t, "production", key, turnOn)
	}
	var lifted, lost struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"b"}}, 201, &lifted)
	at, let := gate(t, s.Address)
	follower := open(t, s, "production", func(o *greenlever.Options) { o.URL, o.Report = at, 50*time.Millisecond })
	decides(t, follower, "b is stopped", "b", false)
	let(false)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{lifted.Stop}}, 201, nil)
	backup := dump(t, s.DSN)
	let(true)
	decides(t, follower, "b is lifted", "b", true)
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 201, &lost)
	decides(t, follower, "a is stopped", "a", false)
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	restore(t, s.DSN, backup)
	address := s.Address
	s.Server = s.Serve(t, func(c *server.Config) { c.Listen, c.Restored = address, true })
	gltest.Eventually(t, "the records have the stop again", func() bool {
		var all struct {
			Items []struct {
				ID, ByName string
				LiftedAt   int64
			}
		}
		s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &all)
		return len(all.Items) == 2 && all.Items[0].ID == lost.Stop && all.Items[0].LiftedAt == 0 &&
			all.Items[0].ByName == "processes that kept it over a restore"
	})
	other := open(t, s, "production")
	decides(t, other, "who comes later", "a", false)
	if follower.Bool(context.Background(), "a", greenlever.Unit("recipient-17"), true) {
		t.Error("the restore has lifted the stop where it was")
	}
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{lost.Stop}}, 201, nil)
	decides(t, follower, "lifted by its id", "a", true)
	sound(t, s)
}

// Who was away while a stop was lifted and a new epoch began lets go of it as soon as the service says so.
func TestALiftCrossesAnEpoch(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	s.Edit(t, "production", "a", turnOn)
	var stop struct{ Stop string }
	s.Keeper.Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 201, &stop)
	at, let := gate(t, s.Address)
	o := station(t, at, []string{s.Keys["production"]})
	follower := open(t, s, "production", through(o), func(o *greenlever.Options) { o.Report = 50 * time.Millisecond })
	decides(t, follower, "it is stopped", "a", false)
	let(false)
	s.Keeper.Do(t, "POST", inProd+"/lifts", object{"stops": []string{stop.Stop}}, 201, nil)
	s.Keeper.Do(t, "POST", "/epoch", object{}, 200, nil)
	let(true)
	decides(t, follower, "it is lifted", "a", true)
	sound(t, s)
}

// A new emergency key counts for everybody, and the one before no more.
func TestEmergencyKeyIsReplaced(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	s.Edit(t, "production", "a", turnOn)
	c := open(t, s, "production")
	_, before := ordered(t, keyOf(t, s), stopping("a"))
	s.Person(t, "noor.berg", "developer").Do(t, "POST", "/emergency-key", object{}, 403, nil)
	var made struct{ Private string }
	s.Keeper.Do(t, "POST", "/emergency-key", object{"reason": "the laptop is gone"}, 201, &made)
	s.Emergency = made.Private
	id, text := ordered(t, keyOf(t, s), stopping("a"))
	gltest.Eventually(t, "the old key is refused", func() bool {
		status, _, _, _ := gltest.Caller{URL: s.URL()}.Send("POST", edge.EmergencyPath, []byte(before))
		return status == 403
	})
	give(t, s.URL(), text, 200)
	decides(t, c, "by the new key", "a", false)
	gltest.Eventually(t, "it is recorded", func() bool {
		var all struct{ Items []struct{ ID string } }
		s.Keeper.Do(t, "GET", inProd+"/stops", nil, 200, &all)
		return len(all.Items) == 1 && all.Items[0].ID == id
	})
	sound(t, s)
}

// sound holds both chains against the records.
func sound(t *testing.T, s *gltest.Service) {
	t.Helper()
	for _, path := range []string{"/projects/pinecrest/verify", "/verify"} {
		var r audit.Report
		for cursor := ""; cursor != "" || r.Entries == 0; cursor = r.Cursor {
			r = audit.Report{}
			if s.Keeper.Do(t, "GET", path+"?cursor="+cursor, nil, 200, &r); !r.Sound() {
				t.Errorf("%s finds %v", path, r.Findings)
			}
		}
	}
}

// Whoever is on call gives an order from the command line, or pastes one that somebody else signed into the page
// without scripts; each answer says what came of it, address by address.
func TestEmergencyByHand(t *testing.T) {
	s, db, _ := apart(t)
	for _, key := range []string{"weather-holds", "doors"} {
		s.Flag(t, key)
		s.Edit(t, "production", key, turnOn)
	}
	c := open(t, s, "production")
	decides(t, c, "before", "doors", true)
	sh := newShell(t, s)
	file := filepath.Join(t.TempDir(), "emergency.pem")
	if err := os.WriteFile(file, []byte(s.Emergency), 0o600); err != nil {
		t.Fatal(err)
	}
	sh.run(2, "emergency stop doors --project pinecrest --env production").says("!GREENLEVER_EMERGENCY_KEY")
	if err := db.Kill(); err != nil {
		t.Fatal(err)
	}
	const to = " --project pinecrest --env production --key "
	sh.run(6, "stop doors --project pinecrest --env production").says("!greenlever emergency stop doors")
	dead := "http://127.0.0.1:1"
	sh.run(2, "emergency stop doors --key "+file).says("!--project and --env")
	sh.run(7, "emergency stop doors --for 200h"+to+file).says("!within seven days")
	sh.run(6, "emergency stop doors --to "+dead+to+file).says(dead, "cannot be reached", "!nobody has taken")
	sh.run(4, "emergency stop dors"+to+file).says("has it", "!there is no flag dors", "!nothing is stopped")
	sh.run(8, "emergency stop doors --to "+s.URL()+","+dead+" --because 'two rooms open'"+to+file).says(s.URL(), "has it",
		dead, "!1 of 2 have the order")
	decides(t, c, "by the command line", "doors", false)
	id := strings.Fields(sh.out)[0]
	sh.run(0, "emergency lift "+id+to+file)
	decides(t, c, "lifted by the command line", "doors", true)

	sh.run(0, "emergency stop weather-holds --text"+to+file)
	p := newPaper(t, s.URL())
	p.open("/stop").says(200, "E-mail")
	p.send("/stop/sign-in", url.Values{"email": {gltest.KeeperEmail}, "password": {gltest.Password}}).says(503,
		"Stop without the records", "The signed order")
	p.send("/stop/order", url.Values{"order": {"so it is"}}).says(403, "this is no emergency order", "so it is")
	p.send("/stop/order", url.Values{"order": {"\n " + sh.out}}).says(200, "The order is taken",
		"<code>weather-holds</code> gives its resting variant")
	decides(t, c, "by a page without scripts", "weather-holds", false)

	if err := db.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	gltest.Eventually(t, "the orders are recorded", func() bool {
		status, raw, _, err := s.Keeper.Send("GET", inProd+"/stops", nil)
		return err == nil && status == 200 && strings.Count(string(raw), `"byName":"an emergency order"`) == 1
	})
	sh.run(0, "sign-in --project pinecrest --env production")
	sh.run(0, "history").says("emergency", "weather-holds", "doors")
	before := s.Emergency
	sh.run(2, "emergency key --yes").says("!--out names the file")
	sh.run(2, "emergency key --yes --out "+file).says("!is there already")
	other := filepath.Join(t.TempDir(), "new.pem")
	sh.run(0, "emergency key --yes --out "+other).says("!the private half is in")
	if raw, err := os.ReadFile(other); err != nil || string(raw) == before || strings.Contains(sh.out, "PRIVATE") {
		t.Errorf("the new key: %v; said %s", err, sh.out)
	}
	sh.run(0, "emergency stop doors"+to+other)
	decides(t, c, "by the new key", "doors", false)
	sh.run(6, "emergency stop doors"+to+file).says("another key")
	sound(t, s)
}
