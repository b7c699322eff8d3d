package storetest

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/store"
)

const week = 7 * 86_400_000 // milliseconds

func unitRows(from, to int, seen int64) (rows []app.UnitRow) {
	for i := from; i < to; i++ {
		key := fmt.Sprint("recipient-", i)
		rows = append(rows, app.UnitRow{Hash: sample.Hash(9, key), Unit: key, Context: []byte(`{"role":"recipient"}`),
			Seen: seen})
	}
	return rows
}

// The sample stays bounded and uniform, whoever merges at the same time; the smallest
// hashes are in it whatever the order.
func (s *suite) population(t *testing.T) {
	const units = 9_000
	var merging sync.WaitGroup
	for part := range 3 {
		merging.Go(func() {
			for from := part * units / 3; from < (part+1)*units/3; from += 500 {
				if err := s.st.MergeUnits(s.ctx, s.env.ID, "targetingKey", unitRows(from, from+500, 1_000), 1_000,
					week); err != nil {
					t.Error(err)
				}
			}
		})
	}
	merging.Wait()
	rows, cover, err := s.st.Population(s.ctx, s.env.ID, "targetingKey")
	if err != nil {
		t.Fatal(err)
	}
	if len(rows) < sample.K-sample.K/4 || len(rows) > sample.K+sample.K/4 || cover.Part() >= 1 {
		t.Fatalf("%d units below %.4f", len(rows), cover.Part())
	}
	have := map[string]bool{}
	for _, r := range rows {
		have[r.Unit] = true
	}
	for _, r := range unitRows(0, units, 0) {
		if (r.Hash < cover.Use) != have[r.Unit] {
			t.Fatalf("%s with hash %x is in the sample: %t, complete below %x", r.Unit, r.Hash, have[r.Unit],
				cover.Use)
		}
	}
	if estimate := float64(len(rows)) / cover.Part(); estimate < .9*units || estimate > 1.1*units {
		t.Errorf("about %.0f units, there are %d", estimate, units)
	}
	one := rows[0]
	if got, err := s.st.Unit(s.ctx, s.env.ID, "targetingKey", one.Unit, one.Hash); err != nil || got == nil ||
		got.Seen != 1_000 {
		t.Errorf("%+v %v", got, err)
	}
	s.write(t, func(tx *store.Tx) error {
		r := &app.Erasure{EnvironmentID: s.env.ID, Unit: one.Unit}
		err := tx.EraseUnit(r)
		if r.Erased != 1 {
			t.Errorf("erased %d", r.Erased)
		}
		return err
	})
	if got, err := s.st.Unit(s.ctx, s.env.ID, "targetingKey", one.Unit, one.Hash); got != nil || err != nil {
		t.Errorf("after erasing: %+v %v", got, err)
	}
	// Those that were not seen for long are gone, and more is collected again.
	if err := s.st.MergeUnits(s.ctx, s.env.ID, "targetingKey", unitRows(0, 10, week+2_000), week+2_000,
		week); err != nil {
		t.Fatal(err)
	}
	rows, after, err := s.st.Population(s.ctx, s.env.ID, "targetingKey")
	if err != nil || len(rows) > 10 || after.Collect <= cover.Collect || after.Use != cover.Use {
		t.Errorf("%d units, cover %+v, was %+v, %v", len(rows), after, cover, err)
	}
}

// Sampling has its secrets once, whoever asks first; switched off it forgets.
func (s *suite) sampling(t *testing.T) {
	var asking sync.WaitGroup
	got := make([]*app.Sampling, 8)
	for i := range got {
		asking.Go(func() {
			var err error
			if got[i], err = s.st.Sampling(s.ctx, s.env.ID); err != nil {
				t.Error(err)
			}
		})
	}
	asking.Wait()
	for _, v := range got {
		if v.Seed != got[0].Seed || !bytes.Equal(v.SeeAs, got[0].SeeAs) || len(v.SeeAs) != 32 || v.Days != 7 || v.Off {
			t.Errorf("%+v", v)
		}
	}
	s.write(t, func(tx *store.Tx) error {
		return tx.SetSampling(&app.SamplingRecord{EnvironmentID: s.env.ID, Off: true, Days: 3})
	})
	v, err := s.st.Sampling(s.ctx, s.env.ID)
	rows, cover, err2 := s.st.Population(s.ctx, s.env.ID, "targetingKey")
	if err != nil || err2 != nil || !v.Off || v.Days != 3 || len(rows) != 0 || cover.Part() != 1 {
		t.Errorf("%+v, %d units, %v %v", v, len(rows), err, err2)
	}
	rs, _, err := s.st.Ruleset(s.ctx, s.env.ID)
	if err != nil || rs.SeeAs != flag.SeeAsKey(v.SeeAs) {
		t.Errorf("the ruleset carries %q, %v", rs.SeeAs, err)
	}
}

// What was seen of attributes adds up over callers and days.
func (s *suite) seen(t *testing.T) {
	const day = 86_400_000
	one := sample.Seen{Name: "crew_size", Kinds: map[string]uint64{"string": 3, "number": 1},
		Values: []sample.ValueCount{{Value: "2", Count: 3}}, Last: 5}
	var adding sync.WaitGroup
	for range 4 {
		adding.Go(func() {
			for at := range int64(3) {
				if err := s.st.AddSeen(s.ctx, s.env.ID, at*day+10, 4, []sample.Seen{one}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	adding.Wait()
	names, contexts, err := s.st.SeenAttributes(s.ctx, s.env.ID, day)
	if err != nil || contexts != 32 || names["crew_size"].Kinds["string"] != 24 ||
		names["crew_size"].Kinds["number"] != 8 || names["crew_size"].Values[0].Count != 24 ||
		names["crew_size"].Last != 5 {
		t.Errorf("%d contexts, %+v, %v", contexts, names["crew_size"], err)
	}
	many := make([]sample.Seen, sample.MaxAttributes+50)
	for i := range many {
		many[i] = sample.Seen{Name: fmt.Sprint("x", i), Kinds: map[string]uint64{"string": 1}}
	}
	if err := s.st.AddSeen(s.ctx, s.env.ID, 9*day, 1, many); err != nil {
		t.Fatal(err)
	}
	if names, _, err = s.st.SeenAttributes(s.ctx, s.env.ID, 9*day); err != nil || len(names) > sample.MaxAttributes {
		t.Errorf("%d attributes, %v", len(names), err)
	}
}

// Long lists come back as they were kept, however many rows they take, and a ruleset has
// those that its segments name.
func (s *suite) lists(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	h := make(flag.Hashes, 300_000) // more than two rows
	next := uint64(0)
	for i := range h {
		next += 1 + rng.Uint64N(1<<40)
		h[i] = next
	}
	l := &app.ListBody{Digest: h.Digest(), Hashes: h, Units: packed("site-1", "site-2", "site-3")}
	for range 2 { // once is enough, twice does no harm
		s.write(t, func(tx *store.Tx) error { return tx.PutList(s.env.ProjectID, l, nil, 1) })
	}
	got, err := s.st.List(s.ctx, s.env.ID, l.Digest)
	if err != nil || len(got) != len(h) || got[0] != h[0] || got[len(got)-1] != h[len(h)-1] {
		t.Errorf("%d hashes, %v", len(got), err)
	}
	if units, err := s.st.ListUnits(s.ctx, s.env.ID, l.Digest); err != nil || string(units) != string(l.Units) {
		t.Errorf("%q %v", units, err)
	}
	if _, err := s.st.List(s.ctx, s.env.ID, fmt.Sprintf("%064x", 8)); err == nil {
		t.Error("a list that was never kept is found")
	}
	// An edit of a few units is kept as the difference, and reads as the whole; after many of
	// them one is whole again.
	base, written := l, 0
	for i := range 40 {
		next := append(slices.Clone(base.Hashes[:len(base.Hashes)-1]), base.Hashes[len(base.Hashes)-1]+uint64(i)+1)
		edited := &app.ListBody{Digest: next.Digest(), Hashes: next, Units: packed("site-1", fmt.Sprint("site-2", i))}
		s.write(t, func(tx *store.Tx) error { return tx.PutList(s.env.ProjectID, edited, base, 1) })
		got, err := s.st.List(s.ctx, s.env.ID, edited.Digest)
		units, err2 := s.st.ListUnits(s.ctx, s.env.ID, edited.Digest)
		if err != nil || err2 != nil || got.Digest() != edited.Digest || unpacked(t, units) != unpacked(t,
			edited.Units) {
			t.Fatalf("edit %d: %d hashes, units %q, %v %v", i, len(got), units, err, err2)
		}
		if i > 0 {
			written++
		}
		base = edited
	}
	if rows := s.count(t, "lists"); rows > 3*4+2*written+10 {
		t.Errorf("%d rows are kept of 41 lists", rows)
	}
	// Another project cannot read it.
	var elsewhere app.Environment
	s.write(t, func(tx *store.Tx) error {
		p := &app.Project{Key: "elsewhere"}
		if err := tx.AddProject(p); err != nil {
			return err
		}
		elsewhere = app.Environment{ProjectID: p.ID, Key: "production"}
		return tx.AddEnvironment(&elsewhere)
	})
	if h, err := s.st.List(s.ctx, elsewhere.ID, l.Digest); err == nil {
		t.Errorf("another project read %d hashes", len(h))
	}
	if units, err := s.st.ListUnits(s.ctx, elsewhere.ID, l.Digest); err == nil {
		t.Errorf("another project read %q", units)
	}
	doc := &flag.Segment{Key: "many", In: &flag.List{Digest: l.Digest, Count: len(h),
		Secret: "AAAAAAAAAAAAAAAAAAAAAA=="}}
	s.write(t, func(tx *store.Tx) error {
		return tx.PutSegment(&app.SegmentRecord{EnvironmentID: s.env.ID, Key: "many", Version: 1, Revision: 1,
			Document: doc})
	})
	if rs, _, err := s.st.Ruleset(s.ctx, s.env.ID); err != nil || len(rs.List(l.Digest)) != len(h) {
		t.Errorf("the ruleset lacks its list: %v", err)
	}
}

// The catalogue, test units and what is asked for.
func (s *suite) catalogue(t *testing.T) {
	project := s.env.ProjectID
	s.write(t, func(tx *store.Tx) error {
		for version := range int64(2) {
			if err := tx.PutAttribute(project, &app.Attribute{Name: "site.id", Type: "string",
				Version: version + 1}); err != nil {
				return err
			}
		}
		if err := tx.PutTestUnit(project, &app.TestUnit{Unit: "t", Name: "phone", Attributes: []byte(`{"a":1}`),
			Expected: map[string]string{"f": "on"}}); err != nil {
			return err
		}
		return tx.PutAttribute(project, &app.Attribute{Name: "gone", Type: "number", Version: 1})
	})
	s.write(t, func(tx *store.Tx) error { return tx.RemoveAttribute(project, "gone") })
	mine, err := s.st.Attributes(s.ctx, project)
	ofEnv, err2 := s.st.AttributesOf(s.ctx, s.env.ID)
	if err != nil || err2 != nil || len(mine) != 1 || mine[0].Version != 2 || mine[0].Name != "site.id" ||
		len(ofEnv) != 1 {
		t.Errorf("%+v %+v %v %v", mine, ofEnv, err, err2)
	}
	units, err := s.st.TestUnits(s.ctx, project)
	if err != nil || len(units) != 1 || units[0].Expected["f"] != "on" || string(units[0].Attributes) != `{"a":1}` {
		t.Errorf("%+v %v", units, err)
	}
	s.write(t, func(tx *store.Tx) error {
		err, again := tx.RemoveTestUnit(project, "t"), tx.RemoveTestUnit(project, "t")
		var f *app.Fault
		if !errors.As(again, &f) || f.Kind != app.NotFound {
			t.Errorf("removed again: %v", again)
		}
		return err
	})
	for _, at := range []int64{60_000, 120_000} {
		report := &wire.Report{Status: wire.Status{Instance: "i", Sequence: at, Application: "door"},
			Counts:  []wire.CountLine{{Flag: "f", Variant: "on", Count: 1}},
			Unknown: []wire.UnknownLine{{Flag: "g", Count: 2, Type: "number", Fallback: []byte("60")}}}
		if _, err := s.st.TakeReports(s.ctx, s.env.ID, []app.Incoming{{Report: report, Key: "key"}}, at); err != nil {
			t.Fatal(err)
		}
	}
	asked, err := s.st.Asked(s.ctx, s.env.ID)
	if err != nil || len(asked) != 2 || asked[1] != (app.Asked{Flag: "g", First: 60_000, Last: 120_000, Type: "number",
		Fallback: "60", Application: "door"}) {
		t.Errorf("%+v %v", asked, err)
	}
}

// packed are units as they are kept: one a line, with gzip.
func packed(units ...string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	for _, u := range units {
		fmt.Fprintln(z, u)
	}
	_ = z.Close() // into memory
	return b.Bytes()
}

func unpacked(t *testing.T, raw []byte) string {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
