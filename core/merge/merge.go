// Package merge lays two edits of one document together, and says what one edit is.
//
// Its noun is a [Shape], which says what of a document is edited by itself:
//
//	merged, conflicts, err := merge.Flag.Merge(base, theirs, ours)
//
// Documents are JSON objects. What one side left as it was is taken from the other; what both edited alike is taken
// once; what both edited otherwise is a [Conflict], in which the merged document has what is theirs. Merging is
// symmetric where there is no conflict, and never has a value that neither side has.
package merge

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
)

// Shape says what of a document is edited by itself: each of its fields; of lists of objects with an id each field of
// each object; of maps each member.
type Shape struct {
	List string // the field that is such a list; empty for none
	Map  string // the field that is such a map
}

// The shapes of documents.
var (
	Flag  = Shape{List: "rules", Map: "variants"}
	Plain = Shape{}
)

// Conflict is what both sides edited, and not alike. A side that took it out has null.
type Conflict struct {
	Place  string          `json:"place"` // such as lever, rules[r1].when, or rules for their order
	Base   json.RawMessage `json:"base"`
	Theirs json.RawMessage `json:"theirs"`
	Ours   json.RawMessage `json:"ours"`
}

// Edit is one thing that an edit changes.
type Edit struct {
	Place string          `json:"place"`
	To    json.RawMessage `json:"to"`              // null: taken out
	After string          `json:"after,omitempty"` // the id of what a new one in the list comes after; empty: it is first
}

type object = map[string]json.RawMessage

// null is what is not there.
var null = json.RawMessage("null")

// parsed is a document taken apart.
type parsed struct {
	fields object            // but for those below
	member object            // of the map
	ids    []string          // of the list, in order
	one    map[string]object // of the list, by id
}

func (s Shape) parse(raw json.RawMessage) (*parsed, error) {
	out := &parsed{fields: object{}, member: object{}, one: map[string]object{}}
	if err := unmarshal(raw, &out.fields); err != nil {
		return nil, fmt.Errorf("a document is no JSON object: %w", err)
	}
	if raw, is := out.fields[s.Map]; is && s.Map != "" {
		if err := unmarshal(raw, &out.member); err != nil {
			return nil, fmt.Errorf("%s is no JSON object: %w", s.Map, err)
		}
		delete(out.fields, s.Map)
	}
	if raw, is := out.fields[s.List]; is && s.List != "" {
		var all []object
		if err := unmarshal(raw, &all); err != nil {
			return nil, fmt.Errorf("%s is no list of JSON objects: %w", s.List, err)
		}
		for i, o := range all {
			var id string
			if json.Unmarshal(o["id"], &id) != nil || id == "" || out.one[id] != nil {
				return nil, fmt.Errorf("%s[%d] lacks an id of its own", s.List, i)
			}
			out.ids, out.one[id] = append(out.ids, id), o
		}
		delete(out.fields, s.List)
	}
	return out, nil
}

// unmarshal keeps numbers as they are written.
func unmarshal(raw json.RawMessage, into any) error {
	if len(raw) == 0 {
		return nil
	}
	return json.Unmarshal(raw, into)
}

// canonical writes a value so that equal values are equal bytes.
func canonical(raw json.RawMessage) json.RawMessage {
	if len(raw) == 0 {
		return null
	}
	var members object
	if json.Unmarshal(raw, &members) == nil && members != nil {
		for k, v := range members {
			members[k] = canonical(v)
		}
		return marshal(members)
	}
	var items []json.RawMessage
	if json.Unmarshal(raw, &items) == nil && items != nil {
		for i := range items {
			items[i] = canonical(items[i])
		}
		return marshal(items)
	}
	return marshal(raw) // compact
}

func same(a, b json.RawMessage) bool { return bytes.Equal(canonical(a), canonical(b)) }

func keys(all ...object) []string {
	names := map[string]bool{}
	for _, o := range all {
		for k := range o {
			names[k] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// Merge lays two edits of base together.
func (s Shape) Merge(base, theirs, ours json.RawMessage) (merged json.RawMessage, conflicts []Conflict, err error) {
	var at [3]*parsed
	for i, raw := range []json.RawMessage{base, theirs, ours} {
		if at[i], err = s.parse(raw); err != nil {
			return nil, nil, err
		}
	}
	b, t, o := at[0], at[1], at[2]
	found := func(c Conflict) { conflicts = append(conflicts, c) }
	out := fields("", b.fields, t.fields, o.fields, found)
	if members := fields(s.Map+".", b.member, t.member, o.member, found); len(members) > 0 {
		out[s.Map] = marshal(members)
	}
	if s.List != "" {
		list := []object{}
		kept := map[string]object{}
		for _, id := range keys3(b.one, t.one, o.one) {
			if one := s.item(id, b.one[id], t.one[id], o.one[id], found); one != nil {
				kept[id] = one
			}
		}
		for _, id := range s.order(b, t, o, kept, found) {
			list = append(list, kept[id])
		}
		if len(list) > 0 {
			out[s.List] = marshal(list)
		}
	}
	return marshal(out), conflicts, nil
}

func keys3(all ...map[string]object) []string {
	names := map[string]bool{}
	for _, m := range all {
		for k := range m {
			names[k] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// fields merges values by name.
func fields(place string, b, t, o object, found func(Conflict)) object {
	out := object{}
	for _, name := range keys(b, t, o) {
		v := t[name]
		switch {
		case same(b[name], t[name]):
			v = o[name]
		case same(b[name], o[name]), same(t[name], o[name]):
		default:
			found(Conflict{place + name, canonical(b[name]), canonical(t[name]), canonical(o[name])})
		}
		if len(v) > 0 {
			out[name] = v
		}
	}
	return out
}

// item merges one object of the list; nil where it is taken out.
func (s Shape) item(id string, b, t, o object, found func(Conflict)) object {
	place := s.List + "[" + id + "]"
	gone := func(kept object) object {
		if !same(marshal(b), marshal(kept)) { // taken out on one side, edited on the other
			found(Conflict{place, nullable(b), nullable(t), nullable(o)})
			return t
		}
		return nil
	}
	switch {
	case b != nil && t == nil && o == nil:
		return nil
	case b != nil && t == nil:
		return gone(o)
	case b != nil && o == nil:
		return gone(t)
	case t == nil:
		return o
	case o == nil:
		return t
	}
	return fields(place+".", b, t, o, found)
}

// order lays out what is kept: what stood in base in the order of the side that moved it, and what is new behind what
// it came after on its side. What both sides put in one place is ordered by id, so that merging is symmetric.
func (s Shape) order(b, t, o *parsed, kept map[string]object, found func(Conflict)) []string {
	old := func(p *parsed) (ids []string) {
		for _, id := range p.ids {
			if b.one[id] != nil && t.one[id] != nil && o.one[id] != nil {
				ids = append(ids, id)
			}
		}
		return ids
	}
	stood, theirs, ours := old(b), old(t), old(o)
	moved := t
	switch {
	case slices.Equal(stood, theirs):
		moved = o
	case slices.Equal(stood, ours), slices.Equal(theirs, ours):
	default:
		found(Conflict{s.List, marshal(stood), marshal(theirs), marshal(ours)})
	}
	var spine []string
	for _, id := range moved.ids {
		if b.one[id] != nil && kept[id] != nil {
			spine = append(spine, id)
		}
	}
	for _, p := range []*parsed{t, o} { // kept in a conflict although the side that moved took it out
		for _, id := range p.ids {
			if b.one[id] != nil && kept[id] != nil && !slices.Contains(spine, id) {
				spine = append(spine, id)
			}
		}
	}
	runs := map[string][][]string{}
	for _, p := range []*parsed{t, o} {
		for after, run := range p.runs(spine, b, kept) {
			if !slices.ContainsFunc(runs[after], func(r []string) bool { return slices.Equal(r, run) }) {
				runs[after] = append(runs[after], run)
			}
		}
	}
	var out []string
	add := func(after string) {
		slices.SortFunc(runs[after], func(x, y []string) int { return cmp.Compare(x[0], y[0]) })
		for _, run := range runs[after] {
			for _, id := range run {
				if !slices.Contains(out, id) {
					out = append(out, id)
				}
			}
		}
	}
	add("")
	for _, id := range spine {
		out = append(out, id)
		add(id)
	}
	return out
}

// runs are what is new on a side, by what of the spine it comes after.
func (p *parsed) runs(spine []string, b *parsed, kept map[string]object) map[string][]string {
	out, after := map[string][]string{}, ""
	for _, id := range p.ids {
		switch {
		case slices.Contains(spine, id):
			after = id
		case b.one[id] == nil && kept[id] != nil:
			out[after] = append(out[after], id)
		}
	}
	return out
}

// Edits says what an edit of base changes, so that two edits which do the same, each of another base, are equal.
func (s Shape) Edits(base, ours json.RawMessage) ([]Edit, error) {
	b, err := s.parse(base)
	if err != nil {
		return nil, err
	}
	o, err := s.parse(ours)
	if err != nil {
		return nil, err
	}
	out := changed("", b.fields, o.fields)
	out = append(out, changed(s.Map+".", b.member, o.member)...)
	var stood, stands []string
	for _, id := range b.ids {
		if o.one[id] == nil {
			out = append(out, Edit{Place: s.List + "[" + id + "]", To: null})
		} else {
			stood = append(stood, id)
		}
	}
	after := ""
	for _, id := range o.ids {
		if b.one[id] == nil {
			out = append(out, Edit{Place: s.List + "[" + id + "]", To: canonical(marshal(o.one[id])), After: after})
		} else {
			stands = append(stands, id)
			out = append(out, changed(s.List+"["+id+"].", b.one[id], o.one[id])...)
		}
		after = id
	}
	if !slices.Equal(stood, stands) {
		out = append(out, Edit{Place: s.List, To: marshal(stands)})
	}
	return out, nil
}

func changed(place string, b, o object) (out []Edit) {
	for _, name := range keys(b, o) {
		if !same(b[name], o[name]) {
			out = append(out, Edit{Place: place + name, To: canonical(o[name])})
		}
	}
	return out
}

// marshal writes what was read from JSON.
func marshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("a part of a document cannot be written: %v", err)) // it was read from JSON
	}
	return raw
}

func nullable(o object) json.RawMessage {
	if o == nil {
		return null
	}
	return canonical(marshal(o))
}
