// Package snippet writes the few lines that ask for a flag from code, for several
// languages and protocols, filled in with its key, type, variants and fallback.
//
//	for _, s := range snippet.For(doc, "https://flags.pinecrest.example") {
//		fmt.Println(s.Name, s.Code)
//	}
package snippet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"greenlever.example/core/flag"
)

// Snippet is code that asks for a flag.
type Snippet struct {
	Name     string `json:"name"` // such as "Go"
	Language string `json:"language"`
	Code     string `json:"code"`
}

// Attribute is one that the flag looks at, with the kind of its values: string, number,
// boolean or list.
type Attribute struct{ Name, Kind string }

// For writes all snippets for a flag that looks at attributes. The fallback is the resting
// variant's value.
func For(d *flag.Document, by []Attribute, url string) []Snippet {
	fallback := compact(d.Variants[d.Resting])
	return []Snippet{
		{"Go", "go", goCode(d, fallback, by)},
		{"Go, in a scope", "go", handle(d, fallback)},
		{"Browser", "html", browser(d, fallback, url)},
		{"OpenFeature", "javascript", openFeature(d, fallback, by)},
		{"HTTP", "shell", curl(d, url, by)},
	}
}

func compact(raw json.RawMessage) string {
	var b bytes.Buffer
	if json.Compact(&b, raw) != nil {
		return "null"
	}
	return b.String()
}

// comment lists the variants, so that code says what may come.
func comment(d *flag.Document, sign string) string {
	var lines []string
	for _, name := range d.VariantNames() {
		lines = append(lines, fmt.Sprintf("%s %s: %s", sign, name, compact(d.Variants[name])))
	}
	return strings.Join(lines, "\n") + "\n"
}

func goCode(d *flag.Document, fallback string, by []Attribute) string {
	unit := "unit := greenlever.Unit(id"
	for _, a := range by {
		make := map[string]string{"number": "Number", "boolean": "Bool", "list": "List"}[a.Kind]
		if make == "" {
			make = "String"
		}
		spread := map[bool]string{true: "..."}[a.Kind == "list"]
		unit += fmt.Sprintf(", greenlever.%s(%q, %s%s)", make, a.Name, goName(a.Name), spread)
	}
	unit += ")\n"
	switch d.Type {
	case flag.Boolean:
		return comment(d, "//") + unit + fmt.Sprintf("if flags.Bool(ctx, %q, unit, %s) {\n\t// ...\n}", d.Key,
			fallback)
	case flag.String:
		return comment(d, "//") + unit + fmt.Sprintf("value := flags.String(ctx, %q, unit, %s)", d.Key, fallback)
	case flag.Number:
		return comment(d, "//") + unit + fmt.Sprintf("value := flags.Number(ctx, %q, unit, %s)", d.Key, fallback)
	}
	return comment(d, "//") + "fallback := map[string]any{} // or a type of your own\n" + unit +
		fmt.Sprintf("value := greenlever.Object(ctx, flags, %q, unit, fallback)", d.Key)
}

// handle keeps key, type and fallback in one place.
func handle(d *flag.Document, fallback string) string {
	name := strings.ToUpper(d.Key[:1]) + goName(d.Key[1:])
	make := map[flag.Type]string{flag.Boolean: "NewBoolFlag", flag.String: "NewStringFlag",
		flag.Number: "NewNumberFlag", flag.Object: "NewObjectFlag[map[string]any]"}[d.Type]
	if d.Type == flag.Object {
		fallback = "nil"
	}
	return comment(d, "//") + fmt.Sprintf("var %s = greenlever.%s(%q, %s)\n\nvalue := %s.In(greenlever.ScopeOf(ctx))",
		name, make, d.Key, fallback, name)
}

// goName makes a variable's name of an attribute's.
func goName(name string) string {
	var b strings.Builder
	upper := false
	for _, r := range name {
		switch {
		case r == '.' || r == '_' || r == '-' || r == ' ':
			upper = b.Len() > 0
		case upper:
			b.WriteString(strings.ToUpper(string(r)))
			upper = false
		default:
			b.WriteRune(r)
		}
	}
	if last, is := strings.CutSuffix(b.String(), "Id"); is {
		return last + "ID"
	}
	return b.String()
}

func context(by []Attribute) string {
	parts := []string{`"targetingKey": "recipient-17"`}
	for _, a := range by {
		value := map[string]string{"number": "0", "boolean": "true", "list": `["…"]`}[a.Kind]
		if value == "" {
			value = `"…"`
		}
		parts = append(parts, fmt.Sprintf("%q: %s", a.Name, value))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// browser asks with the client for browsers: an access key of kind browser gets answers only.
func browser(d *flag.Document, fallback, url string) string {
	note := ""
	if !d.Visible {
		note = "// This flag is not visible to browsers yet: its definition says so.\n"
	}
	call := map[flag.Type]string{flag.Boolean: "bool", flag.String: "string", flag.Number: "number",
		flag.Object: "object"}[d.Type]
	return "<script type=\"module\">\n" + note + comment(d, "//") + fmt.Sprintf(`import { start } from "%s/browser/v1/greenlever.js";
const flags = start({ key: browserKey, context: { targetingKey: visitor } });
await flags.ready;
const value = flags.%s("%s", %s);
</script>`, url, call, d.Key, fallback)
}

func openFeature(d *flag.Document, fallback string, by []Attribute) string {
	call := map[flag.Type]string{flag.Boolean: "getBooleanValue", flag.String: "getStringValue",
		flag.Number: "getNumberValue", flag.Object: "getObjectValue"}[d.Type]
	return comment(d, "//") + fmt.Sprintf("const value = await client.%s(%q, %s, %s);", call, d.Key, fallback,
		context(by))
}

func curl(d *flag.Document, url string, by []Attribute) string {
	return fmt.Sprintf("curl -s %s/ofrep/v1/evaluate/flags/%s \\\n  -H \"Authorization: Bearer $GREENLEVER_KEY\" -H "+
		"'Content-Type: application/json' \\\n  -d '{\"context\": %s}'", url, d.Key, context(by))
}
