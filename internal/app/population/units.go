package population

import (
	"context"
	"fmt"
	"maps"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/core/shift"
)

type unitsOf struct {
	environment int64
	attribute   string
}

type lately struct {
	at         time.Time
	life       time.Duration // see unitsLife
	population shift.Population
	byHash     map[uint64]readUnit // so that what did not change is not read anew
}

type readUnit struct {
	unit    string
	context string // as it is kept
	as      *condition.Context
}

// unitsLife is how old units may be that an edit is tried on: less where they are read in no time,
// so that a small population shows at once who has come.
func unitsLife(reading time.Duration) time.Duration {
	return min(max(50*reading, 500*time.Millisecond), 10*time.Second)
}

type seen struct {
	at       time.Time
	names    map[string]*sample.Seen
	contexts uint64
}

// Units reads the population of an attribute, ready to decide with.
func (s *Service) Units(ctx context.Context, environment int64, attribute string) (shift.Population, error) {
	of := unitsOf{environment, attribute}
	s.mu.Lock()
	r, begun := s.units[of], s.changes
	s.mu.Unlock()
	if r != nil && time.Since(r.at) < r.life {
		return r.population, nil
	}
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return shift.Population{}, err
	}
	began := time.Now()
	rows, cover, err := s.Records.Population(ctx, environment, attribute)
	if err != nil {
		return shift.Population{}, err
	}
	hidden, err := s.hidden(ctx, environment, k)
	if err != nil {
		return shift.Population{}, err
	}
	next := &lately{began, 0, shift.Population{Part: cover.Part(), Hidden: hidden, Units: make([]*condition.Context, 0,
		len(rows))}, make(map[uint64]readUnit, len(rows))}
	for _, row := range rows {
		var had readUnit
		if r != nil {
			had = r.byHash[row.Hash]
		}
		if had.as == nil || had.unit != row.Unit || had.context != string(row.Context) {
			c, err := Context(attribute, row.Unit, row.Context)
			if err != nil {
				return shift.Population{}, err
			}
			had = readUnit{row.Unit, string(row.Context), c}
		}
		next.byHash[row.Hash] = had
		next.population.Units = append(next.population.Units, had.as)
	}
	next.life = unitsLife(time.Since(began))
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.units == nil {
		s.units = map[unitsOf]*lately{}
	}
	if begun == s.changes {
		s.units[of] = next
	}
	return next.population, nil
}

// hidden are the attributes that the sample does not hold as processes have them: personal ones, and
// those that they find out for themselves.
func (s *Service) hidden(ctx context.Context, environment int64, k *Known) (map[string]sample.Derivation, error) {
	// now, not as it was lately
	names, _, err := s.Records.SeenAttributes(ctx, environment, s.Now().Add(-seenFor).UnixMilli())
	if err != nil {
		return nil, err
	}
	hidden := maps.Clone(k.Personal)
	for name, one := range names {
		if _, personal := hidden[name]; one.Resolved && !personal {
			if hidden == nil {
				hidden = map[string]sample.Derivation{}
			}
			hidden[name] = sample.Resolved
		}
	}
	return hidden, nil
}

// Context makes the context of a kept unit. Values of another attribute than the key stand
// for themselves: their contexts have no key.
func Context(attribute, unit string, attributes []byte) (*condition.Context, error) {
	read, err := condition.Tree(attributes)
	tree, ok := read.(map[string]any)
	if err != nil || !ok {
		return nil, fmt.Errorf("unit %q: what is kept of it is no JSON object: %v", unit, err)
	}
	delete(tree, condition.KeyAttribute)
	tree[attribute] = unit
	return condition.ContextOf(tree)
}

// Seen reads what was seen of attributes in the last days.
func (s *Service) Seen(ctx context.Context,
	environment int64) (names map[string]*sample.Seen, contexts uint64, err error) {
	s.mu.Lock()
	r, begun := s.seen[environment], s.changes
	s.mu.Unlock()
	if r != nil && time.Since(r.at) < fresh {
		return r.names, r.contexts, nil
	}
	names, contexts, err = s.Records.SeenAttributes(ctx, environment, s.Now().Add(-seenFor).UnixMilli())
	if err != nil {
		return nil, 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.seen == nil {
		s.seen = map[int64]*seen{}
	}
	if begun == s.changes {
		s.seen[environment] = &seen{time.Now(), names, contexts}
	}
	return names, contexts, nil
}

// Judge gives what checks need to know of attributes: declared and seen.
func (s *Service) Judge(ctx context.Context,
	environment int64) (all map[string]lint.Attribute, declared bool, contexts uint64, err error) {
	k, err := s.Fresh(ctx, environment)
	if err != nil {
		return nil, false, 0, err
	}
	names, contexts, err := s.Seen(ctx, environment)
	if err != nil {
		return nil, false, 0, err
	}
	all = map[string]lint.Attribute{}
	for name, one := range names {
		mostly, _ := one.Mostly()
		all[name] = lint.Attribute{Kinds: one.Kinds, Mostly: mostly}
	}
	for _, a := range k.Attributes {
		l := all[a.Name]
		l.Declared, l.Loose = a.Type, a.Loose
		all[a.Name] = l
	}
	return all, len(k.Attributes) > 0, contexts, nil
}
