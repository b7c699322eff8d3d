package population

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// records stand for the real ones, and can fail.
type records struct {
	mu         sync.Mutex
	broken     bool
	reads      int
	attributes []app.Attribute
	merged     map[string][]app.UnitRow
	seen       []sample.Seen
	off        bool
	between    func() // called once, after the sampling was read
}

var errBroken = errors.New("no connection")

func (r *records) Sampling(context.Context, int64) (*app.Sampling, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reads++
	if r.broken {
		return nil, errBroken
	}
	read := &app.Sampling{Seed: 5, Days: 7, Off: r.off}
	if between := r.between; between != nil {
		r.between = nil
		between()
	}
	return read, nil
}

func (r *records) AttributesOf(context.Context, int64) ([]app.Attribute, error) {
	return r.attributes, nil
}
func (r *records) Covers(context.Context, int64) (map[string]sample.Cover, error) {
	return map[string]sample.Cover{}, nil
}

func (r *records) MergeUnits(_ context.Context, _ int64, name string, rows []app.UnitRow, _, _ int64) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.merged[name] = append(r.merged[name], rows...)
	return nil
}

func (r *records) Population(_ context.Context, _ int64, name string) ([]app.UnitRow, sample.Cover, error) {
	return r.merged[name], sample.WholeCover(), nil
}

func (r *records) AddSeen(_ context.Context, _, _ int64, _ uint64, seen []sample.Seen) error {
	r.seen = append(r.seen, seen...)
	return nil
}

func (r *records) SeenAttributes(context.Context, int64, int64) (map[string]*sample.Seen, uint64, error) {
	return map[string]*sample.Seen{"crew_size": {Kinds: map[string]uint64{"string": 400}}}, 400, nil
}

func newService(r *records) *Service {
	r.merged = map[string][]app.UnitRow{}
	return &Service{Records: r, Now: func() time.Time { return time.UnixMilli(1_796_083_200_000) }}
}

var ctx = context.Background()

// What is known goes on being known while the records cannot be reached.
func TestKnownOutlivesAnOutage(t *testing.T) {
	r := &records{attributes: []app.Attribute{{Name: "email", Type: "string", Personal: true},
		{Name: "badge", Type: "string", ServerOnly: true}}}
	s := newService(r)
	if k, err := s.Known(ctx, 1); err != nil || !k.ServerOnly["badge"] || k.Personal["email"] != sample.Nothing {
		t.Fatalf("%+v %v", k, err)
	}
	r.mu.Lock()
	r.broken = true
	r.mu.Unlock()
	s.Forget()
	if k, err := s.Known(ctx, 1); err != nil || !k.ServerOnly["badge"] {
		t.Errorf("%+v %v", k, err)
	}
	if _, err := s.Known(ctx, 2); !errors.Is(err, errBroken) {
		t.Errorf("of another environment: %v", err)
	}
}

// What was read while something was changed is old when it arrives: who asks after the change gets what was changed.
func TestWhatWasReadAcrossAChange(t *testing.T) {
	r := &records{}
	s := newService(r)
	r.between = func() { r.off = true; s.Forget() }
	if k, err := s.Fresh(ctx, 1); err != nil || k.Sampling.Off {
		t.Fatalf("%+v %v", k, err)
	}
	if k, err := s.Fresh(ctx, 1); err != nil || !k.Sampling.Off {
		t.Errorf("%+v %v", k, err)
	}
}

// A report is a claim: the hash is the service's own, personal attributes are taken out once
// more, and what does not fit is left out.
func TestTakeTrustsNobody(t *testing.T) {
	r := &records{attributes: []app.Attribute{{Name: "email", Type: "string", Personal: true, Derive: sample.Domain}}}
	s := newService(r)
	report := &wire.Report{Contexts: 3, Seen: []sample.Seen{{Name: "email", Kinds: map[string]uint64{"string": 3},
		Values: []sample.ValueCount{{Value: "a@b", Count: 3}}}, {Name: "", Kinds: map[string]uint64{"string": 1}}},
		Units: []wire.UnitLine{
			{Of: "targetingKey", Hash: "0", Unit: "recipient-1",
				Attributes: json.RawMessage(`{"email":"ida@pinecrest.example","site":{"id":"site-1"}}`),
				Seen:       1 << 60},
			{Of: "targetingKey", Hash: "0", Unit: "", Attributes: json.RawMessage(`{}`)},
			{Of: "targetingKey", Hash: "0", Unit: "broken", Attributes: json.RawMessage(`[1]`)},
			{Of: "email", Hash: "0", Unit: "ida@pinecrest.example", Attributes: json.RawMessage(`{}`)},
		}}
	if err := s.Take(ctx, 1, []*wire.Report{report}); err != nil {
		t.Fatal(err)
	}
	rows := r.merged["targetingKey"]
	if len(rows) != 1 || rows[0].Hash != sample.Hash(5, "recipient-1") || rows[0].Seen > s.Now().UnixMilli() ||
		len(r.merged["email"]) != 0 {
		t.Fatalf("%+v", r.merged)
	}
	c, err := Context("targetingKey", rows[0].Unit, rows[0].Context)
	if err != nil || c.Key() != "recipient-1" || c.Lookup(condition.Intern("email")).Text() != "@pinecrest.example" ||
		c.Lookup(condition.Intern("site.id")).Text() != "site-1" {
		t.Errorf("%s %v", rows[0].Context, err)
	}
	if len(r.seen) != 1 || len(r.seen[0].Values) != 0 {
		t.Errorf("%+v", r.seen)
	}
	r.off = true
	s.Forget()
	if err := s.Take(ctx, 1, []*wire.Report{report}); err != nil || len(r.merged["targetingKey"]) != 1 {
		t.Errorf("switched off: %+v %v", r.merged, err)
	}
}

// What the service decides itself is sampled like what clients decide.
func TestNoteAndFlush(t *testing.T) {
	r := &records{attributes: []app.Attribute{{Name: "email", Type: "string", Personal: true}}}
	s := newService(r)
	raw, _ := json.Marshal(flag.Document{Key: "f", Type: flag.Boolean, Lever: flag.On, Resting: "off",
		Variants: map[string]json.RawMessage{"on": []byte("true"), "off": []byte("false")},
		End: flag.Gives{Shares: &flag.Shares{By: []string{"site.id"}, Salt: "s", Hash: 1,
			Parts: []flag.Part{{Variant: "on", Share: 1_000_000, Ranges: []flag.Ranges{{0, 1_000_000}}}}}}})
	source, err := flag.NewRuleset(&flag.Snapshot{Format: 1, Flags: []json.RawMessage{raw}})
	if err != nil {
		t.Fatal(err)
	}
	f := decide.Compile(source, nil).Flag("f")
	k, err := s.Known(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	for range 40 {
		unit, _ := condition.ParseContext([]byte(`{"targetingKey":"recipient-1","site.id":"site-1","email":"a@b"}`))
		s.Note(k, 1, f.Draws, unit)
	}
	if err := s.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if len(r.merged["targetingKey"]) != 1 || len(r.merged["site.id"]) != 1 ||
		string(r.merged["targetingKey"][0].Context) != `{"site.id":"site-1"}` {
		t.Errorf("%+v", r.merged)
	}
	if err := s.Flush(ctx); err != nil || len(r.merged["targetingKey"]) != 1 {
		t.Errorf("flushed twice: %+v %v", r.merged, err)
	}
	p, err := s.Units(ctx, 1, "site.id")
	if err != nil || len(p.Units) != 1 || p.Units[0].Lookup(condition.Intern("site.id")).Text() != "site-1" ||
		p.Units[0].Key() != "" {
		t.Errorf("%+v %v", p, err)
	}
	judged, declared, contexts, err := s.Judge(ctx, 1)
	if err != nil || !declared || contexts != 400 || judged["crew_size"].Mostly != "string" ||
		judged["email"].Declared != "string" {
		t.Errorf("%+v %v", judged, err)
	}
	o, err := s.Order(ctx, 1)
	if err != nil || o.Off || o.Seed != "5" || o.Personal["email"] != sample.Nothing {
		t.Errorf("%+v %v", o, err)
	}
}
