package flag

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// keyFor is a key that tests sign with.
func keyFor(n byte) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(bytes.Repeat([]byte{n}, ed25519.SeedSize))
}

func emergencyBy(n byte) *Emergency {
	return &Emergency{Key: EmergencyKey(keyFor(n).Public().(ed25519.PublicKey)), Of: "pinecrest/production"}
}

func signed(t *testing.T, n byte, o Order) string {
	t.Helper()
	if o.Of == "" {
		o.Of = "pinecrest/production"
	}
	if o.Issued == 0 {
		o.Issued, o.Expires = 1_000, 2_000
	}
	text, err := o.Sign(keyFor(n))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func mustRead(t *testing.T, text string) *Order {
	t.Helper()
	o, err := ReadOrder(text, emergencyBy(1))
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// An order is read as it was signed, and no other text is: whatever byte is changed, left out or added.
func TestOrders(t *testing.T) {
	text := signed(t, 1, Order{ID: "one", Flags: []string{"weather-holds"}, Reason: "no round starts"})
	o := mustRead(t, text)
	if o.ID != "one" || !slices.Equal(o.Flags, []string{"weather-holds"}) || o.Reason != "no round starts" ||
		o.Text != text {
		t.Errorf("read as %+v", o)
	}
	if parts := strings.Split(text, "."); len(parts) != 3 { // the compact form of RFC 7515
		t.Errorf("%d parts", len(parts))
	} else if head, err := base64.RawURLEncoding.DecodeString(parts[0]); err != nil || string(head) != orderHeader {
		t.Errorf("the header is %s, %v", head, err)
	}
	for i := range len(text) {
		for _, other := range []string{text[:i] + text[i+1:], text[:i] + "A" + text[i:], text[:i] + "_" + text[i+1:],
			text[:i] + "." + text[i+1:]} {
			if _, err := ReadOrder(other, emergencyBy(1)); err == nil && other != text {
				t.Fatalf("taken with byte %d changed: %s", i, other)
			}
		}
	}
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + text[strings.IndexByte(text, '.'):]
	for what, c := range map[string]struct {
		text string
		by   *Emergency
		want error
	}{
		"another key":            {text, emergencyBy(2), ErrOrder},
		"no key":                 {text, nil, ErrNoKey},
		"an empty key":           {text, &Emergency{Of: "pinecrest/production"}, ErrNoKey},
		"a key that is none":     {text, &Emergency{Key: "AAAA", Of: "pinecrest/production"}, ErrOrder},
		"another header":         {none, emergencyBy(1), ErrOrder},
		"nothing":                {"", emergencyBy(1), ErrOrder},
		"another environment's":  {text, &Emergency{emergencyBy(1).Key, "pinecrest/staging"}, nil},
		"signed, and not sound":  {signedAs(t, `{"id":"x","of":"pinecrest/production"}`), emergencyBy(1), nil},
		"signed, and no JSON":    {signedAs(t, `[`), emergencyBy(1), ErrOrder},
		"signed, of two at once": {signedAs(t, both), emergencyBy(1), nil},
	} {
		if _, err := ReadOrder(c.text, c.by); err == nil || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

const both = `{"id":"x","of":"pinecrest/production","flags":["a"],"lifts":["b"],"issued":1,"expires":2}`

// signedAs signs what no order says.
func signedAs(t *testing.T, body string) string {
	t.Helper()
	said := b64.EncodeToString([]byte(orderHeader)) + "." + b64.EncodeToString([]byte(body))
	return said + "." + b64.EncodeToString(ed25519.Sign(keyFor(1), []byte(said)))
}

// What is wrong with an order is said before it is signed.
func TestOrdersAreChecked(t *testing.T) {
	sound := Order{ID: "one", Of: "pinecrest/production", Flags: []string{"a"}, Issued: 1, Expires: 2}
	if err := sound.Check(); err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*Order){
		"no id":           func(o *Order) { o.ID = "" },
		"a long id":       func(o *Order) { o.ID = strings.Repeat("x", 37) },
		"an id in words":  func(o *Order) { o.ID = "a b" },
		"no environment":  func(o *Order) { o.Of = "production" },
		"nothing to do":   func(o *Order) { o.Flags = nil },
		"an empty flag":   func(o *Order) { o.Flags = []string{""} },
		"too many":        func(o *Order) { o.Flags = make([]string, maxOrderOf+1) },
		"a long reason":   func(o *Order) { o.Reason = strings.Repeat("x", 1_001) },
		"no end":          func(o *Order) { o.Expires = o.Issued },
		"an end too late": func(o *Order) { o.Expires = o.Issued + MaxOrderLife + 1 },
		"no beginning":    func(o *Order) { o.Issued = 0 },
	} {
		o := sound
		if change(&o); o.Check() == nil {
			t.Errorf("%s is sound", what)
		}
		if _, err := o.Sign(keyFor(1)); err == nil {
			t.Errorf("%s is signed", what)
		}
	}
}

// standingIDs are the ids of the stops that stand, in order.
func standingIDs(rs *Ruleset) string {
	var ids []string
	for _, s := range rs.Standing() {
		ids = append(ids, s.ID)
	}
	slices.Sort(ids)
	return strings.Join(ids, " ")
}

// What is held beside the service's ruleset stands until the service knows it, over snapshots, epochs and the disk.
func TestHeld(t *testing.T) {
	stop := mustRead(t, signed(t, 1, Order{ID: "order", Flags: []string{"a"}}))
	lift := mustRead(t, signed(t, 1, Order{ID: "lift", Lifts: []string{"old", "order"}}))
	start := &Ruleset{Epoch: 5, Revision: 7, Emergency: emergencyBy(1),
		Stops: []Stop{{ID: "old", Flags: []string{"b"}, Proof: "p"}, {ID: "plain", Flags: []string{"c"}}}}
	holds := start.Take(stop)
	if standingIDs(start) != "old plain" || standingIDs(holds) != "old order plain" || holds.Take(stop) != holds {
		t.Errorf("taken: %q after %q", standingIDs(holds), standingIDs(start))
	}
	if both := holds.Take(lift); standingIDs(both) != "plain" || standingIDs(start.Take(lift).Take(stop)) != "plain" {
		t.Errorf("lifted by an order: %q", standingIDs(both))
	}
	kept, err := NewRuleset(holds.Snapshot())
	if err != nil || standingIDs(kept) != "old order plain" {
		t.Errorf("read again: %q, %v", standingIDs(kept), err)
	}
	for what, c := range map[string]struct {
		e    Event
		want string
		left int // orders
	}{
		"something else":        {Event{}, "old order plain", 1},
		"the service has it":    {Event{Stops: []Stop{{ID: "order", Flags: []string{"a"}}}, Settled: []string{"order"}}, "old order plain", 0},
		"it was lifted by then": {Event{Settled: []string{"order"}}, "old plain", 0},
		"another one is lifted": {Event{Lifted: []string{"plain"}}, "old order", 1},
	} {
		c.e.Epoch, c.e.Revision = 5, 8
		next, err := holds.Apply(&c.e)
		if err != nil || standingIDs(next) != c.want || len(next.Orders) != c.left {
			t.Errorf("%s: %q, %d orders, %v", what, standingIDs(next), len(next.Orders), err)
		}
		if c.left == 0 && next.Take(stop) != next {
			t.Errorf("%s: the order is taken again", what)
		}
	}
	// A restore: the new epoch knows of nothing.
	restored := (&Ruleset{Epoch: 9, Revision: 2, Emergency: emergencyBy(1)}).Succeed(holds)
	if standingIDs(restored) != "old order" { // "plain" has no proof: nobody could say whether it is known
		t.Errorf("restored: %q", standingIDs(restored))
	}
	if let := restored.Let([]string{"old", "else"}); standingIDs(let) != "order" || let.Let([]string{"old"}) != let {
		t.Errorf("let go: %q", standingIDs(let))
	}
	again, err := restored.Apply(&Event{Epoch: 9, Revision: 3, Stops: []Stop{{ID: "old", Flags: []string{"b"}}}})
	if err != nil || standingIDs(again) != "old order" || len(again.Kept) != 0 {
		t.Errorf("confirmed: %q, %d kept, %v", standingIDs(again), len(again.Kept), err)
	}
	gone, err := restored.Apply(&Event{Epoch: 9, Revision: 3, Lifted: []string{"old"}})
	if err != nil || standingIDs(gone) != "order" {
		t.Errorf("lifted in the new epoch: %q, %v", standingIDs(gone), err)
	}
	same := (&Ruleset{Epoch: 5, Revision: 9, Settled: []string{"order"}}).Succeed(holds)
	if standingIDs(same) != "" { // of one epoch its snapshot says all
		t.Errorf("in one epoch: %q", standingIDs(same))
	}
	handed := (&Ruleset{Epoch: 5, Revision: 9, Kept: []Stop{{ID: "handed", Flags: []string{"d"}}}}).Succeed(start)
	if standingIDs(handed) != "handed" {
		t.Errorf("handed on by an outpost: %q", standingIDs(handed))
	}
	many := start
	for i := range maxOrders + 5 {
		many = many.Take(&Order{ID: fmt.Sprint("o", i), Flags: []string{"a"}})
	}
	if len(many.Orders) != maxOrders {
		t.Errorf("%d orders are held", len(many.Orders))
	}
}

// A stop's proof is of all that it says, and of one environment.
func TestStopsAreProven(t *testing.T) {
	secret, s := []byte("a secret of these records"), Stop{ID: "one", Flags: []string{"a", "b"}, At: 5}
	s.Proof = s.Prove(secret, 3)
	if !s.Genuine(secret, 3) || s.Genuine(secret, 4) || s.Genuine(nil, 3) || s.Genuine([]byte("another"), 3) {
		t.Error("the proof says nothing")
	}
	for _, change := range []func(*Stop){func(s *Stop) { s.ID = "two" }, func(s *Stop) { s.At++ },
		func(s *Stop) { s.Flags = []string{"a"} }, func(s *Stop) { s.Proof = "" }} {
		other := s
		if change(&other); other.Genuine(secret, 3) {
			t.Errorf("taken: %+v", other)
		}
	}
}
