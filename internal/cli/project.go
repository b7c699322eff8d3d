package cli

import (
	"net/url"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed("places", (*session).projectCommand)

func (s *session) projectCommand() *cobra.Command {
	var title string
	list := &cobra.Command{Use: "list", Short: "The projects in which you have a role", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			var all struct{ Items []app.Project }
			if err := a.do(cmd.Context(), request{method: "GET", path: "/projects"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, p := range all.Items {
					rows = append(rows, []any{p.Key, p.Title, s.when(p.Created)})
				}
				s.rows([]any{"project", "title", "made"}, rows)
			})
		}}
	make_ := &cobra.Command{Use: "make KEY", Short: "Make a project", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			var p app.Project
			if err := a.do(cmd.Context(), request{method: "POST", path: "/projects",
				body: map[string]string{"key": args[0], "title": title}}, &p); err != nil {
				return err
			}
			return s.show(p, func() {
				s.note("project %s made; next: %s", p.Key, s.next("environment", "make", "development", "--project",
					p.Key))
			})
		}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	return group("project", "Projects", list, make_, s.titleEdit("project", "pinecrest --title 'Pinecrest Lockers'",
		"Edit a project's title", func(key string) string { return "/projects/" + url.PathEscape(key) }))
}
