package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
)

// namedRule finds the rule that lists units and gives the variant.
func namedRule(d *flag.Document, variant string) *flag.Rule {
	for i := range d.Rules {
		r := &d.Rules[i]
		if r.When != nil && r.When.Attribute == condition.KeyAttribute && strings.HasPrefix(r.When.Test, "string.") &&
			r.Gives.Variant == variant &&
			(r.When.Test == "string.one-of" || r.When.Test == "string.equals") {
			return r
		}
	}
	return nil
}

// comparisons says where a condition is explained.
const comparisons = "`greenlever condition help` lists the comparisons"

func (s *session) flagName() *cobra.Command {
	var gets string
	var remove bool
	c := &cobra.Command{Use: "name KEY UNIT...", Short: "Name units that get a variant, such as yourself",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 {
				return coded(exitUsage, "%s takes KEY UNIT...; see --help", cmd.CommandPath())
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				variant := gets
				if variant == "" {
					others := slices.DeleteFunc(d.VariantNames(), func(n string) bool { return n == d.Resting })
					if len(others) != 1 {
						return coded(exitUsage, "say which variant they get with --gets: %s",
							strings.Join(d.VariantNames(), ", "))
					}
					variant = others[0]
				}
				r := namedRule(d, variant)
				if r == nil {
					if remove {
						return coded(exitNotFound, "no units are named for %s", variant)
					}
					d.Rules = slices.Insert(d.Rules, 0, flag.Rule{Name: "Named units",
						Gives: flag.Gives{Variant: variant},
						When:  &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute}})
					r = &d.Rules[0]
				}
				r.When.Test = "string.one-of"
				for _, unit := range args[1:] {
					at := slices.Index(r.When.Text, unit)
					switch {
					case remove && at >= 0:
						r.When.Text = slices.Delete(r.When.Text, at, at+1)
					case !remove && at < 0:
						r.When.Text = append(r.When.Text, unit)
					}
				}
				if len(r.When.Text) == 0 {
					id := r.ID
					d.Rules = slices.DeleteFunc(d.Rules, func(o flag.Rule) bool { return o.ID == id })
				}
				return nil
			})
		}}
	c.Flags().StringVar(&gets, "gets", "", "the variant; the only other than the resting one if left out")
	c.Flags().BoolVar(&remove, "remove", false, "take the units off the list")
	return c
}

func (s *session) flagPark() *cobra.Command {
	var back, all bool
	c := &cobra.Command{Use: "park KEY [RULE]", Short: "Keep a rule but skip it; --back takes it into use again",
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 1) || len(args) > 2 || len(args) == 0 {
				return coded(exitUsage, "%s takes KEY and RULE, or KEY and --all; see %[1]s --help", cmd.CommandPath())
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				for i := range d.Rules {
					if all {
						d.Rules[i].Parked = !back
					}
				}
				if all {
					return nil
				}
				r, err := findRule(d, args[1])
				if err != nil {
					return err
				}
				r.Parked = !back
				return nil
			})
		}}
	c.Flags().BoolVar(&all, "all", false, "all rules of the flag")
	c.Flags().BoolVar(&back, "back", false, "take the rule into use again")
	return c
}

func (s *session) flagRemoveRule() *cobra.Command {
	return &cobra.Command{Use: "remove-rule KEY RULE", Short: "Remove a rule", Args: exactly("KEY", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				r, err := findRule(d, args[1])
				if err != nil {
					return err
				}
				id := r.ID
				d.Rules = slices.DeleteFunc(d.Rules, func(o flag.Rule) bool { return o.ID == id })
				return nil
			})
		}}
}

// newRule adds a rule at a place from 1, or at the end for 0.
func newRule(d *flag.Document, name string, place int) *flag.Rule {
	at := len(d.Rules)
	if place > 0 {
		at = min(place-1, at)
	}
	d.Rules = slices.Insert(d.Rules, at, flag.Rule{Name: name})
	return &d.Rules[at]
}

// findRule finds a rule by its id, or by a name that only one has.
func findRule(d *flag.Document, rule string) (*flag.Rule, error) {
	var found *flag.Rule
	for i := range d.Rules {
		switch r := &d.Rules[i]; {
		case r.ID == rule && rule != "":
			return r, nil
		case r.Name == rule && found != nil:
			return nil, coded(exitUsage, "several rules are called %q: name one by its id, which flag show gives in "+
				"brackets", rule)
		case r.Name == rule:
			found = r
		}
	}
	if found == nil {
		return nil, coded(exitNotFound, "there is no rule %q: the rules are %s", rule, strings.Join(ruleNames(d),
			", "))
	}
	return found, nil
}

func ruleNames(d *flag.Document) (names []string) {
	for _, r := range d.Rules {
		names = append(names, r.Name)
	}
	return names
}

func (s *session) flagRule() *cobra.Command {
	var name, text, gets string
	var place int
	c := &cobra.Command{Use: "rule KEY", Short: "Add a rule, or change whom one takes and which variant it gives",
		Args: exactly("KEY"),
		Example: "  greenlever flag rule one-touch-open --name 'Old firmware' --when 'version(firmware) < " +
			"version(\"4.2.0\")' --gets off --place 1 --env production --try",
		RunE: func(cmd *cobra.Command, args []string) error {
			var n *condition.Node
			if text != "" {
				var err error
				if n, err = s.readCondition(cmd.Context(), text); err != nil {
					return err
				}
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				r, err := findRule(d, name)
				switch ExitCode(err) {
				case 0:
				case exitNotFound:
					if gets == "" {
						return coded(exitUsage, "a new rule gives a variant: say which with --gets: %s",
							strings.Join(d.VariantNames(), ", "))
					}
					r = newRule(d, name, place)
				default:
					return err
				}
				if err == nil && place > 0 {
					return coded(exitUsage, "rule %q is there already: move it with flag order", name)
				}
				if text != "" {
					r.When = n
				}
				if gets != "" {
					r.Gives = flag.Gives{Variant: gets}
				}
				return nil
			})
		}}
	c.Flags().StringVar(&name, "name", "", "of the rule")
	c.Flags().StringVar(&text, "when", "", "whom it takes, as text or JSON; everybody if "+
		"left out; "+comparisons)
	c.Flags().StringVar(&gets, "gets", "", "the variant")
	c.Flags().IntVar(&place, "place", 0, "of a new rule among the others, from 1; the last if left out")
	_ = c.MarkFlagRequired("name")
	return c
}

func (s *session) flagOrder() *cobra.Command {
	return &cobra.Command{Use: "order KEY RULE...", Short: "Put rules in another order: those named come " +
		"first", RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) < 2 {
			return coded(exitUsage, "%s takes KEY RULE...; see --help", cmd.CommandPath())
		}
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
			var first []flag.Rule
			for _, name := range args[1:] {
				r, err := findRule(d, name)
				if err != nil {
					return err
				}
				first = append(first, *r)
			}
			rest := slices.DeleteFunc(slices.Clone(d.Rules), func(r flag.Rule) bool {
				return slices.ContainsFunc(first, func(o flag.Rule) bool { return o.ID == r.ID })
			})
			d.Rules = append(first, rest...)
			return nil
		})
	}}
}
