package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).boardCommand)

func (s *session) boardCommand() *cobra.Command {
	return &cobra.Command{Use: "board", Short: "What is on where, for whom", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var b manage.Board
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/board"}, &b); err != nil {
				return err
			}
			return s.show(b, func() { s.printBoard(&b) })
		}}
}

func (s *session) printBoard(b *manage.Board) {
	for i, f := range b.Flags {
		if i > 0 {
			s.say("")
		}
		s.say("%s  %s (%s, %s, %s)", f.Key, f.Title, f.Type, f.Purpose, goneBy(f.GoneBy))
		for _, e := range b.Environments {
			if s.env != "" && s.env != e.Key {
				continue
			}
			c := f.In[e.Key]
			s.say("  %-14s %s", e.Key, wrap(said(c.Sentence), s.wide(), 17))
		}
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
