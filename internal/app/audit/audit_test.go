package audit

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"greenlever.example/core/diff"
)

// Examples of RFC 8785, and its rules for numbers.
func TestCanonical(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`{ "b":1, "a" : [ true , null, "x" ] }`, `{"a":[true,null,"x"],"b":1}`},
		{`{"\u20ac":1,"\r":2,"1":3,"\ud83d\ude00":4,"\u0080":5,"\u00f6":6,"\ufb33":7}`,
			"{\"\\r\":2,\"1\":3,\"\u0080\":5,\"ö\":6,\"€\":1,\"😀\":4,\"\ufb33\":7}"},
		{`[333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001, -0, 1e21, 1e-7]`,
			`[333333333.3333333,1e+30,4.5,0.002,1e-27,0,1e+21,1e-7]`},
		{`"\ud800"`, "\"\ufffd\""}, // refused now where it is sent, and in records of before
		{`"\u001f\u002f<>&\u2028"`, "\"\\u001f/<>&\u2028\""},
	} {
		got, err := Canonical([]byte(c.in))
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %s, %v; want %s", c.in, got, err, c.want)
		}
	}
	for _, bad := range []string{``, `{`, `1 2`, "\"\xff\"", `1e999`} {
		if got, err := Canonical([]byte(bad)); err == nil {
			t.Errorf("%q: %s, want an error", bad, got)
		}
	}
}

func chain(t *testing.T, name string, n int) []*Row {
	t.Helper()
	head := &Head{Chain: name}
	var rows []*Row
	for i := range n {
		texts, personal := Differences([]diff.Line{{Text: "lever off → on"}, {Text: "rule *just me*: + ⟨0⟩, + ⟨1⟩",
			Personal: []string{fmt.Sprint("recipient-", i), "x"}}})
		row, err := Append(head, Entry{Action: "flag.changed", At: int64(i), Subject: "one-touch-open", Project: 1,
			Environment: 2, Difference: texts}, personal)
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	return rows
}

func verify(rows []*Row, heads ...SignedHead) *Report {
	v := NewVerifier(heads, nil)
	for _, r := range rows {
		v.Row(r)
	}
	return v.Done()
}

func TestSoundChain(t *testing.T) {
	rows := append(chain(t, "environment:1", 5), chain(t, "project:1", 3)...)
	if r := verify(rows); !r.Sound() || r.Entries != 8 || len(r.Chains) != 2 {
		t.Errorf("%+v", r)
	}
	e, err := rows[3].Read()
	if err != nil || e.Difference[1] != `rule *just me*: + "recipient-3", + "x"` {
		t.Errorf("%v %v", e, err)
	}
	rows[3].Personal = []byte("null")
	if r := verify(rows); !r.Sound() {
		t.Errorf("erasing personal values breaks the chain: %v", r.Findings)
	}
	if e, _ := rows[3].Read(); !strings.Contains(e.Difference[1], "⟨0⟩") {
		t.Errorf("after erasing: %q", e.Difference[1])
	}
}

func other(digit string) string {
	if digit == "0" {
		return "1"
	}
	return "0"
}

// Every single altered byte of every column of a row is found.
func TestEveryAlteredByteIsFound(t *testing.T) {
	for _, field := range []func(*Row) *[]byte{
		func(r *Row) *[]byte { return &r.Entry },
		func(r *Row) *[]byte { return &r.Personal },
	} {
		n := len(*field(chain(t, "environment:1", 3)[1]))
		for i := range n {
			rows := chain(t, "environment:1", 3)
			b := field(rows[1])
			if i >= len(*b) {
				continue
			}
			*b = bytes.Clone(*b)
			(*b)[i] ^= 1
			if verify(rows).Sound() {
				t.Fatalf("byte %d of %s is altered and not found", i, *b)
			}
		}
	}
	for name, alter := range map[string]func(*Row){
		"digest":   func(r *Row) { r.Digest = other(r.Digest[:1]) + r.Digest[1:] },
		"sequence": func(r *Row) { r.Sequence++ },
		"at":       func(r *Row) { r.At++ }, "project": func(r *Row) { r.Project++ },
		"environment": func(r *Row) { r.Environment++ },
		"subject":     func(r *Row) { r.Subject += "x" }, "actor": func(r *Row) { r.Actor += "x" },
		"action": func(r *Row) { r.Action += "x" },
		"chain":  func(r *Row) { r.Chain = "environment:9" },
	} {
		rows := chain(t, "environment:1", 3)
		alter(rows[1])
		if verify(rows).Sound() {
			t.Errorf("an altered %s is not found", name)
		}
	}
}

func TestMissingEntriesAndCutTails(t *testing.T) {
	rows := chain(t, "environment:1", 5)
	_, key, _ := ed25519.GenerateKey(nil)
	last := rows[4]
	signed := Sign(Head{last.Chain, last.Sequence, last.Digest}, 99, key)
	if r := verify(rows, signed); !r.Sound() || r.Signed != 1 {
		t.Errorf("%+v", r)
	}
	if verify(slices.Delete(slices.Clone(rows), 2, 3), signed).Sound() {
		t.Error("a missing entry is not found")
	}
	if verify(rows[:4], signed).Sound() {
		t.Error("a cut tail is not found")
	}
	forged := signed
	forged.Sequence = 4
	if verify(rows, forged).Sound() {
		t.Error("a forged head is not found")
	}
	// A chain written anew from some point on is sound in itself, but not against the head.
	head := &Head{Chain: rows[3].Chain, Sequence: 4, Digest: rows[3].Digest}
	other, _ := Append(head, Entry{Action: "flag.changed", At: 4, Subject: "another"}, nil)
	if r := verify(append(slices.Clone(rows[:4]), other)); !r.Sound() {
		t.Errorf("%v", r.Findings)
	}
	if verify(append(slices.Clone(rows[:4]), other), signed).Sound() {
		t.Error("a rewritten tail is not found")
	}
}

// One signed head does not replace another, a key that came later signs no past, and what was
// kept elsewhere, a head or the key, counts against whoever rewrites chain, heads and keys.
func TestHeadsAndKeys(t *testing.T) {
	rows := chain(t, "environment:1", 5)
	_, honest, _ := ed25519.GenerateKey(nil)
	_, other, _ := ed25519.GenerateKey(nil)
	sign := func(rows []*Row, n int, at int64, key ed25519.PrivateKey) SignedHead {
		r := rows[n-1]
		return Sign(Head{r.Chain, r.Sequence, r.Digest}, at, key)
	}
	rewritten := slices.Clone(rows)
	head := &Head{Chain: rows[3].Chain, Sequence: 4, Digest: rows[3].Digest}
	rewritten[4], _ = Append(head, Entry{Action: "flag.changed", At: 4, Subject: "another"}, nil)
	first := sign(rows, 5, 99, honest)
	second := sign(rewritten, 5, 100, other)
	keys := Keys{first.Key: 0, second.Key: 50}
	check := func(keys Keys, pin string, rows []*Row, heads ...SignedHead) string {
		v := NewVerifier(nil, keys)
		v.Pin(pin)
		for _, h := range heads {
			v.Held(h)
		}
		for _, r := range rows {
			v.Row(r)
		}
		return fmt.Sprint(v.Done().Findings)
	}
	for what, c := range map[string]struct{ got, says string }{
		"as it is": {check(keys, "", rows, first), "[]"},
		"a second head for the rewritten": {check(keys, "", rewritten, first, second),
			"differs from the head that was signed"},
		"the second head first": {check(keys, "", rewritten, second, first),
			"differs from the head that was signed"},
		"a key that was added later": {check(keys, "", rewritten, sign(rewritten, 5, 49, other)),
			"added later"},
		"a key of nobody's": {check(Keys{first.Key: 0}, "", rows, second),
			"not one of this installation's"},
		"a tail cut with its heads":     {check(keys, "", rows[:3]), "[]"}, // nobody could tell
		"but for a head kept elsewhere": {check(keys, "", rows[:3], first), "a head at 5 was signed"},
		"and for a key that is pinned": {check(keys, first.Key, rewritten, second),
			"no head is signed with the key that was pinned"},
		"a pinned key beside a rewritten": {check(Keys{second.Key: 0}, first.Key, rewritten, first, second),
			"differs from the head that was signed"},
		"a pinned key that the chain hides": {check(Keys{second.Key: 0}, first.Key, rows, first), "[]"},
	} {
		if !strings.Contains(c.got, c.says) {
			t.Errorf("%s: %s, want %s", what, c.got, c.says)
		}
	}
}

// Rows beside the chain are held against what it last said of them.
func TestRecordsBesideTheChain(t *testing.T) {
	head := &Head{Chain: "environment:1"}
	var rows []*Row
	say := func(at int64, records ...Record) {
		row, err := Append(head, Entry{Action: "flag.changed", Change: fmt.Sprint(at), At: at, Environment: 1,
			Revision: at, Records: records}, nil)
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	say(1, Record{Of: "flags/1/a", Digest: "d1"}, Record{Of: "revisions/1/1", Digest: "r1", MayGo: true})
	say(2, Record{Of: "flags/1/a", Digest: "d2"}, Record{Of: "flags/1/b", Digest: "b"})
	say(3, Record{Of: "flags/1/b"})
	there := []Record{{Of: "flags/1/a", Digest: "d2"}, {Of: "revisions/1/1", Digest: "r1", Revision: 1,
		Entry: rows[0].Digest}}
	check := func(revision int64, records ...Record) string {
		v := NewVerifier(nil, nil)
		v.Forgets(func(_ string, at int64) bool { return at < 1 })
		for _, r := range rows {
			v.Row(r)
		}
		if err := v.Records(revision, func(visit func(Record)) error {
			for _, r := range records {
				visit(r)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(v.Done().Findings)
	}
	another := there[1]
	another.Entry = rows[1].Digest
	for what, c := range map[string]struct{ got, says string }{
		"as it is": {check(3, there...), "[]"},
		"an old version": {check(3, Record{Of: "flags/1/a", Digest: "d1"}, there[1]),
			"flags/1/a is not as the chain says"},
		"one that is gone":   {check(3, there[1]), "flags/1/a is missing"},
		"one gone too early": {check(3, there[0]), "revisions/1/1 is missing"},
		"one that came back": {check(3, append(there, Record{Of: "flags/1/b", Digest: "b"})...),
			"the chain says that it is gone"},
		"a stranger": {check(3, append(there, Record{Of: "flags/1/c", Digest: "c"})...),
			"the chain knows nothing of it"},
		"another entry":          {check(3, there[0], another), "names another entry"},
		"a revision put back":    {check(2, there...), "stands at revision 2, and the chain at 3"},
		"a revision put forward": {check(4, there...), "stands at revision 4, and the chain at 3"},
	} {
		if !strings.Contains(c.got, c.says) {
			t.Errorf("%s: %s, want %s", what, c.got, c.says)
		}
	}
}

func TestExport(t *testing.T) {
	var b bytes.Buffer
	for _, r := range chain(t, "environment:1", 4) {
		raw, err := Encode(ExportRow(r))
		if err != nil {
			t.Fatal(err)
		}
		b.Write(raw)
	}
	if r, err := VerifyExport(bytes.NewReader(b.Bytes()), "", nil); err != nil || r.Sound() {
		t.Errorf("an export that broke off: %+v %v", r, err)
	}
	rows := int64(4)
	raw, _ := Encode(Line{End: &rows})
	b.Write(raw)
	report, err := VerifyExport(bytes.NewReader(b.Bytes()), "", nil)
	if err != nil || !report.Sound() || report.Entries != 4 {
		t.Fatalf("%+v %v", report, err)
	}
	for i := range b.Len() {
		altered := bytes.Clone(b.Bytes())
		if altered[i] == '\n' {
			continue
		}
		altered[i] ^= 1
		if r, err := VerifyExport(bytes.NewReader(altered), "", nil); err == nil && r.Sound() && !sameMeaning(altered,
			b.Bytes()) {
			t.Fatalf("byte %d is altered and not found", i)
		}
	}
}

// sameMeaning: member names of a line, which are matched without case, may differ.
func sameMeaning(a, b []byte) bool {
	for {
		la, ra, _ := bytes.Cut(a, []byte("\n"))
		lb, rb, _ := bytes.Cut(b, []byte("\n"))
		var x, y Line
		if json.Unmarshal(la, &x) != nil || json.Unmarshal(lb, &y) != nil || !reflect.DeepEqual(x, y) {
			return false
		}
		if a, b = ra, rb; len(a) == 0 && len(b) == 0 {
			return true
		}
	}
}
