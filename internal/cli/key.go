package cli

import (
	"net/url"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/keys"
)

var _ = listed("places", (*session).keyCommand)

func (s *session) keyCommand() *cobra.Command {
	var kind, purpose string
	var origins []string
	list := &cobra.Command{Use: "list", Short: "The access keys of an environment", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.AccessKey }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/keys"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, k := range all.Items {
					rows = append(rows, []any{k.ID, k.Kind, k.Purpose, k.Hint + "…", strings.Join(k.Origins, " "),
						s.when(k.Created), s.when(k.Revoked)})
				}
				s.rows([]any{"key", "kind", "purpose", "begins with", "pages", "made", "revoked"}, rows)
			})
		}}
	make_ := &cobra.Command{Use: "make", Short: "Make an access key; it is shown once", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var k keys.Made
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/keys",
				body: map[string]any{"kind": kind, "purpose": purpose, "origins": origins}}, &k); err != nil {
				return err
			}
			return s.show(k, func() { s.say("%s", k.Secret) })
		}}
	make_.Flags().StringVar(&kind, "kind", "service", "service, browser or ingest")
	make_.Flags().StringVar(&purpose, "purpose", "default", "what it is for; two of a kind and purpose may live at "+
		"a time")
	make_.Flags().StringSliceVar(&origins, "origin", nil, "of pages that may use a browser key, such as "+
		"https://desk.pinecrest.example; any if left out")
	revoke := &cobra.Command{Use: "revoke KEY",
		Short: "Revoke an access key by its id; its streams end within seconds", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "DELETE", path: path + "/keys/" + url.PathEscape(args[0])},
				nil); err != nil {
				return err
			}
			s.note("revoked")
			return nil
		}}
	return group("key", "Access keys of software", list, make_, revoke)
}
