package manage

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/guard"
)

var _ = listed(
	raw("GET", atProject+"/live", (*call).live).needs(app.Read),
)

const (
	// whoEvery is after how many seconds it is looked whether who reads a stream still may.
	whoEvery = 3
	// reportEvery is after how many seconds delivery is looked at although this node heard nothing: another
	// node may have.
	reportEvery = 5
	// aliveEvery is after how many seconds a stream says something, so that nothing on the way gives it up.
	aliveEvery = 20
	// mostNamed is how many changed things an event names; of more it says nothing, which means all.
	mostNamed = 100
)

// still tells whether who opened a stream may still read it, and of the same environments; project is
// how the project itself stands, beside the revisions; empty where that is not known. A database that is away
// is no reason to end it.
func (c *call) still(envs []app.Environment) (is bool, project string) {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	now := &call{Context: c.Context, api: c.api, ctx: ctx}
	err := now.identify()
	if err == nil {
		err = admit.Allow(&now.actor, app.Read, c.p.ID, 0)
	}
	var are []app.Environment
	if err == nil {
		are, err = c.api.Records.Environments(ctx, c.p.ID)
	}
	var written int64
	if err == nil {
		written, err = c.api.Records.Written(ctx, audit.ProjectChain(c.p.ID))
	}
	if err != nil {
		var f *app.Fault
		return !errors.As(err, &f) || f.Kind == app.Unavailable || f.Kind == app.TooMany, ""
	}
	project = strconv.FormatInt(written, 10)
	for _, e := range are {
		project += fmt.Sprintf(" %q %q %t", e.Key, e.Title, e.AskFirst)
	}
	return slices.EqualFunc(are, envs, func(a, b app.Environment) bool { return a.ID == b.ID }), project
}

// Moved is what the console is told of a revision, and first of the one that stands.
type Moved struct {
	Environment string `json:"environment"`
	Revision    int64  `json:"revision"`
	// Flags and Segments are those that it changed; both are left out where that is not known, or many.
	Flags    []string `json:"flags,omitempty"`
	Segments []string `json:"segments,omitempty"`
}

// Reported is what the console is told when delivery moved.
type Reported struct {
	Environment string `json:"environment"`
	Revision    int64  `json:"revision,omitempty"`
	Instances   int    `json:"instances"`
	Delivered   int    `json:"delivered"`
	Lost        int    `json:"lost"`
}

// between says what changed from a ruleset to another.
func between(environment string, old, now *flag.Ruleset) Moved {
	m := Moved{Environment: environment, Revision: now.Revision, Flags: differ(old.Flags, now.Flags),
		Segments: differ(old.Segments, now.Segments)}
	stops := func(rs *flag.Ruleset) map[string]bool {
		all := map[string]bool{}
		for _, s := range rs.Stops {
			for _, f := range s.Flags {
				all[f] = true
			}
		}
		return all
	}
	was, is := stops(old), stops(now)
	for _, from := range []map[string]bool{was, is} {
		for f := range from {
			if was[f] != is[f] && !slices.Contains(m.Flags, f) {
				m.Flags = append(m.Flags, f)
			}
		}
	}
	slices.Sort(m.Flags)
	if len(m.Flags)+len(m.Segments) > mostNamed {
		m.Flags, m.Segments = nil, nil
	}
	return m
}

// differ gives the keys of what is in only one of two, or another in each.
func differ(old, now map[string]json.RawMessage) (keys []string) {
	for key, is := range now {
		if was, there := old[key]; !there || !bytes.Equal(was, is) {
			keys = append(keys, key)
		}
	}
	for key := range old {
		if _, there := now[key]; !there {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

func frame(name string, data any) []byte {
	raw, _ := json.Marshal(data) // plain values
	return fmt.Appendf(nil, "event: %s\ndata: %s\n\n", name, raw)
}

// live tells the console what moves: first which revision stands in each environment, then an event
// for each revision, and one when its delivery moved. Who only looks is told nothing.
func (c *call) live() error {
	a, ctx, p := c.api, c.Request().Context(), c.p
	envs, err := a.Records.Environments(ctx, p.ID)
	if err != nil {
		return err
	}
	s, err := a.OpenStream(c.Context)
	if err != nil {
		return err
	}
	news := make(chan []byte, 64)
	// What asks the records waits for them; a revision does not.
	asks := guard.Go(a.Log, "tell the console how deliveries go", func() {
		defer s.End()
		c.deliveries(envs, s.Ctx.Done(), news)
	})
	defer func() {
		s.Close()
		<-asks // it reads the call, which is over with this
	}()
	for _, e := range envs {
		place, err := a.Hub.Place(ctx, e.ID)
		if err != nil {
			return err
		}
		guard.Go(a.Log, "tell the console what moves", func() {
			event, rules := "standing", place.Rules()
			said := Moved{Environment: e.Key, Revision: rules.Source.Revision}
			for {
				changed := place.Changed()
				if now := place.Rules(); now != rules {
					event, said, rules = "revision", between(e.Key, rules.Source, now.Source), now
				}
				if event != "" {
					select {
					case news <- frame(event, said):
					case <-s.Ctx.Done():
						return
					}
				}
				event = ""
				select {
				case <-changed:
				case <-s.Ctx.Done():
					return
				}
			}
		})
	}
	for {
		select {
		case <-s.Ctx.Done():
			return nil
		case frame := <-news:
			if err := s.Write(frame); err != nil {
				return nil
			}
		}
	}
}

// deliveries tells of what moved in the delivery of each environment, until it is done or who asked may
// not know any more.
func (c *call) deliveries(envs []app.Environment, done <-chan struct{}, news chan<- []byte) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	told := make([]Reported, len(envs))
	for i := range envs {
		told[i], _ = c.reported(&envs[i]) // what stands is no news
	}
	counts := c.api.Reported(envs)
	_, project := c.still(envs)
	for beats := 1; ; beats++ {
		select {
		case <-done:
			return
		case <-tick.C:
		}
		var out []byte
		if beats%whoEvery == 0 {
			is, now := c.still(envs)
			if !is {
				return
			}
			if now != "" && project != "" && now != project {
				out = frame("project", struct{}{})
			}
			project = cmp.Or(now, project)
		}
		if beats%aliveEvery == 0 {
			out = append(out, ": all is as it was\n\n"...)
		}
		now := c.api.Reported(envs)
		for i := range envs {
			if beats%reportEvery != 0 && now[i] == counts[i] {
				continue
			}
			r, err := c.reported(&envs[i])
			if err != nil || r == told[i] {
				continue // records that are away are asked again
			}
			told[i], out = r, append(out, frame("report", r)...)
		}
		counts = now
		if len(out) == 0 {
			continue
		}
		select {
		case news <- out:
		case <-done:
			return
		}
	}
}

// reported says how the delivery in an environment stands.
func (c *call) reported(e *app.Environment) (Reported, error) {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	asked := &call{Context: c.Context, api: c.api, ctx: ctx}
	sum, err := asked.summary(e)
	if err != nil {
		return Reported{}, err
	}
	r := Reported{e.Key, sum.Revision, sum.Alive, sum.Delivered, len(sum.Lost)}
	if r.Instances+r.Lost == 0 {
		r.Revision = 0 // it is delivered to nobody
	}
	return r, nil
}
