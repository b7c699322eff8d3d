package releases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/evidence"
	"greenlever.example/core/flag"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/zones"
)

// blocks finds what keeps a release from going on, under the environment's lock: stops of its flag and
// of those that it needs, since a stop that was lifted between two looks holds it all the same; a lever;
// needs that are not met. upTo is the revision up to which stops were looked at.
func blocks(t tx, env *app.Environment, rel *app.Release,
	held *holding) (found []stage.Block, upTo int64, err error) {
	since := rel.State.Stops
	// what held it is known: only what stands is in the way
	if rel.State.Is == stage.Held || rel.State.Is == stage.Waiting {
		since = env.Revision
	}
	needed, unmet, err := needs(t, env.ID, held.Flag.Document, 0)
	if err != nil {
		return nil, 0, err
	}
	stops, err := t.StopsSince(env.ID, since)
	if err != nil {
		return nil, 0, err
	}
	for _, st := range stops {
		for _, key := range st.Flags {
			if key != rel.Flag && !slices.Contains(needed, key) {
				continue
			}
			says := fmt.Sprintf("a stop of %s stands", key)
			if st.LiftedAt > 0 {
				says = key + " was stopped, and the stop was lifted"
			}
			found = append(found, stage.Block{Why: stage.ByStop, Says: says})
		}
	}
	if held.Flag.Document.Lever == flag.Off {
		found = append(found, stage.Block{Why: stage.ByLever, Says: "the flag is off, so that nobody gets anything " +
			"of it"})
	}
	for _, says := range unmet {
		found = append(found, stage.Block{Why: stage.ByNeed, Says: says})
	}
	return found, env.Revision, nil
}

// deepest is how far needs of needs are followed.
const deepest = 20

// needs lists the flags that a flag needs, and those that they need, and says which of them give something
// else to everybody.
func needs(t tx, env int64, doc *flag.Document, depth int) (keys, unmet []string, err error) {
	if depth > deepest {
		return nil, nil, nil
	}
	for _, n := range doc.Needs {
		rec, err := t.Flag(env, n.Flag)
		var f *app.Fault
		if errors.As(err, &f) && f.Kind == app.NotFound {
			unmet = append(unmet, "it needs "+n.Flag+", which is not there")
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		keys = append(keys, n.Flag)
		if d := rec.Document; d.Lever == flag.Off && d.Resting != n.Variant {
			unmet = append(unmet, fmt.Sprintf("it needs %s to give %s, and that flag is off", n.Flag, n.Variant))
		}
		more, others, err := needs(t, env, rec.Document, depth+1)
		if err != nil {
			return nil, nil, err
		}
		keys, unmet = append(keys, more...), append(unmet, others...)
	}
	return keys, unmet, nil
}

// Job goes through the releases that run. One process does it at a time; a step that it computed and lost
// the lease before is taken by nobody twice, since each names the state that it was computed on.
func (s *Service) Job() work.Job {
	return work.Job{Name: "releases", Says: "have releases go on", Every: time.Second, Lease: 10 * time.Second,
		Wake: s.Wake, Pause: 50 * time.Millisecond, Longest: 5 * time.Second,
		Do: func(ctx context.Context, t *work.Turn) error { return s.Look(ctx, t.Did) }}
}

// Nudge has the releases looked at soon, since one was changed here.
func (s *Service) Nudge() {
	select {
	case s.Wake <- struct{}{}:
	default:
	}
}

// Look looks at every release that runs once, and has it take what comes of it.
func (s *Service) Look(ctx context.Context, did func(done, of int64)) error {
	all, err := s.Records.Running(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	envs, epoch, err := s.Records.AllEnvironments(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		at := slices.IndexFunc(envs, func(e app.Environment) bool { return e.ID == all[i].Environment })
		if at < 0 {
			continue // nobody follows an environment that has ended
		}
		if e := s.look(ctx, &all[i], &envs[at], epoch); e != nil { // one release's trouble is not the others'
			err = errors.Join(err, fmt.Errorf("release %s of %s: %w", all[i].ID, all[i].Flag, e))
		}
		did(int64(i+1), int64(len(all)))
	}
	return err
}

func (s *Service) look(ctx context.Context, rel *app.Release, env *app.Environment, epoch int64) error {
	found, err := s.Ledger.Turn(ctx, rel)
	if err != nil {
		return err
	}
	facts, err := s.facts(ctx, rel, env, epoch, found)
	if err != nil {
		return err
	}
	_, effects, err := stage.Step(rel.State, stage.Event{Do: stage.Look, Facts: facts}, s.Now().UnixMilli())
	if err != nil {
		return err
	}
	hindered, err := s.hindered(ctx, rel, env)
	if err != nil || rel.State.Is == stage.Held && effects.Tell == "" || rel.State.Is == stage.Waiting && hindered ||
		effects.Tell == "" && !hindered {
		return err
	}
	actor := app.Actor{Kind: "release", ID: rel.ID, Through: "service", OnBehalfOf: rel.Owner,
		Cause: fmt.Sprintf("step %d of release %s", rel.State.Sequence+1, rel.ID)}
	_, err = s.Apply(ctx, commit.Request{Actor: actor, Reason: rel.Reason},
		commit.Change{In: commit.In{Project: &app.Project{ID: env.ProjectID}, Environment: env}, Of: rel.ID,
			Do: &Step{rel.State.Sequence, facts}})
	return err
}

// hindered tells whether something may have come that holds a release: then it takes a look under the
// environment's lock, which finds out.
func (s *Service) hindered(ctx context.Context, rel *app.Release, env *app.Environment) (bool, error) {
	rules, err := s.Rules(ctx, env.ID)
	if err != nil {
		return false, err
	}
	doc := rules.Source.Flag(rel.Flag)
	if doc == nil || doc.Lever == flag.Off {
		return true, nil
	}
	needed, unmet := []string{rel.Flag}, false
	var follow func(d *flag.Document, depth int)
	follow = func(d *flag.Document, depth int) {
		for _, n := range d.Needs {
			other := rules.Source.Flag(n.Flag)
			if needed = append(needed, n.Flag); other == nil || other.Lever == flag.Off && other.Resting != n.Variant {
				unmet = true
			}
			if other != nil && depth < deepest {
				follow(other, depth+1)
			}
		}
	}
	if follow(doc, 0); unmet || env.Revision <= rel.State.Stops {
		return unmet, nil
	}
	stops, err := s.Records.StopsAfter(ctx, env.ID, rel.State.Stops)
	return slices.ContainsFunc(stops, func(st app.StopRecord) bool {
		return (st.LiftedAt == 0 || rel.State.Is != stage.Waiting) && slices.ContainsFunc(st.Flags,
			func(key string) bool {
				return slices.Contains(needed, key)
			})
	}), err
}

// behind is a flag of the same bundle whose release is not as far as this one, or is held at the same stage; empty for
// none.
func (s *Service) behind(ctx context.Context, rel *app.Release) (string, error) {
	all, err := s.Records.Running(ctx)
	if err != nil {
		return "", err
	}
	for i := range all {
		o := &all[i]
		if o.ID != rel.ID && o.Environment == rel.Environment && o.Bundle == rel.Bundle &&
			(o.State.At < rel.State.At || o.State.At == rel.State.At && o.State.Is == stage.Held) {
			return o.Flag, nil
		}
	}
	return "", nil
}

// Facts finds out what a release goes by, but for what holds it, which is found under the environment's lock.
func (s *Service) Facts(ctx context.Context, rel *app.Release, env *app.Environment,
	epoch int64) (*stage.Facts, error) {
	found, err := s.Ledger.Peek(ctx, rel)
	if err != nil {
		return nil, err
	}
	return s.facts(ctx, rel, env, epoch, found)
}

func (s *Service) facts(ctx context.Context, rel *app.Release, env *app.Environment, epoch int64,
	watched *evidence.Findings) (*stage.Facts, error) {
	st := &rel.State
	f := &stage.Facts{}
	var err error
	if f.Found, err = s.found(ctx, rel, watched); err != nil {
		return nil, err
	}
	if h := st.Plan.Hours; h != nil {
		open := &condition.Node{Test: condition.WeeklyTest, Weekly: h}
		f.Closed = open.Match(nil, condition.Around{Now: s.Now().UnixMilli(), Zones: zones.Find}) != condition.True
	}
	if fr, until := env.Freezes.Holding(s.Now().UnixMilli(), zones.Find, rel.Flag, nil); fr != nil {
		f.Closed, f.Frozen, f.Thaws = true, fr.Reason, until
	}
	if rel.Bundle != "" && !st.Last() {
		if f.Behind, err = s.behind(ctx, rel); err != nil {
			return nil, err
		}
		f.Closed = f.Closed || f.Behind != ""
	}
	if st.Is == stage.Arriving {
		d, err := s.Delivery(ctx, env.ID, epoch, rel.Revision, env.Revision)
		if err != nil {
			return nil, err
		}
		if d != nil {
			f.Arrived, f.Of = d.Reached, d.Expected
		}
	}
	rules, err := s.Rules(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	if watched != nil {
		f.Units = watched.Closed
	} else if stg := st.Stage(); stg != nil && stg.Units > 0 && st.Is == stage.Underway {
		if f.Units, err = s.lately(ctx, rel, env, rules); err != nil {
			return nil, err
		}
	}
	f.Around = stage.Around(rules.Source, rel.Flag, rel.ID, &rel.State.Plan)
	if st.Around != "" && st.Around != f.Around {
		f.Changed = "what stands above it or what it rests on"
	}
	return f, nil
}

// found is what the watches of a release have found, in words.
func (s *Service) found(ctx context.Context, rel *app.Release, watched *evidence.Findings) (*stage.Found, error) {
	if watched == nil {
		return nil, nil
	}
	names := s.names(ctx, rel.Environment).Of(rel.State.Plan.By)
	out := &stage.Found{Run: rel.State.Run, Stage: rel.State.At, Clear: watched.Cleared,
		Short: watched.Summary()}
	for _, h := range watched.Reacted {
		out.Harm = append(out.Harm, stage.HarmDone{Reaction: h.Reaction, Metric: h.Finding.Metric,
			Says: h.Finding.Says(names).String()})
	}
	slices.SortStableFunc(out.Harm, func(a, b stage.HarmDone) int {
		return cmp.Compare(slices.Index(evidence.Reactions(), a.Reaction), slices.Index(evidence.Reactions(),
			b.Reaction))
	})
	if watched.Broken {
		out.Ratio = watched.SaysBroken(names).String()
	}
	if rel.State.Is == stage.Underway || rel.State.Is == stage.Asking {
		metric, err := s.Ledger.Blind(ctx, rel)
		if err != nil {
			return nil, err
		}
		if metric != "" {
			out.Blind = fmt.Sprintf("no event of %s has arrived since the stage began, so nobody can see whether "+
				"it hurts: see whether the application records it", metric)
		}
	}
	var says []string
	for i := range watched.Watches {
		says = append(says, watched.Watches[i].Says(names).String())
	}
	out.Says = strings.Join(says, " ")
	return out, nil
}

// counted is a number of units, and how long it took to count them.
type counted struct {
	began int64 // of the stage
	at    time.Time
	took  time.Duration
	units int64
}

// lately is seen, counted anew only once that takes little of the time.
func (s *Service) lately(ctx context.Context, rel *app.Release, env *app.Environment,
	rules *decide.Ruleset) (int64, error) {
	s.mu.Lock()
	c, is := s.counts[rel.ID]
	s.mu.Unlock()
	if is && c.began == rel.State.Began && time.Since(c.at) < max(2*time.Second, 50*c.took) {
		return c.units, nil
	}
	began := time.Now()
	units, err := s.seen(ctx, rel, env, rules)
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.counts == nil || len(s.counts) > mostCounted {
		s.counts = map[string]counted{}
	}
	s.counts[rel.ID] = counted{rel.State.Began, time.Now(), time.Since(began), units}
	return units, nil
}

// mostCounted bounds what is remembered; those that are over are forgotten with all others.
const mostCounted = 1_000

// seen counts the units that were seen since the stage began and get the new variant by the release.
func (s *Service) seen(ctx context.Context, rel *app.Release, env *app.Environment,
	rules *decide.Ruleset) (int64, error) {
	by := rel.State.Plan.By[0]
	rows, err := s.Records.UnitsSince(ctx, env.ID, by, rel.State.Began)
	if err != nil {
		return 0, err
	}
	all, err := s.Units(ctx, env.ID, by)
	if err != nil {
		return 0, err
	}
	f, count, now := rules.Flag(rel.Flag), 0, s.Now().UnixMilli()
	if f == nil {
		return 0, nil
	}
	for _, row := range rows {
		c, err := population.Context(by, row.Unit, row.Context)
		if err != nil {
			continue
		}
		o := f.Decide(rules, c, now)
		v := f.Variant(o.Variant)
		if v != nil && rel.State.Plan.IsNew(v.Name) && o.Rule >= 0 &&
			f.Document().Rules[o.Rule].Release == rel.ID {
			count++
		}
	}
	return all.Count(count).Units, nil
}
