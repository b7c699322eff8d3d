package store

import (
	"context"
	"slices"
	"strings"

	"greenlever.example/core/sample"
)

var _ = keeps(
	Kept{Table: "seen_attributes", Option: "keep-seen-attributes", Days: 30,
		Why: "what was seen of attributes, by day"},
)

// seenBody is a day of one attribute.
type seenBody struct {
	Kinds    map[string]uint64 `json:"kinds,omitempty"`
	Values   map[string]uint64 `json:"values,omitempty"`
	Last     int64             `json:"last,omitempty"`
	Contexts uint64            `json:"contexts,omitempty"`
	Resolved bool              `json:"resolved,omitempty"`
}

type seenRow struct {
	Attribute string `db:"attribute"`
	Body      []byte `db:"body"`
}

func (b *seenBody) add(o *sample.Seen, contexts uint64) {
	if b.Kinds == nil {
		b.Kinds = map[string]uint64{}
	}
	if b.Values == nil { // none were kept while it came as a list
		b.Values = map[string]uint64{}
	}
	for k, n := range o.Kinds {
		b.Kinds[k] += n
	}
	for _, v := range o.Values {
		sample.CountValue(b.Values, v.Value, v.Count)
	}
	b.Last = max(b.Last, o.Last)
	b.Contexts += contexts
	b.Resolved = b.Resolved || o.Resolved
}

const dayMillis = 86_400_000

// AddSeen adds what a client saw of attributes.
func (s *Store) AddSeen(ctx context.Context, environment, now int64, contexts uint64, seen []sample.Seen) error {
	day := now / dayMillis
	return s.background(ctx, func(t *Tx) error {
		// The row of all contexts is held first, so that those who add wait in one queue.
		if err := t.exec("INSERT IGNORE INTO seen_attributes (environment_id, day, attribute, body) "+
			"VALUES (?, ?, '', '{}')", environment, day); err != nil {
			return err
		}
		var whole []byte
		if err := t.get(&whole, "SELECT body FROM seen_attributes WHERE environment_id = ? AND day = ? "+
			"AND attribute = '' FOR UPDATE", environment, day); err != nil {
			return err
		}
		var rows []seenRow
		if err := t.list(&rows, "SELECT attribute, body FROM seen_attributes WHERE environment_id = ? AND day = ?",
			environment, day); err != nil {
			return err
		}
		have := map[string]*seenBody{}
		for _, r := range rows {
			b, err := decode[seenBody](r.Body)
			if err != nil {
				return err
			}
			have[r.Attribute] = &b
		}
		put := func(name string, o *sample.Seen, n uint64) error {
			b := have[name]
			if b == nil {
				if len(have) > sample.MaxAttributes {
					return nil
				}
				b = &seenBody{}
				have[name] = b
			}
			b.add(o, n)
			return t.exec("INSERT INTO seen_attributes (environment_id, day, attribute, body) VALUES (?, ?, ?, ?) "+
				"ON DUPLICATE KEY UPDATE body = VALUES(body)", environment, day, name, encode(b))
		}
		if err := put("", &sample.Seen{}, contexts); err != nil {
			return err
		}
		for i := range seen {
			if err := put(seen[i].Name, &seen[i], 0); err != nil {
				return err
			}
		}
		return nil
	})
}

// SeenAttributes sums what was seen of attributes since a time, by name, and says in how
// many contexts was looked.
func (s *Store) SeenAttributes(ctx context.Context, environment,
	since int64) (map[string]*sample.Seen, uint64, error) {
	rows, err := list[seenRow](ctx, s.pages, "SELECT attribute, body FROM seen_attributes WHERE environment_id = ? "+
		"AND day >= ? ORDER BY day", environment, since/dayMillis)
	if err != nil {
		return nil, 0, err
	}
	sums := map[string]*seenBody{}
	var contexts uint64
	for _, r := range rows {
		b, err := decode[seenBody](r.Body)
		if err != nil {
			return nil, 0, err
		}
		contexts += b.Contexts
		if r.Attribute == "" {
			continue
		}
		if sums[r.Attribute] == nil {
			sums[r.Attribute] = &seenBody{}
		}
		one := sample.Seen{Kinds: b.Kinds, Last: b.Last, Resolved: b.Resolved}
		for v, n := range b.Values {
			one.Values = append(one.Values, sample.ValueCount{Value: v, Count: n})
		}
		sums[r.Attribute].add(&one, 0)
	}
	out := map[string]*sample.Seen{}
	for name, b := range sums {
		one := &sample.Seen{Name: name, Kinds: b.Kinds, Last: b.Last, Values: []sample.ValueCount{},
			Resolved: b.Resolved}
		for v, n := range b.Values {
			one.Values = append(one.Values, sample.ValueCount{Value: v, Count: n})
		}
		slices.SortFunc(one.Values, func(a, b sample.ValueCount) int {
			if a.Count != b.Count {
				return int(int64(b.Count) - int64(a.Count))
			}
			return strings.Compare(a.Value, b.Value)
		})
		out[name] = one
	}
	return out, contexts, nil
}
