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
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/expr"
)

//go:embed *.schema.json
var schemas embed.FS

// Schema is the JSON Schema of a kind of file: release, ladder, metric, recipe or policy.
func Schema(kind string) ([]byte, error) { return schemas.ReadFile(kind + ".schema.json") }

var compiled = sync.OnceValues(func() (map[string]*jsonschema.Schema, error) {
	c := jsonschema.NewCompiler()
	out := map[string]*jsonschema.Schema{}
	for _, kind := range []string{"stages", "metric", "release", "ladder", "recipe", "policy"} {
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
	for _, kind := range []string{"release", "ladder", "metric", "recipe", "policy"} {
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
		return nil, err
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
		return nil, said(root.Content[0], invalid)
	}
	written, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	return root.Content[0], json.Unmarshal(written, v)
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
			if _, err := strconv.ParseInt(n.Value, 10, 64); err == nil {
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
func said(root *yaml.Node, e *jsonschema.ValidationError) (out Problems) {
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
		out = append(out, Problem{n.Line, n.Column, place(at), e.ErrorKind.LocalizedString(printer)})
	}
	walk(e)
	slices.SortStableFunc(out, func(a, b Problem) int { return a.Line - b.Line })
	return out
}

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
