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
		{`{"\u20ac":1,"\r":2,"1":3,"\ud83d\ude00":4,"\u0080":5,"\u00f6":6,"\ufb33":7}`, "{\"\\r\":2,\"1\":3,\"\u0080\":5,\"ö\":6,\"€\":1,\"😀\":4,\"\ufb33\":7}"},
		{`[333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001, -0, 1e21, 1e-7]`, `[333333333.3333333,1e+30,4.5,0.002,1e-27,0,1e+21,1e-7]`},
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
		texts, personal := Differences([]diff.Line{{Text: "lever off → on"}, {Text: "rule *just me*: + ⟨0⟩, + ⟨1⟩", Personal: []string{fmt.Sprint("recipient-", i), "x"}}})
		row, err := Append(head, Entry{Action: "flag.changed", At: int64(i), Subject: "one-touch-open", Project: 1, Environment: 2, Difference: texts}, personal)
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
		"digest": func(r *Row) { r.Digest = "0" + r.Digest[1:] + "" }, "sequence": func(r *Row) { r.Sequence++ },
		"at": func(r *Row) { r.At++ }, "project": func(r *Row) { r.Project++ }, "environment": func(r *Row) { r.Environment++ },
		"subject": func(r *Row) { r.Subject += "x" }, "actor": func(r *Row) { r.Actor += "x" }, "action": func(r *Row) { r.Action += "x" },
		"chain": func(r *Row) { r.Chain = "environment:9" },
	} {
		rows := chain(t, "environment:1", 3)
		if alter(rows[1]); rows[1].Digest[0] == '0' && name == "digest" {
			rows[1].Digest = "1" + rows[1].Digest[1:]
		}
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
		if r, err := VerifyExport(bytes.NewReader(altered), "", nil); err == nil && r.Sound() && !sameMeaning(altered, b.Bytes()) {
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
