package wire

import (
	"bytes"
	"encoding/json"
	"os"
	"reflect"
	"strings"
	"testing"
)

// What is written is what stands in testdata, byte for byte, and is read again as it was. Every
// member is there with a value, so that none changes its name unseen.
func TestGolden(t *testing.T) {
	for name, into := range map[string]any{"report": new(Report), "answer": new(Answer), "beat": new(Beat),
		"beat-of-another-history": new(Beat)} {
		raw, err := os.ReadFile("testdata/" + name + ".json")
		if err != nil {
			t.Fatal(err)
		}
		dec := json.NewDecoder(bytes.NewReader(raw))
		dec.DisallowUnknownFields()
		if err := dec.Decode(into); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var want bytes.Buffer
		if err := json.Compact(&want, raw); err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(into)
		if err != nil || string(got) != want.String() {
			t.Errorf("%s is written as\n%s\nand was\n%s (%v)", name, got, want.String(), err)
		}
		if !strings.HasPrefix(name, "beat") {
			full(t, name, reflect.ValueOf(into).Elem())
		}
	}
}

// full finds members without a value.
func full(t *testing.T, place string, v reflect.Value) {
	t.Helper()
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			full(t, place, v.Elem())
			return
		}
	case reflect.Struct:
		if v.Type().PkgPath() != reflect.TypeFor[Report]().PkgPath() {
			return
		}
		for i := range v.NumField() {
			if strings.HasSuffix(place, "Follower") && v.Type().Field(i).Name == "Status" {
				continue // as above
			}
			full(t, place+"."+v.Type().Field(i).Name, v.Field(i))
		}
		return
	case reflect.Slice:
		if v.Len() > 0 {
			if v.Type().Elem().Kind() == reflect.Struct {
				full(t, place+" "+v.Type().Elem().Name(), v.Index(0))
			}
			return
		}
	}
	if v.IsZero() {
		t.Errorf("%s has no value in the golden file", place)
	}
}

// A reader leaves out what it does not know: a newer process may say more.
func TestMoreIsLeftOut(t *testing.T) {
	var r Report
	err := json.Unmarshal(
		[]byte(`{"instance":"i","sequence":3,"mood":"good","counts":[{"flag":"a","count":2,"colour":"red"}]}`), &r)
	if err != nil || r.Sequence != 3 || r.Counts[0].Count != 2 {
		t.Errorf("%+v %v", r, err)
	}
}
