// Package board says which flags a list shows, and in which order: one grammar for the field in which
// somebody looks for flags, whether in the console, on the command line or through the API.
//
//	q, err := board.Parse(`owner:juno on:production gone-by:<30d door`)
//	if q.Match(&row, now) { ... }
//
// Words stand side by side, and all of them must hold. A word alone is looked for in the key, the title,
// the description, the owners and the tags; "-" before a word turns it around.
package board

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// In is how a flag stands in an environment.
type In struct {
	Lever   flag.Lever
	Stopped bool
	Moving  bool  // not every process has its newest version
	Changed int64 // when it was changed last, in Unix milliseconds
	Asked   int64 // when code asked for it last, in Unix milliseconds; 0: never
}

// Row is a flag as it is looked for.
type Row struct {
	Definition *app.Definition
	Bundles    []string      // keys of those that it is in
	In         map[string]In // by environment
}

// Query is what somebody looks for. The zero value takes every flag.
type Query struct {
	// Environments are those that it names: a row must say how its flag stands there.
	Environments []string
	// Asked tells whether it looks at when code asked.
	Asked bool
	// Me are the names that owner:me stands for: who looks, and the teams that they are in.
	Me []string

	words []word
}

type word struct {
	not   bool
	mine  bool // it looks for whoever looks
	match func(*Row, time.Time) bool
}

// Match tells whether all words hold for a flag.
func (q *Query) Match(r *Row, now time.Time) bool {
	return !slices.ContainsFunc(q.words, func(w word) bool {
		if w.mine {
			return slices.ContainsFunc(r.Definition.Owners, func(o string) bool {
				return slices.ContainsFunc(q.Me, func(me string) bool { return strings.EqualFold(me, o) })
			}) == w.not
		}
		return w.match(r, now) == w.not
	})
}

// Words are the words that a query takes, with what each means: for help texts.
func Words() [][2]string {
	return [][2]string{
		{"door", "in the key, the title, the description, an owner or a tag"},
		{`"night batching"`, "the same, with a space"},
		{"owner:NAME", "an owner with this in the name; owner:me: you, or a team of yours"},
		{"team:NAME", "an owner of just this name, such as a team"},
		{"bundle:KEY", "in the bundle; bundle:none: in no bundle"},
		{"tag:NAME", "has the tag"},
		{"type:boolean", "or string, number, object"},
		{"on:ENVIRONMENT", "its lever is on there, and no stop stands; off:, stopped: and moving: alike"},
		{"changed:<7d", "changed within 7 days, where it is shown; >7d: not within them"},
		{"asked:<7d", "code asked for it within 7 days, where it is shown; >7d: not within them; asked:never"},
		{"gone-by:<30d", "gone by within 30 days, or overdue; gone-by:stays"},
		{"visible:yes", "browsers may see it; visible:no"},
		{"-WORD", "the word does not hold"},
	}
}

// Parse reads what somebody typed. Errors name the word and the mend.
func Parse(text string) (*Query, error) {
	all, err := split(text)
	if err != nil {
		return nil, err
	}
	q := &Query{}
	for _, s := range all {
		w := word{}
		rest := s
		if len(rest) > 1 && rest[0] == '-' {
			w.not, rest = true, rest[1:]
		}
		name, value, named := strings.Cut(rest, ":")
		take, is := known[name]
		switch {
		case !named:
			w.match = anywhere(unquoted(rest))
		case !is:
			return nil, app.InvalidField("find", "%q: there is no word %s:, those are %s", s, name, names())
		case unquoted(value) == "":
			return nil, app.InvalidField("find", "%q: say what stands behind %s:", s, name)
		case name == "owner" && unquoted(value) == "me":
			w.mine = true
		default:
			q.Asked = q.Asked || name == "asked"
			if slices.Contains([]string{"on", "off", "stopped", "moving"}, name) {
				q.Environments = append(q.Environments, unquoted(value))
			}
			if w.match, err = take(unquoted(value)); err != nil {
				return nil, app.InvalidField("find", "%q: %v", s, err)
			}
		}
		q.words = append(q.words, w)
	}
	return q, nil
}

// split parts a text at its spaces, but for those between quotes.
func split(text string) (all []string, err error) {
	var b strings.Builder
	quoted := false
	end := func() {
		if b.Len() > 0 {
			all = append(all, b.String())
		}
		b.Reset()
	}
	for _, r := range text {
		switch {
		case r == '"':
			quoted = !quoted
			b.WriteRune(r)
		case !quoted && (r == ' ' || r == '\t' || r == '\n'):
			end()
		default:
			b.WriteRune(r)
		}
	}
	if quoted {
		return nil, app.InvalidField("find", "%q: the quote is not closed", b.String())
	}
	end()
	return all, nil
}

func unquoted(s string) string { return strings.ReplaceAll(s, `"`, "") }

type matcher = func(*Row, time.Time) bool

var known = map[string]func(string) (matcher, error){
	"owner": func(v string) (matcher, error) {
		return func(r *Row, _ time.Time) bool { return slices.ContainsFunc(r.Definition.Owners, holds(v)) }, nil
	},
	"team": func(v string) (matcher, error) {
		return func(r *Row, _ time.Time) bool {
			return slices.ContainsFunc(r.Definition.Owners, func(o string) bool { return strings.EqualFold(o, v) })
		}, nil
	},
	"bundle": func(v string) (matcher, error) {
		return func(r *Row, _ time.Time) bool {
			return slices.Contains(r.Bundles, v) || v == "none" && len(r.Bundles) == 0
		}, nil
	},
	"tag": func(v string) (matcher, error) {
		return func(r *Row, _ time.Time) bool {
			return slices.ContainsFunc(r.Definition.Tags, func(t string) bool { return strings.EqualFold(t, v) })
		}, nil
	},
	"type": func(v string) (matcher, error) {
		if !slices.Contains(flag.Types(), flag.Type(v)) {
			return nil, fmt.Errorf("a type is boolean, string, number or object")
		}
		return func(r *Row, _ time.Time) bool { return string(r.Definition.Type) == v }, nil
	},
	"visible": func(v string) (matcher, error) {
		if v != "yes" && v != "no" {
			return nil, fmt.Errorf("say yes or no")
		}
		return func(r *Row, _ time.Time) bool { return r.Definition.Visible == (v == "yes") }, nil
	},
	"on":      stands(func(i In) bool { return i.Lever == flag.On && !i.Stopped }),
	"off":     stands(func(i In) bool { return i.Lever != flag.On && !i.Stopped }),
	"stopped": stands(func(i In) bool { return i.Stopped }),
	"moving":  stands(func(i In) bool { return i.Moving }),
	"changed": since(func(i In) int64 { return i.Changed }),
	"asked": func(v string) (matcher, error) {
		if v == "never" {
			return func(r *Row, _ time.Time) bool { return last(r, func(i In) int64 { return i.Asked }) == 0 }, nil
		}
		m, err := since(func(i In) int64 { return i.Asked })(v)
		if err != nil {
			return nil, fmt.Errorf("%w, or never", err)
		}
		return m, nil
	},
	"gone-by": goneBy,
}

func names() string {
	var all []string
	for n := range known {
		all = append(all, n+":")
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

// holds tells whether a text has a part in it, whatever the case of the letters.
func holds(part string) func(string) bool {
	part = strings.ToLower(part)
	return func(s string) bool { return strings.Contains(strings.ToLower(s), part) }
}

func anywhere(part string) matcher {
	has := holds(part)
	return func(r *Row, _ time.Time) bool {
		d := r.Definition
		return has(d.Key) || has(d.Title) || has(d.Description) || slices.ContainsFunc(d.Owners, has) ||
			slices.ContainsFunc(d.Tags, has)
	}
}

func stands(is func(In) bool) func(string) (matcher, error) {
	return func(environment string) (matcher, error) {
		return func(r *Row, _ time.Time) bool {
			in, has := r.In[environment]
			return has && is(in)
		}, nil
	}
}

func last(r *Row, at func(In) int64) (newest int64) {
	for _, i := range r.In {
		newest = max(newest, at(i))
	}
	return newest
}

func since(at func(In) int64) func(string) (matcher, error) {
	return func(v string) (matcher, error) {
		within, d, err := span(v)
		if err != nil {
			return nil, err
		}
		return func(r *Row, now time.Time) bool {
			return (last(r, at) >= now.Add(-d).UnixMilli()) == within
		}, nil
	}
}

func goneBy(v string) (matcher, error) {
	if v == "stays" {
		return func(r *Row, _ time.Time) bool { return r.Definition.GoneBy == v }, nil
	}
	within, d, err := span(v)
	if err != nil {
		return nil, fmt.Errorf("%w, or stays", err)
	}
	return func(r *Row, now time.Time) bool {
		day, err := time.Parse(time.DateOnly, r.Definition.GoneBy)
		return err == nil && (day.Before(now.Add(d))) == within
	}, nil
}

// span reads "<7d": within 7 days, or ">12h": not within 12 hours.
func span(v string) (within bool, d time.Duration, err error) {
	mend := fmt.Errorf("%q is no span of time: write <7d, >12h or <2w", v)
	if len(v) < 3 || v[0] != '<' && v[0] != '>' {
		return false, 0, mend
	}
	unit, is := map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour}[v[len(v)-1]]
	n, err := strconv.Atoi(v[1 : len(v)-1])
	if err != nil || !is || n < 0 || n > 100_000 {
		return false, 0, mend
	}
	return v[0] == '<', time.Duration(n) * unit, nil
}
