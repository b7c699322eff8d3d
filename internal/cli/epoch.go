package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

var _ = listed("run", (*session).epochCommand)

func (s *session) epochCommand() *cobra.Command {
	return group("epoch", "The installation's generation", &cobra.Command{Use: "new",
		Short: "Start a new epoch, after the records were restored from a backup",
		Args:  exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if !s.yes {
				answer, err := s.ask("Followers will take the state of the records, older as it may be. Start a new " +
					"epoch? [y/N] ")
				if err != nil {
					return coded(exitUsage, "add --yes to start a new epoch without a question")
				}
				if !strings.EqualFold(answer, "y") {
					return coded(exitFailed, "nothing was changed")
				}
			}
			var out struct{ Epoch int64 }
			if err := a.do(cmd.Context(), request{method: "POST", path: "/epoch",
				body: map[string]string{"reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() { s.say("%d", out.Epoch) })
		}})
}
