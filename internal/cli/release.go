package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/files"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).releaseCommand)

func (s *session) releaseCommand() *cobra.Command {
	c := group("release", "Take a flag from one variant to another in stages", s.releaseStart(), s.releaseList(),
		s.releaseShow(), s.releaseFollow(), s.releaseHalt("hold", "Hold a release where it is"),
		s.releaseAct("go-on", "Have a release that is held go on", false),
		s.releaseAct("next", "Begin the next stage now", false), s.releaseAct("sign", "Sign that a release may go on",
			true),
		s.releaseAct("decline", "Decline that a release goes on", true),
		s.releaseHalt("roll-back", "Take back what a release gave, and nothing else"), s.releaseFinish(),
		s.releaseEdit(), s.releaseWrite(), s.releaseSchema())
	c.Example = "  greenlever release start night-batching --ladder in-a-day --by site.id --env production " +
		"--because 'it is time'\n" +
		"  greenlever release follow night-batching --env production"
	return c
}

// ahead is what the API answers where a release is only tried.
type ahead struct {
	releases.Done
	Ahead *manage.Ahead `json:"ahead"`
}

func (s *session) releaseStart() *cobra.Command {
	var in releases.Start
	var file, where, shares, every, begin string
	var watches []string
	var blind bool
	c := &cobra.Command{Use: "start [FLAG]", Short: "Start a release; --try shows what each of its stages would do",
		Example: "  greenlever release start night-batching --shares 8,30,100 --every 1d --by site.id --env " +
			"production --because 'staff are happy'\n  greenlever release start -f night-batching.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			flag, start := "", in
			if file != "" {
				raw, err := s.readFile(file)
				if err != nil {
					return err
				}
				r, err := files.ReadRelease(raw)
				if err != nil {
					return coded(exitInvalid, "%s: %v", file, err)
				}
				flag, start = r.Flag, r.Start
				if s.env == "" {
					s.env = r.Environment
				}
				if s.because == "" {
					s.because = r.Because
				}
			}
			switch {
			case len(args) > 1 || len(args) == 0 && flag == "":
				return coded(exitUsage, "%s takes FLAG, or -f FILE; see --help", cmd.CommandPath())
			case len(args) == 1 && flag != "" && flag != args[0]:
				return coded(exitUsage, "the file is of a release of %s, not of %s", flag, args[0])
			case len(args) == 1:
				flag = args[0]
			}
			if err := fillStart(&start, where, shares, every, begin); err != nil {
				return err
			}
			if len(watches) > 0 || blind {
				start.Watches = watchesOf(watches)
			}
			return s.startRelease(cmd.Context(), flag, &start)
		}}
	f := c.Flags()
	f.StringVarP(&file, "file", "f", "", "a YAML file; see release schema")
	f.StringVar(&in.From, "from", "", "the variant that it goes from; what the flag gives now if left out")
	f.StringVar(&in.To, "to", "", "the variant that is new; the only other one if left out")
	f.StringSliceVar(&in.Beside, "beside", nil, "further variants that are new: each gets as much of every share, "+
		"and is compared for itself")
	f.StringSliceVar(&in.By, "by", nil, "what shares are drawn by, such as site.id; the key if left out")
	f.StringVar(&where, "where", "", "a condition that all stages share, as text")
	f.StringVar(&in.Ladder, "ladder", "", "a saved order of stages: see greenlever ladder list")
	f.StringSliceVar(&in.Named, "named", nil, "units for the stages of the ladder that ask, such as your own")
	f.StringVar(&shares, "shares", "", "stages as shares in percent, such as 2,8,30,65,100")
	f.StringVar(&every, "every", "", "how long each of these stays at least, such as 1d")
	f.StringSliceVar(&watches, "watch", nil,
		"a metric that it looks at, and what comes of harm: door-open-failed, or "+
			"door-open-ms:hold, or :tell")
	f.StringSliceVar(&in.BreakDown, "break-down", nil, "attributes by which what the watches find is broken down, "+
		"such as firmware")
	f.BoolVar(&blind, "no-watches", false, "none, also of those metrics that belong to the flag")
	f.StringVar(&begin, "begin", "", "when it begins, such as 2026-12-01T08:00:00+01:00; at once if left out")
	f.StringVar(&in.Above, "above", "", "the id of the rule that it stands above; below all if left out")
	f.BoolVar(&in.OldArm, "old-arm", false, "keep a part of the others on the old variant, to compare with")
	f.StringVar(&in.Expected, "expected", "", "the effect that you hope for")
	f.StringVar(&in.After, "after", "", "the id of the release that this one follows after a repair: what is left "+
		"open is as there")
	f.IntVar(&in.First, "first", 0, "the stage to begin with, from 0; those before it are in it")
	return c
}

// watchesOf reads watches as they are given on the line.
func watchesOf(texts []string) *[]releases.Watching {
	out := []releases.Watching{}
	for _, one := range texts {
		metric, reaction, _ := strings.Cut(one, ":")
		out = append(out, releases.Watching{Metric: metric, OnHarm: evidence.Reaction(reaction)})
	}
	return &out
}

func fillStart(in *releases.Start, where, shares, every, begin string) error {
	raw := "release: x\n"
	if where != "" {
		raw += fmt.Sprintf("where: %q\n", where)
	}
	if begin != "" {
		raw += fmt.Sprintf("begin: %q\n", begin)
	}
	if shares != "" {
		raw += "stages:\n"
		for _, one := range strings.Split(shares, ",") {
			n, err := bucket.ParsePercent(strings.TrimSpace(one))
			if err != nil {
				return coded(exitUsage, "--shares: %v", err)
			}
			raw += fmt.Sprintf("- name: %q\n  share: %q\n", bucket.Percent(n), bucket.Percent(n))
			if every != "" {
				raw += fmt.Sprintf("  least: %q\n", every)
			}
		}
	}
	r, err := files.ReadRelease([]byte(raw))
	if err != nil {
		return coded(exitInvalid, "%v", err)
	}
	if where != "" {
		in.Where = r.Start.Where
	}
	if begin != "" {
		in.Begin = r.Start.Begin
	}
	if shares != "" {
		in.Stages = r.Start.Stages
	}
	return nil
}

func (s *session) startRelease(ctx context.Context, flag string, in *releases.Start) error {
	a, path, env, err := s.inEnvironment(ctx)
	if err != nil {
		return err
	}
	path += "/flags/" + url.PathEscape(flag) + "/releases"
	type body struct {
		*releases.Start
		Reason string `json:"reason,omitempty"`
	}
	var tried ahead
	reason := s.because
	if reason == "" {
		reason = "not said yet"
	}
	if err := a.do(ctx, request{method: "POST", path: path + "?dryRun=true", body: body{in, reason}},
		&tried); err != nil {
		return err
	}
	in.Salt = tried.State.Plan.Salt // so that what was shown is what happens
	if s.try {
		return s.show(tried, func() { s.sayAhead(&tried, func(line string) { s.say("%s", line) }) })
	}
	s.sayAhead(&tried, func(line string) { s.note("%s", line) })
	// Whom the old arm takes another variant from, somebody has seen.
	if err := s.confirm(nil, env.AskFirst || tried.Ahead.Taken.Counted > 0 && !s.yes); err != nil {
		return err
	}
	var done releases.Done
	if err := a.do(ctx, request{method: "POST", path: path, body: body{in, s.because}}, &done); err != nil {
		return err
	}
	return s.show(done, func() {
		s.say("%s", done.ID)
		s.note("%s\nfollow it:     %s\ntake it back:  %s", said(done.Sentence), s.next("release", "follow", flag),
			s.next("release", "roll-back", flag, "--because", "it does harm"))
	})
}

// sayAhead says what a release would do, stage by stage.
func (s *session) sayAhead(t *ahead, line func(string)) {
	for _, l := range t.Difference {
		line("  " + said(l))
	}
	for i := range t.Ahead.Stages {
		st := &t.Ahead.Stages[i]
		text := fmt.Sprintf("%-8s %s units have %s", st.Name, about(st.Has), strings.Join(t.State.Plan.News(),
			" or "))
		if st.Drawn != nil {
			for _, v := range t.State.Plan.News() {
				text += fmt.Sprintf(", %s of %s %s", about(st.Drawn.Parts[v]), about(st.Drawn.Units), st.Drawn.By)
				if len(t.State.Plan.Beside) > 0 {
					text += " " + v
				}
			}
		}
		text += "; " + said(st.Shift.Says)
		if st.Takes > 0 {
			text += "; takes about " + stage.Span(st.Takes).Words()
		}
		line(text)
	}
	if t.Ahead.Takes > 0 {
		line("in all about " + stage.Span(t.Ahead.Takes).Words() + ", beside what people take to sign")
	}
	for _, v := range t.Ahead.Versions {
		asks := "does not ask for it"
		if v.Asks > 0 {
			asks = fmt.Sprintf("asked for it %d times in the last day", v.Asks)
		}
		line(fmt.Sprintf("%s, %s: %s", strings.TrimSpace(v.Application+" "+v.Version), counted(v.Instances, "process",
			"processes"),
			asks))
	}
	for _, f := range t.Ahead.Floors {
		line(fmt.Sprintf("after the repair you may ask for the newest that was seen: --where '%s'", f.Text))
	}
	for _, l := range t.Ahead.Says {
		line("careful: " + said(l))
	}
}

// findRelease finds a release: by its id, or the newest of a flag.
func (s *session) findRelease(ctx context.Context, of string) (a *api, path string, v *manage.ReleaseView, ask bool,
	err error) {
	a, at, env, err := s.inEnvironment(ctx)
	if err != nil {
		return nil, "", nil, false, err
	}
	id := of
	if len(of) != 36 || strings.Count(of, "-") != 4 {
		var all struct{ Items []manage.ReleaseLine }
		if err := a.do(ctx, request{method: "GET", path: at + "/flags/" + url.PathEscape(of) + "/releases"},
			&all); err != nil {
			return nil, "", nil, false, err
		}
		if len(all.Items) == 0 {
			return nil, "", nil, false, coded(exitNotFound, "flag %s has no release in %s: start one with %s", of,
				s.env,
				s.next("release", "start", of, "--ladder", "in-a-day", "--try"))
		}
		id = all.Items[0].ID
	}
	path, v = at+"/releases/"+url.PathEscape(id), &manage.ReleaseView{}
	return a, path, v, env.AskFirst, a.do(ctx, request{method: "GET", path: path}, v)
}

// releaseAct does something with a release; signs tells that it is a signature.
func (s *session) releaseAct(do, short string, signs bool) *cobra.Command {
	return &cobra.Command{Use: do + " FLAG", Short: short, Args: exactly("FLAG"),
		Example: fmt.Sprintf("  greenlever release %s night-batching --env production --because 'we looked at it'",
			do),
		RunE: func(cmd *cobra.Command, args []string) error {
			below := "/acts"
			if signs {
				below = "/signatures"
			}
			return s.act(cmd.Context(), args[0], below, map[string]any{"do": do}, true)
		}}
}

func (s *session) releaseHalt(do, short string) *cobra.Command {
	return &cobra.Command{Use: do + " FLAG", Short: short + "; asks nothing", Args: exactly("FLAG"),
		Example: fmt.Sprintf("  greenlever release %s night-batching --env production --because 'doors jam'", do),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.act(cmd.Context(), args[0], "/halts", map[string]any{"do": do}, false)
		}}
}

func (s *session) releaseFinish() *cobra.Command {
	var drop []string
	var outcome, give string
	var early bool
	c := &cobra.Command{Use: "finish FLAG",
		Short: "Make what a release gave the flag's own, for all whom it is for",
		Args:  exactly("FLAG"),
		Example: "  greenlever release finish night-batching --outcome 'rounds are shorter' --env production " +
			"--because 'all sites have it'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.act(cmd.Context(), args[0], "/acts", map[string]any{"do": "finish", "drop": drop,
				"outcome": outcome, "early": early, "give": give}, true)
		}}
	c.Flags().StringSliceVar(&drop, "drop", nil, "ids of rules that decide nothing more and go with it; release show "+
		"lists them")
	c.Flags().StringVar(&outcome, "outcome", "", "what came of it, against what was expected")
	c.Flags().StringVar(&give, "give", "", "the variant that all get, where several are new")
	c.Flags().BoolVar(&early, "early", false, "although not all whom it is for have it yet: they get it at once")
	return c
}

func (s *session) releaseEdit() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "edit FLAG -f FILE", Short: "Edit the stages to come, from a file with all stages",
		Args: exactly("FLAG"), Example: "  greenlever release write night-batching --env production > release.yaml\n" +
			"  greenlever release edit night-batching -f release.yaml --env production --because 'slower at the end'",
		RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(file)
			if err != nil {
				return err
			}
			r, err := files.ReadRelease(raw)
			if err != nil {
				return coded(exitInvalid, "%s: %v", file, err)
			}
			return s.act(cmd.Context(), args[0], "/acts", map[string]any{"do": "edit", "stages": r.Start.Stages}, true)
		}}
	c.Flags().StringVarP(&file, "file", "f", "release.yaml", "the file")
	return c
}

// act does something with a release, and says what came of it. seen has it name the state that was seen.
func (s *session) act(ctx context.Context, of, below string, body map[string]any, seen bool) error {
	a, path, v, ask, err := s.findRelease(ctx, of)
	if err != nil {
		return err
	}
	if of := v.State.Plan.News(); body["do"] == "finish" && body["give"] == "" && len(of) > 1 {
		return coded(exitUsage, "say which one all get: --give %s", strings.Join(of, " or --give "))
	}
	body["reason"] = s.because
	if seen {
		body["sequence"] = v.State.Sequence
	}
	if ask && s.because == "" {
		body["reason"] = "not said yet"
	}
	var tried struct {
		releases.Done
		Preview *preview.Preview `json:"preview"`
	}
	halts := below == "/halts" // nothing is asked of who takes something back
	if !halts || s.try {
		if err := a.do(ctx, request{method: "POST", path: path + below + "?dryRun=true", body: body},
			&tried); err != nil {
			if body["do"] == "finish" && body["early"] == false && ExitCode(err) == exitConflict {
				s.note("to see whom that moves: %s", s.next("release", "finish", of, "--early", "--try"))
			}
			return err
		}
	}
	if s.try {
		return s.tried(tried, tried.Difference, tried.Preview, tried.Document)
	}
	if !halts {
		s.notePreview(tried.Difference, tried.Preview, tried.Document)
		if err := s.confirm(nil, ask); err != nil {
			return err
		}
		if body["do"] == "finish" {
			units, err := s.confirmSweep(tried.Preview)
			if err != nil {
				return err
			}
			if units != nil {
				body["units"] = units
			}
		}
	}
	body["reason"] = s.because
	var done releases.Done
	if err := a.do(ctx, request{method: "POST", path: path + below, body: body}, &done); err != nil {
		return err
	}
	return s.show(done, func() {
		for _, l := range done.Difference {
			s.note("  %s", said(l))
		}
		s.say("%s", said(done.Sentence))
	})
}

func (s *session) releaseWrite() *cobra.Command {
	return &cobra.Command{Use: "write FLAG", Short: "Write a release as YAML, from which it could be started again",
		Args: exactly("FLAG"), Example: "  greenlever release write night-batching --env production > " +
			"night-batching.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, v, _, err := s.findRelease(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			raw, err := files.WriteRelease(v.Release, s.env)
			if err != nil {
				return err
			}
			_, err = s.out.Write(raw)
			return err
		}}
}

func (s *session) releaseSchema() *cobra.Command {
	return &cobra.Command{Use: "schema [release|ladder|stages|metric|recipe]", Short: "Print the JSON Schema of " +
		"the files, for " +
		"editors",
		Args: cobra.MaximumNArgs(1),
		Example: "  greenlever release schema > release.schema.json\n  greenlever release schema stages > " +
			"stages.schema.json",
		RunE: func(_ *cobra.Command, args []string) error {
			kind := "release"
			if len(args) > 0 {
				kind = args[0]
			}
			raw, err := files.Schema(kind)
			if err != nil {
				return coded(exitUsage, "there is no schema %q: release, ladder, stages, metric or recipe", kind)
			}
			_, err = s.out.Write(raw)
			return err
		}}
}
