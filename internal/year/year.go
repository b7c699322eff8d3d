// Package year fills a database with the past of a busy installation, so that what is fast on a
// fresh one can be shown to be fast later.
//
// Its nouns are a [Size] and a [Past], which makes it: every change goes through the use cases
// that people's changes go through, under a clock of its own, many to a transaction; reports,
// counts and samples go in by the store's ways in. The chain is sound, and what is kept no longer
// is forgotten by the same jobs. The smallest use:
//
//	p := &year.Past{Store: st, Size: year.Busy(), Until: time.Now(), Keeper: account}
//	err := p.Make(ctx)
//
// The same size gives the same flags, people and numbers of rows, but for random salts and ids.
package year

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/attributes"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/roles"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/store"
)

// Size says how much happened.
type Size struct {
	Days         int // that are filled
	PerDay       int // changes a day, over all environments
	Flags        int
	Environments int
	Instances    int // that follow, in the first four environments
	Units        int // that were seen, in each of those
	Minutes      int // before the end that counts stand for single minutes in, in the first of them
}

// Busy is a year of a busy installation.
func Busy() Size {
	return Size{Days: 365, PerDay: 1_000, Flags: 2_000, Environments: 20, Instances: 500, Units: 8_000,
		Minutes: 2 * 24 * 60}
}

// Past makes a past.
type Past struct {
	Store  *store.Store
	Size   Size
	Until  time.Time // where the past ends
	Keeper string    // id of an account that exists
	// Sign signs the heads of chains as at a time. Nil: none is signed.
	Sign func(ctx context.Context, at time.Time) error
	// Said tells how far it is. Nil: nobody wants to know.
	Said func(what string, done, of int)

	project app.Project
	envs    []*place
	actors  []app.Actor
}

// followed is how many environments have instances.
const followed = 4

// place is an environment with what stands in it.
type place struct {
	app.Environment
	flags    []standing
	rng      *rand.Rand
	share    float64 // of a day's changes
	followed int     // instances
	epoch    int64
}

type standing struct {
	doc     *flag.Document
	version int64
}

// Make makes it.
func (p *Past) Make(ctx context.Context) error {
	if p.Said == nil {
		p.Said = func(string, int, int) {}
	}
	begin := p.Until.AddDate(0, 0, -p.Size.Days)
	for _, step := range []func(context.Context, time.Time) error{p.found, p.define} {
		if err := step(ctx, begin.Add(-time.Hour)); err != nil {
			return err
		}
	}
	for day := range p.Size.Days {
		from := begin.AddDate(0, 0, day)
		if err := p.day(ctx, from); err != nil {
			return fmt.Errorf("day %d: %w", day, err)
		}
		if err := p.sign(ctx, from); err != nil {
			return err
		}
		p.Said("days of changes", day+1, p.Size.Days)
	}
	for _, step := range []func(context.Context) error{p.report, p.count, p.sample} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// sign signs what moved in a day, as at its end.
func (p *Past) sign(ctx context.Context, day time.Time) error {
	if p.Sign == nil {
		return nil
	}
	return p.Sign(ctx, day.AddDate(0, 0, 1))
}

// at is the use cases under a clock, in one transaction.
func (p *Past) at(ctx context.Context, now *time.Time, fn func(s *commit.Service, tx *store.Tx) error) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		s := &commit.Service{Kinds: kinds, Now: func() time.Time { return *now }}
		s.Write = func(_ context.Context, use func(commit.Tx) error) error { return use(tx) }
		s.Insist = s.Write
		return fn(s, tx)
	})
}

// in is where changes of an environment are made.
func (p *Past) in(e *place) commit.In {
	return commit.In{Project: &p.project, Environment: &e.Environment}
}

// kinds are the changes that a year is made of.
var kinds = commit.NewKinds((&flags.Service{}).Kinds(), (&segments.Service{}).Kinds(), environments.Kinds(),
	roles.Kinds(), attributes.Kinds(), stops.Kinds())

// people who change things, with their roles.
var people = []struct{ name, role string }{{"Noor Berg", "developer"}, {"Aino Laine", "developer"},
	{"Tomas Vale", "developer"}, {"Mira Okafor", "developer"},
	{"Jon Sand", "releaser"}, {"Lena Frost", "releaser"}, {"Pia Dahl", "on-call"}, {"Emil Roth", "on-call"},
	{"Sara Quist", "keeper"}, {"Ravi Thorn", "auditor"}}

// found makes the project, its environments, and people.
func (p *Past) found(ctx context.Context, now time.Time) error {
	keeper := app.Actor{Kind: "person", ID: p.Keeper, Credential: "token year", Through: "api", Keeper: true,
		Grants: nil}
	if err := p.at(ctx, &now, func(s *commit.Service, _ *store.Tx) error {
		_, err := s.Apply(ctx, commit.Request{Actor: keeper},
			commit.Change{Do: &environments.MakeProject{Key: "pinecrest", Title: "Pinecrest Lockers"}})
		return err
	}); err != nil {
		return fmt.Errorf("the project: %w", err)
	}
	project, err := p.Store.Project(ctx, "pinecrest")
	if err != nil {
		return err
	}
	p.project = *project
	return p.at(ctx, &now, func(s *commit.Service, tx *store.Tx) error {
		p.envs, p.actors = nil, nil // it may run again
		keeper.Grants = app.Everywhere(project.ID, app.Keeper)
		p.actors = append(p.actors, keeper)
		for i, who := range people {
			a := &app.Account{ID: fmt.Sprintf("person-%d", i), Email: fmt.Sprintf("person.%d@pinecrest.example", i),
				Name: who.name, Password: "none", Created: now.UnixMilli()}
			if err := tx.AddAccount(a); err != nil {
				return err
			}
			if _, err := tx.Append(audit.Access, audit.Entry{At: now.UnixMilli(), Actor: keeper,
				Action: "account.made", Subject: a.ID}, nil); err != nil {
				return err
			}
			if _, err := s.Apply(ctx, commit.Request{Actor: keeper}, commit.Change{In: commit.In{Project: project},
				Of: a.ID, Do: &roles.Set{Roles: []app.Role{app.Role(who.role)}}}); err != nil {
				return err
			}
			p.actors = append(p.actors, app.Actor{Kind: "person", ID: a.ID, Credential: "token " + a.ID,
				Through: "console", Grants: app.Everywhere(project.ID, app.Role(who.role))})
		}
		for i := range p.Size.Environments {
			key := fmt.Sprintf("region-%d", i)
			if i < followed {
				key = []string{"production", "staging", "field-trial", "night-depot"}[i]
			}
			if _, err := s.Apply(ctx, commit.Request{Actor: keeper}, commit.Change{In: commit.In{Project: project},
				Do: &environments.Make{Key: key, Title: key, AskFirst: i == 0}}); err != nil {
				return err
			}
		}
		envs, err := tx.LockEnvironments(project.ID)
		if err != nil {
			return err
		}
		epoch, err := tx.Epoch()
		for i := range envs {
			e := &place{Environment: envs[i], epoch: epoch, rng: rand.New(rand.NewPCG(uint64(i), 2026)),
				share: 0.7 / float64(len(envs)-1)}
			if i == 0 {
				e.share = 0.3
			}
			if i < followed {
				e.followed = p.Size.Instances / followed
			}
			p.envs = append(p.envs, e)
		}
		return err
	})
}

// define makes attributes, segments and flags.
func (p *Past) define(ctx context.Context, now time.Time) error {
	keeper, in := commit.Request{Actor: p.actors[0], Reason: "begin"}, commit.In{Project: &p.project}
	if err := p.at(ctx, &now, func(s *commit.Service, _ *store.Tx) error {
		for _, a := range []app.Attribute{{Name: "role"}, {Name: "site.id"}, {Name: "site.region"},
			{Name: "site.plan"}, {Name: "firmware", Type: "version"}, {Name: "app_version", Type: "version"},
			{Name: "country"}, {Name: "email", Personal: true}, {Name: "phone", Personal: true},
			{Name: "parcels_this_month", Type: "number"}} {
			if a.Type == "" {
				a.Type = lint.Type("string")
			}
			if _, err := s.Apply(ctx, keeper, commit.Change{In: in, Of: a.Name,
				Do: &attributes.Declare{Attribute: a}}); err != nil {
				return fmt.Errorf("attribute %s: %w", a.Name, err)
			}
		}
		for i := range rounds {
			units := make([]string, 200)
			for j := range units {
				units[j] = fmt.Sprintf("site-%d", i*1000+j)
			}
			if _, err := s.Apply(ctx, keeper, commit.Change{In: in, Do: &segments.Make{Key: fmt.Sprintf("round-%d", i),
				Title: fmt.Sprintf("Sites of round %d", i),
				Document: segments.Document{Lists: "site.id", In: &flag.List{Units: units},
					When: &condition.Node{Test: "string.equals", Attribute: "site.plan",
						Text: []string{"plus"}}}}}); err != nil {
				return fmt.Errorf("segment %d: %w", i, err)
			}
		}
		return nil
	}); err != nil {
		return err
	}
	const some = 25
	for from := 0; from < p.Size.Flags; from += some {
		to := min(from+some, p.Size.Flags)
		if err := p.at(ctx, &now, func(s *commit.Service, _ *store.Tx) error {
			for i := from; i < to; i++ {
				if _, err := s.Apply(ctx, keeper,
					commit.Change{In: in, Do: &flags.Make{Definition: *definition(i)}}); err != nil {
					return fmt.Errorf("flag %d: %w", i, err)
				}
			}
			return nil
		}); err != nil {
			return err
		}
		p.Said("flags", to, p.Size.Flags)
	}
	for _, e := range p.envs {
		e.flags = make([]standing, p.Size.Flags)
		if err := p.Store.Write(ctx, func(tx *store.Tx) error {
			all, err := tx.Flags(e.ID)
			for i := range all { // by key, as they were made
				e.flags[i] = standing{all[i].Document, all[i].Version}
			}
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

const rounds = 30

func keyOf(i int) string { return fmt.Sprintf("lever-%04d", i) }

func definition(i int) *app.Definition {
	d := &app.Definition{Key: keyOf(i), Title: fmt.Sprintf("Lever %d of the doors and rounds", i),
		Description: "Says how a locker, a round or the help desk goes about its work.",
		GoneBy:      "stays", Owners: []string{people[i%len(people)].name},
		Tags: []string{[]string{"door", "rounds", "desk"}[i%3]}, Visible: i%5 == 0}
	if i%4 == 3 {
		d.Type, d.Resting = flag.String, "timetable"
		for _, v := range []string{"timetable", "traffic-aware", "learned"} {
			d.Variants = append(d.Variants, app.Variant{Name: v, Value: json.RawMessage(`"` + v + `"`)})
		}
	}
	return d
}

// day makes a day's changes, environment by environment, two at a time.
func (p *Past) day(ctx context.Context, from time.Time) error {
	work := make(chan *place, len(p.envs))
	for _, e := range p.envs {
		work <- e
	}
	close(work)
	var mu sync.Mutex
	var failed error
	made := 0
	var workers []<-chan struct{}
	for range 2 {
		workers = append(workers, guard.Go(slog.Default(), "make a day", func() {
			for e := range work {
				err := p.dayIn(ctx, e, from)
				mu.Lock()
				made++
				if err != nil {
					failed = errors.Join(failed, fmt.Errorf("environment %s: %w", e.Key, err))
				}
				mu.Unlock()
			}
		}))
	}
	for _, done := range workers {
		<-done
	}
	if made < len(p.envs) { // the guard has logged why
		failed = errors.Join(failed, fmt.Errorf("only %d of %d environments were made", made, len(p.envs)))
	}
	return failed
}

// together is how many changes go in one transaction.
const together = 50

func (p *Past) dayIn(ctx context.Context, e *place, from time.Time) error {
	n := int(float64(p.Size.PerDay)*e.share + e.rng.Float64())
	for begun := 0; begun < n; begun += together {
		count := min(together, n-begun)
		now := from
		if err := p.at(ctx, &now, func(s *commit.Service, tx *store.Tx) error {
			for i := range count {
				now = from.Add(24 * time.Hour * time.Duration(begun+i) / time.Duration(n))
				if err := p.edit(ctx, s, e); err != nil {
					return err
				}
				if begun+i == n/2 {
					if err := p.stop(ctx, s, e, &now); err != nil {
						return err
					}
				}
				if err := p.deliver(tx, e, now); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
		if p.Until.Sub(from) < 30*24*time.Hour { // heads of late are all kept
			if err := p.sign(ctx, from); err != nil {
				return err
			}
		}
	}
	return nil
}

// edit changes a flag as people do: mostly a few, mostly a share or the lever.
func (p *Past) edit(ctx context.Context, s *commit.Service, e *place) error {
	i := e.rng.IntN(len(e.flags))
	if hot := max(1, len(e.flags)/10); e.rng.IntN(10) < 8 {
		i = e.rng.IntN(hot)
	}
	at := &e.flags[i]
	doc := *at.doc
	alter(&doc, e.rng)
	// those who may release
	request := commit.Request{Actor: p.actors[e.rng.IntN(7)], Reason: reasons[e.rng.IntN(len(reasons))]}
	raw, err := s.Apply(ctx, request, commit.Change{In: p.in(e), Of: doc.Key, Versions: []int64{at.version},
		Do: &flags.Put{Document: doc}})
	if err != nil {
		return fmt.Errorf("flag %s at version %d: %w", doc.Key, at.version, err)
	}
	var saved flags.Saved
	if err := json.Unmarshal(raw, &saved); err != nil {
		return err
	}
	at.doc, at.version, e.Revision = saved.Document, saved.Version, saved.Revision
	return nil
}

var reasons = []string{"the pilot sites looked well for a day", "asked for by the north region",
	"a step further, as planned", "back until the firmware is out", "clean-up"}

// ladder is how shares widen, in parts per million.
var ladder = []uint32{20_000, 80_000, 300_000, 650_000, 1_000_000}

func alter(d *flag.Document, rng *rand.Rand) {
	d.Rules = append([]flag.Rule(nil), d.Rules...)
	names := d.VariantNames()
	other := names[0]
	if other == d.Resting {
		other = names[1]
	}
	switch kind := rng.IntN(10); {
	case kind < 3 && len(d.Rules) > 0 || kind == 0:
		d.Lever = map[flag.Lever]flag.Lever{flag.On: flag.Off, flag.Off: flag.On}[d.Lever]
	case kind < 7:
		share := ladder[rng.IntN(len(ladder)-1)]
		d.Lever = flag.On
		d.End = flag.Gives{Shares: &flag.Shares{By: []string{"site.id"},
			Parts: []flag.Part{{Variant: other, Share: share}, {Variant: d.Resting, Share: 1_000_000 - share}}}}
	case kind < 9 || len(d.Rules) > 4:
		if len(d.Rules) > 4 {
			d.Rules = d.Rules[1:]
		}
		r := flag.Rule{Name: fmt.Sprintf("rule %d", rng.IntN(1000)), Gives: flag.Gives{Variant: other}}
		switch rng.IntN(3) {
		case 0:
			r.When = &condition.Node{Test: condition.SegmentTest, Segment: fmt.Sprintf("round-%d", rng.IntN(rounds))}
		case 1:
			r.When = &condition.Node{Test: "string.equals", Attribute: "site.region",
				Text: []string{fmt.Sprint("depot ", rng.IntN(50))}}
		default:
			r.When = &condition.Node{Test: "string.equals", Attribute: "email",
				Text: []string{fmt.Sprintf("courier.%d@pinecrest.example", rng.IntN(10_000))}}
		}
		d.Rules = append(d.Rules, r)
	default:
		if len(d.Rules) > 0 {
			d.Rules[0].Parked = !d.Rules[0].Parked
		} else {
			d.Lever = map[flag.Lever]flag.Lever{flag.On: flag.Off, flag.Off: flag.On}[d.Lever]
		}
	}
}

// stop stops a flag, and lifts that a while later.
func (p *Past) stop(ctx context.Context, s *commit.Service, e *place, now *time.Time) error {
	onCall := commit.Request{Actor: p.actors[7], Reason: "doors stay shut"}
	raw, err := s.Apply(ctx, onCall, commit.Change{In: p.in(e),
		Do: &stops.Stop{Flags: []string{keyOf(e.rng.IntN(len(e.flags)))}}})
	if err != nil {
		return err
	}
	var stopped stops.Stopped
	if err := json.Unmarshal(raw, &stopped); err != nil {
		return err
	}
	*now = now.Add(time.Second)
	if raw, err = s.Apply(ctx, onCall, commit.Change{In: p.in(e),
		Do: &stops.Lift{Stops: []string{stopped.Stop}}}); err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &stopped); err != nil {
		return err
	}
	e.Revision = stopped.Revision
	return nil
}
