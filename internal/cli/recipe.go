package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed("places", (*session).recipeCommand)

func (s *session) recipeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "The recipes that a new flag may begin from", Args: exactly(),
		Example: "  greenlever recipe list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.Recipe }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/recipes"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, r := range all.Items {
					gone := "stays"
					if r.Months > 0 {
						gone = fmt.Sprintf("%d months", r.Months)
					}
					rows = append(rows, []any{r.Key, r.Title, r.Type, gone, r.Says})
				}
				s.rows([]any{"recipe", "name", "type", "gone by", "for"}, rows)
			})
		}}
	return group("recipe", "Saved beginnings of flags", list)
}
