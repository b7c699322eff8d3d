package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"errors"
	"math"
	"slices"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
)

// Sampling reads how an environment is sampled, making its secrets the first time.
func (s *Store) Sampling(ctx context.Context, environment int64) (*app.Sampling, error) {
	for {
		v := new(app.Sampling)
		err := s.feed.GetContext(ctx, v, "SELECT off, days, seed, see_as FROM sampling WHERE environment_id = ?",
			environment)
		if !errors.Is(err, sql.ErrNoRows) {
			return v, fault(err)
		}
		var secret [40]byte
		rand.Read(secret[:]) // never fails
		if _, err := s.feed.ExecContext(ctx, "INSERT IGNORE INTO sampling (environment_id, seed, see_as) "+
			"VALUES (?, ?, ?)",
			environment, binary.LittleEndian.Uint64(secret[:]), secret[8:]); err != nil {
			return nil, fault(err)
		}
	}
}

// SetSampling changes how an environment is sampled; off forgets its units.
func (t *Tx) SetSampling(r *app.SamplingRecord) error {
	if err := t.exec("UPDATE sampling SET off = ?, days = ? WHERE environment_id = ?", r.Off, r.Days,
		r.EnvironmentID); err != nil {
		return err
	}
	if err := t.touch(samplingRecord(r.EnvironmentID, r.Off, r.Days)); err != nil || !r.Off {
		return err
	}
	if err := t.exec("DELETE FROM population_covers WHERE environment_id = ?", r.EnvironmentID); err != nil {
		return err
	}
	return t.exec("DELETE FROM population WHERE environment_id = ?", r.EnvironmentID)
}

type coverRow struct {
	Attribute string `db:"attribute"`
	Collected uint64 `db:"collected"`
	Used      uint64 `db:"used"`
	Since     int64  `db:"since"`
}

func (r coverRow) cover() sample.Cover {
	return sample.Cover{Collect: r.Collected, Use: r.Used, Since: r.Since}
}

// Covers reads below which hashes an environment's samples are complete, by attribute.
func (s *Store) Covers(ctx context.Context, environment int64) (map[string]sample.Cover, error) {
	rows, err := list[coverRow](ctx, s.feed, "SELECT attribute, collected, used, since FROM population_covers "+
		"WHERE environment_id = ?", environment)
	out := map[string]sample.Cover{}
	for _, r := range rows {
		out[r.Attribute] = r.cover()
	}
	return out, err
}

// MergeUnits adds what a client saw to the sample of one attribute, and adapts its cover.
// keep is how long units are kept, in milliseconds.
func (s *Store) MergeUnits(ctx context.Context, environment int64, attribute string, rows []app.UnitRow, now,
	keep int64) error {
	return s.background(ctx, func(t *Tx) error {
		whole := sample.WholeCover()
		if err := t.exec("INSERT IGNORE INTO population_covers (environment_id, attribute, collected, used, since) "+
			"VALUES (?, ?, ?, ?, ?)", environment, attribute, whole.Collect, whole.Use, whole.Since); err != nil {
			return err
		}
		var row coverRow
		if err := t.get(&row, "SELECT attribute, collected, used, since FROM population_covers "+
			"WHERE environment_id = ? AND attribute = ? FOR UPDATE", environment, attribute); err != nil {
			return err
		}
		cover := row.cover()
		wanted := make([]app.UnitRow, 0, len(rows))
		for _, r := range rows {
			if r.Hash < cover.Collect {
				wanted = append(wanted, r)
			}
		}
		for some := range slices.Chunk(wanted, portion) {
			args := make([]any, 0, 6*len(some))
			for _, r := range some {
				args = append(args, environment, attribute, r.Hash, r.Unit, r.Context, r.Seen)
			}
			if err := t.exec("INSERT INTO population (environment_id, attribute, hash, unit, context, seen) VALUES "+
				values(len(some), 6)+
				" ON DUPLICATE KEY UPDATE context = VALUES(context), seen = GREATEST(seen, VALUES(seen))",
				args...); err != nil {
				return err
			}
		}
		if err := t.exec("DELETE FROM population WHERE environment_id = ? AND attribute = ? AND seen < ?", environment,
			attribute, now-keep); err != nil {
			return err
		}
		var count int
		if err := t.get(&count, "SELECT COUNT(*) FROM population WHERE environment_id = ? AND attribute = ? "+
			"AND hash < ?", environment, attribute, cover.Collect); err != nil {
			return err
		}
		var failed error
		next := cover.Step(count, func() (kth uint64) {
			failed = t.get(&kth, "SELECT hash FROM population WHERE environment_id = ? AND attribute = ? "+
				"ORDER BY hash LIMIT 1 OFFSET ?", environment, attribute, sample.K)
			return kth
		}, now, keep)
		if failed != nil || next == cover {
			return failed
		}
		if next.Collect < math.MaxUint64 {
			if err := t.exec("DELETE FROM population WHERE environment_id = ? AND attribute = ? AND hash >= ?",
				environment, attribute, next.Collect); err != nil {
				return err
			}
		}
		return t.exec("UPDATE population_covers SET collected = ?, used = ?, since = ? WHERE environment_id = ? "+
			"AND attribute = ?", next.Collect, next.Use, next.Since, environment, attribute)
	})
}

// Population reads the sample of an attribute and the cover that it is complete for.
func (s *Store) Population(ctx context.Context, environment int64,
	attribute string) ([]app.UnitRow, sample.Cover, error) {
	covers, err := s.Covers(ctx, environment)
	if err != nil {
		return nil, sample.Cover{}, err
	}
	cover, ok := covers[attribute]
	if !ok {
		cover = sample.WholeCover()
	}
	// <= would be wrong below the top, and < would leave the top hash out; it is one in 2^64.
	rows, err := list[app.UnitRow](ctx, s.pages, "SELECT hash, unit, context, seen FROM population "+
		"WHERE environment_id = ? AND attribute = ? AND hash < ? ORDER BY hash", environment, attribute, cover.Use)
	return rows, cover, err
}

// Unit finds a unit of the population by its key; nil where it was not seen.
func (s *Store) Unit(ctx context.Context, environment int64, attribute, unit string,
	hash uint64) (*app.UnitRow, error) {
	var v app.UnitRow
	err := s.pages.GetContext(ctx, &v, "SELECT hash, unit, context, seen FROM population WHERE environment_id = ? "+
		"AND attribute = ? AND hash = ? AND unit = ?", environment, attribute, hash, unit)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &v, fault(err)
}

// EraseUnit takes a unit out of an environment's population; it tells how often it was in it.
func (t *Tx) EraseUnit(r *app.Erasure) error {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM population WHERE environment_id = ? AND unit = ?",
		r.EnvironmentID, r.Unit)
	if err != nil {
		return err
	}
	r.Erased, err = res.RowsAffected()
	return err
}

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

type attributeRow struct {
	Attribute string `db:"attribute"`
	Version   int64  `db:"version"`
	Body      []byte `db:"body"`
}

func attributes(rows []attributeRow, err error) ([]app.Attribute, error) {
	out := make([]app.Attribute, 0, len(rows))
	for _, r := range rows {
		a, e := decode[app.Attribute](r.Body)
		if e != nil {
			return nil, e
		}
		a.Name, a.Version = r.Attribute, r.Version
		out = append(out, a)
	}
	return out, err
}

// Attributes lists the attributes that a project declares, by name.
func (s *Store) Attributes(ctx context.Context, project int64) ([]app.Attribute, error) {
	return attributes(list[attributeRow](ctx, s.feed, "SELECT attribute, version, body FROM attributes "+
		"WHERE project_id = ? ORDER BY attribute", project))
}

// AttributesOf lists the attributes that an environment's project declares.
func (s *Store) AttributesOf(ctx context.Context, environment int64) ([]app.Attribute, error) {
	return attributes(list[attributeRow](ctx, s.feed, "SELECT attribute, version, body FROM attributes "+
		"WHERE project_id = (SELECT project_id FROM environments WHERE id = ?) ORDER BY attribute", environment))
}

// Attributes lists the attributes that a project declares; the project must be held.
func (t *Tx) Attributes(project int64) ([]app.Attribute, error) {
	return attributes(list[attributeRow](t.ctx, t.tx, "SELECT attribute, version, body FROM attributes "+
		"WHERE project_id = ? ORDER BY attribute", project))
}

// PutAttribute saves a declared attribute.
func (t *Tx) PutAttribute(project int64, a *app.Attribute) error {
	body := encode(a)
	if err := t.exec("INSERT INTO attributes (project_id, attribute, version, body) VALUES (?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE version = VALUES(version), body = VALUES(body)", project, a.Name, a.Version,
		body); err != nil {
		return err
	}
	return t.touch(attributeRecord(project, attributeRow{a.Name, a.Version, []byte(body)}))
}

// RemoveAttribute takes a declared attribute out of the catalogue.
func (t *Tx) RemoveAttribute(project int64, name string) error {
	if err := t.exec("DELETE FROM attributes WHERE project_id = ? AND attribute = ?", project, name); err != nil {
		return err
	}
	gone := attributeRecord(project, attributeRow{Attribute: name})
	gone.content = nil
	return t.touch(gone)
}

type testUnitRow struct {
	Unit     string `db:"unit"`
	Name     string `db:"name"`
	Context  []byte `db:"context"`
	Expected []byte `db:"expected"`
}

// TestUnits lists the test units of a project.
func (s *Store) TestUnits(ctx context.Context, project int64) ([]app.TestUnit, error) {
	rows, err := list[testUnitRow](ctx, s.pages, "SELECT unit, name, context, expected FROM test_units "+
		"WHERE project_id = ? ORDER BY unit", project)
	out := make([]app.TestUnit, 0, len(rows))
	for _, r := range rows {
		expected, e := decode[map[string]string](r.Expected)
		if e != nil {
			return nil, e
		}
		out = append(out, app.TestUnit{Unit: r.Unit, Name: r.Name, Attributes: r.Context, Expected: expected})
	}
	return out, err
}

// PutTestUnit saves a test unit.
func (t *Tx) PutTestUnit(project int64, u *app.TestUnit) error {
	expected := encode(u.Expected)
	if err := t.exec("INSERT INTO test_units (project_id, unit, name, context, expected) VALUES (?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE name = VALUES(name), context = VALUES(context), expected = VALUES(expected)", project,
		u.Unit, u.Name, []byte(u.Attributes), expected); err != nil {
		return err
	}
	return t.touch(testUnitRecord(project, testUnitRow{u.Unit, u.Name, u.Attributes, []byte(expected)}))
}

// RemoveTestUnit takes a test unit away.
func (t *Tx) RemoveTestUnit(project int64, unit string) error {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM test_units WHERE project_id = ? AND unit = ?", project, unit)
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err != nil {
		return err
	}
	if n == 0 {
		return app.Faultf(app.NotFound, "there is no test unit %q", unit)
	}
	gone := testUnitRecord(project, testUnitRow{Unit: unit})
	gone.content = nil
	return t.touch(gone)
}

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
