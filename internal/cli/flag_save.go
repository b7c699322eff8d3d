package cli

import (
	"encoding/json"
	"io"
	"os"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
)

// readFile reads a file, or standard input for "-".
func (s *session) readFile(path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(s.in)
	}
	return os.ReadFile(path)
}

func (s *session) flagSave() *cobra.Command {
	return &cobra.Command{Use: "save KEY FILE", Short: "Save a whole document from a JSON file, as `flag show -o " +
		"json` prints it under document; - reads standard input",
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
