package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).unitCommand)

func (s *session) unitCommand() *cobra.Command {
	var set, expect []string
	var name string
	show := &cobra.Command{Use: "show UNIT", Short: "What a unit gets of every flag", Args: exactly("UNIT"),
		RunE: func(cmd *cobra.Command, args []string) error {
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
				s.say("%s: attributes %s", v.Unit, s.whence(v.From, v.Seen))
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
	list := &cobra.Command{Use: "list", Short: "The test units", Args: exactly(), RunE: func(cmd *cobra.Command,
		_ []string) error {
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
		Example: "  greenlever unit save recipient-17 --name 'My phone' --set site.id=site-12 --expect " +
			"one-touch-open=on",
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
			body := map[string]any{"units": []any{map[string]any{"unit": args[0], "name": name,
				"attributes": attributes, "expected": expected}}}
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/test-units", body: body},
				nil); err != nil {
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
	remove := &cobra.Command{Use: "remove UNIT", Short: "Take a test unit away", Args: exactly("UNIT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			return a.do(cmd.Context(), request{method: "POST", path: path + "/test-units/remove",
				body: map[string]string{"unit": args[0]}}, nil)
		}}
	return group("unit", "What single units get; test units", show, list, save, remove)
}
