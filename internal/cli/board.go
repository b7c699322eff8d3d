package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/board"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).boardCommand)

func (s *session) boardCommand() *cobra.Command {
	var by, group string
	c := &cobra.Command{Use: "board [WORD...]", Short: "What is on where, for whom",
		Long: "What is on where, for whom. Words find flags, as in the console's field:\n\n" + findWords(),
		Example: "  greenlever board on:production 'gone-by:<30d'\n  greenlever board --group owner -- tag:door " +
			"-visible:yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			q := url.Values{"find": {strings.Join(args, " ")}, "sort": {by}, "group": {group}}
			if s.env != "" {
				q.Set("environments", s.env)
			}
			all, err := s.pages(cmd.Context(), a, path, q)
			if err != nil {
				return err
			}
			return s.show(all, func() { s.printBoard(all) })
		}}
	c.Flags().StringVar(&by, "sort", string(board.ByKey), "attention, key, changed or gone-by")
	c.Flags().StringVar(&group, "group", "", "owner or tag")
	return s.watched(c)
}

// findWords explains the words with which flags are found.
func findWords() string {
	var b strings.Builder
	for _, w := range board.Words() {
		fmt.Fprintf(&b, "  %-18s %s\n", w[0], w[1])
	}
	return b.String()
}

func (s *session) printBoard(b *manage.Board) {
	group := ""
	for i, f := range b.Flags {
		if i > 0 {
			s.say("")
		}
		if f.Group != group {
			group = f.Group
			s.say("# %s\n", group)
		}
		s.say("%s  %s (%s, %s)", s.screen.paint(strong, f.Key), f.Title, f.Type, goneBy(f.GoneBy))
		for _, e := range b.Environments {
			c := f.In[e.Key]
			as := signs[leverState(c.Lever, c.Stops)]
			s.say("%s %-14s %s", s.screen.paint(as.tone, as.sign), e.Key, wrap(said(c.Sentence), s.wide(), 17))
		}
	}
	if b.All == 0 {
		s.firstThree(b)
		return
	}
	if len(b.Flags) == 0 {
		s.say("None of the %d flags is found by these words.", b.All)
	}
	s.say("")
	var rows [][]any
	for _, e := range b.Environments {
		rows = append(rows, []any{e.Key, e.Revision, fmt.Sprintf("%d of %d", e.Delivered, e.Instances), e.Lost,
			e.AskFirst})
	}
	s.rows([]any{"environment", "revision", "delivered to", "lost", "asks first"}, rows)
}

// firstThree says how a first flag is made, turned on and asked for.
func (s *session) firstThree(b *manage.Board) {
	if len(b.Environments) == 0 {
		s.note("The project has no environment yet. Make one:\n%s", s.next("environment", "make", "development"))
		return
	}
	const key = "first-flag"
	first := []string{s.next("flag", "make", key, "--gone-by", time.Now().AddDate(0, 3, 0).Format(time.DateOnly)),
		s.next("flag", "turn", key, "on", "--end", "on"), s.next("flag", "snippet", key)}
	if s.env == "" {
		first[1] = s.next("flag", "turn", key, "on", "--end", "on", "--env", b.Environments[0].Key)
		first[2] = s.next("flag", "snippet", key, "--env", b.Environments[0].Key)
	}
	if slices.ContainsFunc(b.Environments, func(e manage.BoardEnvironment) bool { return e.AskFirst }) {
		for i := range first[:2] {
			first[i] += " --because 'to try it'"
		}
	}
	s.note("There is no flag yet. Make the first one, turn it on, and see the code that asks for it:\n%s",
		strings.Join(first, "\n"))
}

// leverState is how a lever stands; a stop stands over it.
func leverState[S any](l flag.Lever, stops []S) state {
	if len(stops) > 0 {
		return "stopped"
	}
	return state(l)
}

func goneBy(when string) string {
	if when == "stays" {
		return when
	}
	return "gone by " + when
}
