package merge

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestMerge(t *testing.T) {
	const base = `{"lever":"on","resting":"off","variants":{"off":1,"on":2},"rules":[{"id":"a","name":"A"},
		{"id":"b","name":"B"}],"end":{"variant":"off"}}`
	for name, c := range map[string]struct{ base, theirs, ours, merged, conflicts string }{
		"other fields": {base, strings.Replace(base, `"lever":"on"`, `"lever":"off"`, 1),
			strings.Replace(base, `"resting":"off"`, `"resting":"on"`, 1),
			`{"lever":"off","resting":"on","variants":{"off":1,"on":2},"rules":[{"id":"a","name":"A"},
			{"id":"b","name":"B"}],"end":{"variant":"off"}}`, ""},
		"other variants": {`{"variants":{"off":1,"on":2}}`, `{"variants":{"off":3,"on":2}}`,
			`{"variants":{"off":1,"on":4}}`, `{"variants":{"off":3,"on":4}}`, ""},
		"other rules": {base, strings.Replace(base, `"name":"A"`, `"name":"X"`, 1), strings.Replace(base, `"name":"B"`,
			`"name":"Y"`, 1), strings.NewReplacer(`"A"`, `"X"`, `"B"`, `"Y"`).Replace(base), ""},
		"the same rule": {base, strings.Replace(base, `"name":"A"`, `"name":"X"`, 1), strings.Replace(base,
			`"name":"A"`, `"name":"Y"`, 1), strings.Replace(base, `"A"`, `"X"`, 1), "rules[a].name"},
		"both alike": {base, strings.Replace(base, `"A"`, `"X"`, 1), strings.Replace(base, `"A"`, `"X"`, 1),
			strings.Replace(base, `"A"`, `"X"`, 1), ""},
		"a rule taken out, another edited": {`{"rules":[{"id":"a"},{"id":"b"}]}`, `{"rules":[{"id":"b"}]}`,
			`{"rules":[{"id":"a"},{"id":"b","n":1}]}`, `{"rules":[{"id":"b","n":1}]}`, ""},
		"a rule taken out and edited": {`{"rules":[{"id":"a"},{"id":"b"}]}`, `{"rules":[{"id":"b"}]}`,
			`{"rules":[{"id":"a","n":1},{"id":"b"}]}`, `{"rules":[{"id":"b"}]}`, "rules[a]"},
		"both add": {`{"rules":[{"id":"a"}]}`, `{"rules":[{"id":"a"},{"id":"z"}]}`, `{"rules":[{"id":"a"},{"id":"c"}]}`,
			`{"rules":[{"id":"a"},{"id":"c"},{"id":"z"}]}`, ""},
		"one moves, one adds": {`{"rules":[{"id":"a"},{"id":"b"}]}`, `{"rules":[{"id":"b"},{"id":"a"}]}`,
			`{"rules":[{"id":"a"},{"id":"n"},{"id":"b"}]}`, `{"rules":[{"id":"b"},{"id":"a"},{"id":"n"}]}`, ""},
		"both move": {`{"rules":[{"id":"a"},{"id":"b"},{"id":"c"}]}`, `{"rules":[{"id":"b"},{"id":"a"},{"id":"c"}]}`,
			`{"rules":[{"id":"a"},{"id":"c"},{"id":"b"}]}`, `{"rules":[{"id":"b"},{"id":"a"},{"id":"c"}]}`, "rules"},
	} {
		got, conflicts, err := Flag.Merge([]byte(c.base), []byte(c.theirs), []byte(c.ours))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var at []string
		for _, f := range conflicts {
			at = append(at, f.Place)
		}
		if !same(got, []byte(c.merged)) || strings.Join(at, " ") != c.conflicts {
			t.Errorf("%s: %s, conflicts %v; it should be %s and %q", name, got, at, canonical([]byte(c.merged)), c.conflicts)
		}
	}
	for _, bad := range []string{"[]", `{"rules":{}}`, `{"rules":[{}]}`, `{"rules":[{"id":"a"},{"id":"a"}]}`,
		`{"variants":[]}`} {
		if _, _, err := Flag.Merge([]byte(bad), []byte("{}"), []byte("{}")); err == nil {
			t.Errorf("%s was merged", bad)
		}
	}
}

// random makes a document, and edits of one.
type random struct {
	*rand.Rand
	fresh int
}

type rule map[string]any

func (r *random) value() any { return r.IntN(4) }

func (r *random) document() map[string]any {
	rules := []rule{}
	for i := range r.IntN(5) {
		rules = append(rules, rule{"id": fmt.Sprint("r", i), "name": r.value(), "when": r.value(), "gives": r.value()})
	}
	return map[string]any{"lever": r.value(), "end": r.value(), "variants": map[string]any{"off": r.value(),
		"on": r.value()}, "rules": rules}
}

func (r *random) edit(from map[string]any, side string) map[string]any {
	var d struct {
		Lever, End any
		Variants   map[string]any
		Rules      []rule
	}
	_ = json.Unmarshal(marshal(from), &d)
	for range r.IntN(4) {
		switch k := r.IntN(8); {
		case k == 0:
			d.Lever = r.value()
		case k == 1:
			d.End = r.value()
		case k == 2:
			d.Variants[[]string{"off", "on", "new"}[r.IntN(3)]] = r.value()
		case k == 3 && len(d.Rules) > 0:
			d.Rules[r.IntN(len(d.Rules))][[]string{"name", "when", "gives"}[r.IntN(3)]] = r.value()
		case k == 4 && len(d.Rules) > 0:
			at := r.IntN(len(d.Rules))
			d.Rules = slices.Delete(d.Rules, at, at+1)
		case k == 5 && len(d.Rules) > 1:
			at := r.IntN(len(d.Rules) - 1)
			d.Rules[at], d.Rules[at+1] = d.Rules[at+1], d.Rules[at]
		default:
			r.fresh++
			d.Rules = slices.Insert(d.Rules, r.IntN(len(d.Rules)+1), rule{"id": fmt.Sprint(side, r.fresh), "name": r.value()})
		}
	}
	return map[string]any{"lever": d.Lever, "end": d.End, "variants": d.Variants, "rules": d.Rules}
}

// Merging is symmetric without conflicts, is the other side where one edited nothing, never invents, and what was
// merged holds both edits: laid upon either side again nothing comes to it.
func TestMergeRandom(t *testing.T) {
	r := &random{Rand: rand.New(rand.NewPCG(16, 1))}
	agreed, kept := 0, 0
	for range 1_500 {
		doc := r.document()
		base, a, b := marshal(doc), marshal(r.edit(doc, "x")), marshal(r.edit(doc, "y"))
		merge := func(base, theirs, ours json.RawMessage) (json.RawMessage, []Conflict) {
			t.Helper()
			got, conflicts, err := Flag.Merge(base, theirs, ours)
			if err != nil {
				t.Fatal(err)
			}
			return got, conflicts
		}
		normal := func(raw json.RawMessage) json.RawMessage { got, _ := merge(raw, raw, raw); return got }
		for _, side := range []json.RawMessage{a, b} {
			if got, conflicts := merge(base, base, side); len(conflicts) > 0 || !same(got, normal(side)) {
				t.Fatalf("nobody else edited %s: %s became %s", base, side, got)
			}
		}
		ab, conflicts := merge(base, a, b)
		ba, other := merge(base, b, a)
		if len(conflicts) != len(other) || len(conflicts) == 0 && !same(ab, ba) {
			t.Fatalf("%s with %s and %s: %s, the other way %s", base, a, b, ab, ba)
		}
		for _, place := range places(t, ab) {
			if !slices.Contains(places(t, a), place) && !slices.Contains(places(t, b), place) {
				t.Fatalf("%s with %s and %s has %s, which neither has", base, a, b, place)
			}
		}
		if len(conflicts) > 0 {
			continue
		}
		agreed++
		if again, more := merge(a, ab, a); len(more) > 0 || !same(again, ab) {
			t.Fatalf("%s does not hold the edit of %s", ab, a)
		}
		ours, err1 := Flag.Edits(base, b)
		carried, err2 := Flag.Edits(a, ab)
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		for _, e := range carried {
			if !slices.ContainsFunc(ours, func(o Edit) bool { return o.Place == e.Place }) {
				t.Fatalf("%s upon %s edits %s, which %s did not edit in %s", ab, a, e.Place, b, base)
			}
		}
		if same(marshal(ours), marshal(carried)) {
			kept++
		}
	}
	if agreed < 500 || kept < 300 {
		t.Errorf("only %d of all agreed, and %d were carried over as they were", agreed, kept)
	}
	t.Logf("%d agreed, %d were carried over as they were", agreed, kept)
}

// places lists all values of a document with where they stand.
func places(t *testing.T, raw json.RawMessage) (out []string) {
	t.Helper()
	p, err := Flag.parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []object{p.fields, p.member} {
		for k, v := range part {
			out = append(out, k+"="+string(canonical(v)))
		}
	}
	for id, one := range p.one {
		for k, v := range one {
			out = append(out, id+"."+k+"="+string(canonical(v)))
		}
	}
	return out
}
