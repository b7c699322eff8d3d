package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"github.com/spf13/cobra"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/files"
)

var _ = listed("places", (*session).recipeCommand)

func (s *session) recipeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "The recipes that a new flag may begin from", Args: exactly(),
		Example: "  greenlever recipe list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := s.recipes(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, r := range all {
					gone := "stays"
					if r.Months > 0 {
						gone = fmt.Sprintf("%d months", r.Months)
					}
					rows = append(rows, []any{r.Key, r.Title, r.Type, gone, r.Says})
				}
				s.rows([]any{"recipe", "name", "type", "gone by", "for"}, rows)
			})
		}}
	return group("recipe", "Saved beginnings of flags", list, s.recipeWrite(), s.recipeSave(), s.recipeRemove())
}

func (s *session) recipes(ctx context.Context) ([]app.Recipe, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, err
	}
	var all struct{ Items []app.Recipe }
	err = a.do(ctx, request{method: "GET", path: path + "/recipes"}, &all)
	return all.Items, err
}

func (s *session) recipeWrite() *cobra.Command {
	return &cobra.Command{Use: "write RECIPE", Short: "Write a recipe as YAML", Args: exactly("RECIPE"),
		Example: "  greenlever recipe write switch > switch.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := s.recipes(cmd.Context())
			if err != nil {
				return err
			}
			at := slices.IndexFunc(all, func(r app.Recipe) bool { return r.Key == args[0] })
			if at < 0 {
				return coded(exitNotFound, "there is no recipe %q: greenlever recipe list names those that there "+
					"are", args[0])
			}
			raw, err := files.WriteRecipe(&all[at])
			if err == nil {
				_, err = s.out.Write(raw)
			}
			return err
		}}
}

func (s *session) recipeSave() *cobra.Command {
	return &cobra.Command{Use: "save FILE", Short: "Save a recipe from a YAML file",
		Long: "Save a recipe from a YAML file, a new one or in place of the one with its key; - reads standard " +
			"input. " +
			"`recipe write` writes such a file.",
		Example: "  greenlever recipe write switch > switch.yaml\n  greenlever recipe save switch.yaml",
		Args:    exactly("FILE"), RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(args[0])
			if err != nil {
				return err
			}
			r, err := files.ReadRecipe(raw)
			if err != nil {
				return coded(exitInvalid, "%s: %v", args[0], err)
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var saved app.Recipe
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/recipes/" + url.PathEscape(r.Key),
				body: withReason(map[string]any{"recipe": r}, s.because)}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() {
				s.note("saved; begin a flag with it: %s", s.next("flag", "make", "KEY", "--recipe", r.Key))
			})
		}}
}

func (s *session) recipeRemove() *cobra.Command {
	return &cobra.Command{Use: "remove KEY", Short: "Take a recipe away; flags that began from it stay",
		Example: "  greenlever recipe remove switch", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Say("take recipe %s "+
				"away", words.Name(args[0]))}, !s.yes); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/recipes/" + url.PathEscape(args[0]) +
				"/remove", body: map[string]any{"reason": s.because}}, nil); err != nil {
				return err
			}
			s.note("recipe %s is taken away", args[0])
			return nil
		}}
}
