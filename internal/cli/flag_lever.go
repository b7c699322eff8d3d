package cli

import (
	"strconv"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
)

func (s *session) flagTurn() *cobra.Command {
	var end string
	c := &cobra.Command{Use: "turn KEY on|off", Short: "Set the lever, and with --end what all get whom no rule takes",
		Args: exactly("KEY", "on|off"),
		Example: "  greenlever flag turn weather-holds on --end on --env production --because 'for all'\n  " +
			"greenlever flag turn weather-holds off --env production --because 'not needed'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				if d.Lever = flag.Lever(args[1]); d.Lever != flag.On && d.Lever != flag.Off {
					return coded(exitUsage, "the lever is on or off, not %q", args[1])
				}
				if end != "" {
					d.End = flag.Gives{Variant: end}
				}
				return nil
			})
		}}
	c.Flags().StringVar(&end, "end", "", "the variant that all get whom no rule takes")
	return c
}

func (s *session) flagEnd() *cobra.Command {
	return &cobra.Command{Use: "end KEY VARIANT", Short: "Set what those get whom no rule takes",
		Args: exactly("KEY", "VARIANT"), RunE: func(cmd *cobra.Command, args []string) error {
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				d.End = flag.Gives{Variant: args[1]}
				return nil
			})
		}}
}

func (s *session) flagRestAfter() *cobra.Command {
	return &cobra.Command{Use: "rest-after KEY MINUTES", Short: "Have processes without contact give the resting " +
		"variant after so long; 0: they go on deciding", Args: exactly("KEY", "MINUTES"),
		RunE: func(cmd *cobra.Command, args []string) error {
			minutes, err := strconv.Atoi(args[1])
			if err != nil {
				return coded(exitUsage, "MINUTES is a number such as 60, not %q", args[1])
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error { d.RestAfter = minutes; return nil })
		}}
}
