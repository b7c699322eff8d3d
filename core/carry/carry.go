// Package carry takes a flag's targeting to another time or to another place.
//
// Its nouns are documents as they stand and as they stood:
//
//	doc, err := carry.Stood(now, then, runs)           // as it stood, in what there is now
//	doc := carry.Promote(from, to, carry.What{Rules: true})
//
// What a release that runs owns is never carried, and stays where it stands.
package carry

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"greenlever.example/core/flag"
)

// Runs tells whether a release runs.
type Runs func(release string) bool

// Stood is a flag as it stood then, in what there is of it now: variants that came since stay, rules of releases
// that
// run stay where they are, and those of releases that are over are plain rules. The error names a variant that it
// gave
// then and that there is no more.
func Stood(now, then *flag.Document, runs Runs) (*flag.Document, error) {
	out := *then
	out.Key, out.Type, out.Visible, out.Requires = now.Key, now.Type, now.Visible, nil
	out.Variants = maps.Clone(now.Variants)
	for name, value := range then.Variants {
		if _, is := now.Variants[name]; is {
			out.Variants[name] = value
			continue
		}
		if place, used := then.Uses(name); used {
			return nil, fmt.Errorf("%s gave variant `%s` then (%s), and there is no such variant any more: add it "+
				"again first", now.Key, name, place)
		}
	}
	out.Rules = Around(then.Rules, now.Rules, runs)
	return &out, nil
}

// Around gives target's rules with those of releases that run as they stand now: where target has the group, else
// behind the rule that stands before it now, else on top. What releases that are over own becomes plain.
func Around(target, now []flag.Rule, runs Runs) (out []flag.Rule) {
	ours := func(r flag.Rule) bool { return r.Release != "" && runs(r.Release) }
	placed := map[string]bool{}
	group := func(release string) {
		for _, r := range now {
			if r.Release == release {
				out = append(out, r)
			}
		}
		placed[release] = true
	}
	stands := func(release string) bool {
		return slices.ContainsFunc(now, func(r flag.Rule) bool { return r.Release == release })
	}
	for _, r := range target {
		if !ours(r) || !stands(r.Release) {
			r.Release, r.Evidence = "", nil
			out = append(out, r)
		} else if !placed[r.Release] {
			group(r.Release)
		}
	}
	for i, r := range now {
		if !ours(r) || placed[r.Release] {
			continue
		}
		at := 0
		for _, before := range slices.Backward(now[:i]) {
			if j := slices.IndexFunc(out, func(o flag.Rule) bool { return o.ID == before.ID }); j >= 0 {
				at = j + 1
				break
			}
		}
		rest := slices.Clone(out[at:])
		out = out[:at:at]
		group(r.Release)
		out = append(out, rest...)
	}
	return out
}

// What is promoted of a flag.
type What struct {
	Rules   bool // and the end
	Values  bool // of variants
	Lever   bool
	Resting bool // the variant, what the flag needs, and after how long without contact it rests
}

// Promote is the flag in another environment, as it is in from. Salts and buckets are those of from, so that the
// same
// units get the same shares.
func Promote(from, to *flag.Document, what What, runs Runs) *flag.Document {
	out := *to
	if what.Rules {
		out.Rules, out.End = Around(flag.Plain(from.Rules), to.Rules, runs), from.End
	}
	if what.Values {
		out.Variants = maps.Clone(to.Variants)
		for name, v := range from.Variants {
			if _, is := to.Variants[name]; is {
				out.Variants[name] = v
			}
		}
	}
	if what.Lever {
		out.Lever = from.Lever
	}
	if what.Resting {
		out.Resting, out.Needs, out.RestAfter = from.Resting, slices.Clone(from.Needs), from.RestAfter
	}
	return &out
}

// Missing lists segments that a flag's rules name and that have nobody in an environment, by key; of says how a
// segment
// stands there.
func Missing(doc *flag.Document, from, to func(key string) *flag.Segment) (empty, other []string) {
	seen := map[string]bool{}
	var walk func(keys []string)
	walk = func(keys []string) {
		for _, key := range keys {
			if seen[key] {
				continue
			}
			seen[key] = true
			there, here := from(key), to(key)
			switch {
			case there == nil:
				continue
			case here == nil || here.When == nil && here.In.Len()+here.Out.Len() == 0:
				if there.When != nil || there.In.Len()+there.Out.Len() > 0 {
					empty = append(empty, key)
				}
			case !same(there, here):
				other = append(other, key)
			}
			walk(there.Segments())
		}
	}
	walk(doc.Segments())
	slices.Sort(empty)
	slices.Sort(other)
	return empty, other
}

func same(a, b *flag.Segment) bool {
	x, err := json.Marshal(a)
	if err != nil {
		return false
	}
	y, err := json.Marshal(b)
	return err == nil && string(x) == string(y)
}
