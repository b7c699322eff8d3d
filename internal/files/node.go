package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/condition"
)

// fields is a YAML mapping in the order in which it is written. What is empty is left out.
type fields struct{ node *yaml.Node }

func newFields() *fields { return &fields{&yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}} }

func text(s string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s}
	if strings.Contains(s, "\n") && !strings.HasPrefix(s, " ") && !strings.HasPrefix(s, "\n") {
		n.Style = yaml.LiteralStyle
	}
	return n
}

func (f *fields) node_(name string, n *yaml.Node) {
	f.node.Content = append(f.node.Content, text(name), n)
}

func (f *fields) text(name, s string) {
	if s != "" {
		f.node_(name, text(s))
	}
}

func (f *fields) yes(name string, is bool) {
	if is {
		f.node_(name, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"})
	}
}

func (f *fields) number(name string, n int64) {
	if n != 0 {
		f.node_(name, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.FormatInt(n, 10)})
	}
}

// texts is a list on one line.
func (f *fields) texts(name string, all []string) {
	if len(all) == 0 {
		return
	}
	n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
	for _, s := range all {
		n.Content = append(n.Content, text(s))
	}
	f.node_(name, n)
}

// lines is a list with an item a line.
func (f *fields) lines(name string, all []*yaml.Node) {
	if len(all) > 0 {
		f.node_(name, &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Content: all})
	}
}

func (f *fields) fields(name string, of *fields) {
	if len(of.node.Content) > 0 {
		f.node_(name, of.node)
	}
}

// valueNode gives a JSON value as YAML has it, members of objects in order of their names.
func valueNode(raw json.RawMessage) (*yaml.Node, error) {
	v, err := condition.Tree(raw)
	if err != nil {
		return nil, err
	}
	return anyNode(v), nil
}

func anyNode(v any) *yaml.Node {
	switch v := v.(type) {
	case nil:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(v)}
	case json.Number:
		tag := "!!float"
		if !strings.ContainsAny(v.String(), ".eE") {
			tag = "!!int"
		}
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag, Value: v.String()}
	case string:
		return text(v)
	case []any:
		n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
		for _, one := range v {
			n.Content = append(n.Content, anyNode(one))
		}
		return n
	case map[string]any:
		f := newFields()
		f.node.Style = yaml.FlowStyle
		for _, name := range sorted(v) {
			f.node_(name, anyNode(v[name]))
		}
		return f.node
	}
	panic(fmt.Sprintf("%T is nothing that JSON has", v))
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// encodeNode writes a file of a kind, which editors find the schema of.
func encodeNode(kind string, n *yaml.Node) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# yaml-language-server: $schema=%s.schema.json\n", kind)
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(n); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

// names lists the keys of a mapping in the order in which they stand in the file.
func names(n *yaml.Node, path ...string) (out []string) {
	at := n
	for _, part := range path {
		next := find(at, []string{part})
		if next == at {
			return nil // there is none such
		}
		at = next
	}
	if at.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(at.Content); i += 2 {
		out = append(out, at.Content[i].Value)
	}
	return out
}

// wrong is a problem at a path of a file.
func wrong(root *yaml.Node, mend string, path ...string) Problem {
	n := find(root, path)
	at := ""
	if len(path) > 0 {
		at = "/" + strings.Join(path, "/")
	}
	return Problem{n.Line, n.Column, place(at), mend}
}

// Keeping writes a file over another one and keeps the comments of that, where what they stand at is still there.
func Keeping(old, raw []byte) ([]byte, error) {
	var was, is yaml.Node
	if yaml.Unmarshal(old, &was) != nil || len(was.Content) == 0 {
		return raw, nil // what cannot be read has no comments to keep
	}
	if err := yaml.Unmarshal(raw, &is); err != nil {
		return nil, err
	}
	comments(&was, &is)
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&is); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

func comments(was, is *yaml.Node) {
	if was.HeadComment != "" {
		is.HeadComment = was.HeadComment
	}
	if was.LineComment != "" {
		is.LineComment = was.LineComment
	}
	if was.FootComment != "" {
		is.FootComment = was.FootComment
	}
	if was.Kind != is.Kind {
		return
	}
	switch is.Kind {
	case yaml.DocumentNode:
		if len(was.Content) > 0 && len(is.Content) > 0 {
			comments(was.Content[0], is.Content[0])
		}
	case yaml.MappingNode:
		for i := 0; i+1 < len(is.Content); i += 2 {
			for j := 0; j+1 < len(was.Content); j += 2 {
				if was.Content[j].Value == is.Content[i].Value {
					comments(was.Content[j], is.Content[i])
					comments(was.Content[j+1], is.Content[i+1])
				}
			}
		}
	case yaml.SequenceNode:
		for i, one := range is.Content {
			if at := slices.IndexFunc(was.Content, func(o *yaml.Node) bool { return same(o, one) }); at >= 0 {
				comments(was.Content[at], is.Content[i])
			}
		}
	}
}

// same tells whether two items of lists are the same thing: by id, or by what they are.
func same(a, b *yaml.Node) bool {
	if a.Kind != b.Kind {
		return false
	}
	if a.Kind == yaml.ScalarNode {
		return a.Value == b.Value
	}
	id := func(n *yaml.Node) string {
		for _, name := range []string{"id", "bundle", "attribute", "name"} {
			if v := find(n, []string{name}); v != n && v.Kind == yaml.ScalarNode {
				return name + " " + v.Value
			}
		}
		return ""
	}
	return id(a) != "" && id(a) == id(b)
}
