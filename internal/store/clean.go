package store

import (
	"context"
	"errors"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
)

// CleanUnits takes out of stored units what their project has declared personal since: only
// what is derived of it stays, and units that are values of such an attribute go.
func (s *Store) CleanUnits(ctx context.Context, environment int64, personal map[string]sample.Derivation) error {
	var failed error
	for name, derive := range personal {
		failed = errors.Join(failed,
			s.forget(ctx, "DELETE FROM population WHERE environment_id = ? AND attribute = ?", environment, name),
			s.cleanAttribute(ctx, environment, name, derive, personal), s.cleanSeen(ctx, environment, name))
	}
	return failed
}

func (s *Store) cleanAttribute(ctx context.Context, environment int64, name string, derive sample.Derivation,
	personal map[string]sample.Derivation) error {
	path := `$."` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
	after := struct {
		Attribute string
		Hash      uint64
	}{}
	return rounds(ctx, func(ctx context.Context) (int64, error) {
		rows, err := list[struct {
			Attribute string `db:"attribute"`
			Hash      uint64 `db:"hash"`
			Context   []byte `db:"context"`
		}](ctx, s.work, "SELECT attribute, hash, context FROM population WHERE environment_id = ? "+
			"AND (attribute, hash) > (?, ?) AND JSON_EXISTS(context, ?) ORDER BY attribute, hash LIMIT 500",
			environment, after.Attribute, after.Hash, path)
		for _, r := range rows {
			after.Attribute, after.Hash = r.Attribute, r.Hash
			c, e := condition.ParseContext(r.Context)
			if e != nil {
				continue
			}
			clean, _ := sample.Clean(c, personal)
			if v, stays := clean[name]; stays && derived(v, derive) && strings.Contains(string(r.Context), encode(v)) {
				continue // it is what was derived
			}
			if _, e := s.work.ExecContext(ctx, "UPDATE population SET context = ? WHERE environment_id = ? "+
				"AND attribute = ? AND hash = ?", encode(clean), environment, r.Attribute, r.Hash); e != nil {
				return 0, fault(e)
			}
		}
		return int64(len(rows)), err
	})
}

// derived tells whether a stored value is one that was derived.
func derived(v any, derive sample.Derivation) bool {
	if text, is := v.(string); is {
		return derive != sample.Domain || strings.HasPrefix(text, "@")
	}
	return true
}

// cleanSeen forgets the values that were seen of an attribute.
func (s *Store) cleanSeen(ctx context.Context, environment int64, name string) error {
	rows, err := list[struct {
		Day  int64  `db:"day"`
		Body []byte `db:"body"`
	}](ctx, s.work, "SELECT day, body FROM seen_attributes WHERE environment_id = ? AND attribute = ?", environment,
		name)
	for _, r := range rows {
		b, e := decode[seenBody](r.Body)
		if e != nil || len(b.Values) == 0 {
			continue
		}
		b.Values = nil
		if _, e := s.work.ExecContext(ctx, "UPDATE seen_attributes SET body = ? WHERE environment_id = ? "+
			"AND day = ? AND attribute = ?", encode(&b), environment, r.Day, name); e != nil {
			return fault(e)
		}
	}
	return err
}
