package cli

import (
	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/server"
)

var _ = listed("run", (*session).migrateCommand)

// migrateCommand brings the schema up to date by itself, or says what that would take.
func (s *session) migrateCommand() *cobra.Command {
	var dsn, file string
	var check bool
	c := &cobra.Command{Use: "migrate", Short: "Bring the records' schema up to date",
		Args: exactly(),
		Long: `Brings the schema of the records up to date, as serve does when it starts, and says how far it is.
Killed at whatever moment, the next run goes on where it stopped. With --check nothing is changed:
the exit code is 1 while steps are left. Programs of the release before go on beside the new schema.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fill(cmd.Flags(), "SERVE", &file); err != nil {
				return err
			}
			log, err := s.logger(logs{"text", "info"})
			if err != nil {
				return err
			}
			left, err := server.Migrate(cmd.Context(), dsn, check, log)
			if err != nil {
				return err
			}
			for _, step := range left {
				s.say("%d  %s", step.Version, step.Name)
			}
			if check && len(left) > 0 {
				return coded(exitFailed, "%d steps are left", len(left))
			}
			s.note("the schema is up to date")
			return nil
		}}
	c.Flags().StringVar(&dsn, "dsn", "", "the MariaDB database (GREENLEVER_SERVE_DSN)")
	c.Flags().StringVar(&file, "config", "", "YAML file with the options of serve")
	c.Flags().BoolVar(&check, "check", false, "only say what is left to do")
	return c
}
