package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
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
			var all manage.Board
			for from := 0; from == 0 || len(all.Flags) < all.Total; from = len(all.Flags) {
				var b manage.Board
				q.Set("from", strconv.Itoa(from))
				if err := a.do(cmd.Context(), request{method: "GET", path: path + "/board?" + q.Encode()},
					&b); err != nil {
					return err
				}
				b.Flags = append(all.Flags, b.Flags...)
				if all = b; len(all.Flags) == from {
					break // fewer than there were
				}
			}
			return s.show(all, func() { s.printBoard(&all) })
		}}
	c.Flags().StringVar(&by, "sort", string(board.ByKey), "attention, key, changed or gone-by")
	c.Flags().StringVar(&group, "group", "", "owner or tag")
	return c
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
		s.say("%s  %s (%s, %s)", f.Key, f.Title, f.Type, goneBy(f.GoneBy))
		for _, e := range b.Environments {
			c := f.In[e.Key]
			s.say("  %-14s %s", e.Key, wrap(said(c.Sentence), s.wide(), 17))
		}
	}
	if len(b.Flags) == 0 && b.All > 0 {
		s.say("None of the %d flags is found by these words.", b.All)
	}
	s.say("")
	var rows [][]any
	for _, e := range b.Environments {
		rows = append(rows, []any{e.Key, e.Revision, fmt.Sprintf("%d of %d", e.Delivered, e.Instances), e.Lost,
			map[bool]string{true: "yes", false: "no"}[e.AskFirst]})
	}
	s.rows([]any{"environment", "revision", "delivered to", "lost", "asks first"}, rows)
}

func goneBy(when string) string {
	if when == "stays" {
		return when
	}
	return "gone by " + when
}
