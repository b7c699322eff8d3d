package cli

import (
	"context"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/files"
)

var _ = listed("places", (*session).ladderCommand)

func (s *session) ladders(ctx context.Context) ([]app.Ladder, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, err
	}
	var all struct{ Items []app.Ladder }
	err = a.do(ctx, request{method: "GET", path: path + "/ladders"}, &all)
	return all.Items, err
}

func (s *session) ladderCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "The saved orders of stages that a release may take", Args: exactly(),
		Example: "  greenlever ladder list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := s.ladders(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, l := range all {
					var names []string
					for _, st := range l.Stages {
						names = append(names, st.Name)
					}
					rows = append(rows, []any{l.Key, l.Title, strings.Join(names, ", "), l.Says})
				}
				s.rows([]any{"ladder", "name", "stages", "for"}, rows)
			})
		}}
	save := &cobra.Command{Use: "save FILE",
		Short: "Save a ladder from a YAML file",
		Long:  "Save a ladder from a YAML file, a new one or in place of the one with its key; - reads standard input. `ladder write` writes such a file.", Args: exactly("FILE"), Example: "  greenlever ladder save careful.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(args[0])
			if err != nil {
				return err
			}
			l, err := files.ReadLadder(raw)
			if err != nil {
				return coded(exitInvalid, "%s: %v", args[0], err)
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var saved app.Ladder
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/ladders/" + url.PathEscape(l.Key),
				body: map[string]any{"ladder": l, "reason": s.because}}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.note("ladder %s is saved", saved.Key) })
		}}
	write := &cobra.Command{Use: "write LADDER", Short: "Write a ladder as YAML", Args: exactly("LADDER"),
		Example: "  greenlever ladder write careful > careful.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := s.ladders(cmd.Context())
			if err != nil {
				return err
			}
			for i := range all {
				if all[i].Key == args[0] {
					raw, err := files.WriteLadder(&all[i])
					if err == nil {
						_, err = s.out.Write(raw)
					}
					return err
				}
			}
			return coded(exitNotFound, "there is no ladder %s: greenlever ladder list names those that there are",
				args[0])
		}}
	remove := &cobra.Command{Use: "remove LADDER", Short: "Take a ladder away; releases that began from it go on",
		Args: exactly("LADDER"), Example: "  greenlever ladder remove careful",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			return a.do(cmd.Context(), request{method: "POST", path: path + "/ladders/" + url.PathEscape(args[0]) +
				"/remove",
				body: map[string]any{"reason": s.because}}, nil)
		}}
	return group("ladder", "Saved orders of stages for releases", list, save, write, remove)
}
