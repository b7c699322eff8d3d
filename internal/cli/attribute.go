package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/lint"
	"greenlever.example/core/sample"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).attributeCommand)

func (s *session) attributeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list",
		Short: "Attributes as they are declared and as they are seen", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
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
						seen, last = kinds(v.Seen), s.when(v.Seen.Last)
					}
					rows = append(rows, []any{v.Name, declared, seen, fmt.Sprintf("%.0f %%", v.Share*100), last,
						v.Odd})
				}
				s.rows([]any{"attribute", "declared", "seen as", "present", "last", "odd"}, rows)
				s.note("%d contexts were looked at in the last 7 days", all.Contexts)
			})
		}}
	var declared app.Attribute
	var kind, derive string
	declare := &cobra.Command{Use: "declare NAME", Short: "Declare an attribute, or change what is declared",
		Args: exactly("NAME"),
		Example: "  greenlever attribute declare firmware --type version --loose --example 4.2.0\n  greenlever " +
			"attribute declare site.id --one site --many sites\n  greenlever attribute declare email --type string " +
			"--personal --derive domain",
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
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/attributes/" + url.PathEscape(args[0]),
				body: declared, version: version}, &saved); err != nil {
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
	remove := &cobra.Command{Use: "remove NAME", Short: "Take an attribute out of the catalogue",
		Args: exactly("NAME"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "DELETE",
				path: path + "/attributes/" + url.PathEscape(args[0])}, nil); err != nil {
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
	if err := a.do(ctx, request{method: "GET", path: project + "/environments"}, &envs); err != nil ||
		len(envs.Items) == 0 {
		return 0, err
	}
	var all manage.AttributesView
	if err := a.do(ctx, request{method: "GET", path: project + "/environments/" + url.PathEscape(envs.Items[0].Key) +
		"/attributes"}, &all); err != nil {
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
