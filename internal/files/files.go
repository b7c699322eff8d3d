// Package files writes and reads what people keep as YAML under version control: releases, ladders,
// metrics, recipes and policies.
//
// Each kind of file has a JSON Schema (2020-12), which editors check against and which is held against what
// is read, so that an error names the line and the mend. Conditions are text. The smallest use:
//
//	r, err := files.ReadRelease(raw) // r.Start is what the API takes
package files

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"go.yaml.in/yaml/v4"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/expr"
)

//go:embed *.schema.json
var schemas embed.FS

// Kinds are the kinds of files.
func Kinds() []string {
	return []string{"release", "ladder", "metric", "recipe", "policy", "flag", "segment", "project", "attributes",
		"bundles"}
}

// Schema is the JSON Schema of a kind of file.
func Schema(kind string) ([]byte, error) { return schemas.ReadFile(kind + ".schema.json") }

var compiled = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	c := jsonschema.NewCompiler()
	out := map[string]*jsonschema.Schema{}
	for _, kind := range append([]string{"stages"}, Kinds()...) {
		raw, err := Schema(kind)
		if err != nil {
			return nil, err
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		if err != nil {
			return nil, err
		}
		if err := c.AddResource("greenlever:///"+kind+".schema.json", doc); err != nil {
			return nil, err
		}
	}
	for _, kind := range Kinds() {
		s, err := c.Compile("greenlever:///" + kind + ".schema.json")
		if err != nil {
			return nil, err
		}
		out[kind] = s
	}
	return out, nil
})

// Problem is one thing that is wrong with a file.
type Problem struct {
	Line, Column int
	Place, Mend  string
}

// Problems are the things that are wrong with a file.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, one := range p {
		lines[i] = fmt.Sprintf("line %d, column %d: %s: %s", one.Line, one.Column, one.Place, one.Mend)
	}
	return strings.Join(lines, "\n")
}

// read reads a file of a kind into v. The error is Problems, or says why it is no YAML.
func read(kind string, raw []byte, v any) (*yaml.Node, error) {
	all, err := compiled()
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(raw, &root); err != nil {
		return nil, unreadable(raw, err)
	}
	if len(root.Content) == 0 {
		return nil, errors.New("the file is empty")
	}
	plain, found := plainly(root.Content[0], "")
	if len(found) > 0 {
		return nil, found
	}
	if err := all[kind].Validate(plain); err != nil {
		var invalid *jsonschema.ValidationError
		if !errors.As(err, &invalid) {
			return nil, err
		}
		return nil, said(kind, root.Content[0], invalid)
	}
	written, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	return root.Content[0], json.Unmarshal(written, v)
}

// unreadable says where a file is no YAML.
func unreadable(raw []byte, err error) error {
	m := regexp.MustCompile(`line (\d+)`).FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	line, _ := strconv.Atoi(m[1])
	lines := strings.Split(string(raw), "\n")
	for n := line; n >= max(line-1, 1); n-- { // some errors name the line behind
		if n <= len(lines) && strings.Contains(lines[n-1], "\t") {
			return Problems{{n, strings.Index(lines[n-1], "\t") + 1, "the file", "a tab: indent with spaces"}}
		}
	}
	return Problems{{line, 1, "the file", strings.TrimPrefix(err.Error(), "yaml: ")}}
}

// plainly gives a YAML node as JSON has it. Anchors, tags and keys that stand twice are refused.
func plainly(n *yaml.Node, at string) (any, Problems) {
	wrong := func(n *yaml.Node, mend string) Problems { return Problems{{n.Line, n.Column, place(at), mend}} }
	switch n.Kind {
	case yaml.MappingNode:
		out := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			k := n.Content[i]
			if _, twice := out[k.Value]; twice {
				return nil, wrong(k, k.Value+" stands twice: leave one out")
			}
			v, found := plainly(n.Content[i+1], at+"/"+k.Value)
			if found != nil {
				return nil, found
			}
			out[k.Value] = v
		}
		return out, nil
	case yaml.SequenceNode:
		out := []any{}
		for i, one := range n.Content {
			v, found := plainly(one, at+"/"+strconv.Itoa(i))
			if found != nil {
				return nil, found
			}
			out = append(out, v)
		}
		return out, nil
	case yaml.ScalarNode:
		switch n.Tag {
		case "!!int":
			if json.Valid([]byte(n.Value)) { // and neither 0x10 nor 012
				return json.Number(n.Value), nil
			}
		case "!!float":
			if json.Valid([]byte(n.Value)) { // and neither .5 nor .inf
				return json.Number(n.Value), nil
			}
		case "!!bool":
			if n.Value == "true" || n.Value == "false" {
				return n.Value == "true", nil
			}
		case "!!null":
			if strings.Contains(at, "/variants/") || strings.Contains(at, "/values/") { // JSON that is the flag's own
				return nil, nil
			}
			return nil, wrong(n, "has no value: give one, or leave it out")
		}
		return n.Value, nil // times and the like are read as text
	}
	return nil, wrong(n, "anchors and aliases are not taken: write it out")
}

func place(pointer string) string {
	if pointer == "" {
		return "the file"
	}
	var out strings.Builder
	for i, part := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		if _, err := strconv.Atoi(part); err == nil {
			fmt.Fprintf(&out, "[%s]", part)
			continue
		}
		if i > 0 {
			out.WriteByte('.')
		}
		out.WriteString(part)
	}
	return out.String()
}

// said lists what a validation found, by line.
func said(of string, root *yaml.Node, e *jsonschema.ValidationError) (out Problems) {
	printer := message.NewPrinter(language.English)
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		if len(e.Causes) > 0 {
			for _, c := range e.Causes {
				walk(c)
			}
			return
		}
		n := find(root, e.InstanceLocation)
		at := "/" + strings.Join(e.InstanceLocation, "/")
		if len(e.InstanceLocation) == 0 {
			at = ""
		}
		mend := e.ErrorKind.LocalizedString(printer)
		if more, is := e.ErrorKind.(*kind.AdditionalProperties); is {
			for _, name := range more.Properties {
				k := key(n, name)
				out = append(out, Problem{k.Line, k.Column, place(at + "/" + name), "is no field here" + nearest(name,
					knownFields()[of])})
			}
			return
		}
		out = append(out, Problem{n.Line, n.Column, place(at), mend})
	}
	walk(e)
	slices.SortStableFunc(out, func(a, b Problem) int { return a.Line - b.Line })
	return out
}

// key finds the node of a mapping's key.
func key(n *yaml.Node, name string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i]
		}
	}
	return n
}

// knownFields are the names of all fields of each kind of file.
var knownFields = sync.OnceValue(func() map[string][]string {
	all := map[string][]string{}
	for _, kind := range append(Kinds(), "stages") {
		raw, err := Schema(kind)
		if err != nil {
			panic(err) // it is embedded
		}
		var schema any
		if err := json.Unmarshal(raw, &schema); err != nil {
			panic(err)
		}
		all[kind] = fieldsIn(schema)
		slices.Sort(all[kind])
	}
	return all
})

// fieldsIn are the names of the properties of a schema.
func fieldsIn(schema any) (out []string) {
	switch s := schema.(type) {
	case []any:
		for _, one := range s {
			out = append(out, fieldsIn(one)...)
		}
	case map[string]any:
		for name, one := range s {
			if properties, is := one.(map[string]any); is && name == "properties" {
				for field := range properties {
					out = append(out, field)
				}
			}
			out = append(out, fieldsIn(one)...)
		}
	}
	return out
}

// nearest says which known name somebody may have meant.
func nearest(name string, known []string) string {
	if best := lint.Nearest(name, slices.Values(known)); best != "" {
		return ": did you mean " + best + "?"
	}
	return ""
}

func itoa(n int) string { return strconv.Itoa(n) }

// find finds the node at a path; the nearest one above it where there is none.
func find(n *yaml.Node, path []string) *yaml.Node {
	if len(path) == 0 {
		return n
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == path[0] {
				return find(n.Content[i+1], path[1:])
			}
		}
	case yaml.SequenceNode:
		if i, err := strconv.Atoi(path[0]); err == nil && i < len(n.Content) {
			return find(n.Content[i], path[1:])
		}
	}
	return n
}

// condition reads a condition as text.
func when(root *yaml.Node, text string, path ...string) (*condition.Node, error) {
	if text == "" {
		return nil, nil
	}
	n, err := expr.Parse(text)
	if err != nil {
		at := find(root, path)
		return nil, Problems{{at.Line, at.Column, place("/" + strings.Join(path, "/")), err.Error()}}
	}
	return n, nil
}

func percent(root *yaml.Node, text string, path ...string) (uint32, error) {
	if text == "" {
		return 0, nil
	}
	n, err := bucket.ParsePercent(text)
	if err != nil {
		at := find(root, path)
		return 0, Problems{{at.Line, at.Column, place("/" + strings.Join(path, "/")), err.Error()}}
	}
	return n, nil
}
