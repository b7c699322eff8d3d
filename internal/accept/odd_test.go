package accept

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	of "github.com/open-feature/go-sdk/openfeature"

	greenlever "greenlever.example/client"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/expr"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/openfeature"
)

// oddTexts are texts that a reader may take for something else.
var oddTexts = []string{
	"", " ", "a", "A", "ß", "ẞ", "SS", "İ", "i̇", "ı", "é", "e\u0301", "日本", "👩‍👧", "\u202eabc", "\ufeff", "\u2028",
	"nul\x00nul", "tab\ttab", "line\nline", "\r\n", `"quoted"`, `back\slash`,
	"</script>", "1", "1.0", "01", "-0", "1e3", "true", "null", "NaN", "Infinity", "1.2.3", "1.2.3-rc.1", "v1.2",
	"10.0.0.1", "10.1.2.3", "::1", "2001:db8::5", "2027-01-01T00:00:00Z", "2027-01-01", "Europe/Berlin",
	"courier", "Courier", "courier ", "a.b", "@pinecrest.example", "ida.holm@pinecrest.example", "__proto__",
	"constructor", "%41", "a/b", "ﬁ", strings.Repeat("x", 300),
}

// oddNames are names of attributes.
var oddNames = []string{"role", "site.id", "site", "id", "crew_size", "", ".", "a.", ".a", "a..b", "Role", "rôle",
	"日本", "app.version", "app", "version", "address", "since", "tags", "beta", "__proto__", "constructor", "toString",
	"length", "key", "x-plan", "with space", `quo"te`, `back\slash`, "nul\x00", "👩‍👧"}

// oddValue is a value of any make.
func oddValue(r *rand.Rand, depth int) any {
	text := func() string { return oddTexts[r.IntN(len(oddTexts))] }
	switch k := r.IntN(20); {
	case k < 8:
		return text()
	case k < 12:
		return []any{0, 1, 2, 3, -1, 0.1, 0.30000000000000004, 1.5, 1e-7, 5e-324, 123456789.125, 4503599627370496.5,
			1<<53 - 1, -(1<<53 - 1), 1e15, 100, 1e2}[r.IntN(17)]
	case k < 14:
		return r.IntN(2) == 0
	case k == 14:
		return nil
	case k < 17:
		list := []any{}
		for range r.IntN(4) {
			list = append(list, text())
		}
		if r.IntN(4) == 0 {
			list = append(list, []any{1, nil, true, []any{"a"}, map[string]any{"a": 1}}[r.IntN(5)])
		}
		return list
	}
	nested := map[string]any{}
	if depth < 5 {
		for range r.IntN(4) {
			nested[oddNames[r.IntN(len(oddNames))]] = oddValue(r, depth+1)
		}
	}
	return nested
}

// oddContext is a context of odd make, which every way in takes.
func oddContext(r *rand.Rand, i int) map[string]any {
	c := map[string]any{}
	switch r.IntN(8) {
	case 0: // it has no key
	case 1:
		c["targetingKey"] = r.IntN(1 << 30)
	case 2:
		c["targetingKey"] = oddTexts[r.IntN(len(oddTexts))]
	default:
		c["targetingKey"] = fmt.Sprintf("recipient-%d", i)
	}
	for range r.IntN(12) {
		c[oddNames[r.IntN(len(oddNames))]] = oddValue(r, 0)
	}
	if i%3 == 0 {
		c["since"] = []any{"2027-01-01T00:00:00Z", "2028-02-29t12:00:00.5+02:00", "2027-03-01T01:00:00+01:00",
			1.5}[r.IntN(4)]
	}
	delete(c, "")  // has no name, which is refused; within others it has
	if i%50 == 7 { // as many members as are taken
		for n := len(c); n < 990; n++ {
			c[fmt.Sprintf("m%d", n)] = n
		}
		for name, v := range c {
			if _, nested := v.(map[string]any); nested {
				delete(c, name)
			}
		}
	}
	if i%50 == 8 { // as deep as is taken
		var deep any = "courier"
		for range condition.MaxNesting - 2 {
			deep = map[string]any{"a": deep, "": "b"}
		}
		c["deep"] = deep
	}
	return c
}

// oddFlags are conditions over what such contexts hold; flags more draw shares.
var oddFlags = []string{
	`role == "courier"`, `role in ["courier", "Courier", "ß", "日本", "👩‍👧", ""]`, `folded(role) == "ss"`,
	`folded(role) in ["COURIER", "İ", "É"]`, `role.startsWith("a")`,
	`role.endsWithAny(["@pinecrest.example", "\u0000nul"])`,
	`role.contains("e")`, `role.matches("^[a-z]+$")`, `present(role)`, `attr["site.id"] == "1"`,
	`attr["site.id"] == 1`, `present(attr["a..b"])`, `crew_size >= 1`,
	`crew_size < 0.2 || crew_size == 9007199254740991`,
	`crew_size in [1, 2, 0.1]`, `between(crew_size, 0.3, 0.30000000000000004)`, `beta == true`,
	`hasAny(tags, ["courier", "a", "ß"])`, `hasNone(tags, ["1", "日本"])`,
	`attr["__proto__"] == true || attr["constructor"] == 1`, `present(attr["toString"])`,
	`version(app.version) >= version("1.2.3")`, `inBlocks(address, ["10.0.0.0/16", "2001:db8::/32"])`,
	`timestamp(since) < timestamp("2027-03-01T00:00:00Z")`, `key in ["1", "ß", "", "recipient-7"]`,
	`present(key) && part("50 %", [key])`,
}

// wayIn is a way to ask: the answers of all flags for a context, "variant reason" by key.
type wayIn struct {
	name string
	of   func(t *testing.T, c map[string]any) map[string]string
	some int // asks of every so many contexts, from the first on; 0: of each
}

// Five hundred contexts of odd make and thirty flags: whoever decides, wherever it is asked,
// answers alike.
func TestOddContextsEverywhere(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	var keys []string
	add := func(rules ...flag.Rule) {
		key := fmt.Sprintf("odd-%02d", len(keys))
		keys = append(keys, key)
		s.Keeper.Do(t, "POST", "/projects/pinecrest/flags", object{"key": key, "goneBy": "stays", "type": "string",
			"resting": "unknown", "visible": true,
			"variants": []object{{"name": "yes", "value": "yes"}, {"name": "no", "value": "no"},
				{"name": "unknown", "value": "unknown"}}}, 201, nil)
		s.Edit(t, "production", key, func(d *flag.Document) { d.Lever, d.Rules = flag.On, rules })
	}
	for _, source := range oddFlags {
		when, err := expr.Parse(source)
		if err != nil {
			t.Fatalf("%s: %v", source, err)
		}
		add(flag.Rule{Name: "it holds", When: when, Gives: flag.Gives{Variant: "yes"}}, flag.Rule{Name: "it does not",
			When: &condition.Node{Not: when}, Gives: flag.Gives{Variant: "no"}})
	}
	for _, by := range [][]string{{"site.id"}, {"crew_size"}, {"role", "crew_size"}, {"targetingKey"}} {
		add(flag.Rule{Name: "shares",
			Gives: flag.Gives{Shares: &flag.Shares{By: by, Parts: []flag.Part{{Variant: "yes", Share: 500_000},
				{Variant: "no", Share: 500_000}}}}})
	}
	o := station(t, s.URL(), []string{s.Keys["production"]})
	c := open(t, s, "production")
	revision := s.Get(t, "production", keys[len(keys)-1]).Revision
	until(t, c, "all flags", at(revision))
	provider := openfeature.On(c)
	if err := of.SetProviderAndWait(provider); err != nil {
		t.Fatal(err)
	}
	defer of.Shutdown()
	sdk := of.NewClient("odd")
	post := func(t *testing.T, from gltest.Caller, path string, context map[string]any, out any) {
		t.Helper()
		from.Do(t, "POST", path, object{"context": context}, 200, out)
	}
	type answer struct{ Key, Variant, Reason string }
	all := func(url string) func(*testing.T, map[string]any) map[string]string {
		from := bearer(url, s.Keys["production"])
		return func(t *testing.T, context map[string]any) map[string]string {
			var bulk struct{ Flags []answer }
			post(t, from, "/ofrep/v1/evaluate/flags", context, &bulk)
			got := map[string]string{}
			for _, a := range bulk.Flags {
				got[a.Key] = a.Variant + " " + a.Reason
			}
			return got
		}
	}
	one := func(url, path, behind string) func(*testing.T, map[string]any) map[string]string {
		from := bearer(url, s.Keys["production"])
		if behind != "" {
			from = s.Keeper
		}
		return func(t *testing.T, context map[string]any) map[string]string {
			got := map[string]string{}
			for _, key := range keys {
				var a answer
				post(t, from, path+key+behind, context, &a)
				got[key] = a.Variant + " " + a.Reason
			}
			return got
		}
	}
	window := tab(t, site(t, map[string]string{"/": scripted(s.URL(), fmt.Sprintf(`
window.flags = start({ key: %q, context: { targetingKey: undefined } });
window.knows = (context) => flags.know({ targetingKey: "", ...JSON.parse(context) }).then(() => { window.known = JSON.stringify(Object.fromEntries(%s.map((key) => [key, flags.answer(key)]).map(([key, a]) => [key, a.variant + " " + a.reason]))); });
await flags.ready;
out("ready");`, s.Browse["production"], mustJSON(t, keys)))})).See("ready")
	n := newNode(t, s.URL(), s.Keys["production"])
	ways := []wayIn{
		{name: "the provider for Go", of: func(t *testing.T, context map[string]any) map[string]string {
			key, attributes := "", map[string]any{}
			for name, v := range context {
				attributes[name] = v
				if name == of.TargetingKey {
					key = fmt.Sprint(v)
				}
			}
			delete(attributes, of.TargetingKey)
			got := map[string]string{}
			for _, name := range keys {
				d, err := sdk.StringValueDetails(t.Context(), name, "fallback", of.NewEvaluationContext(key,
					attributes))
				if err != nil {
					t.Fatal(err)
				}
				got[name] = d.Variant + " " + string(d.Reason)
			}
			return got
		}},
		{name: "all at once", of: all(s.URL())},
		{name: "all at once, an outpost", of: all(o.URL())},
		{name: "one", of: one(s.URL(), "/ofrep/v1/evaluate/flags/", ""), some: 5},
		{name: "one, an outpost", of: one(o.URL(), "/ofrep/v1/evaluate/flags/", ""), some: 5},
		{name: "why", of: one(s.URL(), inProd+"/flags/", "/why"), some: 20},
		{name: "the client for browsers", of: func(t *testing.T, context map[string]any) (got map[string]string) {
			text := mustJSON(t, string(mustJSON(t, context)))
			window.Eval(fmt.Sprintf("window.known = '', knows(%s), ''", text))
			var raw string
			gltest.Eventually(t, "the page's answers", func() bool {
				raw = window.Eval("window.known")
				return raw != ""
			})
			if err := json.Unmarshal([]byte(raw), &got); err != nil {
				t.Fatal(err, raw)
			}
			return got
		}},
		{name: "the standard's client for servers", some: 25,
			of: func(t *testing.T, context map[string]any) map[string]string {
				got := map[string]string{}
				for _, key := range keys {
					d := n.ask(key, "fallback", context)
					got[key] = d.Variant + " " + d.Reason
				}
				return got
			}},
	}
	r := rand.New(rand.NewPCG(9, 500))
	said := map[string]map[string]bool{} // of each flag, the answers that were given
	wrong := 0
	for i := range 500 {
		made := oddContext(r, i)
		raw := mustJSON(t, made)
		unit, err := greenlever.ReadContext(raw)
		if err != nil {
			t.Fatalf("context %d: %v: %.300s", i, err, raw)
		}
		want := map[string]string{}
		for _, key := range keys {
			a := c.Answer(context.Background(), key, unit)
			want[key] = a.Variant + " " + a.Reason
			if said[key] == nil {
				said[key] = map[string]bool{}
			}
			said[key][a.Variant] = true
		}
		for _, way := range ways {
			if way.some > 0 && i%way.some != 0 {
				continue
			}
			got := way.of(t, made)
			for _, key := range keys {
				if got[key] != want[key] && wrong < 20 {
					t.Errorf("%s: %s is %q, and %q in the client for Go: %.400s", way.name, key, got[key], want[key],
						raw)
					wrong++
				}
			}
		}
	}
	for i, key := range keys {
		if len(said[key]) < 2 {
			t.Errorf("%s always says the same: %v", append(oddFlags, "shares", "shares", "shares", "shares")[i],
				said[key])
		}
	}
}
