package accept

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// pure calls functions of the console that know of no page, and gives what each answers.
func pure(t *testing.T, cases []object) []json.RawMessage {
	t.Helper()
	raw, err := json.Marshal(cases)
	if err != nil {
		t.Fatal(err)
	}
	node := exec.CommandContext(t.Context(), "node", "pure.mjs")
	node.Dir = "../../console"
	node.Stdin = bytes.NewReader(raw)
	var said bytes.Buffer
	node.Stderr = &said
	printed, err := node.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, said.String())
	}
	var out []json.RawMessage
	if err := json.Unmarshal(printed, &out); err != nil || len(out) != len(cases) {
		t.Fatalf("%v: %s", err, printed)
	}
	return out
}

// same compares two values of JSON.
func same(t *testing.T, what string, got json.RawMessage, want string) {
	t.Helper()
	var a, b any
	if err := json.Unmarshal(got, &a); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(want), &b); err != nil {
		t.Fatalf("%s: %v in %s", what, err, want)
	}
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	if !bytes.Equal(x, y) {
		t.Errorf("%s:\n got %s\nwant %s", what, x, y)
	}
}

type pureCase struct {
	what, call string
	args       string // JSON
	want       string
}

func runPure(t *testing.T, module string, cases []pureCase) {
	t.Helper()
	asked := make([]object, len(cases))
	for i, c := range cases {
		asked[i] = object{"module": module, "call": c.call, "args": json.RawMessage(c.args)}
	}
	for i, got := range pure(t, asked) {
		same(t, cases[i].what, got, cases[i].want)
	}
}

// What two people changed is put together field by field, and where both did, both sides are shown.
func TestConsoleMerges(t *testing.T) {
	const base = `{"lever":"off","resting":"off","rules":[{"id":"a","name":"A"},{"id":"b","name":"B"},{"id":"c","name":"C"}]}`
	rule := func(list string) string { return `{"lever":"off","resting":"off","rules":[` + list + `]}` }
	const a, b, c = `{"id":"a","name":"A"}`, `{"id":"b","name":"B"}`, `{"id":"c","name":"C"}`
	const new1, theirs = `{"id":"new 1","name":"Mine"}`, `{"id":"t","name":"Theirs"}`
	merged := func(result, meets string) string { return `{"merged":` + result + `,"meets":[` + meets + `]}` }
	runPure(t, "draft/merge", []pureCase{
		{"nobody", "merge", `[` + base + `,` + base + `,` + base + `]`, merged(base, "")},
		{"other fields", "merge", `[{"x":1,"y":1},{"x":2,"y":1},{"x":1,"y":3}]`, merged(`{"x":2,"y":3}`, "")},
		{"the same", "merge", `[{"x":1},{"x":2},{"x":2}]`, merged(`{"x":2}`, "")},
		{"the same field", "merge", `[{"x":1},{"x":2},{"x":3}]`, merged(`{"x":2}`,
			`{"path":["x"],"base":1,"mine":2,"theirs":3}`)},
		{"taken away by them", "merge", `[{"x":1,"y":1},{"x":1,"y":2},{"y":1}]`, merged(`{"y":2}`, "")},
		{"both add at other places", "merge", `[` + base + `,` + rule(a+","+new1+","+b+","+c) + `,` + rule(a+","+b+","+
			c+","+theirs) + `]`, merged(rule(a+","+new1+","+b+","+c+","+theirs), "")},
		{"both add on top", "merge", `[` + base + `,` + rule(new1+","+a+","+b+","+c) + `,` + rule(theirs+","+a+","+b+
			","+c) + `]`, merged(rule(new1+","+theirs+","+a+","+b+","+c), "")},
		{"I move, they take away", "merge", `[` + base + `,` + rule(c+","+a+","+b) + `,` + rule(a+","+c) + `]`,
			merged(rule(c+","+a), "")},
		{"they move, I add", "merge", `[` + base + `,` + rule(a+","+b+","+c+","+new1) + `,` + rule(b+","+a+","+c) +
			`]`,
			merged(rule(b+","+a+","+c+","+new1), "")},
		{"I take away what they changed", "merge", `[` + base + `,` + rule(a+","+c) + `,` +
			rule(a+`,{"id":"b","name":"Bee"},`+
				c) + `]`, merged(rule(a+","+c), `{"path":["rules","b"],"base":`+b+
			`,"theirs":{"id":"b","name":"Bee"}}`)},
		{"they take away what I changed", "merge", `[` + base + `,` + rule(a+`,{"id":"b","name":"Bee"},`+c) + `,` +
			rule(a+","+c) + `]`, merged(rule(a+`,{"id":"b","name":"Bee"},`+c),
			`{"path":["rules","b"],"base":`+b+`,"mine":{"id":"b","name":"Bee"}}`)},
		{"one thing", "merge", `[{"end":{"variant":"off"}},{"end":{"variant":"on"}},{"end":{"shares":{"by":["x"]}}},
			{"module":"draft/flag","name":"flagRules"}]`, merged(`{"end":{"variant":"on"}}`,
			`{"path":["end"],"base":{"variant":"off"},"mine":{"variant":"on"},"theirs":{"shares":{"by":["x"]}}}`)},
		{"what is theirs again", "put", `[` + rule(a+","+c) + `,["rules","b"],` + b + `]`,
			rule(a + "," + c + "," + b)},
		{"a field inside", "put", `[` + base + `,["rules","b","name"],"Bee"]`,
			rule(a + `,{"id":"b","name":"Bee"},` + c)},
		{"gone", "put", `[` + base + `,["rules","b"]]`, rule(a + "," + c)},
	})
}

// An edit goes on over what others save; steps are counted as a person does.
func TestConsoleDrafts(t *testing.T) {
	begin := json.RawMessage(
		`{"base":{"title":"a","note":""},"version":3,"now":{"title":"a","note":""},"past":[],"next":[],"meets":[]}`)
	edit := func(title, field string, at int) string {
		raw, _ := json.Marshal(object{"do": "edit", "now": object{"title": title, "note": ""}, "field": field,
			"at": at})
		return string(raw)
	}
	fold := func(actions ...string) object {
		all := make([]json.RawMessage, len(actions))
		for i, a := range actions {
			all[i] = json.RawMessage("[" + a + "]")
		}
		return object{"module": "draft/draft", "call": "reduce", "start": begin, "fold": all}
	}
	const undo, redo = `{"do":"undo"}`, `{"do":"redo"}`
	const theirs = `{"do":"theirs","base":{"title":"a","note":"theirs"},"version":4}`
	const meet = `{"do":"theirs","base":{"title":"theirs","note":""},"version":4}`
	cases := []struct {
		what string
		of   object
		now  string
		past int
		next int
		meet int
	}{
		{"typing is one step", fold(edit("ab", "title", 0), edit("abc", "title", 500), undo),
			`{"title":"a","note":""}`, 0,
			1, 0},
		{"a pause is two", fold(edit("ab", "title", 0), edit("abc", "title", 1500), undo), `{"title":"ab","note":""}`,
			1, 1,
			0},
		{"clicks are steps", fold(edit("ab", "", 0), edit("abc", "", 1), undo), `{"title":"ab","note":""}`, 1, 1, 0},
		{"redo", fold(edit("ab", "", 0), undo, redo), `{"title":"ab","note":""}`, 1, 0, 0},
		{"an edit ends redo", fold(edit("ab", "", 0), undo, edit("x", "", 1), redo), `{"title":"x","note":""}`, 1, 0,
			0},
		{"undo of nothing", fold(undo, redo), `{"title":"a","note":""}`, 0, 0, 0},
		{"theirs is taken in", fold(edit("ab", "", 0), theirs), `{"title":"ab","note":"theirs"}`, 1, 0, 0},
		{"undo keeps theirs", fold(edit("ab", "", 0), theirs, undo), `{"title":"a","note":"theirs"}`, 0, 1, 0},
		{"an old one is no news",
			fold(edit("ab", "", 0), `{"do":"theirs","base":{"title":"x","note":""},"version":2}`),
			`{"title":"ab","note":""}`, 1, 0, 0},
		{"they meet", fold(edit("ab", "", 0), meet), `{"title":"ab","note":""}`, 1, 0, 1},
		{"mine", fold(edit("ab", "", 0), meet, `{"do":"settle","path":["title"],"side":"mine"}`),
			`{"title":"ab","note":""}`,
			1, 0, 0},
		{"theirs", fold(edit("ab", "", 0), meet, `{"do":"settle","path":["title"],"side":"theirs"}`),
			`{"title":"theirs","note":""}`, 2, 0, 0},
		{"typed while it was saved", fold(edit("ab", "", 0), `{"do":"saved","sent":{"title":"a","note":""},`+
			`"base":{"title":"a","note":"stamped"},"version":4}`), `{"title":"ab","note":"stamped"}`, 0, 0, 0},
	}
	asked := make([]object, len(cases))
	for i := range cases {
		asked[i] = cases[i].of
	}
	for i, raw := range pure(t, asked) {
		var d struct {
			Now   json.RawMessage
			Past  []json.RawMessage
			Next  []json.RawMessage
			Meets []json.RawMessage
		}
		if err := json.Unmarshal(raw, &d); err != nil {
			t.Fatal(err)
		}
		c := cases[i]
		same(t, c.what, d.Now, c.now)
		if len(d.Past) != c.past || len(d.Next) != c.next || len(d.Meets) != c.meet {
			t.Errorf("%s: %d steps back, %d forth, %d meet", c.what, len(d.Past), len(d.Next), len(d.Meets))
		}
	}
	gone := pure(t, []object{fold(edit("ab", "", 0), `{"do":"saved","sent":{"title":"ab","note":""},`+
		`"base":{"title":"ab","note":""},"version":4}`), fold(edit("ab", "", 0), `{"do":"drop"}`)})
	same(t, "saved", gone[0], "null")
	same(t, "dropped", gone[1], "null")
}

// A bar of shares never holds more than all, and moves what a person moves.
func TestConsoleShares(t *testing.T) {
	const names = `["on","off","late"]`
	const eight = `{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[{"variant":"on","share":80000},{"goesOn":true,"share":920000}]}}`
	bar := func(on, off, late, left int, rest string) string {
		return fmt.Sprintf(`{"shares":[{"variant":"on","share":%d},{"variant":"off","share":%d},{"variant":"late",`+
			`"share":%d}],"rest":%q,"left":%d}`, on, off, late, rest, left)
	}
	two := func(on, late, left int) string {
		return fmt.Sprintf(
			`{"shares":[{"variant":"on","share":%d},{"variant":"late","share":%d}],"rest":"off","left":%d}`,
			on, late, left)
	}
	runPure(t, "draft/shares", []pureCase{
		{"one variant is all", "barOf", `[{"variant":"on"},` + names + `,""]`, bar(1_000_000, 0, 0, 0, "")},
		{"what rests takes all", "barOf", `[{"variant":"off"},` + names + `,"off"]`,
			two(0, 0, 1_000_000)},
		{"shares", "barOf", `[` + eight + `,` + names + `,""]`, bar(80_000, 0, 0, 920_000, "")},
		{"more", "setShare", `[` + bar(80_000, 0, 0, 920_000, "") + `,"on",300000]`, bar(300_000, 0, 0, 700_000, "")},
		{"more than is left", "setShare", `[` + bar(300_000, 600_000, 100_000, 0, "") + `,"on",500000]`,
			bar(500_000, 500_000, 0, 0, "")},
		{"more than all", "setShare", `[` + bar(0, 0, 0, 1_000_000, "") + `,"on",2000000]`,
			bar(1_000_000, 0, 0, 0, "")},
		{"less than nothing", "setShare", `[` + bar(80_000, 0, 0, 920_000, "") + `,"on",-5]`,
			bar(0, 0, 0, 1_000_000, "")},
		{"what is left is typed", "setShare", `[` + bar(300_000, 100_000, 0, 600_000, "") + `,"",200000]`,
			bar(600_000, 200_000, 0, 200_000, "")},
		{"of nothing", "setShare", `[` + bar(0, 0, 0, 1_000_000, "") + `,"",900000]`, bar(100_000, 0, 0, 900_000, "")},
		{"thirds stay whole", "setShare", `[` + bar(333_333, 333_333, 333_334, 0, "") + `,"",1]`,
			bar(333_333, 333_333, 333_333, 1, "")},
		{"an edge moves two", "moveEdge", `[` + bar(300_000, 100_000, 0, 600_000, "") + `,["on","off",""],0,200000]`,
			bar(200_000, 200_000, 0, 600_000, "")},
		{"an edge stops at the next", "moveEdge", `[` + bar(300_000, 100_000, 0, 600_000, "") +
			`,["on","off",""],0,900000]`,
			bar(400_000, 0, 0, 600_000, "")},
		{"the last edge", "moveEdge", `[` + bar(300_000, 100_000, 0, 600_000, "") + `,["on","off",""],1,350000]`,
			bar(300_000, 50_000, 0, 650_000, "")},
		{"the others get", "setRest", `[` + bar(300_000, 100_000, 0, 600_000, "") + `,"off",` + names + `]`,
			two(300_000, 0, 700_000)},
		{"and back", "setRest", `[` + two(300_000, 0, 700_000) + `,"",` + names + `]`,
			bar(300_000, 700_000, 0, 0, "")},
		{"written as it was read", "givesOf", `[` + bar(80_000, 0, 0, 920_000, "") + `,` + eight + `,` + names + `]`,
			`{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[{"variant":"on","share":80000,"ranges":[]},
			{"goesOn":true,"share":920000,"ranges":[]}]}}`},
		{"all of one is said so", "givesOf", `[` + bar(0, 1_000_000, 0, 0, "") + `,{"variant":"on"},` + names + `]`,
			`{"variant":"off"}`},
		{"units that are drawn keep their places", "givesOf", `[` + bar(1_000_000, 0, 0, 0, "") + `,` + eight + `,` +
			names + `]`,
			`{"shares":{"by":["site.id"],"salt":"s","hash":1,"parts":[{"variant":"on","share":1000000,"ranges":[]},
			{"goesOn":true,"share":0,"ranges":[]}]}}`},
	})
}

// The widths of the track are true, and what is there is seen.
func TestConsoleTrack(t *testing.T) {
	runPure(t, "draw/track", []pureCase{
		{"true widths", "stages", `[{"before":1000,"after":1000},[{"id":"a","takes":{"before":20,"after":80},"gets":[]},
			{"id":"end","takes":{"before":980,"after":920},"gets":[]}],100]`,
			`[{"id":"a","line":100,"wasLine":100,"next":92,"wasNext":98,"width":8,"was":2},
			{"id":"end","line":92,"wasLine":98,"next":0,"wasNext":0,"width":92,"was":98}]`},
		{"one of many is seen", "stages", `[{"before":20000,"after":20000},[{"id":"me","takes":{"before":0,"after":1},
			"gets":[]}],100]`, `[{"id":"me","line":100,"wasLine":100,"next":99.995,"wasNext":100,"width":2,"was":0}]`},
		{"nobody", "stages", `[{"before":0,"after":0},[{"id":"a","takes":{"before":0,"after":0},"gets":[]}],100]`,
			`[{"id":"a","line":0,"wasLine":0,"next":0,"wasNext":0,"width":0,"was":0}]`},
		{"parts of a branch", "bands", `[50,[{"variant":"on","part":600000},{"variant":"off","part":400000}]]`,
			`[{"variant":"on","from":0,"width":30},{"variant":"off","from":30,"width":20}]`},
		{"a thin part is seen", "bands", `[50,[{"variant":"on","part":100},{"variant":"off","part":999900}]]`,
			`[{"variant":"on","from":0,"width":2},{"variant":"off","from":2,"width":48}]`},
		{"parts of a hairline", "bands", `[2,[{"variant":"on","part":1},{"variant":"off","part":1}]]`,
			`[{"variant":"on","from":0,"width":1},{"variant":"off","from":1,"width":1}]`},
		{"a bend", "bend", `[100,8,20,10,130]`, `"M92 0H100V10A10 10 0 0 0 110 20H130V28H110A18 18 0 0 1 92 10Z"`},
		{"what is left goes on", "takenBy", `[1000,{"shares":{"parts":[{"variant":"on","share":80000},
			{"goesOn":true,"share":920000}]}}]`, `80`},
		{"totals", "platforms", `[["on","off"],[{"id":"a","takes":{"before":0,"after":100},"gets":[{"variant":"on","part":1},
			{"variant":"off","part":3}]},{"id":"end","takes":{"before":1000,"after":900},"gets":[{"variant":"off","part":1}]}]]`,
			`{"on":{"before":0,"after":25},"off":{"before":1000,"after":975}}`},
	})
}

// Percentages are read as people write them, exactly.
func TestConsolePercentages(t *testing.T) {
	var cases []pureCase
	for text, want := range map[string]string{"8": "80000", " 12,5 %": "125000", "12.5": "125000", "0.0001": "1",
		"100": "1000000", "100.1": "null", "-1": "null", "1.23456": "null", "": "null", "1.000,5": "null"} {
		cases = append(cases, pureCase{text, "parsePercent", fmt.Sprintf("[%q]", text), want})
	}
	runPure(t, "ui/percent", cases)
}

// The picture that goes into a ticket is a document by itself, whatever people wrote.
func TestConsolePicture(t *testing.T) {
	const picture = `{"title":"night-batching in <production>","sentence":"8 % of \"sites\" get on & all others get off.",
		"names":["on","off"],"total":1000,"branches":[{"id":"a","name":"First <sites>","says":"8 % of sites get on",
		"takes":{"before":80,"after":80},"gets":[{"variant":"on","part":1}]},{"id":"end","name":"end","says":"all others get off",
		"takes":{"before":920,"after":920},"gets":[{"variant":"off","part":1}]}],
		"totals":[{"variant":"on","units":80},{"variant":"off","units":920}]}`
	var svg string
	if err := json.Unmarshal(pure(t, []object{{"module": "draw/track-svg", "call": "trackSVG",
		"args": json.RawMessage("[" + picture + "]")}})[0], &svg); err != nil {
		t.Fatal(err)
	}
	read := xml.NewDecoder(strings.NewReader(svg))
	var said []string
	for {
		token, err := read.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("%v in %s", err, svg)
		}
		if text, is := token.(xml.CharData); is {
			said = append(said, string(text))
		}
	}
	for _, want := range []string{"night-batching in <production>", "First <sites>: 80", "off 920", "1,000 units"} {
		if !slices.Contains(said, want) {
			t.Errorf("it does not say %s: %v", want, said)
		}
	}
}

// A new rule takes nobody until it says whom, and has no id that the service did not give.
func TestConsoleRules(t *testing.T) {
	const empty = `{"key":"f","resting":"off","rules":[]}`
	const one = `{"key":"f","resting":"off","rules":[{"id":"new 1","name":"Rule 1","gives":{"variant":"on"},"saysNobody":true}]}`
	runPure(t, "draft/flag", []pureCase{
		{"it says nobody", "addRule", `[` + empty + `,["on","off"],"new 1"]`, one},
		{"it is not sent", "toSend", `[` + one + `]`, empty},
		{"it is named", "incomplete", `[` + one + `]`,
			`[{"id":"new 1","name":"Rule 1","gives":{"variant":"on"},"saysNobody":true}]`},
		{"all", "sayWhom", `[{"id":"new 1","name":"Rule 1","gives":{"variant":"on"},"saysNobody":true}]`,
			`{"id":"new 1","name":"Rule 1","gives":{"variant":"on"}}`},
		{"it keeps its id", "toSend", `[{"rules":[{"id":"new 1","name":"x"},{"id":"r7","name":"y"}]}]`,
			`{"rules":[{"id":"new 1","name":"x"},{"id":"r7","name":"y"}]}`},
		{"what was drawn to be shown is what is saved", "asTried", `[{"rules":[{"id":"a","gives":{"shares":{"by":["x"],"salt":"",
			"parts":[]}}}],"end":{"variant":"off"}},{"rules":[{"id":"a","gives":{"shares":{"salt":"s"}}}],"end":{"variant":"off"}}]`,
			`{"rules":[{"id":"a","gives":{"shares":{"by":["x"],"salt":"s","parts":[]}}}],"end":{"variant":"off"}}`},
		{"what is above the first", "moveRule", `[{"rules":[{"id":"a"},{"id":"b"}]},"a",-1]`,
			`{"rules":[{"id":"a"},{"id":"b"}]}`},
		{"down", "moveRule", `[{"rules":[{"id":"a"},{"id":"b"}]},"a",1]`, `{"rules":[{"id":"b"},{"id":"a"}]}`},
	})
}

// The course of a release: what was to the left of now at three quarters, what is planned to its right.
func TestConsoleCourse(t *testing.T) {
	const steps = `[{"at":0,"tell":"planned","is":"waiting","stage":-1,"share":0},
		{"at":1000,"tell":"began","is":"arriving","stage":0,"share":0},
		{"at":2000,"tell":"arrived","is":"under-way","stage":0,"share":0},
		{"at":62000,"tell":"stage","is":"arriving","stage":1,"share":80000}]`
	runPure(t, "draw/course", []pureCase{
		{"how it stood", "pieces", "[" + steps + ", 100000]", `[
			{"from":0,"to":1000,"is":"waiting","stage":-1,"share":0,"planned":false},
			{"from":1000,"to":2000,"is":"arriving","stage":0,"share":0,"planned":false},
			{"from":2000,"to":62000,"is":"under-way","stage":0,"share":0,"planned":false},
			{"from":62000,"to":100000,"is":"arriving","stage":1,"share":80000,"planned":false}]`},
		{"what was rolled back gives nothing", "pieces", `[[{"at":0,"tell":"rolled-back","is":"rolled-back","stage":2,
			"share":80000}], 10]`, `[{"from":0,"to":10,"is":"rolled-back","stage":2,"share":0,"planned":false}]`},
		{"what is planned", "ahead", `[[{"name":"a","share":80000,"least":60},{"name":"b","share":300000,"least":500},
			{"name":"c","share":1000000,"least":0}], 1, 200, 1000, 10]`, `[
			{"from":1000,"to":1200,"is":"under-way","stage":1,"share":300000,"planned":true},
			{"from":1200,"to":1210,"is":"under-way","stage":2,"share":1000000,"planned":true}]`},
		{"now is at three quarters", "axisOf", "[0, 300000, 0]", `{"from":0,"now":300000,"to":400000}`},
		{"a beginning has a minute", "axisOf", "[299000, 300000, 0]", `{"from":240000,"now":300000,"to":320000}`},
		{"one that is over ends near the edge", "axisOf", "[0, 96000, 96000]", `{"from":0,"now":96000,"to":100000}`},
		{"where something is", "place", `[{"from":0,"now":75,"to":100}, 25]`, "0.25"},
		{"round times", "ticks", `[{"from":500,"now":0,"to":16000}, 4, 0]`, "[5000,10000,15000]"},
		{"a moment that was", "at", `[[{"from":0,"to":10,"stage":0},{"from":10,"to":20,"stage":1}], 10]`,
			`{"from":10,"to":20,"stage":1}`},
		{"counts up to now", "line", `[{"from":0,"now":200,"to":400}, 0, 100, [5, 10, 0, 7, 7], 10]`,
			"[[0.125,0.5],[0.375,0],[0.625,1]]"},
		{"a span of counts", "spanFor", "[4000000]", `"6h"`},
		{"a length of time", "millis", `["2d12h"]`, "216000000"},
		{"said", "lasts", "[90061000]", `"1 d 1 h"`},
		{"said in short", "lasts", "[400]", `"a moment"`},
		{"initials", "initials", `["Ida Maria Holm"]`, `"IMH"`},
	})
}

// Which version is in use over time: each application for itself, its newest version on top.
func TestConsoleAdoption(t *testing.T) {
	lines := make([]object, 10)
	for i := range lines {
		lines[i] = object{"application": "door", "version": fmt.Sprintf("2.%d.0", i), "counts": []int{10, 0}}
	}
	many, _ := json.Marshal([]any{lines})
	runPure(t, "draw/adoption", []pureCase{
		{"none", "adoption", "[[]]", "[]"},
		{"two of one", "adoption", `[[{"application":"door","version":"2.10.0","counts":[0,0,3]},
			{"application":"door","version":"2.9.0","counts":[4,0,1]}]]`, `[{"application":"door","versions":[
			{"version":"2.9.0","stack":[[0,1],[0,0],[0,0.25]],"first":1,"last":0.25},
			{"version":"2.10.0","stack":[[1,1],[0,0],[0.25,1]],"first":0,"last":0.75}]}]`},
		{"nothing happened", "adoption", `[[{"application":"door","version":"2.9.0","counts":[0]}]]`,
			`[{"application":"door","versions":[{"version":"2.9.0","stack":[[0,0]],"first":0,"last":0}]}]`},
	})
	var all []struct {
		Versions []struct {
			Version string
			Last    float64
		}
	}
	got := pure(t, []object{{"module": "draw/adoption", "call": "adoption", "args": json.RawMessage(many)}})
	if err := json.Unmarshal(got[0], &all); err != nil {
		t.Fatal(err)
	}
	if v := all[0].Versions; len(v) != 8 || v[0].Version != "2.2.0 and older" || v[0].Last < .29 || v[0].Last > .31 {
		t.Errorf("of ten versions: %+v", v)
	}
}
