package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("code", (*session).openAPICommand)

func (s *session) openAPICommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the OpenAPI document of the management API", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			raw, err := manage.OpenAPI()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(s.out, "%s\n", raw)
			return err
		}}
}
