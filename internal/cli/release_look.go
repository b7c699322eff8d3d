package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/bucket"
	"greenlever.example/core/evidence"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/manage"
)

func (s *session) releaseList() *cobra.Command {
	var over bool
	c := &cobra.Command{Use: "list", Short: "What is going out, where, and what it waits for", Args: exactly(),
		Example: "  greenlever release list\n  greenlever release list --over",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.ReleaseLine }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/releases"}, &all); err != nil {
				return err
			}
			all.Items = slices.DeleteFunc(all.Items, func(r manage.ReleaseLine) bool {
				return r.Running() == over || s.env != "" && r.EnvironmentKey != s.env
			})
			return s.show(all.Items, func() {
				for i, r := range all.Items {
					if i > 0 {
						s.say("")
					}
					s.say("%s  %s  %s  stage %s  made %s", s.screen.paint(strong, r.Flag), r.EnvironmentKey,
						s.screen.state(state(r.State.Is)), stageName(&r), s.when(r.Made))
					s.say("  %s", wrap(said(r.Sentence), s.wide(), 2))
				}
				if len(all.Items) == 0 {
					s.note("nothing is going out: %s says how to start a release", "greenlever release start --help")
				}
			})
		}}
	c.Flags().BoolVar(&over, "over", false, "those that ended, and how")
	return s.watched(c)
}

func stageName(r *manage.ReleaseLine) string {
	if st := r.State.Stage(); st != nil {
		return st.Name
	}
	return "-"
}

func (s *session) releaseShow() *cobra.Command {
	return s.watched(&cobra.Command{Use: "show FLAG", Short: "A release: its stages, what happened, and what to " +
		"hand over",
		Args: exactly("FLAG"), Example: "  greenlever release show night-batching --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, v, _, err := s.findRelease(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return s.show(v, func() { s.sayRelease(v) })
		}})
}

func (s *session) sayRelease(v *manage.ReleaseView) {
	s.say("%s in %s: %s -> %s, by %s, since %s", v.Flag, v.EnvironmentKey, v.State.Plan.From,
		strings.Join(v.State.Plan.News(), " or "),
		v.OwnerName,
		s.when(v.Made))
	s.say("%s", wrap(said(v.Sentence), s.wide(), 0))
	if v.Expected != "" {
		s.say("expected: %s", v.Expected)
	}
	if v.State.Outcome != "" {
		s.say("outcome:  %s", v.State.Outcome)
	}
	s.say("")
	for _, line := range course(v, time.Now(), s.wide()) {
		s.say("%s", line)
	}
	if v.Watched != nil {
		s.say("")
		for _, line := range s.watchLines(v.Watched) {
			s.say("%s", line)
		}
	}
	s.say("")
	var rows [][]any
	for _, st := range v.Steps {
		at := "-"
		if st.Stage >= 0 && st.Stage < len(v.State.Plan.Stages) {
			at = v.State.Plan.Stages[st.Stage].Name
		}
		rows = append(rows, []any{s.when(st.At), st.Tell, at, st.Name, st.Event.Because})
	}
	s.rows([]any{"at", "what", "stage", "by", "because"}, rows)
	if len(v.Unneeded) > 0 && !v.State.Is.Over() {
		s.say("\nthese rules decide nothing more once it is finished (--drop):")
		for _, r := range v.Unneeded {
			s.say("  %s  %s", r.ID, r.Name)
		}
	}
	s.say("\nto hand over:")
	for _, n := range v.Note {
		s.say("  %s", wrap(said(n), s.wide(), 2))
	}
}

// course draws a release as lines: a bar for each stage as wide as its share, with how it went.
func course(v *manage.ReleaseView, now time.Time, wide int) (lines []string) {
	const bar = 30
	began := map[int]int64{}
	for _, st := range v.Steps {
		if st.Tell == stage.Began || st.Tell == stage.StageBegan {
			began[st.Stage] = st.At
		}
	}
	p := &v.State.Plan
	for i := range p.Stages {
		st := &p.Stages[i]
		full := int(uint64(p.Reaches(i)) * bar / bucket.Buckets)
		mark, fill := " ", "·"
		at, took := began[i], ""
		switch {
		case at > 0 && i == v.State.At && !v.State.Is.Over():
			mark, fill = ">", "█"
			took = "for " + stage.Span(now.UnixMilli()-at).Words()
		case at > 0:
			fill = "█"
			end := v.Ended
			if next := began[i+1]; next > 0 {
				end = next
			}
			took = "took " + stage.Span(end-at).Words()
		default:
			took = stage.Span(st.Least).Words() + " at least"
			if st.Least == 0 {
				took = "no least time"
			}
		}
		if st.Who != nil && full == 0 {
			full = 1
		}
		waits := ""
		if st.Units > 0 {
			waits += fmt.Sprintf(", %d units", st.Units)
		}
		if len(st.SignOff) > 0 {
			waits += ", " + strings.Join(st.SignOff, " or ") + " signs"
		}
		name := st.Name
		if v.Texts.Stages[i] != "" {
			name += " (" + v.Texts.Stages[i] + ")"
		}
		line := fmt.Sprintf("%s %-*s %s  %s%s", mark, bar, strings.Repeat(fill, full), name, took, waits)
		if r := []rune(line); len(r) > wide {
			line = string(r[:wide-1]) + "…"
		}
		lines = append(lines, line)
	}
	return lines
}

// watchLines say what the watches have found, a paragraph each.
func (s *session) watchLines(w *manage.WatchedView) (lines []string) {
	wide := s.wide()
	add := func(mark, text string) {
		lines = append(lines, strings.Split(mark+" "+wrap(text, wide-2, 2), "\n")...)
	}
	if len(w.SaysBroken) > 0 {
		add("!", said(w.SaysBroken))
	}
	for i, says := range w.Says {
		mark := map[evidence.Verdict]string{evidence.Harm: "!", evidence.Clear: "+"}[w.Watches[i].Verdict]
		add(s.screen.paint(signs[state(w.Watches[i].Verdict)].tone, cmp.Or(mark, "·")), said(says))
	}
	for i := range w.Watches {
		for _, p := range w.Watches[i].Parts {
			add(" ", said(words.Say("%s, %s %s: %s", words.Name(w.Watches[i].Name()), words.Plain(p.Attribute),
				words.Name(cmp.Or(p.Value,
					"absent")), w.Watches[i].SaysPart(&p))))
		}
	}
	if w.Run > 1 {
		add("·", fmt.Sprintf("evidence run %d, since %s", w.Run, s.when(w.Began)))
	}
	return lines
}

func (s *session) releaseFollow() *cobra.Command {
	return &cobra.Command{Use: "follow FLAG", Short: "Follow a release until it is over",
		Long: "Follow shows a release as it goes, and ends with it: 0 where it was finished, 1 where it was rolled " +
			"back or withdrawn. Where the output is no terminal, each thing that happens is a line.",
		Args: exactly("FLAG"), Example: "  greenlever release follow night-batching --env production",
		RunE: func(cmd *cobra.Command, args []string) error { return s.follow(cmd.Context(), args[0]) }}
}

// followEvery is how often a release is looked at.
const followEvery = time.Second

func (s *session) follow(ctx context.Context, of string) error {
	a, path, v, _, err := s.findRelease(ctx, of)
	if err != nil {
		return err
	}
	live := s.screen.high > 0 && s.output == "table"
	told, drawn, lost := int64(0), 0, false
	for {
		switch {
		case live:
			drawn = s.redraw(v, drawn)
		default:
			for _, st := range v.Steps {
				if st.Sequence <= told {
					continue
				}
				told = st.Sequence
				if err := s.show(st, func() {
					s.say("%s  %-11s %s", s.when(st.At), st.Tell, st.Event.Because)
				}); err != nil {
					return err
				}
			}
		}
		if v.State.Is.Over() {
			s.note("%s", said(v.Sentence))
			if v.State.Is != stage.Finished {
				return coded(exitFailed, "the release is %s", v.State.Is)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
		var next manage.ReleaseView
		switch err := a.do(ctx, request{method: "GET", path: path}, &next); {
		case err == nil:
			v, lost = &next, false
		case ctx.Err() != nil:
			return nil
		case ExitCode(err) != exitNoConnection:
			return err
		case !lost:
			lost = true
			s.note("no connection since %s; it is asked for again", time.Now().Format("15:04:05"))
			drawn = 0
		}
	}
}

// redraw draws the release over what was drawn before, of so many lines.
func (s *session) redraw(v *manage.ReleaseView, drawn int) int {
	lines := append([]string{fmt.Sprintf("%s in %s, %s", v.Flag, v.EnvironmentKey, time.Now().Format("15:04:05"))},
		strings.Split(wrap(said(v.Sentence), s.wide(), 0), "\n")...)
	lines = append(append(lines, ""), course(v, time.Now(), s.wide())...)
	if v.Watched != nil {
		lines = append(append(lines, ""), s.watchLines(v.Watched)...)
	}
	if n := len(v.Steps); n > 0 {
		lines = append(lines, "")
		for _, st := range v.Steps[max(0, n-5):] {
			lines = append(lines, fmt.Sprintf("%s  %-11s %-12s %s", s.when(st.At), st.Tell, st.Name, st.Event.Because))
		}
	}
	if drawn > 0 {
		fmt.Fprintf(s.out, "\x1b[%dA", drawn)
	}
	for _, l := range lines {
		io.WriteString(s.out, "\x1b[2K"+l+"\n")
	}
	for range drawn - len(lines) {
		io.WriteString(s.out, "\x1b[2K\n")
	}
	return max(drawn, len(lines))
}
