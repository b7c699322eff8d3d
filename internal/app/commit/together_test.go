package commit_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/lineage"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/store"
)

func TestMain(m *testing.M) { gltest.Main(m) }

// house is the kinds of changes over real records.
type house struct {
	*commit.Service
	st    *store.Store
	ida   app.Actor
	t     *testing.T
	moved []commit.Moved
}

func build(t *testing.T) *house {
	st, err := store.Open(context.Background(), gltest.DSN(t), slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	h := &house{st: st, t: t, ida: app.Actor{Kind: "person", ID: "ida", Keeper: true,
		Grants: app.Everywhere(1, app.Keeper)}}
	h.Service = &commit.Service{Now: time.Now, Committed: func(_ context.Context, m commit.Moved) {
		h.moved = append(h.moved, m)
	},
		Kinds: commit.NewKinds((&flags.Service{}).Kinds(), (&segments.Service{}).Kinds(), environments.Kinds(),
			stops.Kinds(), lineage.Kinds()),
		Write: func(ctx context.Context, fn func(commit.Tx) error) error {
			return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
		},
		Insist: func(ctx context.Context, fn func(commit.Tx) error) error {
			return st.Insist(ctx, func(tx *store.Tx) error { return fn(tx) })
		}}
	if err := st.Write(context.Background(), func(tx *store.Tx) error {
		if err := tx.AddAccount(&app.Account{ID: "ida", Email: "ida.holm@pinecrest.example", Name: "Ida Holm",
			Keeper: true}); err != nil {
			return err
		}
		_, err := tx.Append(audit.Access, audit.Entry{Action: "account.made", Subject: "ida"}, nil)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	h.apply(commit.Change{Do: &environments.MakeProject{Key: "pinecrest"}})
	for _, key := range []string{"staging", "production"} {
		h.apply(commit.Change{In: h.in(""), Do: &environments.Make{Key: key}})
	}
	return h
}

// in is a place by the key of its environment, or the project as a whole.
func (h *house) in(environment string) commit.In {
	p, e, err := h.st.Place(context.Background(), "pinecrest", environment)
	if err != nil {
		h.t.Fatal(err)
	}
	return commit.In{Project: p, Environment: e}
}

// apply makes changes after each was written as text and read again.
func (h *house) apply(changes ...commit.Change) (json.RawMessage, error) {
	h.t.Helper()
	for i, c := range changes {
		text, err := h.Kinds.Write(c)
		if err != nil {
			h.t.Fatal(err)
		}
		if changes[i], err = h.Kinds.Read(context.Background(), text, h.st.Place); err != nil {
			h.t.Fatalf("%s: %v", text, err)
		}
	}
	return h.Apply(context.Background(), commit.Request{Actor: h.ida, Reason: "together"}, changes...)
}

// sound verifies all chains of the project, and holds the records against them.
func (h *house) sound() (entries []audit.Row) {
	h.t.Helper()
	ctx := context.Background()
	heads, err := h.st.Chains(ctx, 1)
	if err != nil {
		h.t.Fatal(err)
	}
	v := audit.NewVerifier(nil, nil)
	for _, head := range heads {
		v.Expect(head)
		if err := h.st.Rows(ctx, head.Chain, 0, head.Sequence, func(r *audit.Row) error {
			entries = append(entries, *r)
			v.Row(r)
			return nil
		}); err != nil {
			h.t.Fatal(err)
		}
		c, err := h.st.Comparing(ctx, head)
		if err != nil {
			h.t.Fatal(err)
		}
		if moved, err := audit.Compare(ctx, c, v); err != nil || moved != nil {
			h.t.Fatal(moved, err)
		}
	}
	if r := v.Done(); !r.Sound() || r.Records == 0 {
		h.t.Errorf("%+v", r)
	}
	return entries
}

func boolean(key string) *flag.Document {
	return &flag.Document{Key: key, Type: flag.Boolean, Lever: flag.On, Resting: "off", End: flag.Gives{Variant: "on"},
		Variants: map[string]json.RawMessage{"on": json.RawMessage("true"), "off": json.RawMessage("false")}}
}

// A flag and a segment are made and used at once, in both environments, and one is stopped: it is
// one change, of one revision in each environment, that followers get as a whole.
func TestTogether(t *testing.T) {
	h := build(t)
	before := len(h.sound())
	using := boolean("one-touch-open")
	using.Rules = []flag.Rule{{Name: "the pilot", When: &condition.Node{Test: condition.SegmentTest, Segment: "pilot"},
		Gives: flag.Gives{Variant: "on"}}}
	using.End = flag.Gives{Variant: "off"}
	all := []commit.Change{
		{In: h.in(""), Do: &segments.Make{Key: "pilot",
			Document: segments.Document{In: &flag.List{Units: []string{"r-1"}}}}},
		{In: h.in(""), Do: &flags.Make{Definition: app.Definition{Key: "one-touch-open", GoneBy: "stays"}}},
		{In: h.in("production"), Of: "one-touch-open", Versions: []int64{1}, Do: &flags.Put{Document: *using}},
		{In: h.in("staging"), Of: "one-touch-open", Versions: []int64{1},
			Do: &flags.Put{Document: *boolean("one-touch-open")}},
		{In: h.in("production"), Do: &stops.Stop{Flags: []string{"one-touch-open"}}},
		{In: h.in("production"), Do: &environments.Edit{AskFirst: new(true)}},
	}
	if out, err := h.apply(append(all, commit.Change{In: h.in("production"), Of: "one-touch-open",
		Versions: []int64{7}, Do: &flags.Put{Document: *using}})...); err == nil {
		t.Fatalf("%s", out)
	}
	if now := len(h.sound()); now != before {
		t.Fatalf("what was refused left %d entries", now-before)
	}
	h.moved = nil
	out, err := h.apply(all...)
	if err != nil {
		t.Fatal(err)
	}
	var results []struct{ Version, Revision int64 }
	if err := json.Unmarshal(out, &results); err != nil || len(results) != len(all) || results[2].Version != 2 ||
		results[4].Revision != 2 {
		t.Errorf("%s %v", out, err)
	}
	entries := h.sound()
	ids := map[string]int{}
	for _, r := range entries {
		var e audit.Entry
		if json.Unmarshal(r.Entry, &e) == nil && e.Reason == "together" {
			ids[e.Change]++
		}
	}
	most := 0
	for _, n := range ids {
		most = max(most, n)
	}
	if most != 10 { // two of the project, three and five of the environments
		t.Errorf("the entries bear %v", ids)
	}
	for _, key := range []string{"staging", "production"} {
		e := h.in(key).Environment
		steps := h.moved[0].Steps[e.ID]
		if e.Revision != 2 || len(steps) != 1 || len(steps[0].Event.Flags) != 1 {
			t.Errorf("%s is at revision %d, %+v", key, e.Revision, steps)
		}
		rs, err := h.st.RulesetAt(context.Background(), e.ID, 2)
		if err != nil || rs.Flag("one-touch-open").Lever != flag.On ||
			len(rs.Stops) != map[string]int{"production": 1}[key] {
			t.Errorf("%s: %+v %v", key, rs, err)
		}
	}
	if !h.in("production").Environment.AskFirst {
		t.Error("the environment does not ask first")
	}
}

// Two requests under one key at once are one change, also of several; both get its result.
func TestOnceAtOnce(t *testing.T) {
	h := build(t)
	if _, err := h.apply(commit.Change{In: h.in(""), Do: &flags.Make{Definition: app.Definition{Key: "one-touch-open",
		GoneBy: "stays"}}}); err != nil {
		t.Fatal(err)
	}
	before := len(h.sound())
	var changes []commit.Change
	for _, key := range []string{"staging", "production"} {
		changes = append(changes, commit.Change{In: h.in(key), Of: "one-touch-open", Versions: []int64{1},
			Do: &flags.Put{Document: *boolean("one-touch-open")}})
	}
	answers := make([]string, 4)
	var done sync.WaitGroup
	for i := range answers {
		done.Go(func() {
			out, err := h.Apply(context.Background(), commit.Request{Actor: h.ida, ID: "once", Digest: "same"},
				changes...)
			answers[i] = string(out)
			if err != nil {
				answers[i] = err.Error()
			}
		})
	}
	done.Wait()
	for _, a := range answers {
		if a != answers[0] || a == "" {
			t.Errorf("%s\n%s", answers[0], a)
		}
	}
	if now := len(h.sound()); now != before+2 {
		t.Errorf("%d entries of one change in two environments: %s", now-before, answers[0])
	}
}

// Where followers had what the records lost, a stop begins a new epoch in its own transaction.
func TestStopBeginsAnEpoch(t *testing.T) {
	h := build(t)
	if _, err := h.apply(commit.Change{In: h.in(""), Do: &flags.Make{Definition: app.Definition{Key: "one-touch-open",
		GoneBy: "stays"}}}); err != nil {
		t.Fatal(err)
	}
	e := h.in("production").Environment
	epoch, err := h.st.Epoch(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.st.SetBehind(context.Background(), e.ID, flag.Position{Epoch: epoch, Revision: 9}); err != nil {
		t.Fatal(err)
	}
	_, err = h.apply(commit.Change{In: h.in("production"), Of: "one-touch-open", Versions: []int64{1},
		Do: &flags.Put{Document: *boolean("one-touch-open")}})
	var f *app.Fault
	if !errors.As(err, &f) || f.More["behind"] == nil {
		t.Errorf("an edit is taken where the records lost something: %v", err)
	}
	c := commit.Change{In: h.in("production"), Do: &stops.Stop{Flags: []string{"one-touch-open"}}}
	out, err := stops.Arrive(context.Background(), h.Service, commit.Request{Actor: h.ida}, c)
	var stopped stops.Stopped
	if err != nil || json.Unmarshal(out, &stopped) != nil || stopped.Epoch == 0 || stopped.Stop == "" {
		t.Errorf("%s %v", out, err)
	}
	h.sound()
}
