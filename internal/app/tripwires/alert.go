package tripwires

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"greenlever.example/greenlever/internal/app"
)

// most is how many steps an expression may take on one alert.
const most = 20_000

var env = func() *cel.Env {
	e, err := cel.NewEnv(cel.Variable("alert", cel.DynType))
	if err != nil {
		panic(err) // the declarations are constant
	}
	return e
}()

// compile reads an expression that gives a type.
func compile(text string, gives *cel.Type) (cel.Program, error) {
	if text == "" {
		return nil, nil
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		return nil, fmt.Errorf("%s", strings.Join(strings.Fields(err.Error()), " "))
	}
	if t := ast.OutputType(); !t.IsExactType(gives) && !t.IsExactType(cel.DynType) {
		return nil, fmt.Errorf("gives %s, and must give %s", t, gives)
	}
	return env.Program(ast, cel.CostLimit(most), cel.EvalOptions(cel.OptOptimize))
}

// Reader reads alerts as a tripwire says.
type Reader struct {
	when, identity, over cel.Program
}

// NewReader compiles a tripwire's expressions. The error names the field.
func NewReader(w *app.Tripwire) (*Reader, error) {
	r := &Reader{}
	for _, one := range []struct {
		place, text string
		gives       *cel.Type
		into        *cel.Program
	}{{"when", w.When, cel.BoolType, &r.when}, {"identity", w.Identity, cel.StringType, &r.identity},
		{"over", w.Over, cel.BoolType, &r.over}} {
		p, err := compile(one.text, one.gives)
		if err != nil {
			return nil, app.InvalidField("tripwire."+one.place, "%v", err)
		}
		*one.into = p
	}
	return r, nil
}

// Alert is a body as a tripwire reads it.
type Alert struct {
	Meant    bool   `json:"meant"` // the tripwire is for it
	Over     bool   `json:"over"`  // it says that the alert is over
	Identity string `json:"identity"`
	Title    string `json:"title,omitempty"`
	Link     string `json:"link,omitempty"`
}

// Digest is by what the alert is known again.
func (a *Alert) Digest() string {
	sum := sha256.Sum256([]byte(a.Identity))
	return hex.EncodeToString(sum[:16])
}

// Read reads a body. What cannot be judged stops nothing: it is an error.
func (r *Reader) Read(body []byte) (*Alert, error) {
	var alert any
	if err := json.Unmarshal(body, &alert); err != nil {
		return nil, app.InvalidField("body", "is no JSON: %v", err)
	}
	out := &Alert{Meant: true, Title: title(alert), Link: link(alert)}
	given := map[string]any{"alert": alert}
	if r.when != nil {
		v, _, err := r.when.Eval(given)
		if err != nil {
			return nil, app.InvalidField("when", "cannot be judged of this body: %v", err)
		}
		if v != types.True && v != types.False {
			return nil, app.InvalidField("when", "gives %s of this body, and no truth", v.Type().TypeName())
		}
		out.Meant = v == types.True
	}
	if r.over != nil {
		v, _, err := r.over.Eval(given)
		if err != nil {
			return nil, app.InvalidField("over", "cannot be judged of this body: %v", err)
		}
		out.Over = v == types.True
	}
	out.Over = out.Over || over(alert)
	if r.identity != nil {
		v, _, err := r.identity.Eval(given)
		if err != nil {
			return nil, app.InvalidField("identity", "cannot be told of this body: %v", err)
		}
		text, err := v.ConvertToNative(reflect.TypeFor[string]())
		if err != nil {
			return nil, app.InvalidField("identity", "gives %s of this body, and no text", v.Type().TypeName())
		}
		out.Identity = text.(string)
	}
	return out, nil
}

// Alerts come in any form: members are sought by what they are usually called, in the body itself first, then in what
// it holds, and not deeper than this.
const deepest = 3

var (
	states = []string{"status", "state", "action"}
	ends   = []string{"resolved", "ok", "normal", "recovered", "closed", "cleared", "over", "ended"}
	titles = []string{"title", "subject", "summary", "name", "message"}
	inside = []string{"data", "alert", "event", "incident"} // what a body is about, where it wraps it
)

// over tells whether a body says that its alert is over: itself, what it wraps, or each of a list of alerts in it.
func over(alert any) bool {
	body, is := alert.(map[string]any)
	if !is {
		return false
	}
	for key, v := range body {
		text, is := v.(string)
		if is && slices.Contains(states, strings.ToLower(key)) && slices.Contains(ends, strings.ToLower(text)) {
			return true
		}
	}
	for key, v := range body {
		if slices.Contains(inside, strings.ToLower(key)) && over(v) {
			return true
		}
	}
	all, is := body["alerts"].([]any)
	return is && len(all) > 0 && !slices.ContainsFunc(all, func(a any) bool { return !over(a) })
}

// maxText is how long a title or a link of an alert may be in the records.
const maxText = 300

// title is what a body calls its alert.
func title(alert any) string {
	for _, name := range titles {
		if found := first(alert, deepest, func(key, _ string) bool { return key == name }); found != "" {
			return found
		}
	}
	return ""
}

// link is an address in a body, where people look at its alert.
func link(alert any) string {
	return first(alert, deepest, func(key, text string) bool {
		u, err := url.Parse(text)
		return (strings.HasSuffix(key, "url") || strings.HasSuffix(key, "link")) && err == nil && u.Host != "" &&
			(u.Scheme == "https" || u.Scheme == "http")
	})
}

// first finds the first text that is right, by its member's name in small letters: in a body itself before what it
// holds, and in the order of names, so that the same body is always read alike.
func first(of any, deep int, right func(key, text string) bool) string {
	var within []any
	switch of := of.(type) {
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(of)) {
			text, is := of[key].(string)
			if is && app.CheckText(text, 1, maxText) == "" && right(strings.ToLower(key), text) {
				return text
			}
			within = append(within, of[key])
		}
	case []any:
		within = of[:min(len(of), 1)] // the first of several alerts
	}
	if deep == 1 {
		return ""
	}
	for _, one := range within {
		if found := first(one, deep-1, right); found != "" {
			return found
		}
	}
	return ""
}
