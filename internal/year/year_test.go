package year

import (
	"context"
	"io"
	"log/slog"
	"testing"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/store"
)

func TestMain(m *testing.M) { gltest.Main(m) }

// A small past is like a real one: the numbers are as asked for, chains and records are sound,
// and counts stand in the spans that their age has.
func TestPast(t *testing.T) {
	ctx := context.Background()
	st, err := store.Open(ctx, gltest.DSN(t), slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	until := time.Now().UTC().Truncate(time.Minute)
	size := Size{Days: 10, PerDay: 12, Flags: 12, Environments: 5, Instances: 8, Units: 100, Minutes: 60}
	signed := 0
	p := &Past{Store: st, Size: size, Until: until, Keeper: "ida", Sign: func(context.Context, time.Time) error {
		signed++
		return nil
	}}
	if err := st.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddAccount(&app.Account{ID: "ida", Email: "ida.holm@pinecrest.example", Name: "Ida Holm",
			Password: "none", Keeper: true}); err != nil {
			return err
		}
		_, err := tx.Append(audit.Access, audit.Entry{At: until.AddDate(-1, 0, 0).UnixMilli(), Action: "account.made",
			Subject: "ida"}, nil)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if err := p.Make(ctx); err != nil {
		t.Fatal(err)
	}
	if signed < size.Days {
		t.Errorf("heads were signed %d times in %d days", signed, size.Days)
	}
	edits := 0
	heads, err := st.Chains(ctx, p.project.ID)
	if err != nil {
		t.Fatal(err)
	}
	v := audit.NewVerifier(nil, nil)
	for _, head := range heads {
		v.Expect(head)
		if err := st.Rows(ctx, head.Chain, 0, head.Sequence, func(r *audit.Row) error {
			if r.Action == "flag.changed" {
				edits++
			}
			v.Row(r)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		c, err := st.Comparing(ctx, head)
		if err != nil {
			t.Fatal(err)
		}
		if moved, err := audit.Compare(ctx, c, v); err != nil || moved != nil {
			t.Fatalf("chain %s: %v %v", head.Chain, moved, err)
		}
	}
	if report := v.Done(); !report.Sound() {
		t.Errorf("%+v", report.Findings)
	}
	if want := size.Days * size.PerDay; edits < want*8/10 || edits > want*12/10 {
		t.Errorf("%d edits in %d days of %d", edits, size.Days, size.PerDay)
	}
	first := p.envs[0]
	all, err := st.Deliveries(ctx, first.ID, 10)
	if err != nil || len(all) != 10 || all[0].Reached != size.Instances/followed || len(delivery.Words(all)) != 10 {
		t.Errorf("deliveries: %+v %v", all, err)
	}
	instances, err := st.Instances(ctx, first.ID, 0)
	if err != nil || len(instances) != size.Instances/followed || instances[0].Revision != first.Revision {
		t.Errorf("instances: %+v %v", instances, err)
	}
	uses, err := st.Uses(ctx, first.ID, keyOf(0), until.AddDate(0, 0, -9).Unix()/60, until.Unix()/60, 1440)
	var total uint64
	for _, u := range uses {
		total += u.Count
	}
	if err != nil || total == 0 {
		t.Errorf("uses: %+v %v", uses, err)
	}
	units, _, err := st.Population(ctx, first.ID, "targetingKey")
	if err != nil || len(units) != size.Units {
		t.Errorf("%d units, %v", len(units), err)
	}
}
