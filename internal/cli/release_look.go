package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"greenlever.example/core/bucket"
	"greenlever.example/core/stage"
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
				var rows [][]any
				for _, r := range all.Items {
					rows = append(rows, []any{r.Flag, r.EnvironmentKey, r.State.Is, stageName(&r), when(r.Made),
						wrap(said(r.Sentence), s.wide()-70, 0)})
				}
				s.rows([]any{"flag", "where", "stands", "stage", "made", ""}, rows)
			})
		}}
	c.Flags().BoolVar(&over, "over", false, "those that ended, and how")
	return c
}

func stageName(r *manage.ReleaseLine) string {
	if st := r.State.Stage(); st != nil {
		return st.Name
	}
	return "-"
}

func (s *session) releaseShow() *cobra.Command {
	return &cobra.Command{Use: "show FLAG", Short: "A release: its stages, what happened to it, and what to hand over",
		Args: exactly("FLAG"), Example: "  greenlever release show night-batching --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, v, _, err := s.findRelease(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return s.show(v, func() { s.sayRelease(v) })
		}}
}

func (s *session) sayRelease(v *manage.ReleaseView) {
	s.say("%s in %s: %s -> %s, by %s, since %s", v.Flag, v.EnvironmentKey, v.State.Plan.From, v.State.Plan.To,
		v.OwnerName,
		when(v.Made))
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
	s.say("")
	var rows [][]any
	for _, st := range v.Steps {
		at := "-"
		if st.Stage >= 0 && st.Stage < len(v.State.Plan.Stages) {
			at = v.State.Plan.Stages[st.Stage].Name
		}
		rows = append(rows, []any{when(st.At), st.Tell, at, st.Name, st.Event.Because})
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

func (s *session) releaseWatch() *cobra.Command {
	return &cobra.Command{Use: "watch FLAG", Short: "Watch a release until it is over; the exit code tells how it " +
		"ended",
		Long: "Watch shows a release as it goes, and ends with it: 0 where it was finished, 1 where it was rolled " +
			"back or " +
			"withdrawn. Where the output is no terminal, each thing that happens is a line.",
		Args: exactly("FLAG"), Example: "  greenlever release watch night-batching --env production",
		RunE: func(cmd *cobra.Command, args []string) error { return s.watch(cmd.Context(), args[0]) }}
}

// watchEvery is how often a release is looked at.
const watchEvery = time.Second

func (s *session) watch(ctx context.Context, of string) error {
	a, path, v, _, err := s.findRelease(ctx, of)
	if err != nil {
		return err
	}
	f, is := s.out.(*os.File)
	live := is && term.IsTerminal(int(f.Fd())) && s.output == "table"
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
					s.say("%s  %-11s %s", when(st.At), st.Tell, st.Event.Because)
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
		case <-time.After(watchEvery):
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
	if n := len(v.Steps); n > 0 {
		lines = append(lines, "")
		for _, st := range v.Steps[max(0, n-5):] {
			lines = append(lines, fmt.Sprintf("%s  %-11s %-12s %s", when(st.At), st.Tell, st.Name, st.Event.Because))
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
