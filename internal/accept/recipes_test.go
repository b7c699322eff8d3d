package accept

import (
	"strings"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/gltest"
)

func TestRecipesFillInNewFlags(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	const at = "/projects/pinecrest"
	var list struct{ Items []app.Recipe }
	keys := func() string {
		t.Helper()
		list.Items = nil
		s.Keeper.Do(t, "GET", at+"/recipes", nil, 200, &list)
		var all []string
		for _, r := range list.Items {
			all = append(all, r.Key)
		}
		return strings.Join(all, " ")
	}
	if got := keys(); got != "step-by-step side-by-side switch" || !list.Items[0].Shipped {
		t.Errorf("a new project has %s", got)
	}
	var d app.Definition
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "night-batching", "recipe": "step-by-step", "reason": "test"},
		201,
		&d)
	if in := time.Now().AddDate(0, 3, 0).UTC().Format(time.DateOnly); d.GoneBy != in || d.Resting != "off" ||
		d.End != "off" || len(d.Variants) != 2 {
		t.Errorf("step by step makes %+v", d)
	}
	// What the recipe wants is asked for, all of it at once.
	var problem struct {
		Fields []struct{ Place, Mend string }
	}
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "weather-holds", "recipe": "switch", "reason": "test"}, 400,
		&problem)
	if len(problem.Fields) != 2 || problem.Fields[0].Place != "owners" || problem.Fields[1].Place != "loses" {
		t.Errorf("a switch asks for %+v", problem.Fields)
	}
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "weather-holds", "recipe": "switch",
		"owners": []string{"rounds"},
		"loses":  "yesterday's table", "reason": "test"}, 201, &d)
	var view struct {
		Document struct {
			End struct{ Variant string }
		}
	}
	s.Keeper.Do(t, "GET", inProd+"/flags/weather-holds", nil, 200, &view)
	if d.GoneBy != "stays" || view.Document.End.Variant != "on" || d.Loses != "yesterday's table" {
		t.Errorf("a switch makes %+v, its end %+v", d, view)
	}
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "x", "recipe": "nothing", "goneBy": "stays", "reason": "test"},
		400,
		&problem)
	if len(problem.Fields) != 1 || !strings.Contains(problem.Fields[0].Mend, "step-by-step, side-by-side, switch") {
		t.Errorf("an unknown recipe: %+v", problem)
	}
	// A project owns its recipes: those that ship too.
	mine := list.Items[0]
	mine.Title, mine.Months = "Our way", 1
	s.Keeper.Do(t, "PUT", at+"/recipes/step-by-step", object{"recipe": mine, "reason": "test"}, 200, nil)
	mine.Title = "For a week"
	s.Keeper.Do(t, "PUT", at+"/recipes/short", object{"recipe": mine, "reason": "test"}, 200, nil)
	s.Keeper.Do(t, "POST", at+"/recipes/side-by-side/remove", object{"reason": "test"}, 200, nil)
	if got := keys(); got != "step-by-step switch short" || list.Items[0].Title != "Our way" || list.Items[0].Shipped {
		t.Errorf("the project has %s, %+v", got, list.Items[0])
	}
	s.Keeper.Do(t, "POST", at+"/recipes/side-by-side/remove", object{"reason": "test"}, 404, nil)
	mine.Resting = "nothing"
	s.Keeper.Do(t, "PUT", at+"/recipes/short", object{"recipe": mine, "reason": "test"}, 400, &problem)
	if problem.Fields[0].Place != "recipe.resting" {
		t.Errorf("a recipe that cannot stand: %+v", problem)
	}
	var report struct{ Findings []struct{ What string } }
	s.Keeper.Do(t, "GET", at+"/verify", nil, 200, &report)
	if len(report.Findings) > 0 {
		t.Errorf("not sound: %+v", report)
	}
}

// A flag may begin as a copy: with the rules of another, off, and its shares drawn anew.
func TestFlagsAreCopied(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	const at = "/projects/pinecrest"
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "one-touch-open", "goneBy": "2027-03-31",
		"owners": []string{"doors"},
		"reason": "test"}, 201, nil)
	type part struct {
		Variant string `json:"variant,omitempty"`
		GoesOn  bool   `json:"goesOn,omitempty"`
		Share   int    `json:"share"`
	}
	var of, copy struct {
		Version  int64
		Document struct {
			Lever string
			Rules []struct {
				ID, Name string
				Gives    struct {
					Shares struct {
						Salt  string
						Parts []part
					}
				}
			}
		}
	}
	s.Keeper.With("If-Match", "1").Do(t, "PUT", inProd+"/flags/one-touch-open",
		object{"document": object{"lever": "on",
			"resting": "off", "end": object{"variant": "off"},
			"rules": []object{{"name": "Everybody", "gives": object{"shares": object{
				"by": []string{"targetingKey"}, "parts": []part{{Variant: "on", Share: 80_000}, {GoesOn: true,
					Share: 920_000}}}}}}}, "reason": "test"}, 200, nil)
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "handover-photo", "copyOf": "one-touch-open", "reason": "test"},
		201,
		nil)
	s.Keeper.Do(t, "GET", inProd+"/flags/one-touch-open", nil, 200, &of)
	s.Keeper.Do(t, "GET", inProd+"/flags/handover-photo", nil, 200, &copy)
	a, b := of.Document.Rules[0], copy.Document.Rules[0]
	if copy.Document.Lever != "off" || b.Name != a.Name || b.ID == a.ID ||
		b.Gives.Shares.Salt == a.Gives.Shares.Salt ||
		len(b.Gives.Shares.Parts) != 2 || b.Gives.Shares.Parts[0].Share != 80_000 {
		t.Errorf("of %+v the copy is %+v", of, copy)
	}
	var problem struct {
		Fields []struct{ Place, Mend string }
	}
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "x", "copyOf": "one-touch-open", "type": "string",
		"reason": "test"},
		400, &problem)
	if len(problem.Fields) != 1 || problem.Fields[0].Place != "variants" {
		t.Errorf("a copy of another type: %+v", problem)
	}
	s.Keeper.Do(t, "POST", at+"/flags", object{"key": "x", "copyOf": "nothing", "reason": "test"}, 400, &problem)
	if problem.Fields[0].Place != "copyOf" {
		t.Errorf("a copy of nothing: %+v", problem)
	}
}
