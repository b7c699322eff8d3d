// Package preview says what an edit would move before it is saved: its shift over all
// flags that it touches, on the environment's population and on the project's test units.
//
//	p, err := s.Of(ctx, environment, preview.Edit{Flags: []*flag.Document{doc}})
//	p.Shifts[0].Moved.Units
package preview

import (
	"context"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/core/shift"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
)

// rules gives the ruleset of an environment as it stands.
type rules func(ctx context.Context, environment int64) (*decide.Ruleset, error)

// population gives units and what is known of attributes.
type population interface {
	Units(ctx context.Context, environment int64, attribute string) (shift.Population, error)
	Judge(ctx context.Context, environment int64) (map[string]lint.Attribute, bool, uint64, error)
}

// Service computes previews.
type Service struct {
	Rules      rules
	Population population
	TestUnits  func(ctx context.Context, project int64) ([]app.TestUnit, error)
	List       func(ctx context.Context, environment int64, digest string) (flag.Hashes, error)
	Now        func() time.Time
	// Releases lists those that run in an environment. Nil: there are none.
	Releases func(ctx context.Context, environment int64) ([]app.Release, error)
	// Came counts the units of an attribute that were seen since a time, in the sample.
	Came func(ctx context.Context, environment int64, attribute string, since int64) (int, error)
}

// Edit is what would be saved.
type Edit struct {
	Flags    []*flag.Document
	Segments []*flag.Segment
	Stops    []flag.Stop
	Lifted   []string
	Touched  []string               // flags that the lifted stops are of
	Lists    map[string]flag.Hashes // long lists that are new with the edit
}

// TestMove is what an edit does to a test unit.
type TestMove struct {
	Flag string `json:"flag"`
	Unit string `json:"unit"`
	Name string `json:"name"`
	From string `json:"from"`
	To   string `json:"to"`
}

// Unfit says that units lack an attribute, or send it in another type than is compared.
type Unfit struct {
	Rule string     `json:"rule"` // id
	Says words.Said `json:"says"`
}

// Preview is what an edit would do.
type Preview struct {
	At     int64                    `json:"at"`     // Unix milliseconds at which was decided
	Shifts []*shift.Shift           `json:"shifts"` // of the edited flags, then of others that move
	Drawn  map[string][]shift.Drawn `json:"drawn"`  // what shares are drawn by, by place: a rule's id, or "end"
	Tests  []TestMove               `json:"tests"`  // test units that move
	Lint   []lint.Finding           `json:"lint"`   // of the edited flags
	Types  []Unfit                  `json:"types"`
	// Evidence names the flags whose releases begin their evidence anew with the edit, since it bears on whom
	// they reach.
	Evidence []string `json:"evidence"`
}

// Of computes what an edit would do in an environment.
func (s *Service) Of(ctx context.Context, e *app.Environment, edit Edit) (*Preview, error) {
	before, err := s.Rules(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	after, err := s.after(ctx, e.ID, before, &edit)
	if err != nil {
		return nil, err
	}
	units, err := s.Population.Units(ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	now := s.Now().UnixMilli()
	p := &Preview{At: now, Shifts: []*shift.Shift{}, Drawn: map[string][]shift.Drawn{}, Tests: []TestMove{},
		Lint: []lint.Finding{}, Types: []Unfit{}, Evidence: []string{}}
	tests, err := s.TestUnits(ctx, e.ProjectID)
	if err != nil {
		return nil, err
	}
	edited := edit.flags()
	for i, key := range shift.Dependents(after, edited, edit.segments()) {
		sh := shift.Between(before, after, key, units, now)
		moved := testMoves(before, after, key, tests, now)
		p.Tests = append(p.Tests, moved...)
		if i < len(edited) || sh.Moved.Counted > 0 || len(moved) > 0 || len(edit.Segments) > 0 {
			p.Shifts = append(p.Shifts, sh)
		}
	}
	if err := s.drawn(ctx, e.ID, after, &edit, p); err != nil {
		return nil, err
	}
	if err := s.evidence(ctx, e.ID, before, after, p); err != nil {
		return nil, err
	}
	return p, s.judge(ctx, e.ID, before, after, &edit, units, p)
}

// evidence finds the releases on whose evidence an edit bears.
func (s *Service) evidence(ctx context.Context, environment int64, before, after *decide.Ruleset, p *Preview) error {
	if s.Releases == nil {
		return nil
	}
	running, err := s.Releases(ctx, environment)
	if err != nil {
		return err
	}
	for i := range running {
		r := &running[i]
		if stage.Around(before.Source, r.Flag, r.ID, &r.State.Plan) != stage.Around(after.Source, r.Flag, r.ID,
			&r.State.Plan) {
			p.Evidence = append(p.Evidence, r.Flag)
		}
	}
	return nil
}

func (e *Edit) flags() []string {
	var keys []string
	for _, d := range e.Flags {
		keys = append(keys, d.Key)
	}
	for _, s := range e.Stops {
		keys = append(keys, s.Flags...)
	}
	keys = append(keys, e.Touched...)
	slices.Sort(keys)
	return slices.Compact(keys)
}

func (e *Edit) segments() []string {
	var keys []string
	for _, s := range e.Segments {
		keys = append(keys, s.Key)
	}
	return keys
}

// after compiles the ruleset as it would be.
func (s *Service) after(ctx context.Context, environment int64, rs *decide.Ruleset, e *Edit) (*decide.Ruleset, error) {
	lists := map[string]flag.Hashes{}
	for _, seg := range e.Segments {
		for _, digest := range seg.Digests() {
			if h := e.Lists[digest]; h != nil {
				lists[digest] = h
			} else if rs.Source.Hashes[digest] == nil {
				h, err := s.List(ctx, environment, digest)
				if err != nil {
					return nil, err
				}
				lists[digest] = h
			}
		}
	}
	if len(lists) > 0 {
		rs = rs.Holding(lists)
	}
	next, err := rs.With(e.Flags, e.Segments)
	if err != nil || len(e.Stops)+len(e.Lifted) == 0 {
		return next, err
	}
	return next.Next(&flag.Event{Epoch: next.Source.Epoch, Revision: next.Source.Revision + 1, Stops: e.Stops,
		Lifted: e.Lifted})
}

func testMoves(before, after *decide.Ruleset, key string, tests []app.TestUnit, now int64) (moves []TestMove) {
	for _, u := range tests {
		c, err := TestContext(&u)
		if err != nil {
			continue // said where it is shown
		}
		if from, to := gives(before, key, c, now), gives(after, key, c, now); from != to {
			moves = append(moves, TestMove{key, u.Unit, u.Name, from, to})
		}
	}
	return moves
}

func gives(rs *decide.Ruleset, key string, c *condition.Context, now int64) string {
	f := rs.Flag(key)
	if f == nil {
		return ""
	}
	if v := f.Variant(f.Decide(rs, c, now).Variant); v != nil {
		return v.Name
	}
	return ""
}

// TestContext is the context of a test unit.
func TestContext(u *app.TestUnit) (*condition.Context, error) {
	c, err := condition.ParseContext(u.Attributes)
	if err != nil {
		return nil, err
	}
	return c.Keyed(u.Unit), nil
}

// drawn counts what shares are drawn by where that is no key: so many sites, so many
// recipients. Values that the rule's condition keeps out are not counted.
func (s *Service) drawn(ctx context.Context, environment int64, after *decide.Ruleset, e *Edit, p *Preview) error {
	for _, d := range e.Flags {
		place := func(at string, when *condition.Node, g flag.Gives) error {
			if g.Shares == nil {
				return nil
			}
			for _, by := range g.Shares.By {
				if by == condition.KeyAttribute {
					continue
				}
				values, err := s.Population.Units(ctx, environment, by)
				if err != nil {
					return err
				}
				taken := shift.Population{Part: values.Part}
				takes, err := after.Taking(when, true)
				if err != nil {
					return err
				}
				for _, c := range values.Units {
					if takes(c, p.At) {
						taken.Units = append(taken.Units, c)
					}
				}
				p.Drawn[at] = append(p.Drawn[at], shift.Draw(g.Shares, by, taken, condition.Intern(by)))
			}
			return nil
		}
		for i := range d.Rules {
			if err := place(d.Rules[i].ID, d.Rules[i].When, d.Rules[i].Gives); err != nil {
				return err
			}
		}
		if err := place("end", nil, d.End); err != nil {
			return err
		}
	}
	return nil
}

// judge runs the checks on the edited flags, and says which comparisons meet other types.
func (s *Service) judge(ctx context.Context, environment int64, before, after *decide.Ruleset, e *Edit,
	units shift.Population, p *Preview) error {
	attributes, declared, contexts, err := s.Population.Judge(ctx, environment)
	if err != nil {
		return err
	}
	seen := lint.NewUnits(units.Units, hides(units))
	for _, d := range e.Flags {
		find := func(rs *decide.Ruleset) []lint.Finding {
			return lint.Run(&lint.Subject{Rules: rs, Flag: d.Key, Now: p.At, Attributes: attributes,
				Catalogue: declared, Contexts: contexts, Units: seen})
		}
		stood, found := find(before), find(after)
		for i := range found {
			f := &found[i]
			f.Stands = slices.ContainsFunc(stood, func(o lint.Finding) bool {
				return o.Check == f.Check && o.Rule == f.Rule && o.Says.String() == f.Says.String()
			})
		}
		p.Lint = append(p.Lint, found...)
		for i := range d.Rules {
			d.Rules[i].When.Leaves(func(l *condition.Node) {
				kind, _, ok := strings.Cut(l.Test, ".")
				a := attributes[l.Attribute]
				all, other := uint64(0), uint64(0)
				for k, n := range a.Kinds {
					all += n
					if k != lint.Type(kind).Kind() {
						other += n
					}
				}
				if ok && l.Attribute != "" && slices.Contains(lint.Types(), lint.Type(kind)) && other > 0 {
					p.Types = append(p.Types,
						Unfit{d.Rules[i].ID, words.Say("%s did not arrive as a %s in %s of %s evaluations that were "+
							"looked at",
							words.Names(nil).Attribute(l.Attribute), lint.Type(kind).Kind(),
							words.Number(count(other)), words.Number(count(all)))})
				}
			})
		}
	}
	return nil
}

// Shift computes what saving the document would move of its own flag.
func (s *Service) Shift(ctx context.Context, e *app.Environment, doc *flag.Document) (*shift.Shift, error) {
	before, err := s.Rules(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	after, err := before.With([]*flag.Document{doc}, nil)
	if err != nil {
		return nil, err
	}
	units, err := s.Population.Units(ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	return shift.Between(before, after, doc.Key, units, s.Now().UnixMilli()), nil
}

// Overflows finds the flags that an edit would push over a limit, whichever they are: their rules
// with what they ask for would be too large to run, or ask for too many other flags. What stands
// over a limit already is not told again.
func (s *Service) Overflows(ctx context.Context, environment int64, edit Edit) ([]flag.Problem, error) {
	before, err := s.Rules(ctx, environment)
	if err != nil {
		return nil, err
	}
	after, err := before.With(edit.Flags, edit.Segments)
	if err != nil {
		return nil, err
	}
	edited := edit.flags()
	var found []flag.Problem
	for _, key := range shift.Dependents(after, edited, edit.segments()) {
		d := after.Source.Flag(key)
		if d == nil || slices.Contains(edited, key) { // its own limits are checked with it
			continue
		}
		stood := before.Source.Flag(key)
		if problems := d.CheckReferences(after.Source); len(problems) > 0 &&
			(stood == nil || len(stood.CheckReferences(before.Source)) == 0) {
			found = append(found, flag.Problem{Place: "flag " + key, Mend: "would give its resting variant to all " +
				"after this edit: " + problems[0].Place + " " + problems[0].Mend})
		}
	}
	return found, nil
}

// Lint looks at flags of an environment with every check. saved says when the document of each was
// saved last, in Unix milliseconds.
func (s *Service) Lint(ctx context.Context, e *app.Environment, defs []app.Definition,
	stands map[string]app.FlagStand) ([]lint.Finding, error) {
	rs, err := s.Rules(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	units, err := s.Population.Units(ctx, e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	attributes, declared, contexts, err := s.Population.Judge(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	found, seen := []lint.Finding{}, lint.NewUnits(units.Units, hides(units))
	for i := range defs {
		d := &defs[i]
		subject := &lint.Subject{Rules: rs, Flag: d.Key, Now: s.Now().UnixMilli(), Attributes: attributes,
			Catalogue: declared, Contexts: contexts, Units: seen, GoneBy: d.GoneBy, Muted: map[string]string{}}
		if f := rs.Flag(d.Key); f != nil && f.Same() && d.GoneBy != "stays" {
			if o := f.Decide(rs, nil, subject.Now); o.Reason == decide.Static {
				subject.OneSince = stands[d.Key].Changed
			}
		}
		for _, m := range d.Muted {
			subject.Muted[m.Check] = m.Reason
		}
		found = append(found, lint.Run(subject)...)
	}
	return found, nil
}

func count(n uint64) string {
	digits := []byte{}
	for i := 0; n > 0 || i == 0; i++ {
		if i > 0 && i%3 == 0 {
			digits = append(digits, ',')
		}
		digits = append(digits, byte('0'+n%10))
		n /= 10
	}
	slices.Reverse(digits)
	return string(digits)
}

// hides tells of attributes that the sample does not hold as they are.
func hides(p shift.Population) func(string) bool {
	return func(attribute string) bool {
		_, is := p.Hidden[attribute]
		return is
	}
}
