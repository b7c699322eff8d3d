package storetest

import (
	"os"
	"testing"

	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
)

// A look at an evidence run reads what is new in its ledger, however many units it has.
func (s *suite) ledger(t *testing.T) {
	sizes := []int{10_000, 100_000}
	if os.Getenv("GREENLEVER_SIM") != "" {
		sizes = []int{10_000, 10_000_000}
	}
	var reads []int
	for i, size := range sizes {
		run, err := s.st.OpenRun(s.ctx, &app.EvidenceRun{Release: "release-of-many", Run: i + 1, Environment: s.env.ID,
			Secret: make([]byte, 16)})
		if err != nil {
			t.Fatal(err)
		}
		// a unit each millisecond, and a thousand of them are new
		if _, err := s.db.Exec("INSERT INTO exposures (run, unit, arm, stage, cohort, exposed, events, attributes) SELECT ?, seq * "+
			"2654435761, 1 + seq MOD 2, 0, 0, seq, '', '' FROM seq_1_to_20000000 LIMIT ?", run.ID, size); err != nil {
			t.Fatal(err)
		}
		from, to := int64(size-1_000), int64(size+1_000)
		before := s.read(t)
		if err := s.st.LookAtRun(s.ctx, run.ID, func(_ *app.EvidenceRun, due app.Due) (*evidence.State,
			*app.EvidencePoint, error) {
			units, upTo, err := due(from, to)
			if len(units) != 1_001 || upTo != to {
				t.Errorf("%d units are due up to %d", len(units), upTo)
			}
			return &evidence.State{SeenTo: to}, nil, err
		}); err != nil {
			t.Fatal(err)
		}
		reads = append(reads, s.read(t)-before)
	}
	t.Logf("a look reads %v rows with %v units in the ledger", reads, sizes)
	if reads[1] > reads[0]+reads[0]/10+5 {
		t.Errorf("a look reads %d rows with %d units in the ledger, and %d with %d", reads[1], sizes[1], reads[0], sizes[0])
	}
	if _, err := s.db.Exec("DELETE FROM evidence_runs WHERE release_id = 'release-of-many'"); err != nil {
		t.Fatal(err)
	}
}

// Of a release that ran for weeks no more points are read than are drawn, evenly, and the newest is among them.
func (s *suite) points(t *testing.T) {
	const release = "release-of-weeks"
	at := 0
	for run, n := range []int{700, 1, 1_301} {
		row, err := s.st.OpenRun(s.ctx, &app.EvidenceRun{Release: release, Run: run + 1, Environment: s.env.ID,
			Secret: make([]byte, 16)})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.db.Exec("INSERT INTO evidence_points (run, at, body) SELECT ?, ? + seq, '{}' "+
			"FROM seq_1_to_2000 LIMIT ?", row.ID, at, n); err != nil {
			t.Fatal(err)
		}
		at += n
	}
	got, err := s.st.EvidencePoints(s.ctx, release, 300)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(got); n < 250 || n > 300 || got[n-1].At != int64(at) || got[n-1].Run != 3 || got[0].Run != 1 {
		t.Fatalf("%d points", n)
	}
	for i := range got[1:] {
		if step := got[i+1].At - got[i].At; step != 7 {
			t.Errorf("point %d is %d after the one before it", i+1, step)
		}
	}
	if all, err := s.st.EvidencePoints(s.ctx, release, 5_000); err != nil || len(all) != at {
		t.Errorf("of %d points %d: %v", at, len(all), err)
	}
	if _, err := s.db.Exec("DELETE FROM evidence_runs WHERE release_id = ?", release); err != nil {
		t.Fatal(err)
	}
}
