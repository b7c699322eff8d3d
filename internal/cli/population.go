package cli

import (
	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).populationCommand)

func (s *session) populationCommand() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "What is kept of the units that were seen", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var v manage.PopulationView
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/population"}, &v); err != nil {
				return err
			}
			return s.show(v, func() {
				if v.Off {
					s.say("switched off")
					return
				}
				for _, one := range v.Samples {
					s.say("%-16s %s, %d in the sample", one.Of, about(one.Units), one.Units.Counted)
				}
				s.say("kept %d days after a unit was last seen", v.Days)
			})
		}}
	var has, of string
	units := &cobra.Command{Use: "units", Short: "Units of the sample, at most 200", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.SampledUnit }
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/population/units",
				body: map[string]string{"has": has, "of": of}}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				for _, u := range all.Items {
					s.say("%-24s %s  %s", u.Unit, s.when(u.Seen), u.Attributes)
				}
			})
		}}
	units.Flags().StringVar(&has, "has", "", "only those whose key holds this text")
	units.Flags().StringVar(&of, "of", condition.KeyAttribute, "values of this attribute")
	erase := &cobra.Command{Use: "erase UNIT", Short: "Take a unit out of the population", Args: exactly("UNIT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var out struct{ Erased int64 }
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/population/erase",
				body: map[string]any{"unit": args[0], "reason": s.because}}, &out); err != nil {
				return err
			}
			s.note("erased from %d samples; a unit that is seen again comes back", out.Erased)
			return nil
		}}
	var off bool
	var days int
	set := &cobra.Command{Use: "set", Short: "Say how long units are kept, or that they are not sampled",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var v app.Sampling
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/population",
				body: map[string]any{"off": off, "days": days, "reason": s.because}}, &v); err != nil {
				return err
			}
			return s.show(v, func() { s.note("sampled: %t, kept %d days", !v.Off, v.Days) })
		}}
	set.Flags().BoolVar(&off, "off", false, "do not sample, and forget what was sampled")
	set.Flags().IntVar(&days, "days", 7, "that a unit is kept after it was last seen")
	return group("population", "The sample of recently seen units on which edits are tried", show, units, erase, set)
}
