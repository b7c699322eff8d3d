package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/condition"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

func (s *session) attributeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Attributes as they are declared and as they are seen in an environment", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all manage.AttributesView
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/attributes"}, &all); err != nil {
			return err
		}
		return s.show(all, func() {
			var rows [][]any
			for _, v := range all.Items {
				declared, seen, last := "-", "-", "-"
				if v.Declared != nil {
					declared = string(v.Declared.Type)
					if v.Declared.Personal {
						declared += ", personal"
					}
					if v.Declared.ServerOnly {
						declared += ", server-only"
					}
				}
				if v.Seen != nil {
					seen, last = kinds(v.Seen), when(v.Seen.Last)
				}
				rows = append(rows, []any{v.Name, declared, seen, fmt.Sprintf("%.0f %%", v.Share*100), last, v.Odd})
			}
			s.rows([]any{"attribute", "declared", "seen as", "present", "last", "odd"}, rows)
			s.note("%d contexts were looked at in the last 7 days", all.Contexts)
		})
	}}
	var declared app.Attribute
	var kind, derive string
	declare := &cobra.Command{Use: "declare NAME", Short: "Declare an attribute, or change what is declared", Args: exactly("NAME"),
		Example: "  greenlever attribute declare firmware --type version --loose --example 4.2.0\n  greenlever attribute declare site.id --one site --many sites\n  greenlever attribute declare email --type string --personal --derive domain",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			declared.Name, declared.Type, declared.Derive = args[0], lint.Type(kind), sample.Derivation(derive)
			version, err := s.attributeVersion(cmd.Context(), a, path, args[0])
			if err != nil {
				return err
			}
			var saved app.Attribute
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/attributes/" + url.PathEscape(args[0]), body: declared, version: version}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.note("%s is declared as %s", saved.Name, saved.Type) })
		}}
	f := declare.Flags()
	f.StringVar(&kind, "type", "string", "string, number, boolean, version, time, address or list")
	f.StringVar(&declared.Description, "description", "", "for people")
	f.StringVar(&declared.Example, "example", "", "for people")
	f.StringVar(&declared.One, "one", "", "what sentences call one of it, such as site for site.id")
	f.StringVar(&declared.Many, "many", "", "and many: 8 % of sites get ...")
	f.BoolVar(&declared.Personal, "personal", false, "it never leaves a client as it is")
	f.StringVar(&derive, "derive", "", "what may leave of a personal attribute: presence or domain")
	f.BoolVar(&declared.ServerOnly, "server-only", false, "it is ignored where it comes with a browser key")
	f.BoolVar(&declared.Loose, "loose", false, "of versions: 4.2 and v4.2.0 are sent too")
	remove := &cobra.Command{Use: "remove NAME", Short: "Take an attribute out of the catalogue", Args: exactly("NAME"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		if err := a.do(cmd.Context(), request{method: "DELETE", path: path + "/attributes/" + url.PathEscape(args[0])}, nil); err != nil {
			return err
		}
		s.note("%s is not declared any more", args[0])
		return nil
	}}
	return group("attribute", "What applications say of units: declared and seen", list, declare, remove)
}

// attributeVersion is the version of a declared attribute; 0 where it is new.
func (s *session) attributeVersion(ctx context.Context, a *api, project, name string) (int64, error) {
	var envs struct{ Items []app.Environment }
	if err := a.do(ctx, request{method: "GET", path: project + "/environments"}, &envs); err != nil || len(envs.Items) == 0 {
		return 0, err
	}
	var all manage.AttributesView
	if err := a.do(ctx, request{method: "GET", path: project + "/environments/" + url.PathEscape(envs.Items[0].Key) + "/attributes"}, &all); err != nil {
		return 0, err
	}
	for _, v := range all.Items {
		if v.Name == name && v.Declared != nil {
			return v.Declared.Version, nil
		}
	}
	return 0, nil
}

func kinds(seen *sample.Seen) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(seen.Kinds)) {
		parts = append(parts, fmt.Sprintf("%s %d", k, seen.Kinds[k]))
	}
	return strings.Join(parts, ", ")
}

func (s *session) populationCommand() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "What is kept of the units that were seen", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
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
	units := &cobra.Command{Use: "units", Short: "Units of the sample, at most 200", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []manage.SampledUnit }
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/population/units", body: map[string]string{"has": has, "of": of}}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			for _, u := range all.Items {
				s.say("%-24s %s  %s", u.Unit, when(u.Seen), u.Attributes)
			}
		})
	}}
	units.Flags().StringVar(&has, "has", "", "only those whose key holds this text")
	units.Flags().StringVar(&of, "of", condition.KeyAttribute, "values of this attribute")
	erase := &cobra.Command{Use: "erase UNIT", Short: "Take a unit out of the population", Args: exactly("UNIT"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var out struct{ Erased int64 }
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/population/erase", body: map[string]any{"unit": args[0], "reason": s.because}}, &out); err != nil {
			return err
		}
		s.note("erased from %d samples; a unit that is seen again comes back", out.Erased)
		return nil
	}}
	var off bool
	var days int
	set := &cobra.Command{Use: "set", Short: "Say how long units are kept, or that they are not sampled", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var v app.Sampling
		if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/population", body: map[string]any{"off": off, "days": days, "reason": s.because}}, &v); err != nil {
			return err
		}
		return s.show(v, func() { s.note("sampled: %t, kept %d days", !v.Off, v.Days) })
	}}
	set.Flags().BoolVar(&off, "off", false, "do not sample, and forget what was sampled")
	set.Flags().IntVar(&days, "days", 7, "that a unit is kept after it was last seen")
	return group("population", "The sample of recently seen units on which edits are tried", show, units, erase, set)
}

func (s *session) unitCommand() *cobra.Command {
	var set, expect []string
	var name string
	show := &cobra.Command{Use: "show UNIT", Short: "What a unit gets of every flag", Args: exactly("UNIT"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		body := map[string]any{"unit": args[0]}
		if len(set) > 0 {
			if body["context"], err = contextOf(args, set); err != nil {
				return err
			}
		}
		var v manage.UnitView
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/unit", body: body}, &v); err != nil {
			return err
		}
		return s.show(v, func() {
			s.say("%s: attributes %s", v.Unit, whence(v.From, v.Seen))
			for _, n := range slices.Sorted(maps.Keys(v.Attributes)) {
				s.say("  %-20s %v", n, v.Attributes[n])
			}
			var rows [][]any
			for _, g := range v.Answers {
				rows = append(rows, []any{g.Flag, g.Variant, said(g.Because)})
			}
			s.rows([]any{"flag", "gets", "because"}, rows)
		})
	}}
	list := &cobra.Command{Use: "list", Short: "The test units", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []app.TestUnit }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/test-units"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			for _, u := range all.Items {
				s.say("%-24s %-24s %s", u.Unit, u.Name, u.Attributes)
			}
		})
	}}
	save := &cobra.Command{Use: "save UNIT", Short: "Save a test unit", Args: exactly("UNIT"),
		Example: "  greenlever unit save recipient-17 --name 'My phone' --set site.id=site-12 --expect one-touch-open=on",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			attributes, err := contextOf(nil, set)
			if err != nil {
				return err
			}
			expected := map[string]string{}
			for _, pair := range expect {
				flag, variant, ok := strings.Cut(pair, "=")
				if !ok {
					return coded(exitUsage, "--expect takes FLAG=VARIANT, not %q", pair)
				}
				expected[flag] = variant
			}
			body := map[string]any{"units": []any{map[string]any{"unit": args[0], "name": name, "attributes": attributes, "expected": expected}}}
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/test-units", body: body}, nil); err != nil {
				return err
			}
			s.note("test unit %s is saved", args[0])
			return nil
		}}
	save.Flags().StringVar(&name, "name", "", "for people")
	save.Flags().StringArrayVar(&expect, "expect", nil, "FLAG=VARIANT: what it should get")
	for _, c := range []*cobra.Command{show, save} {
		c.Flags().StringArrayVar(&set, "set", nil, "NAME=VALUE: an attribute")
	}
	remove := &cobra.Command{Use: "remove UNIT", Short: "Take a test unit away", Args: exactly("UNIT"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		return a.do(cmd.Context(), request{method: "POST", path: path + "/test-units/remove", body: map[string]string{"unit": args[0]}}, nil)
	}}
	return group("unit", "What single units get; test units", show, list, save, remove)
}

func fromTo(low, high int) string {
	if low == high {
		return strconv.Itoa(low)
	}
	return fmt.Sprintf("%d to %d", low, high)
}

func (s *session) rosterCommand() *cobra.Command {
	return &cobra.Command{Use: "roster", Short: "What each test unit gets, against what is expected and what chance says", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var r manage.Roster
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/roster"}, &r); err != nil {
			return err
		}
		return s.show(r, func() {
			header := []any{"flag"}
			for _, u := range r.Units {
				header = append(header, u.Unit)
			}
			header = append(header, "chance")
			var rows [][]any
			for _, key := range r.Flags {
				row := []any{key}
				for _, u := range r.Units {
					g := u.Gets[key]
					said := g.Variant
					if g.Expected != "" && g.Expected != g.Variant {
						said += " (expected " + g.Expected + ")"
					}
					row = append(row, said)
				}
				var chances []string
				for _, c := range r.Chances[key] {
					if c.Actual > 0 || c.High > 0 {
						chances = append(chances, fmt.Sprintf("%d of %d get %s; %s would be usual", c.Actual, len(r.Units), c.Variant, fromTo(c.Low, c.High)))
					}
				}
				rows = append(rows, append(row, strings.Join(chances, "\n")))
			}
			s.rows(header, rows)
		})
	}}
}
