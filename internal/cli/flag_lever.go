package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

func (s *session) flagTurn() *cobra.Command {
	var end string
	c := &cobra.Command{Use: "turn KEY on|off", Short: "Set the lever, and with --end what all get whom no rule takes",
		Args: exactly("KEY", "on|off"),
		Example: "  greenlever flag turn weather-holds on --end on --env production --because 'for all'\n  " +
			"greenlever flag turn weather-holds off --env production --because 'not needed'\n  " +
			"greenlever flag turn handover-photo off --env production --because 'the lenses fog' --propose",
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
	var by string
	c := &cobra.Command{Use: "end KEY VARIANT|VARIANT=PERCENT...", Short: "Set what those get whom no rule takes: a " +
		"variant, or shares",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 || len(args) > 2 && !strings.Contains(args[1], "=") {
				return coded(exitUsage, "%s takes KEY and a VARIANT, or KEY and VARIANT=PERCENT...; see %[1]s --help",
					cmd.CommandPath())
			}
			end := flag.Gives{Variant: args[1]}
			if strings.Contains(args[1], "=") {
				parts, err := readParts(args[1:])
				if err != nil {
					return err
				}
				if left := parts[len(parts)-1].Share; left > 0 {
					return coded(exitUsage, "the shares add up to less than 100 %%: nothing follows the end")
				}
				end = flag.Gives{Shares: &flag.Shares{By: []string{condition.KeyAttribute},
					Parts: parts[:len(parts)-1]}}
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				if end.Shares != nil && d.End.Shares != nil { // its units stay as far as they can
					was := *d.End.Shares
					was.Parts, end.Shares = end.Shares.Parts, &was
				}
				if end.Shares != nil && by != "" {
					end.Shares.By = strings.Split(by, ",")
				}
				d.End = end
				return nil
			})
		}}
	c.Flags().StringVar(&by, "by", "", "attributes to draw shares by, the first one present counts")
	return c
}

func (s *session) flagRestAfter() *cobra.Command {
	return &cobra.Command{Use: "rest-after KEY MINUTES", Short: "Have processes without contact give the resting " +
		"variant",
		Long: "After so many minutes without contact to the service a process gives the resting variant; 0: it " +
			"goes on deciding.", Args: exactly("KEY", "MINUTES"),
		RunE: func(cmd *cobra.Command, args []string) error {
			minutes, err := strconv.Atoi(args[1])
			if err != nil {
				return coded(exitUsage, "MINUTES is a number such as 60, not %q", args[1])
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error { d.RestAfter = minutes; return nil })
		}}
}
