package files

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/policy"
)

const whole = `release: night-batching
environment: production
from: off
to: on
beside: [later]
by: [site.id]
where: version(firmware) >= version("4.2.0")
begin: 2026-12-01T08:00:00+01:00
hours: {days: [mon, tue], from: "08:00", to: "16:00", zone: Europe/Oslo}
delivery: {percent: 95, wait: 5m}
stages:
  - name: staff
    who: inSegment("staff")
    least: 1d
  - name: 8 %
    share: 8 %
    units: 40
    longest: 3d
    late: ask
    signOff: [releaser, keeper]
    declined: roll-back
  - {name: 100 %, share: 100 %}
expected: shorter rounds
because: it is time
`

func TestReadRelease(t *testing.T) {
	r, err := ReadRelease([]byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	s := r.Start
	if r.Flag != "night-batching" || s.From != "off" || s.To != "on" || s.Beside[0] != "later" || s.Where.Test != "version.at-least" ||
		s.Begin != 1_796_108_400_000 || s.Delivery != (stage.Delivery{Percent: 95, Wait: 300_000}) ||
		len(s.Stages) != 3 || s.Stages[0].Who.Segment != "staff" || s.Stages[0].Least != 86_400_000 {
		t.Errorf("read %+v", s)
	}
	want := stage.Stage{Name: "8 %", Share: 80_000, Units: 40, Longest: 3 * 86_400_000, Late: stage.ThenAsk,
		SignOff: []string{"releaser", "keeper"}, Declined: stage.ThenBack}
	if !reflect.DeepEqual(s.Stages[1], want) {
		t.Errorf("a stage is %+v", s.Stages[1])
	}
}

// What is written is read as the same release, and written again byte for byte.
func TestReleaseRoundTrip(t *testing.T) {
	r, err := ReadRelease([]byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	s := r.Start
	rel := &app.Release{Flag: r.Flag, Expected: r.Expected, Reason: r.Because, State: stage.State{Plan: stage.Plan{
		From: s.From, To: s.To, Beside: s.Beside, By: s.By, Where: s.Where, Stages: s.Stages, Begin: s.Begin, Hours: s.Hours,
		Delivery: s.Delivery}}}
	first, err := WriteRelease(rel, "production")
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadRelease(first)
	if err != nil {
		t.Fatalf("%v in\n%s", err, first)
	}
	a, _ := json.Marshal(r.Start)
	b, _ := json.Marshal(again.Start)
	if string(a) != string(b) {
		t.Errorf("read\n%s\nwritten and read\n%s", a, b)
	}
	second, err := WriteRelease(rel, "production")
	if err != nil || string(first) != string(second) {
		t.Errorf("written twice:\n%s\n%s", first, second)
	}
}

func TestLadderRoundTrip(t *testing.T) {
	for _, l := range app.ShippedLadders() {
		raw, err := WriteLadder(&l)
		if err != nil {
			t.Fatal(err)
		}
		back, err := ReadLadder(raw)
		if err != nil {
			t.Fatalf("%v in\n%s", err, raw)
		}
		back.Shipped = true
		if !reflect.DeepEqual(*back, l) {
			t.Errorf("%s comes back as\n%+v", raw, back)
		}
	}
}

// Each thing that is wrong is named with its line and its mend.
func TestWrongFiles(t *testing.T) {
	for text, says := range map[string]string{
		"":                         "empty",
		"release: x\nsteps: 3\n":   "line 2",
		"release: x\nstages: []\n": "line 2, column 9: stages",
		"release: x\nrelease: y\n": "line 2, column 1: the file: release stands twice",
		"release: &a x\nto: *a\n":  "aliases are not taken",
		"release: x\nstages:\n- name: a\n  share: 8\n":              "line 4, column 10: stages[0].share",
		"release: x\nstages:\n- name: a\n  share: 8..1 %\n":         "line 4, column 10: stages[0].share",
		"release: x\nstages:\n- name: a\n  who: role = 3\n":         "line 4, column 8: stages[0].who",
		"release: x\nstages:\n- name: a\n  least: soon\n":           "line 4, column 10: stages[0].least",
		"release: x\nstages:\n- name: a\n  late: weep\n":            "line 4, column 9: stages[0].late",
		"release: x\nbegin: tomorrow\n":                             "line 2, column 8: begin",
		"release: x\nwhere:\n":                                      "line 2, column 7: where: has no value",
		"release: [x\n":                                             "line",
		"release: x\nstages:\n- name: a\n  signOff: [everybody]\n":  "line 4, column 13: stages[0].signOff[0]",
		"release: x\nstages:\n- name: a\n  share: 8 %\n  colour: 1": "line 5, column 3: stages[0].colour",
	} {
		_, err := ReadRelease([]byte(text))
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, and was to say %s", text, err, says)
		}
	}
}

// Every recipe that ships is written, and read as it was; a wrong one names the place.
func TestRecipeRoundTrip(t *testing.T) {
	for _, r := range app.ShippedRecipes() {
		raw, err := WriteRecipe(&r)
		if err != nil {
			t.Fatal(err)
		}
		r.Shipped = false
		if back, err := ReadRecipe(raw); err != nil || !reflect.DeepEqual(back, &r) {
			t.Errorf("%s\nwas read as %+v, %v", raw, back, err)
		}
	}
	_, err := ReadRecipe([]byte("recipe: x\ntitle: X\nvariants:\n  - {name: on, value: true}\n  - {nam: off, value: false}\n" +
		"resting: off\nend: off\n"))
	if err == nil || !strings.Contains(err.Error(), "line 5") {
		t.Errorf("a wrong name: %v", err)
	}
}

// Every policy of the library is written, and read as it was; a wrong one names the place.
func TestPolicyRoundTrip(t *testing.T) {
	for _, p := range policy.Library() {
		raw, err := WritePolicy(&p)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := ReadPolicy(raw); err != nil || !reflect.DeepEqual(back, &p) {
			t.Errorf("%s\nwas read as %+v, %v", raw, back, err)
		}
	}
	_, err := ReadPolicy([]byte("policy: x\ntitle: X\njudges: [flag]\nwhen: 'true'\noutcome: forbid\nmend: no\n"))
	if err == nil || !strings.Contains(err.Error(), "line 5") {
		t.Errorf("a wrong outcome: %v", err)
	}
}
