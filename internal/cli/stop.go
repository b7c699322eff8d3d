package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).stopCommand)
var _ = listed("stop", (*session).liftCommand)
var _ = listed("stop", (*session).happenedCommand)

// lookAtWave is how often the delivery of a stop is looked at.
const lookAtWave = 500 * time.Millisecond

func (s *session) stopCommand() *cobra.Command {
	var find string
	var wait time.Duration
	c := &cobra.Command{Use: "stop FLAG...",
		Short: "Force flags to their resting variants at once; asks nothing",
		Example: "  greenlever stop weather-holds --env production --because 'no round starts'\n" +
			"  greenlever stop --find 'changed:<15m' --env production --try",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			defer func() {
				if ExitCode(err) == exitNoConnection && len(args) > 0 {
					s.note("without the records, by a signed order:  %s", s.next(append([]string{"emergency", "stop"},
						args...)...))
				}
			}()
			if (len(args) == 0) == (find == "") {
				return coded(exitUsage, "name the flags to stop, or find them with --find; see --help")
			}
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if find != "" {
				if args, err = s.found(cmd.Context(), a, find); err != nil {
					return err
				}
			}
			body := map[string]any{"flags": args, "reason": s.because}
			if s.try {
				return s.tryStop(cmd.Context(), a, path+"/stops", body)
			}
			if find != "" { // whoever names flags is asked nothing; these nobody has named
				said := words.Said{}
				for i, key := range args {
					if i > 0 {
						said = words.Say("%s, ", said)
					}
					said = words.Say("%s%s", said, words.Key(key))
				}
				if err := s.confirm([]words.Said{words.Say("stop %s", said)}, !s.yes); err != nil {
					return err
				}
				body["reason"] = s.because
			}
			var out stops.Stopped
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/stops", body: body},
				&out); err != nil {
				return err
			}
			if err := s.show(out, func() {
				s.say("%s", out.Stop)
				s.note("stopped in %s at revision %d: %s", s.env, out.Revision, strings.Join(out.Flags, ", "))
			}); err != nil {
				return err
			}
			err = s.arrives(cmd.Context(), a, path, out.Stop, wait)
			s.note("what happened:  %s\ntake it back:    %s", s.next("happened", out.Stop),
				s.liftNext(out.Stop, env.AskFirst))
			return err
		}}
	c.Flags().StringVar(&find, "find", "", "the flags that are on here and have these words, as board takes them: "+
		"tag:billing, changed:<15m")
	c.Flags().DurationVar(&wait, "wait", 30*time.Second, "for how long it is seen who has it; 0: not at all")
	return c
}

// found gives the flags that are on in the environment and have some words.
func (s *session) found(ctx context.Context, a *api, find string) (keys []string, err error) {
	var b manage.Board
	query := url.Values{"environments": {s.env}, "find": {"on:" + s.env + " " + find}}
	if err := a.do(ctx, request{method: "GET", path: "/projects/" + url.PathEscape(s.project) + "/board?" +
		query.Encode()}, &b); err != nil {
		return nil, err
	}
	for _, f := range b.Flags {
		keys = append(keys, f.Key)
	}
	if len(keys) == 0 {
		return nil, coded(exitNotFound, "no flag that is on in %s has these words: %s", s.env, find)
	}
	if b.Total > len(keys) {
		return nil, coded(exitUsage, "%d flags have these words: name fewer than %d", b.Total, len(keys))
	}
	return keys, nil
}

// arrives shows who has a stop, until all processes have it or a time is over.
func (s *session) arrives(ctx context.Context, a *api, path, stop string, wait time.Duration) error {
	last, until := "", time.Now().Add(wait)
	for wait > 0 {
		var story manage.StopStory
		if err := a.do(ctx, request{method: "GET", path: path + "/stops/" + url.PathEscape(stop)},
			&story); err != nil {
			return fmt.Errorf("it is stopped; who has it cannot be seen: %w", err)
		}
		for _, f := range story.Flags {
			if f.Loses != "" && last == "" {
				s.note("while %s rests, users lose: %s", f.Key, wrap(f.Loses, s.wide(), 2))
			}
		}
		d := story.Wave
		if d == nil {
			return nil
		}
		line := fmt.Sprintf("%d of %d processes have it", d.Reached, d.Expected)
		if d.Expected == 0 {
			line = "no process follows this environment"
		}
		if line != last {
			s.note("%s", line)
			last = line
		}
		if d.Reached == d.Expected {
			if d.All >= 0 {
				s.note("half after %d ms, all after %d ms", d.Half, d.All)
			}
			return nil
		}
		if time.Now().After(until) || len(d.Waiting) == 0 {
			return coded(exitUnsound, "%s", without(d))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookAtWave):
		}
	}
	return nil
}

// without names the processes that do not have a stop.
func without(d *app.Delivery) string {
	var names []string
	for _, t := range d.Wave {
		if t.After < 0 {
			state := "not yet"
			if t.Lost {
				state = "lost, may still decide the old way"
			}
			names = append(names, fmt.Sprintf("%s %s (%s)", t.Application, t.ID[:min(8, len(t.ID))], state))
		}
	}
	return fmt.Sprintf("it is stopped, and %d of %d processes do not have it: %s", d.Expected-d.Reached, d.Expected,
		strings.Join(names, ", "))
}

// tryStop shows what a stop or a lift would move.
func (s *session) tryStop(ctx context.Context, a *api, path string, body map[string]any) error {
	var tried struct {
		stops.Stopped
		Preview *preview.Preview `json:"preview"`
	}
	if err := a.do(ctx, request{method: "POST", path: path + "?dryRun=true", body: body}, &tried); err != nil {
		return err
	}
	return s.tried(tried, nil, tried.Preview, nil)
}

func (s *session) liftCommand() *cobra.Command {
	return &cobra.Command{Use: "lift [STOP...]", Short: "Take stops back; without an id, lists those that stand",
		Example: "  greenlever lift --env production\n" +
			"  greenlever lift 01a0f3c2-5b7d-7a10-8c33-1f6de0b7a001 --env production --because 'it is mended'",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.StopView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/stops"}, &all); err != nil {
				return err
			}
			var standing []*manage.StopView
			var what []words.Said
			for i := range all.Items {
				st := &all.Items[i]
				if st.LiftedAt > 0 {
					continue
				}
				standing = append(standing, st)
				if slices.Contains(args, st.ID) {
					what = append(what, words.Say("lift the stop of %s", strings.Join(st.Flags, ", ")))
				}
			}
			if len(args) == 0 {
				return s.show(all.Items, func() { s.printStanding(standing, env.AskFirst) })
			}
			if s.try {
				return s.tryStop(cmd.Context(), a, path+"/lifts", map[string]any{"stops": args,
					"reason": "not said yet"})
			}
			if err := s.beforeLift(cmd.Context(), a, path, args); err != nil {
				return err
			}
			if err := s.confirm(what, env.AskFirst); err != nil {
				return err
			}
			var out stops.Stopped
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/lifts",
				body: map[string]any{"stops": args, "reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() {
				s.note("lifted in %s at revision %d: %s", s.env, out.Revision,
					strings.Join(out.Flags, ", "))
			})
		}}
}

// liftNext is the command that takes a stop back.
func (s *session) liftNext(stop string, askFirst bool) string {
	lift := []string{"lift", stop}
	if askFirst {
		lift = append(lift, "--because", "it is mended")
	}
	return s.next(lift...)
}

// printStanding lists the stops that stand, each with the command that takes it back in a line of its own.
func (s *session) printStanding(standing []*manage.StopView, askFirst bool) {
	for i, st := range standing {
		if i > 0 {
			s.say("")
		}
		line := fmt.Sprintf("since %s, by %s", s.when(st.At), st.ByName)
		if reason := reasonOf(&st.StopRecord); reason != "" {
			line += ": " + reason
		}
		s.say("%s %s", s.screen.paint(bad, signs["stopped"].sign), s.screen.paint(strong, strings.Join(st.Flags,
			", ")))
		s.say("  %s\n  %s", wrap(line, s.wide(), 2), s.liftNext(st.ID, askFirst))
	}
	if len(standing) == 0 {
		s.note("no stop stands in %s", s.env)
	}
}

// beforeLift says what has changed since flags were stopped, and whom the lift moves.
func (s *session) beforeLift(ctx context.Context, a *api, path string, ids []string) error {
	for _, id := range ids {
		var story manage.StopStory
		if err := a.do(ctx, request{method: "GET", path: path + "/stops/" + url.PathEscape(id)}, &story); err != nil {
			if ExitCode(err) == exitNotFound {
				continue // the lift says so, and names it
			}
			return err
		}
		for _, c := range story.Since {
			s.note("  since the stop: %s", said(c.Says))
		}
		if story.Untold > 0 {
			s.note("  what changed of %d more flags since is not told here", story.Untold)
		}
	}
	var tried struct {
		Preview *preview.Preview `json:"preview"`
	}
	if err := a.do(ctx, request{method: "POST", path: path + "/lifts?dryRun=true", body: map[string]any{"stops": ids,
		"reason": "not said yet"}}, &tried); err != nil {
		return err
	}
	s.notePreview(nil, tried.Preview, nil)
	return nil
}

func reasonOf(st *app.StopRecord) string {
	if st.Reason != "" {
		return st.Reason
	}
	return st.Later
}

func (s *session) happenedCommand() *cobra.Command {
	var markdown bool
	c := &cobra.Command{Use: "happened [STOP]", Short: "What happened: a stop from its cause to its end, to hand over",
		Long: "What happened: a stop from its cause to its end, to hand over. Without an id it is the newest stop.\n" +
			"With --because it gives a stop its reason, which who stopped at night may owe.",
		Example: "  greenlever happened --env production\n" +
			"  greenlever happened --env production --markdown > incident.md",
		Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				var all struct{ Items []manage.StopView }
				if err := a.do(cmd.Context(), request{method: "GET", path: path + "/stops"}, &all); err != nil {
					return err
				}
				if len(all.Items) == 0 {
					return coded(exitNotFound, "nothing was stopped in %s", s.env)
				}
				newest := slices.MaxFunc(all.Items, func(a, b manage.StopView) int {
					return cmp.Compare(a.Revision, b.Revision)
				})
				args = []string{newest.ID}
			}
			path += "/stops/" + url.PathEscape(args[0])
			if s.because != "" {
				if err := a.do(cmd.Context(), request{method: "POST", path: path + "/reason",
					body: map[string]any{"reason": s.because}}, nil); err != nil {
					return err
				}
			}
			var story manage.StopStory
			if err := a.do(cmd.Context(), request{method: "GET", path: path}, &story); err != nil {
				return err
			}
			return s.show(story, func() {
				if markdown {
					fmt.Fprint(s.out, story.Markdown)
					return
				}
				if len(story.Line) > 1 {
					s.say("%s\n", wrap(story.InLine, s.wide(), 2))
				}
				for _, t := range story.Told {
					s.say("%s  %s", s.when(t.At), wrap(t.Says, s.wide(), 2))
				}
				if story.Untold > 0 {
					s.note("of %d more flags that it stopped nothing is told here", story.Untold)
				}
				if story.Reason == "" && story.Later == "" {
					s.note("nobody said why yet: %s", s.next("happened", story.ID, "--because", "what was wrong"))
				}
			})
		}}
	c.Flags().BoolVar(&markdown, "markdown", false, "as Markdown, to paste it where the incident is kept")
	return c
}
