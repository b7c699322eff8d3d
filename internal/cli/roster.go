package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).rosterCommand)

func fromTo(low, high int) string {
	if low == high {
		return strconv.Itoa(low)
	}
	return fmt.Sprintf("%d to %d", low, high)
}

func (s *session) rosterCommand() *cobra.Command {
	return &cobra.Command{Use: "roster", Short: "What each test unit gets, against what is expected of " +
		"chance", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var r manage.Roster
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/roster"}, &r); err != nil {
			return err
		}
		return s.show(r, func() {
			header := []any{"flag"}
			for _, u := range r.Units {
				header = append(header, u.Unit)
			}
			header = append(header, "chance")
			var rows [][]any
			for _, key := range r.Flags {
				row := []any{key}
				for _, u := range r.Units {
					g := u.Gets[key]
					said := g.Variant
					if g.Expected != "" && g.Expected != g.Variant {
						said += " (expected " + g.Expected + ")"
					}
					row = append(row, said)
				}
				var chances []string
				for _, c := range r.Chances[key] {
					if c.Actual > 0 || c.High > 0 {
						chances = append(chances, fmt.Sprintf("%d of %d get %s; %s would be usual", c.Actual,
							len(r.Units), c.Variant, fromTo(c.Low, c.High)))
					}
				}
				rows = append(rows, append(row, strings.Join(chances, "\n")))
			}
			s.rows(header, rows)
		})
	}}
}
