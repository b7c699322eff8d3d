package cli

import (
	"net/url"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app/bookmarks"
)

var _ = listed("change", (*session).bookmarkCommand)

func (s *session) bookmarkCommand() *cobra.Command {
	return &cobra.Command{Use: "bookmark FLAG NOTE", Short: "Note something on a flag", Args: exactly("FLAG", "NOTE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			path += "/flags/" + url.PathEscape(args[0]) + "/bookmark"
			if s.try {
				path += "?dryRun=true"
			}
			var b bookmarks.Bookmark
			body := map[string]any{"note": args[1], "reason": s.because}
			if err := a.do(cmd.Context(), request{method: "PUT", path: path, body: body}, &b); err != nil {
				return err
			}
			return s.show(b, func() { s.say("%s: %s", b.Flag, b.Note) })
		}}
}
