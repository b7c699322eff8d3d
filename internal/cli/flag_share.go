package cli

import (
	"cmp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

func (s *session) flagShare() *cobra.Command {
	var rule, by, when, name string
	var place int
	c := &cobra.Command{Use: "share KEY VARIANT=PERCENT...", Short: "Give shares of the units, in a rule",
		Long: "Changes the shares of the rule named with --rule, or of the only one that has shares,\nor adds a " +
			"rule with --name. What the shares leave gets what the rules below and the end give.",
		Example: `  greenlever flag share night-batching on=8% --by site.id --env production --because 'first sites'
  greenlever flag share night-batching on=30% --rule Shares --env production --because 'all is well'
  greenlever flag share night-batching on=50% --name North --when 'site.region == "north"' --env production --try`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 {
				return coded(exitUsage, "%s takes KEY VARIANT=PERCENT...; see --help", cmd.CommandPath())
			}
			parts, err := readParts(args[1:])
			if err != nil {
				return err
			}
			var n *condition.Node
			if when != "" {
				if n, err = s.readCondition(cmd.Context(), when); err != nil {
					return err
				}
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				r, err := sharing(d, rule, name, when != "", place)
				if err != nil {
					return err
				}
				if r.Gives.Shares == nil {
					r.Gives = flag.Gives{Shares: &flag.Shares{By: []string{condition.KeyAttribute}}}
				}
				if by != "" {
					r.Gives.Shares.By = strings.Split(by, ",")
				}
				r.Gives.Shares.Parts = parts
				if when != "" {
					r.When = n
				}
				return nil
			})
		}}
	c.Flags().StringVar(&rule, "rule", "", "id or name of a rule that is there; the only one with shares if left out")
	c.Flags().StringVar(&name, "name", "", "of a new rule")
	c.Flags().StringVar(&by, "by", "", "attributes to draw by, the first one present counts; "+condition.KeyAttribute+
		" if left out")
	c.Flags().StringVar(&when, "when", "", "whom the rule takes, as text or JSON; "+comparisons)
	c.Flags().IntVar(&place, "place", 0, "of a new rule among the others, from 1; the last if left out")
	return c
}

// sharing finds the rule whose shares are meant, or makes a new one. Nothing is guessed that
// would change another rule than the one that was thought of.
func sharing(d *flag.Document, rule, name string, conditional bool, place int) (*flag.Rule, error) {
	with := sharesOf(d)
	switch {
	case rule != "" && name != "":
		return nil, coded(exitUsage,
			"--rule changes a rule that is there, and --name makes a new one: say one of them")
	case rule != "":
		if place > 0 {
			return nil, coded(exitUsage, "rule %q is there already: move it with flag order", rule)
		}
		return findRule(d, rule)
	case name != "" && slices.Contains(ruleNames(d), name):
		return nil, coded(exitConflict, "there is a rule %q already: change it with --rule, or take another --name",
			name)
	case name == "" && len(with) > 1:
		return nil, coded(exitUsage, "several rules have shares: say which with --rule, or make one with --name: %s",
			strings.Join(with, ", "))
	case name == "" && len(with) == 1 && conditional:
		return nil, coded(exitUsage, "say whether --when is of rule %q (--rule %q) or of a new one (--name)", with[0],
			with[0])
	case name == "" && len(with) == 1:
		if place > 0 {
			return nil, coded(exitUsage, "rule %q is there already: move it with flag order", with[0])
		}
		return findRule(d, with[0])
	}
	return newRule(d, cmp.Or(name, "Shares"), place), nil
}

// sharesOf names the rules that give shares.
func sharesOf(d *flag.Document) (names []string) {
	for i := range d.Rules {
		if d.Rules[i].Gives.Shares != nil {
			names = append(names, d.Rules[i].Name)
		}
	}
	return names
}

// readParts reads VARIANT=PERCENT; what is left to 100 % gets what follows.
func readParts(args []string) ([]flag.Part, error) {
	var parts []flag.Part
	left := uint32(bucket.Buckets)
	for _, arg := range args {
		variant, percent, ok := strings.Cut(arg, "=")
		if !ok {
			return nil, coded(exitUsage, "shares are written VARIANT=PERCENT, such as on=8%%, not %q", arg)
		}
		share, err := bucket.ParsePercent(percent)
		if err != nil {
			return nil, &codedError{exitUsage, err}
		}
		if share > left {
			return nil, coded(exitUsage, "the shares add up to more than 100 %%")
		}
		left -= share
		parts = append(parts, flag.Part{Variant: variant, Share: share})
	}
	return append(parts, flag.Part{GoesOn: true, Share: left}), nil
}

func (s *session) flagDrawAnew() *cobra.Command {
	var rule string
	c := &cobra.Command{Use: "draw-anew KEY", Short: "Draw the units of shares anew: others get the same parts",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				shares := d.End.Shares
				if rule != "" {
					r, err := findRule(d, rule)
					if err != nil {
						return err
					}
					shares = r.Gives.Shares
				}
				if shares == nil {
					return coded(exitUsage, "there are no shares at that place: name a rule with --rule, or leave "+
						"it out for the end")
				}
				shares.DrawAnew = true
				return nil
			})
		}}
	c.Flags().StringVar(&rule, "rule", "", "id or name of the rule; the end if left out")
	return c
}
