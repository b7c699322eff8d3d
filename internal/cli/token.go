package cli

import (
	"net/url"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed("places", (*session).tokenCommand)

func (s *session) tokenCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Your personal tokens", Args: exactly(), RunE: func(cmd *cobra.Command,
		_ []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		var all struct{ Items []app.Token }
		if err := a.do(cmd.Context(), request{method: "GET", path: "/me/tokens"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, t := range all.Items {
				rows = append(rows, []any{t.ID, t.Name, s.when(t.Created), s.when(t.Expires)})
			}
			s.rows([]any{"token", "name", "made", "expires"}, rows)
		})
	}}
	remove := &cobra.Command{Use: "remove TOKEN", Short: "Remove a personal token by its id", Args: exactly("TOKEN"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "DELETE", path: "/me/tokens/" + url.PathEscape(args[0])},
				nil); err != nil {
				return err
			}
			s.note("removed")
			return nil
		}}
	return group("token", "Your personal tokens; sign-in makes one, or the console", list,
		remove)
}
