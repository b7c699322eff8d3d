package manage

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"path"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"
	"github.com/labstack/echo/v5"

	"greenlever.example/core/condition"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/stage"
	"greenlever.example/core/wire"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

func (a *API) openAPI(c *echo.Context) error {
	raw, err := OpenAPI()
	if err != nil {
		return err
	}
	return c.JSONBlob(http.StatusOK, raw)
}

var parameter = regexp.MustCompile(`:([a-z]+)`)

// OpenAPI makes the OpenAPI 3.1 document of the management API from the table of routes.
func OpenAPI() ([]byte, error) {
	s := &schemas{defs: map[string]any{}, types: map[string]reflect.Type{}}
	s.of(reflect.TypeFor[said]()) // named by the mapper below
	for _, r := range table {
		if r.raw == nil {
			s.of(r.out)
		}
	}
	s.answered = maps.Clone(s.defs)
	paths := map[string]map[string]any{}
	for _, r := range table {
		if r.raw != nil { // files and streams
			continue
		}
		at := "/api/v1" + parameter.ReplaceAllString(r.path, "{$1}")
		if paths[at] == nil {
			paths[at] = map[string]any{}
		}
		paths[at][strings.ToLower(r.method)] = s.operation(&r)
	}
	return json.Marshal(map[string]any{
		"openapi": "3.1.0",
		"info":    map[string]any{"title": "Green Lever management API", "version": "1"},
		"paths":   paths,
		"components": map[string]any{"schemas": s.defs, "securitySchemes": map[string]any{
			"token": map[string]any{"type": "http", "scheme": "bearer",
				"description": "a personal token, glt_..."}}},
		"security": []any{map[string]any{"token": []string{}}},
	})
}

// schemas gathers the named types. What is answered holds every member; of what is sent much may be
// left out, so a type that does both stands there twice.
type schemas struct {
	defs, answered map[string]any
	types          map[string]reflect.Type // by name
}

func (s *schemas) operation(r *route) map[string]any {
	params := []any{}
	add := func(in, name string, required bool) {
		params = append(params, map[string]any{"in": in, "name": name, "required": required,
			"schema": map[string]any{"type": "string"}})
	}
	for _, p := range parameter.FindAllStringSubmatch(r.path, -1) {
		add("path", p[1], true)
	}
	for _, q := range r.query {
		add("query", q, false)
	}
	if r.method != http.MethodGet {
		add("header", "Idempotency-Key", false)
	}
	if r.versioned {
		add("header", "If-Match", true)
	}
	json := func(t reflect.Type) map[string]any {
		return map[string]any{"application/json": map[string]any{"schema": s.of(t)}}
	}
	header := func(says string) map[string]any {
		return map[string]any{"description": says, "schema": map[string]any{"type": "string"}}
	}
	done := map[string]any{"description": "done", "content": json(r.out)}
	headers := map[string]any{}
	if r.versioned || r.out.Implements(reflect.TypeFor[interface{ version() int64 }]()) ||
		reflect.PointerTo(r.out).Implements(reflect.TypeFor[interface{ version() int64 }]()) {
		headers["ETag"] = header("the version, for If-Match")
	}
	if r.located {
		headers["Location"] = header("the address of what was made")
	}
	if len(headers) > 0 {
		done["headers"] = headers
	}
	responses := map[string]any{strconv.Itoa(r.status): done}
	if r.changes && strings.HasPrefix(r.path, atProject) {
		responses["202"] = map[string]any{"description": "proposed, where propose says so",
			"content": json(reflect.TypeFor[app.Proposal]())}
	}
	problem := func(status, says string) {
		responses[status] = map[string]any{"description": says,
			"content": map[string]any{"application/problem+json": map[string]any{
				"schema": s.of(reflect.TypeFor[Problem]())}}}
	}
	problem("default", "a problem document (RFC 9457)")
	problem("400", "what was sent cannot be taken; fields says where and how to mend it")
	if !r.open {
		problem("401", "nobody is signed in, or the token is no good")
		problem("403", "the right is missing")
	}
	if strings.Contains(r.path, ":") {
		problem("404", "there is nothing of that name")
	}
	if r.method != http.MethodGet {
		problem("409", "it cannot be done as things stand")
	}
	if r.versioned {
		problem("412", "it was changed meanwhile; present is how it stands")
		problem("428", "If-Match is missing")
	}
	op := map[string]any{"operationId": operationID(r.method, r.path), "summary": r.says, "parameters": params,
		"responses": responses}
	if r.in != reflect.TypeFor[none]() {
		op["requestBody"] = map[string]any{"required": true,
			"content": map[string]any{"application/json": map[string]any{"schema": s.sent(r.in)}}}
	}
	if r.open {
		op["security"] = []any{}
	}
	return op
}

// said is how [words.Said] is written.
type said struct {
	// plainly, names of variants between backticks and what people wrote in quotes
	Text   string        `json:"text"`
	Tokens []words.Token `json:"tokens"` // for whoever prints them in a way of its own
}

// operationID names an operation after what it does where: getProjectsProjectFlags.
func operationID(method, path string) string {
	id := strings.ToLower(method)
	for _, part := range strings.FieldsFunc(path, func(r rune) bool { return r == '/' || r == ':' || r == '-' }) {
		id += strings.ToUpper(part[:1]) + part[1:]
	}
	return id
}

// Problem is an error as it is answered.
type Problem struct {
	Type   string         `json:"type"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail"`
	Fields []flag.Problem `json:"fields,omitempty"`
}

// of gives a schema of the type, with its named parts among the components.
func (s *schemas) of(t reflect.Type) any {
	r := jsonschema.Reflector{Anonymous: true, AllowAdditionalProperties: true, Namer: s.name,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[words.Said]() {
				return &jsonschema.Schema{Ref: "#/$defs/Said"}
			}
			if t == reflect.TypeFor[json.RawMessage]() {
				return &jsonschema.Schema{Description: "any JSON value"}
			}
			if t == reflect.TypeFor[stage.Span]() {
				return &jsonschema.Schema{Type: "string", Description: "a length of time, such as 30m, 4h or 2d12h"}
			}
			if values := named[t]; values != nil {
				return &jsonschema.Schema{Type: "string", Enum: values}
			}
			return nil
		}}
	raw, err := json.Marshal(r.ReflectFromType(t))
	if err != nil {
		panic(err) // types of ours
	}
	raw = []byte(strings.ReplaceAll(string(raw), `"#/$defs/`, `"#/components/schemas/`))
	var schema map[string]any
	if err := json.Unmarshal(raw, &schema); err != nil {
		panic(err)
	}
	defs, _ := schema["$defs"].(map[string]any)
	for name, def := range defs {
		s.defs[name] = def
	}
	if node, ok := s.defs["Node"].(map[string]any); ok {
		node["properties"].(map[string]any)["test"] = map[string]any{"type": "string", "enum": condition.Tests()}
	}
	delete(schema, "$defs")
	delete(schema, "$schema")
	return schema
}

// sent is a schema of what is sent. Types that are answered too have a second form there, in which
// nothing must be given: the service says itself what it misses.
func (s *schemas) sent(t reflect.Type) any {
	before := maps.Clone(s.defs)
	clear(s.defs)
	schema := s.of(t)
	raw, err := json.Marshal(map[string]any{"schema": schema, "defs": s.defs})
	if err != nil {
		panic(err) // types of ours
	}
	text := string(raw)
	for name := range s.defs {
		if s.answered[name] != nil {
			text = strings.ReplaceAll(text, `"#/components/schemas/`+name+`"`, `"#/components/schemas/`+name+`Sent"`)
		}
	}
	var out struct {
		Schema any
		Defs   map[string]map[string]any
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		panic(err)
	}
	s.defs = before
	for name, def := range out.Defs {
		if s.answered[name] != nil {
			name += "Sent"
			delete(def, "required")
		}
		s.defs[name] = def
	}
	if body, ok := reflect.Zero(t).Interface().(interface{ must() []string }); ok {
		s.defs[s.name(t)].(map[string]any)["required"] = body.must()
	}
	return out.Schema
}

// named are the types whose values are a few words.
var named = map[reflect.Type][]any{
	reflect.TypeFor[flag.Type]():         anys(flag.Types()),
	reflect.TypeFor[flag.Lever]():        {flag.On, flag.Off},
	reflect.TypeFor[flag.OnUnknown]():    {"", flag.Apply, flag.Skip},
	reflect.TypeFor[lint.Type]():         anys(lint.Types()),
	reflect.TypeFor[sample.Derivation](): {sample.Nothing, sample.Presence, sample.Domain, sample.Resolved},
	reflect.TypeFor[app.Role]():          anys(app.Roles()),
	reflect.TypeFor[app.Action]():        anys(app.Actions()),
	reflect.TypeFor[app.KeyKind]():       {app.ServiceKey, app.BrowserKey, app.IngestKey},
	reflect.TypeFor[stage.Is]():          anys(stage.All()),
	reflect.TypeFor[stage.Do]():          anys(append(stage.Deeds(), stage.Started)),
	reflect.TypeFor[stage.Then]():        {"", stage.ThenHold, stage.ThenAsk, stage.ThenBack},
	reflect.TypeFor[stage.Until]():       {stage.NoHarm, stage.UntilClear},
	reflect.TypeFor[evidence.Kind]():     {evidence.Rate, evidence.Typical, evidence.Mean, evidence.High},
	reflect.TypeFor[evidence.Reaction](): append(anys(evidence.Reactions()), ""),
	reflect.TypeFor[evidence.Verdict]():  {evidence.Harm, evidence.Clear, evidence.Undecided},
	reflect.TypeFor[evidence.Reduce](): {"", evidence.Any, evidence.First, evidence.Sum, evidence.MeanOf,
		evidence.GreatestOf},
	reflect.TypeFor[wire.Kind](): {wire.AnApplication, wire.AnOutpost, wire.ANode},
	reflect.TypeFor[words.Kind](): {"", words.AVariant, words.AnAttribute, words.AValue, words.AUnit,
		words.AName, words.AKey, words.ANumber, words.ATime},
}

func anys[T any](all []T) (out []any) {
	for _, one := range all {
		out = append(out, one)
	}
	return out
}

var generic = regexp.MustCompile(`^listOf\[(?:.*\.)?(\w+)\]$`)

// nouns are what the types of the use cases are of: keys.Made is a MadeKey to the outside.
var nouns = map[string]string{"flags": "Flag", "segments": "Segment", "keys": "Key", "seeas": "SeeAs",
	"testunits": "TestUnits",
	"recipes":   "Recipes", "plans": "Plan", "folder": "Folder", "bundles": "Bundle", "scans": "Scan",
	"stage": "Release", "releases": "Release", "ladders": "Ladder", "metrics": "Metric",
	"evidence": "Evidence",
	"webhooks": "Webhook", "tripwires": "Tripwire", "proposals": "Proposal", "merge": "Merge", "policies": "Policy",
	"calendar": "Calendar", "calendars": "CalendarAddress",
	"roles": "Roles", "sampling": "Sampling", "environments": "Environment", "attributes": "Attribute"}

// name names a type in the document. Two types of one name would be taken for one, so there
// may be none.
func (s *schemas) name(t reflect.Type) string {
	name := typeName(t)
	if t == reflect.TypeFor[words.Said]() || named[t] != nil { // which stand there in another form: see of
		return name
	}
	if other := s.types[name]; name != "" && other != nil && other != t {
		panic(fmt.Sprintf("%v and %v are both called %s in the document: add to nouns", other, t, name))
	}
	s.types[name] = t
	return name
}

func typeName(t reflect.Type) string {
	name := t.Name()
	if name == "" {
		return ""
	}
	if m := generic.FindStringSubmatch(name); m != nil {
		name = m[1] + "List"
	}
	switch t.PkgPath() {
	case "greenlever.example/core/flag":
		if name == "Problem" { // an error's, beside the API's own
			name = "FieldProblem"
		}
	case "greenlever.example/core/words":
		if name == "Token" { // a person's are another thing
			name = "SaidToken"
		}
	case "greenlever.example/greenlever/internal/app/audit":
		name = "Audit" + name
	}
	if of, is := nouns[path.Base(t.PkgPath())]; is && !strings.HasSuffix(name, of) && name != "MakeProject" {
		name += of
	}
	return strings.ToUpper(name[:1]) + name[1:]
}
