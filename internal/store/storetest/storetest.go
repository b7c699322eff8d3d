// Package storetest is the conformance suite of the records: what every store of them must
// hold, on a real server.
package storetest

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/store"
)

// Run runs the suite on a store over a fresh database, which db reaches by itself.
func Run(t *testing.T, st *store.Store, db *sql.DB) {
	s := &suite{st: st, ctx: context.Background(), db: db}
	s.write(t, func(tx *store.Tx) error {
		p := &app.Project{Key: "pinecrest", Title: "Pinecrest"}
		if err := tx.AddProject(p); err != nil {
			return err
		}
		s.env = &app.Environment{ProjectID: p.ID, Key: "production", Title: "Production", AskFirst: true}
		return tx.AddEnvironment(s.env)
	})
	t.Run("all or nothing", s.allOrNothing)
	t.Run("gathered writes", s.gathered)
	t.Run("the past is kept", s.past)
	t.Run("deadlocks are run again", s.deadlocks)
	t.Run("revisions have no gap", s.revisions)
	t.Run("one result per idempotency key", s.idempotency)
	t.Run("chains", s.chains)
	t.Run("stops at a revision", s.stops)
	t.Run("keys are taken once", s.unique)
	t.Run("people", s.people)
	t.Run("the population is bounded and uniform", s.population)
	t.Run("sampling", s.sampling)
	t.Run("what is seen adds up", s.seen)
	t.Run("long lists", s.lists)
	t.Run("catalogue, test units and what is asked for", s.catalogue)
	t.Run("a caller's time limit", s.limits)
	t.Run("leases and fences", s.leases)
	t.Run("a look at a ledger costs what is new", s.ledger)
	t.Run("a long run is drawn by few points", s.points)
	t.Run("idle environments cost nothing", s.idle)
	t.Run("reports are taken once", s.reports)
}

type suite struct {
	st  *store.Store
	ctx context.Context
	env *app.Environment
	db  *sql.DB
}

func (s *suite) write(t *testing.T, fn func(*store.Tx) error) {
	t.Helper()
	if err := s.st.Write(s.ctx, spoken(fn)); err != nil {
		t.Fatal(err)
	}
}

// count counts the rows of a table, in the database itself.
func (s *suite) count(t *testing.T, table string) (n int) {
	t.Helper()
	if err := s.db.QueryRow("SELECT COUNT(*) FROM " + table).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// spoken has an entry speak of what fn writes; a transaction without one would not commit.
func spoken(fn func(*store.Tx) error) func(*store.Tx) error {
	return func(tx *store.Tx) error {
		if err := fn(tx); err != nil {
			return err
		}
		_, err := tx.Append("test", audit.Entry{Action: "tested"}, nil)
		return err
	}
}

// put saves a version of a flag with the environment's next revision.
func (s *suite) put(tx *store.Tx, key string, version int64, lever flag.Lever) (int64, error) {
	env, err := tx.LockEnvironment(s.env.ID)
	if err != nil {
		return 0, err
	}
	d := &flag.Document{Key: key, Type: flag.Boolean, Lever: lever, Resting: "off", End: flag.Gives{Variant: "off"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
	raw, err := json.Marshal(d)
	if err != nil {
		return 0, err
	}
	if err := tx.PutFlag(&app.FlagRecord{EnvironmentID: env.ID, Key: key, Version: version, Revision: env.Revision + 1,
		Document: d}); err != nil {
		return 0, err
	}
	return env.Revision + 1, tx.AddRevision(env.ID, &flag.Event{Format: 1, Revision: env.Revision + 1,
		At: time.Now().UnixMilli(), Flags: []json.RawMessage{raw}}, "change")
}

// Writes wait for the next message: what is read comes after them, also where an error of one
// shows only then, and nothing of the transaction is there in the end.
func (s *suite) gathered(t *testing.T) {
	before, flags := s.count(t, "revisions"), s.count(t, "flags")
	s.write(t, func(tx *store.Tx) error {
		if _, err := s.put(tx, "gathered", 1, flag.On); err != nil {
			return err
		}
		now, err := tx.Flag(s.env.ID, "gathered")
		if err == nil && now.Document.Lever != flag.On {
			err = fmt.Errorf("what was written a moment ago reads as %+v", now)
		}
		return err
	})
	twice := func(look func(tx *store.Tx) error) error {
		return s.st.Write(s.ctx, spoken(func(tx *store.Tx) error {
			if _, err := s.put(tx, "gathered", 1, flag.Off); err != nil { // version 1 is there
				return err
			}
			return look(tx)
		}))
	}
	for name, look := range map[string]func(tx *store.Tx) error{
		"the commit": func(*store.Tx) error { return nil },
		"a row":      func(tx *store.Tx) error { _, err := tx.Flag(s.env.ID, "gathered"); return err },
		"rows":       func(tx *store.Tx) error { _, err := tx.Flags(s.env.ID); return err },
		"a lock":     func(tx *store.Tx) error { _, err := tx.LockEnvironments(s.env.ProjectID); return err },
		"an error that is not passed on": func(tx *store.Tx) error {
			_, _ = tx.Flags(s.env.ID)
			return nil
		},
	} {
		if err := twice(look); err == nil || !strings.Contains(err.Error(), "Duplicate") {
			t.Errorf("before %s: %v", name, err)
		}
	}
	if r, f := s.count(t, "revisions"), s.count(t, "flags"); r != before+1 || f != flags+1 {
		t.Errorf("%d and %d rows more, of one change", r-before, f-flags)
	}
	// Values that look like statements are values.
	odd := []string{"'; DROP TABLE stops; -- ", `\'; DROP TABLE stops; -- `, `\\`, "\x00'", "\"; COMMIT; ", "ü💥\n;\n",
		"?", "/* */ # --", strings.Repeat("'", 999)}
	var at int64
	s.write(t, func(tx *store.Tx) error {
		env, err := tx.LockEnvironment(s.env.ID)
		if err != nil {
			return err
		}
		at = env.Revision + 1
		if err := tx.AddStop(&app.StopRecord{ID: "odd", EnvironmentID: env.ID, Flags: odd, By: odd[0], At: 1,
			Reason: strings.Join(odd, ";"), Revision: at}); err != nil {
			return err
		}
		return tx.AddRevision(env.ID, &flag.Event{Format: 1, Revision: at, Lifted: odd}, odd[1])
	})
	if all, err := s.st.Revisions(s.ctx, s.env.ID, at-1, "", 1); err != nil || len(all) != 1 ||
		!slices.Equal(all[0].Lifted, odd) {
		t.Errorf("odd texts come back as %+v, %v", all, err)
	}
	if all, err := s.st.Stops(s.ctx, s.env.ID, 0); err != nil || len(all) != 1 || all[0].By != odd[0] ||
		all[0].Reason != strings.Join(odd, ";") || !slices.Equal(all[0].Flags, odd) {
		t.Errorf("odd texts come back as %+v, %v", all, err)
	}
	before++
	s.write(t, func(tx *store.Tx) error {
		return tx.LiftStops(&app.Lift{IDs: []string{"odd"}, By: "x", At: 2, Revision: at})
	})
	// More than one message takes.
	s.write(t, func(tx *store.Tx) error {
		env, err := tx.LockEnvironment(s.env.ID)
		for i := range 40 {
			if err == nil {
				env.Revision++
				err = tx.AddRevision(env.ID, &flag.Event{Format: 1, Revision: env.Revision,
					Lifted: []string{strings.Repeat("x", 20_000+i)}}, "change")
			}
		}
		return err
	})
	if r := s.count(t, "revisions"); r != before+41 {
		t.Errorf("%d revisions more, of 41", r-before)
	}
}

func (s *suite) allOrNothing(t *testing.T) {
	no := errors.New("no")
	before, err := s.st.Heads(s.ctx, []int64{s.env.ID})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.st.Write(s.ctx, func(tx *store.Tx) error {
		if _, err := s.put(tx, "half", 1, flag.On); err != nil {
			return err
		}
		return no
	}); !errors.Is(err, no) {
		t.Fatalf("the use case's own error came back as %v", err)
	}
	after, _ := s.st.Heads(s.ctx, []int64{s.env.ID})
	if before[s.env.ID] != after[s.env.ID] {
		t.Error("a revision of a transaction that failed was kept")
	}
	var f *app.Fault
	if _, err := s.st.Flag(s.ctx, s.env.ID, "half"); !errors.As(err, &f) || f.Kind != app.NotFound {
		t.Errorf("a flag of a transaction that failed: %v", err)
	}
}

func (s *suite) past(t *testing.T) {
	var revisions []int64
	for v := int64(1); v <= 4; v++ {
		lever := []flag.Lever{flag.Off, flag.On}[v%2]
		s.write(t, func(tx *store.Tx) error {
			r, err := s.put(tx, "past", v, lever)
			revisions = append(revisions[:v-1], r)
			return err
		})
	}
	for i, r := range revisions {
		rs, err := s.st.RulesetAt(s.ctx, s.env.ID, r)
		if err != nil {
			t.Fatal(err)
		}
		if want := []flag.Lever{flag.Off, flag.On}[(i+1)%2]; rs.Flag("past").Lever != want || rs.Revision != r {
			t.Errorf("revision %d: lever %s, want %s", r, rs.Flag("past").Lever, want)
		}
	}
	if rs, err := s.st.RulesetAt(s.ctx, s.env.ID, revisions[0]-1); err == nil && rs.Flag("past") != nil {
		t.Error("the flag is there before it was made")
	}
	if _, err := s.st.RulesetAt(s.ctx, s.env.ID, 10_000); err == nil {
		t.Error("a revision of the future is read")
	}
	events, err := s.st.Revisions(s.ctx, s.env.ID, revisions[0], "", 2)
	if err != nil || len(events) != 2 || events[0].Revision != revisions[1] {
		t.Errorf("%+v %v", events, err)
	}
}

// Two transactions that take two rows in opposite orders deadlock; both succeed in the end.
func (s *suite) deadlocks(t *testing.T) {
	var other app.Environment
	s.write(t, func(tx *store.Tx) error {
		other = app.Environment{ProjectID: s.env.ProjectID, Key: "other"}
		return tx.AddEnvironment(&other)
	})
	var both, met sync.WaitGroup
	met.Add(2)
	for _, order := range [][]int64{{s.env.ID, other.ID}, {other.ID, s.env.ID}} {
		both.Go(func() {
			first := true
			if err := s.st.Write(s.ctx, func(tx *store.Tx) error {
				if _, err := tx.LockEnvironment(order[0]); err != nil {
					return err
				}
				if first { // each holds its first row before either asks for its second
					first = false
					met.Done()
					met.Wait()
				}
				_, err := tx.LockEnvironment(order[1])
				return err
			}); err != nil {
				t.Errorf("a transaction that lost a deadlock: %v", err)
			}
		})
	}
	both.Wait()
}

func (s *suite) revisions(t *testing.T) {
	before, _ := s.st.Heads(s.ctx, []int64{s.env.ID})
	const writers, each = 6, 15
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for v := range int64(each) {
				if err := s.st.Write(s.ctx, spoken(func(tx *store.Tx) error {
					_, err := s.put(tx, fmt.Sprintf("writer-%d", w), v+1, flag.On)
					return err
				})); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	events, err := s.st.Revisions(s.ctx, s.env.ID, before[s.env.ID].Revision, "", 1000)
	if err != nil || len(events) != writers*each {
		t.Fatalf("%d revisions, %v", len(events), err)
	}
	for i, e := range events {
		if e.Revision != before[s.env.ID].Revision+int64(i)+1 {
			t.Fatalf("revision %d follows %d others", e.Revision, i)
		}
	}
}

func (s *suite) idempotency(t *testing.T) {
	var all sync.WaitGroup
	results := make([]string, 8)
	for i := range results {
		all.Go(func() {
			if err := s.st.Write(s.ctx, func(tx *store.Tx) error {
				request, result, err := tx.Remembered("somebody", "once")
				if err != nil {
					return err
				}
				if request == "" {
					if err := tx.Claim("somebody", "once", "digest", 1); err != nil {
						return err
					}
					result = fmt.Appendf(nil, "by %d", i)
					if err := tx.Remember("somebody", "once", result); err != nil {
						return err
					}
				}
				results[i] = string(result)
				return nil
			}); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for _, r := range results {
		if r != results[0] {
			t.Fatalf("one key, several results: %v", results)
		}
	}
	if err := s.st.Forget(s.ctx, time.Now().UnixMilli(), nil); err != nil {
		t.Fatal(err)
	}
	s.write(t, func(tx *store.Tx) error {
		if request, _, err := tx.Remembered("somebody", "once"); request != "" || err != nil {
			t.Errorf("not forgotten: %q %v", request, err)
		}
		return nil
	})
}

func (s *suite) chains(t *testing.T) {
	chain := audit.EnvironmentChain(s.env.ID)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			for range 8 {
				texts, personal := audit.Differences([]diff.Line{{Text: "+ ⟨0⟩", Personal: []string{"recipient-17"}}})
				if err := s.st.Write(s.ctx, func(tx *store.Tx) error {
					if _, err := tx.LockEnvironment(s.env.ID); err != nil {
						return err
					}
					_, err := tx.Append(chain, audit.Entry{Action: "flag.changed", Project: s.env.ProjectID,
						Environment: s.env.ID, At: 5, Difference: texts}, personal)
					return err
				}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	heads, err := s.st.Chains(s.ctx, s.env.ProjectID)
	if err != nil || len(heads) != 1 || heads[0].Sequence != 40 {
		t.Fatalf("%+v %v", heads, err)
	}
	v := audit.NewVerifier(nil, nil)
	v.Expect(heads[0])
	if err := s.st.Rows(s.ctx, chain, 0, heads[0].Sequence, func(r *audit.Row) error {
		v.Row(r)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if r := v.Done(); !r.Sound() || r.Entries != 40 {
		t.Errorf("%+v", r)
	}
	rows, err := s.st.History(s.ctx, audit.Query{Project: s.env.ProjectID, Environment: s.env.ID, Limit: 3})
	if err != nil || len(rows) != 3 || rows[0].Sequence != 40 {
		t.Fatalf("%+v %v", rows, err)
	}
	if e, err := rows[0].Read(); err != nil || e.Difference[0] != `+ "recipient-17"` {
		t.Errorf("%+v %v", e, err)
	}
	older, err := s.st.History(s.ctx, audit.Query{Project: s.env.ProjectID, Limit: 3,
		Before: audit.Cursor{At: rows[2].At, Chain: rows[2].Chain, Sequence: rows[2].Sequence}})
	if err != nil || older[0].Sequence != 37 {
		t.Errorf("%+v %v", older, err)
	}
}

func (s *suite) stops(t *testing.T) {
	var made, lifted int64
	s.write(t, func(tx *store.Tx) error {
		r, err := s.put(tx, "stopped", 1, flag.On)
		made = r
		if err != nil {
			return err
		}
		return tx.AddStop(&app.StopRecord{ID: "stop", EnvironmentID: s.env.ID, Flags: []string{"stopped"}, By: "x",
			At: 1, Revision: r})
	})
	s.write(t, func(tx *store.Tx) error {
		r, err := s.put(tx, "stopped", 2, flag.On)
		lifted = r
		if err != nil {
			return err
		}
		return tx.LiftStops(&app.Lift{IDs: []string{"stop"}, By: "y", At: 2, Revision: r})
	})
	for revision, want := range map[int64]int{made - 1: 0, made: 1, lifted: 0} {
		rs, err := s.st.RulesetAt(s.ctx, s.env.ID, revision)
		if err != nil || len(rs.Stops) != want {
			t.Errorf("revision %d: %d stops, want %d (%v)", revision, len(rs.Stops), want, err)
		}
	}
	if all, err := s.st.Stops(s.ctx, s.env.ID, 100); err != nil || len(all) != 1 || all[0].LiftedBy != "y" {
		t.Errorf("%+v %v", all, err)
	}
}

func (s *suite) unique(t *testing.T) {
	var f *app.Fault
	for name, add := range map[string]func(tx *store.Tx) error{
		"project": func(tx *store.Tx) error { return tx.AddProject(&app.Project{Key: "pinecrest"}) },
		"environment": func(tx *store.Tx) error {
			return tx.AddEnvironment(&app.Environment{ProjectID: s.env.ProjectID, Key: "production"})
		},
		"definition": func(tx *store.Tx) error {
			d := &app.Definition{ProjectID: s.env.ProjectID, Key: "a"}
			return errors.Join(tx.AddDefinition(d), tx.AddDefinition(d))
		},
		"segment": func(tx *store.Tx) error {
			d := &app.SegmentDefinition{ProjectID: s.env.ProjectID, Key: "a", Created: 1}
			return errors.Join(tx.AddSegmentDefinition(d), tx.AddSegmentDefinition(d))
		},
		"account": func(tx *store.Tx) error {
			a, b := &app.Account{ID: "1", Email: "a@pinecrest.example"},
				&app.Account{ID: "2", Email: "a@pinecrest.example"}
			return errors.Join(tx.AddAccount(a), tx.AddAccount(b))
		},
	} {
		if err := s.st.Write(s.ctx, add); !errors.As(err, &f) || f.Kind != app.Invalid {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A caller who waits no longer gets an error in time, also while somebody holds the lock.
func (s *suite) limits(t *testing.T) {
	held, release := make(chan struct{}), make(chan struct{})
	var holder sync.WaitGroup
	holder.Go(func() {
		_ = s.st.Write(s.ctx, func(tx *store.Tx) error {
			_, err := tx.LockEnvironment(s.env.ID)
			close(held)
			<-release
			return err
		})
	})
	<-held
	ctx, cancel := context.WithTimeout(s.ctx, 50*time.Millisecond)
	defer cancel()
	if err := s.st.Write(ctx, func(tx *store.Tx) error {
		_, err := tx.LockEnvironment(s.env.ID)
		return err
	}); err == nil {
		t.Error("a lock that somebody holds was given")
	}
	close(release)
	holder.Wait()
}
