package manage

import (
	"context"
	"slices"
	"time"

	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/scans"
	"greenlever.example/greenlever/internal/app/settled"
)

var _ = listed(
	op[none, settled.Readiness]("GET", atProject+"/flags/:flag/readiness",
		"Whether a flag can be retired, and what is "+
			"in the way", (*call).readiness).needs(app.Read),
	op[retireBody, app.Definition]("POST", atProject+"/flags/:flag/retire",
		"Take a flag out of use: who still asks for "+
			"it gets the fallback, and its key is never used again", (*call).retireFlag).change().needs(app.Define),
	op[reasonBody, app.Definition]("POST", atProject+"/flags/:flag/restore",
		"Bring a retired flag back, as it stood",
		(*call).restoreFlag).change().needs(app.Define),
	op[none, Retiring]("GET", atProject+"/retiring", "Flags that are ready to be retired, and those that were",
		(*call).retiring).needs(app.Read),
	op[none, Code]("GET", atProject+"/places", "Where code asks for flags, by the newest scan of each branch",
		(*call).places).takes("flag").needs(app.Read),
	op[scanBody, app.Scan]("PUT", atProject+"/places", "Report where the code of a repository asks for flags",
		(*call).reportPlaces).change().needs(app.Define).long(),
	op[forgetBody, app.Scan]("POST", atProject+"/places/forget", "Forget a branch of a repository",
		(*call).forgetPlaces).change().needs(app.Define),
)

// Retiring are the flags at the end of their lives.
type Retiring struct {
	Ready   []ReadyFlag      `json:"ready"`   // to be retired
	Retired []app.Definition `json:"retired"` // the last one first
}

// ReadyFlag is a flag that can be retired, or could nearly.
type ReadyFlag struct {
	Key       string             `json:"key"`
	Title     string             `json:"title"`
	GoneBy    string             `json:"goneBy"`
	Owners    []string           `json:"owners"`
	Readiness *settled.Readiness `json:"readiness"`
}

// Code is what is known of code.
type Code struct {
	Scans []Scanned `json:"scans"`
	// Unknown are keys that code asks for and that nobody defined; Unasked are flags that no code asks for.
	Unknown []UnknownKey `json:"unknown"`
	Unasked []string     `json:"unasked"`
}

// Scanned is what a scan found.
type Scanned struct {
	Repository string          `json:"repository"`
	Branch     string          `json:"branch"`
	Commit     string          `json:"commit"`
	At         int64           `json:"at"`
	Lines      int64           `json:"lines"`
	Places     []app.CodePlace `json:"places"`
}

// UnknownKey is a key that code asks for and that nobody defined.
type UnknownKey struct {
	app.CodePlace
	Repository string `json:"repository"`
	Nearest    string `json:"nearest,omitempty"` // a flag whose key is much like it
	Retired    bool   `json:"retired,omitempty"`
}

// Settled looks whether flags can be retired.
type Settled struct {
	Records SettledReader
	Now     func() time.Time
	Spans   settled.Spans
}

// SettledReader reads what that rests on.
type SettledReader interface {
	Definition(ctx context.Context, project int64, key string) (*app.Definition, error)
	Environments(ctx context.Context, project int64) ([]app.Environment, error)
	FlagsIn(ctx context.Context, environment int64) ([]app.FlagRecord, error)
	Uses(ctx context.Context, environment int64, flag string, from, to, step int64) ([]app.UseRow, error)
	Asked(ctx context.Context, environment int64) ([]app.Asked, error)
	RunningIn(ctx context.Context, environment int64) ([]app.Release, error)
	Stops(ctx context.Context, environment int64, lifted int) ([]app.StopRecord, error)
	Scans(ctx context.Context, project int64) ([]app.Scan, error)
}

// Ready tells whether a flag can be retired.
func (s *Settled) Ready(ctx context.Context, p *app.Project, key string) (*settled.Readiness, error) {
	d, err := s.Records.Definition(ctx, p.ID, key)
	if err != nil {
		return nil, err
	}
	all, err := s.Look(ctx, p.ID, []app.Definition{*d})
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Look tells of several flags of a project whether they can be retired.
func (s *Settled) Look(ctx context.Context, project int64, defs []app.Definition) ([]*settled.Readiness, error) {
	envs, err := s.Records.Environments(ctx, project)
	if err != nil {
		return nil, err
	}
	found, err := s.Records.Scans(ctx, project)
	if err != nil {
		return nil, err
	}
	now := s.Now().UnixMilli()
	subjects := make([]settled.Subject, len(defs))
	for i := range defs {
		subjects[i] = settled.Subject{Flag: &defs[i], Scanned: len(found) > 0, Now: now, Spans: s.Spans}
		for _, scan := range found {
			for _, p := range scan.Places {
				if p.Flag == defs[i].Key {
					subjects[i].Places = append(subjects[i].Places, p)
				}
			}
		}
	}
	for i := range envs {
		if err := s.in(ctx, &envs[i], now, subjects); err != nil {
			return nil, err
		}
	}
	out := make([]*settled.Readiness, len(defs))
	for i := range subjects {
		out[i] = settled.Look(subjects[i])
	}
	return out, nil
}

// in adds how flags stand in an environment.
func (s *Settled) in(ctx context.Context, env *app.Environment, now int64, subjects []settled.Subject) error {
	docs, err := s.Records.FlagsIn(ctx, env.ID)
	if err != nil {
		return err
	}
	only := ""
	if len(subjects) == 1 {
		only = subjects[0].Flag.Key
	}
	rows, err := s.Records.Uses(ctx, env.ID, only, (now-s.Spans.Settled.Milliseconds())/60_000, now/60_000+1, 1_440)
	if err != nil {
		return err
	}
	asked, err := s.Records.Asked(ctx, env.ID)
	if err != nil {
		return err
	}
	running, err := s.Records.RunningIn(ctx, env.ID)
	if err != nil {
		return err
	}
	stops, err := s.Records.Stops(ctx, env.ID, 0)
	if err != nil {
		return err
	}
	ins := map[string]*settled.In{}
	for i := range docs {
		ins[docs[i].Key] = &settled.In{Environment: env.Key, Document: docs[i].Document, Given: map[string]uint64{}}
	}
	for _, r := range rows {
		key := r.Flag
		if only != "" {
			key = only
		}
		if in := ins[key]; in != nil {
			in.Given[r.Variant] += r.Count
		}
	}
	for _, a := range asked {
		if in := ins[a.Flag]; in != nil {
			in.Asked = a.Last
		}
	}
	for _, r := range running {
		if in := ins[r.Flag]; in != nil {
			in.Release = true
		}
	}
	for _, stop := range stops {
		for _, key := range stop.Flags {
			if in := ins[key]; in != nil && stop.LiftedAt == 0 {
				in.Stopped = true
			}
		}
	}
	for i := range subjects {
		if in := ins[subjects[i].Flag.Key]; in != nil {
			subjects[i].In = append(subjects[i].In, *in)
		}
	}
	return nil
}

func (c *call) readiness(*none) (any, error) {
	return c.api.Settled.Ready(c.ctx, c.p, c.Param("flag"))
}

type retireBody struct {
	flags.Retire
	Reason string `json:"reason,omitempty"`
}

func (c *call) retireFlag(in *retireBody) (any, error) {
	return c.apply(in.Reason, c.Param("flag"), &in.Retire)
}

func (c *call) restoreFlag(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("flag"), &flags.Restore{})
}

func (c *call) retiring(*none) (any, error) {
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	out := &Retiring{Ready: []ReadyFlag{}}
	if out.Retired, err = c.api.Records.RetiredFlags(c.ctx, c.p.ID); err != nil {
		return nil, err
	}
	slices.SortFunc(out.Retired, func(a, b app.Definition) int { return int(b.Retired.At - a.Retired.At) })
	all, err := c.api.Settled.Look(c.ctx, c.p.ID, defs)
	if err != nil {
		return nil, err
	}
	for i := range defs {
		if all[i].Ready {
			out.Ready = append(out.Ready, ReadyFlag{defs[i].Key, defs[i].Title, defs[i].GoneBy, defs[i].Owners,
				all[i]})
		}
	}
	return out, nil
}

func (c *call) places(*none) (any, error) {
	all, err := c.api.Records.Scans(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	gone, err := c.api.Records.RetiredFlags(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	known, asked := map[string]bool{}, map[string]bool{}
	for i := range defs {
		known[defs[i].Key] = true
	}
	only := c.QueryParam("flag")
	out := &Code{Scans: []Scanned{}, Unknown: []UnknownKey{}, Unasked: []string{}}
	for _, s := range all {
		one := Scanned{s.Repository, s.Branch, s.Commit, s.At, s.Lines, []app.CodePlace{}}
		for _, p := range s.Places {
			asked[p.Flag] = true
			retired := slices.ContainsFunc(gone, func(d app.Definition) bool { return d.Key == p.Flag })
			if !known[p.Flag] {
				out.Unknown = append(out.Unknown, unknownKey(p, &s, known, retired))
			} else if only == "" || p.Flag == only {
				one.Places = append(one.Places, p)
			}
		}
		for _, p := range s.Unknown {
			if !known[p.Flag] {
				out.Unknown = append(out.Unknown, unknownKey(p, &s, known, false))
			}
		}
		out.Scans = append(out.Scans, one)
	}
	for i := range defs {
		if !asked[defs[i].Key] && len(all) > 0 {
			out.Unasked = append(out.Unasked, defs[i].Key)
		}
	}
	return out, nil
}

func unknownKey(p app.CodePlace, s *app.Scan, known map[string]bool, retired bool) UnknownKey {
	out := UnknownKey{CodePlace: p, Repository: s.Repository, Retired: retired}
	if !retired {
		out.Nearest = lint.Nearest(p.Flag, func(yield func(string) bool) {
			for key := range known {
				if !yield(key) {
					return
				}
			}
		})
	}
	return out
}

type scanBody struct {
	scans.Report
	Reason string `json:"reason,omitempty"`
}

func (c *call) reportPlaces(in *scanBody) (any, error) {
	return c.apply(in.Reason, "", &in.Report)
}

type forgetBody struct {
	scans.Forget
	Reason string `json:"reason,omitempty"`
}

func (c *call) forgetPlaces(in *forgetBody) (any, error) {
	return c.apply(in.Reason, "", &in.Forget)
}
