package strictjson

import (
	"strings"
	"testing"

	"greenlever.example/core/flag"
)

func TestDecodeNamesThePlace(t *testing.T) {
	for _, c := range []struct{ in, place, mend string }{
		{`{"key":"a","rules":[{"id":"1","gives":{"varaint":"on"}}]}`, "rules[0].gives.varaint",
			"did you mean variant?"},
		{`{"zebra":1}`, "zebra", "remove it"},
		{`{"rules":[{"gives":{"shares":{"parts":[{"share":-1}]}}}]}`, "rules.gives.shares.parts.share",
			"a whole number from 0"},
		{`{"lever":3}`, "lever", "must be a string, not number"},
		{`[]`, "body", "must be an object"},
		{`{"key":"a"} {}`, "body", "more than one"},
		{`{"key":`, "body", "is no JSON"},
		{"{\"key\":\"\xff\"}", "body", "UTF-8"},
	} {
		var d flag.Document
		got := Decode([]byte(c.in), &d)
		if len(got) != 1 || got[0].Place != c.place || !strings.Contains(got[0].Mend, c.mend) {
			t.Errorf("%s: %v, want %s: …%s…", c.in, got, c.place, c.mend)
		}
	}
	var d flag.Document
	if got := Decode([]byte(`{"key":"a","variants":{"on":{"any":["thing"]}},"rules":[]}`), &d); got != nil ||
		d.Key != "a" {
		t.Errorf("%v %+v", got, d)
	}
}
