package decide

import (
	"cmp"
	"encoding/json"
	"math"
	"math/bits"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"greenlever.example/core/flag"
)

// The second engine: what docs/design/decisions.md and docs/reference/conditions.md say, written
// down as directly as they read. It takes the JSON of a ruleset and of a context, and shares no
// code with the compiled way, not even the hash.

type object = map[string]any

// kleene is a truth of three: -1 false, 0 unknown, 1 true. Not is the negative, all the least, any
// the greatest.
type kleene int

func is(holds bool) kleene {
	if holds {
		return 1
	}
	return -1
}

type second struct {
	flags, segments map[string]object
	stopped         map[string]bool
}

func newSecond(t *testing.T, s *flag.Snapshot) *second {
	t.Helper()
	raw, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	var tree struct {
		Flags, Segments []object
		Stops           []struct{ Flags []string }
	}
	if err := json.Unmarshal(raw, &tree); err != nil {
		t.Fatal(err)
	}
	e := &second{map[string]object{}, map[string]object{}, map[string]bool{}}
	for _, f := range tree.Flags {
		e.flags[f["key"].(string)] = f
	}
	for _, s := range tree.Segments {
		e.segments[s["key"].(string)] = s
	}
	for _, s := range tree.Stops {
		for _, key := range s.Flags {
			e.stopped[key] = true
		}
	}
	return e
}

// asking is one question: who asks, and when.
type asking struct {
	*second
	unit object // flat
	now  time.Time
	open string // the segments that are being looked at, each in bars
}

func (e *second) decide(key string, context []byte, now int64) (variant, reason string) {
	tree := object{}
	if err := json.Unmarshal(context, &tree); err != nil {
		panic(err)
	}
	a := asking{e, object{}, time.UnixMilli(now).UTC(), "|"}
	a.flatten("", tree)
	if n, ok := a.unit["targetingKey"].(float64); ok {
		a.unit["targetingKey"] = strconv.FormatFloat(n, 'f', -1, 64)
	}
	if a.unit["targetingKey"] == "" {
		delete(a.unit, "targetingKey")
	}
	return a.decide(key)
}

// flatten: "a.b" written flat wins over a nested b in a; null is absent.
func (a asking) flatten(prefix string, tree object) {
	for name, v := range tree {
		if _, taken := a.unit[prefix+name]; !taken && v != nil {
			a.unit[prefix+name] = v
		}
	}
	for name, v := range tree {
		if nested, ok := v.(object); ok {
			a.flatten(prefix+name+".", nested)
		}
	}
}

func (a asking) decide(key string) (variant, reason string) {
	f, ok := a.flags[key]
	if !ok {
		return "", "ERROR"
	}
	resting := f["resting"].(string)
	if a.stopped[key] || f["lever"] == "off" {
		return resting, "DISABLED"
	}
	needs := list(f["needs"])
	for _, n := range needs {
		need := n.(object)
		if v, reason := a.decide(need["flag"].(string)); reason == "ERROR" || v != need["variant"] {
			return resting, "DISABLED"
		}
	}
	plain := len(needs) == 0
	for _, r := range list(f["rules"]) {
		rule := r.(object)
		if rule["parked"] == true {
			continue
		}
		plain = false
		gives := rule["gives"].(object)
		holds := kleene(1)
		if when, ok := rule["when"].(object); ok {
			holds = a.holds(when)
		}
		applies := holds == 1
		if holds == 0 {
			switch rule["onUnknown"] {
			case "apply":
				applies = true
			case "skip":
			default: // doubt excludes
				applies = onlyGives(gives, resting)
			}
		}
		if !applies {
			continue
		}
		if v, ok := gives["variant"].(string); ok {
			return v, "TARGETING_MATCH"
		}
		if part := a.draw(gives["shares"].(object)); part != nil && part["goesOn"] != true {
			return part["variant"].(string), "SPLIT"
		}
	}
	end := f["end"].(object)
	v, one := end["variant"].(string)
	switch {
	case one && plain:
		return v, "STATIC"
	case one:
		return v, "DEFAULT"
	}
	if part := a.draw(end["shares"].(object)); part != nil {
		return part["variant"].(string), "SPLIT"
	}
	return resting, "DEFAULT"
}

// onlyGives tells whether nothing but one variant can come out.
func onlyGives(gives object, variant string) bool {
	if v, ok := gives["variant"]; ok {
		return v == variant
	}
	for _, p := range list(gives["shares"].(object)["parts"]) {
		if part := p.(object); part["share"].(float64) > 0 && part["variant"] != variant {
			return false
		}
	}
	return true
}

// draw is the part that owns the unit's bucket, nil where no attribute is there to draw by.
func (a asking) draw(shares object) object {
	key, ok := a.drawnBy(list(shares["by"]))
	if !ok {
		return nil
	}
	at := bucketOf(shares["salt"].(string), key)
	for _, p := range list(shares["parts"]) {
		for _, r := range list(p.(object)["ranges"]) {
			if run := list(r); run[0].(float64) <= at && at < run[1].(float64) {
				return p.(object)
			}
		}
	}
	return nil
}

// drawnBy is the first attribute present: a text, not empty, or an integer in plain decimal.
func (a asking) drawnBy(names []any) (string, bool) {
	for _, name := range names {
		if key, ok := asKey(a.unit[name.(string)]); ok {
			return key, true
		}
	}
	return "", false
}

func asKey(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, v != "" && utf8.ValidString(v)
	case float64:
		return strconv.FormatFloat(v+0, 'f', -1, 64), v == math.Trunc(v)
	}
	return "", false
}

// bucketOf: bucket = floor(murmur3(key, murmur3(salt, 0)) * 1000000 / 2^32).
func bucketOf(salt, key string) float64 {
	return math.Floor(float64(murmur3(key, murmur3(salt, 0))) * 1_000_000 / (1 << 32))
}

// murmur3 is MurmurHash3_x86_32, which Austin Appleby placed in the public domain.
func murmur3(text string, seed uint32) uint32 {
	mix := func(k uint32) uint32 { return bits.RotateLeft32(k*0xcc9e2d51, 15) * 0x1b873593 }
	h, b := seed, []byte(text)
	for ; len(b) >= 4; b = b[4:] {
		h = bits.RotateLeft32(h^mix(uint32(b[0])|uint32(b[1])<<8|uint32(b[2])<<16|uint32(b[3])<<24), 13)*5 + 0xe6546b64
	}
	var rest uint32
	for i := range b {
		rest |= uint32(b[i]) << (8 * i)
	}
	if len(b) > 0 {
		h ^= mix(rest)
	}
	h ^= uint32(len(text))
	h = (h ^ h>>16) * 0x85ebca6b
	h = (h ^ h>>13) * 0xc2b2ae35
	return h ^ h>>16
}

func list(v any) []any {
	l, _ := v.([]any)
	return l
}

func texts(v any) (all []string) {
	for _, e := range list(v) {
		all = append(all, e.(string))
	}
	return all
}

func (a asking) holds(n object) kleene {
	if all, ok := n["all"]; ok {
		least := kleene(1)
		for _, part := range list(all) {
			least = min(least, a.holds(part.(object)))
		}
		return least
	}
	if some, ok := n["any"]; ok {
		greatest := kleene(-1)
		for _, part := range list(some) {
			greatest = max(greatest, a.holds(part.(object)))
		}
		return greatest
	}
	if not, ok := n["not"].(object); ok {
		return -a.holds(not)
	}
	test := n["test"].(string)
	switch test {
	case "segment":
		return a.within(n["segment"].(string))
	case "flag.gives":
		v, reason := a.decide(n["flag"].(string))
		if reason == "ERROR" {
			return 0
		}
		return is(slices.Contains(texts(n["text"]), v))
	case "part":
		part := n["part"].(object)
		key, ok := a.drawnBy(list(part["by"]))
		if !ok {
			return 0
		}
		return is(bucketOf(part["salt"].(string), key) < part["share"].(float64))
	case "clock.weekly":
		return weekly(n["weekly"].(object), a.now)
	}
	family, how, _ := strings.Cut(test, ".")
	if family == "clock" {
		return instant(how, a.now, texts(n["text"]))
	}
	v, there := a.unit[n["attribute"].(string)]
	if test == "present" || test == "absent" {
		return is(there == (test == "present"))
	}
	switch v := v.(type) {
	case string:
		return ofText(family, how, v, n)
	case float64:
		if family == "number" {
			return ofNumber(how, v, list(n["numbers"]))
		}
	case bool:
		if family == "boolean" {
			return is(v == (how == "true"))
		}
	case []any:
		if family == "list" {
			return ofList(how, v, texts(n["text"]))
		}
	}
	return 0 // absent, of another type, or a test of a newer build
}

var patterns = map[string]*regexp.Regexp{}

func ofText(family, how, v string, n object) kleene {
	wanted := texts(n["text"])
	if family == "string" {
		if how == "matches" {
			pattern := wanted[0]
			if n["ignoreCase"] == true {
				pattern = "(?i)" + pattern
			}
			if patterns[pattern] == nil {
				patterns[pattern] = regexp.MustCompile(pattern)
			}
			return is(patterns[pattern].MatchString(v))
		}
		compare := map[string]func(string, string) bool{
			"equals": func(a, b string) bool { return a == b }, "one-of": func(a, b string) bool { return a == b },
			"begins": strings.HasPrefix, "ends": strings.HasSuffix, "contains": strings.Contains}[how]
		for _, w := range wanted {
			if n["ignoreCase"] == true && compare(folded(v), folded(w)) || compare(v, w) {
				return 1
			}
		}
		return -1
	}
	switch family {
	case "version":
		have, ok := semver(v, n["loose"] == true)
		want, _ := semver(wanted[0], n["loose"] == true)
		if !ok {
			return 0
		}
		c := precedence(have, want)
		return is(map[string]bool{"equals": c == 0, "less": c < 0, "at-most": c <= 0, "more": c > 0,
			"at-least": c >= 0}[how])
	case "time":
		at, err := time.Parse(time.RFC3339, strings.ToUpper(v))
		if err != nil {
			return 0
		}
		return instant(how, at, wanted)
	case "address":
		at, err := netip.ParseAddr(v)
		if err != nil {
			return 0
		}
		for _, w := range wanted {
			if block, err := netip.ParsePrefix(w); err == nil && block.Contains(at) || w == v {
				return 1
			}
		}
		return -1
	}
	return 0
}

// folded takes each character for the least of those that simple folding makes one.
func folded(s string) string {
	return strings.Map(func(r rune) rune {
		least := r
		for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
			least = min(least, next)
		}
		return least
	}, s)
}

func ofNumber(how string, v float64, wanted []any) kleene {
	w := wanted[0].(float64)
	if how == "between" {
		return is(w <= v && v <= wanted[1].(float64))
	}
	if how == "one-of" {
		return is(slices.Contains(wanted, any(v)))
	}
	return is(map[string]bool{"equals": v == w, "differs": v != w, "less": v < w, "at-most": v <= w, "more": v > w,
		"at-least": v >= w}[how])
}

func ofList(how string, v []any, wanted []string) kleene {
	found := 0
	for _, e := range v {
		if _, ok := e.(string); !ok {
			return 0 // one element of another type makes the list wrongly typed
		}
	}
	for _, w := range wanted {
		if slices.Contains(v, any(w)) {
			found++
		}
	}
	return is(map[string]bool{"any": found > 0, "all": found == len(wanted), "none": found == 0}[how])
}

// instant: before leaves out, at or after takes in, between does both.
func instant(how string, at time.Time, wanted []string) kleene {
	parse := func(text string) time.Time {
		t, err := time.Parse(time.RFC3339, text)
		if err != nil {
			panic(err)
		}
		return t
	}
	switch how {
	case "before":
		return is(at.Before(parse(wanted[0])))
	case "at-or-after":
		return is(!at.Before(parse(wanted[0])))
	}
	return is(!at.Before(parse(wanted[0])) && at.Before(parse(wanted[1])))
}

// weekly: a window that ends at or before it starts ends on the next day, and belongs to the day on
// which it starts.
func weekly(w object, now time.Time) kleene {
	zone := testZones(w["zone"].(string))
	if zone == nil {
		return 0
	}
	minutes := func(text any) int {
		hours, rest, _ := strings.Cut(text.(string), ":")
		h, _ := strconv.Atoi(hours)
		m, _ := strconv.Atoi(rest)
		return 60*h + m
	}
	local := now.Add(time.Duration(zone(now.Unix())) * time.Second)
	at, from, to := 60*local.Hour()+local.Minute(), minutes(w["from"]), minutes(w["to"])
	on := func(day time.Weekday) bool {
		return slices.Contains(texts(w["days"]), strings.ToLower(day.String()[:3]))
	}
	if from < to {
		return is(on(local.Weekday()) && from <= at && at < to)
	}
	return is(on(local.Weekday()) && from <= at || on((local.Weekday()+6)%7) && at < to)
}

var version = regexp.MustCompile(
	`^(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})(?:-((?:0|[1-9]\d*|\d*[a-zA-Z-][0-9a-zA-Z-]*)(?:\.(?:0|[1-9]\d*|\d*[a-zA-Z-][0-9a-zA-Z-]*))*))?(?:\+[0-9a-zA-Z-]+(?:\.[0-9a-zA-Z-]+)*)?$`)

// semver reads a version: three numbers, and what comes before the release.
func semver(text string, loose bool) (parts []string, ok bool) {
	if loose {
		text = strings.TrimPrefix(text, "v")
		if core, rest, cut := strings.Cut(text, "-"); strings.Count(core, ".") < 2 {
			for strings.Count(core, ".") < 2 {
				core += ".0"
			}
			text = core
			if cut {
				text += "-" + rest
			}
		}
	}
	m := version.FindStringSubmatch(text)
	if m == nil {
		return nil, false
	}
	return m[1:], true
}

// precedence is that of Semantic Versioning 2.0.0, 11.
func precedence(a, b []string) int {
	number := func(text string) (int64, bool) {
		n, err := strconv.ParseInt(text, 10, 64)
		return n, err == nil && !strings.ContainsAny(text, "+-")
	}
	for i := range 3 {
		x, _ := number(a[i])
		y, _ := number(b[i])
		if x != y {
			return cmp.Compare(x, y)
		}
	}
	if a[3] == "" || b[3] == "" {
		return cmp.Compare(len(b[3]), len(a[3])) // a release comes after what came before it
	}
	x, y := strings.Split(a[3], "."), strings.Split(b[3], ".")
	for i := range min(len(x), len(y)) {
		n, isNumber := number(x[i])
		m, isToo := number(y[i])
		c := cmp.Compare(x[i], y[i])
		switch {
		case isNumber && isToo:
			c = cmp.Compare(n, m)
		case isNumber:
			c = -1
		case isToo:
			c = 1
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(x), len(y))
}

// within: not out and (in or condition), where each list is a leaf that is unknown for who lacks
// the listed attribute.
func (a asking) within(key string) kleene {
	s, ok := a.segments[key]
	if !ok || strings.Contains(a.open, "|"+key+"|") {
		return 0 // it is not there, or within itself
	}
	a.open += key + "|"
	in, listsIn := s["in"].(object)
	out, listsOut := s["out"].(object)
	condition := kleene(-1)
	if when, ok := s["when"].(object); ok {
		condition = a.holds(when)
	}
	if !listsIn && !listsOut {
		return condition
	}
	name, _ := s["lists"].(string)
	if name == "" {
		name = "targetingKey"
	}
	unit, there := asKey(a.unit[name])
	on := func(l object) kleene {
		if !there {
			return 0
		}
		return is(slices.Contains(texts(l["units"]), unit))
	}
	return min(-on(out), max(on(in), condition))
}
