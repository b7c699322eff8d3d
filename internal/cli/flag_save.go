package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
)

func (s *session) flagSave() *cobra.Command {
	return &cobra.Command{Use: "save KEY FILE", Short: "Save a flag's whole document in an environment from a JSON " +
		"file",
		Long: "The file holds what `flag show -o json` prints under document; - reads standard input.",
		Args: exactly("KEY", "FILE"), RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(args[1])
			if err != nil {
				return err
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				var now flag.Document
				if err := json.Unmarshal(raw, &now); err != nil {
					return coded(exitInvalid, "%s holds no flag document: %w", args[1], err)
				}
				now.Visible = d.Visible
				*d = now
				return nil
			})
		}}
}
