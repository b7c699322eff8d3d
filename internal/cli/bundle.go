package cli

import (
	"cmp"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).bundleCommand)

func (s *session) bundleCommand() *cobra.Command {
	return group("bundle", "Flags that ship together", s.bundleList(), s.bundleShow(), s.bundleSave(),
		s.bundleTurn(),
		s.bundleRelease(), s.bundleRemove())
}

func (s *session) bundleList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "The bundles of a project", Example: "  greenlever bundle list",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.Bundle }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/bundles"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for i := range all.Items {
					rows = append(rows, []any{all.Items[i].Key, all.Items[i].Title,
						strings.Join(all.Items[i].Flags, " ")})
				}
				s.rows([]any{"bundle", "name", "flags"}, rows)
				if len(rows) == 0 {
					s.note("there are none; %s makes one", s.next("bundle", "save", "KEY", "FLAG..."))
				}
			})
		}}
}

func (s *session) bundleShow() *cobra.Command {
	return &cobra.Command{Use: "show KEY", Short: "How the flags of a bundle stand, and which differ from the " +
		"others",
		Example: "  greenlever bundle show opening --env production", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var b manage.BundleView
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/bundles/" + url.PathEscape(args[0])},
				&b); err != nil {
				return err
			}
			return s.show(b, func() { s.sayBundle(&b) })
		}}
}

func (s *session) sayBundle(b *manage.BundleView) {
	s.say("%s  %s", s.screen.paint(strong, b.Key), b.Title)
	if b.Says != "" {
		s.say("%s", wrap(b.Says, s.wide(), 0))
	}
	for _, in := range b.In {
		if s.env != "" && s.env != in.Environment {
			continue
		}
		s.say("")
		s.say("%s: %s", s.screen.paint(strong, in.Environment), in.Levers)
		for _, f := range in.Flags {
			differs := ""
			if f.Differs {
				differs = "  (differs)"
			}
			s.say("  %s%s", f.Key, differs)
			s.say("    %s", wrap(said(f.Sentence), s.wide(), 4))
		}
	}
	s.say("")
	s.note("to stop them:  %s", s.next("stop", "--find", "bundle:"+b.Key))
}

func (s *session) bundleSave() *cobra.Command {
	var b app.Bundle
	c := &cobra.Command{Use: "save KEY FLAG...", Short: "Save a bundle: a new one, or in place of the one of " +
		"this key",
		Example: "  greenlever bundle save opening one-touch-open handover-photo --title 'Opening a locker'",
		Args:    cobra.MinimumNArgs(2), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			b.Title, b.Flags = cmp.Or(b.Title, args[0]), args[1:]
			var saved app.Bundle
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/bundles/" + url.PathEscape(args[0]),
				body: withReason(map[string]any{"bundle": b}, s.because)}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.note("saved, version %d", saved.Version) })
		}}
	c.Flags().StringVar(&b.Title, "title", "", "for people; the key if left out")
	c.Flags().StringVar(&b.Says, "says", "", "what it is for")
	return c
}

func (s *session) bundleTurn() *cobra.Command {
	return &cobra.Command{Use: "turn KEY on|off", Short: "Turn the levers of a bundle's flags in an environment",
		Long: "Turn the levers of a bundle's flags in an environment, in one change: what it would move is " +
			"shown before.",
		Example: "  greenlever bundle turn opening off --env staging --try\n" +
			"  greenlever bundle turn opening on --env staging --because 'all of it works'",
		Args: exactly("KEY", "on|off"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			project, _, _ := strings.Cut(path, "/environments/")
			return s.carryOut(cmd.Context(), a, project, project+"/bundles/"+url.PathEscape(args[0])+"/turn",
				map[string]any{"environment": env.Key, "lever": args[1]})
		}}
}

func (s *session) bundleRelease() *cobra.Command {
	var start releases.Start
	c := &cobra.Command{Use: "release KEY", Short: "Release all flags of a bundle in step, by a ladder",
		Long: "Start a release of each flag of a bundle, in one change. They give the same units all of them, " +
			"and go in step: " +
			"none begins a\nstage while another is further behind, and one that is held holds the others.",
		Example: "  greenlever bundle release opening --ladder in-a-day --env staging --because 'all of it works'",
		Args:    exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if start.Ladder == "" {
				return coded(exitUsage, "say by which ladder: --ladder")
			}
			project, _, _ := strings.Cut(path, "/environments/")
			return s.carryOut(cmd.Context(), a, project, project+"/bundles/"+url.PathEscape(args[0])+"/release",
				map[string]any{"environment": env.Key, "start": start})
		}}
	c.Flags().StringVar(&start.Ladder, "ladder", "", "the stages")
	c.Flags().StringSliceVar(&start.By, "by", nil, "what the shares are drawn by; the key if left out")
	return c
}

func (s *session) bundleRemove() *cobra.Command {
	return &cobra.Command{Use: "remove KEY", Short: "Take a bundle away; its flags stay",
		Example: "  greenlever bundle remove opening", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Say("take bundle %s away", words.Key(args[0]))},
				!s.yes); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/bundles/" +
				url.PathEscape(args[0]) +
				"/remove", body: map[string]any{"reason": s.because}}, nil); err != nil {
				return err
			}
			s.note("bundle %s is taken away", args[0])
			return nil
		}}
}

// flagEditFound edits all flags that words find.
func (s *session) flagEditFound() *cobra.Command {
	var owners, tags, without []string
	var goneBy string
	c := &cobra.Command{Use: "edit-found WORD...", Short: "Edit owners, tags and the date of all flags that " +
		"words find",
		Long: "Edit owners, tags and the date of all flags that words find, in one change. Words are those of " +
			"the Board:\n\n" +
			findWords(),
		Example: "  greenlever flag edit-found tag:door --add-tag opening --try\n" +
			"  greenlever flag edit-found owner:juno 'gone-by:<30d' --gone-by 2027-06-30 --because 'one more " +
			"season'",
		Args: cobra.MinimumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			given := cmd.Flags().Changed
			if !given("owner") && !given("add-tag") && !given("remove-tag") && goneBy == "" {
				return coded(exitUsage, "say what to edit: --owner, --add-tag, --remove-tag, --gone-by")
			}
			rows, err := s.pages(cmd.Context(), a, path, url.Values{"find": {strings.Join(args, " ")},
				"sort": {"key"}})
			if err != nil {
				return err
			}
			var keys []string
			for _, f := range rows.Flags {
				keys = append(keys, f.Key)
			}
			if len(keys) == 0 {
				return coded(exitNotFound, "no flag has these words: %s", strings.Join(args, " "))
			}
			var all manage.Definitions
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/definitions"}, &all); err != nil {
				return err
			}
			var changes []any
			for i := range all.Items {
				d := &all.Items[i]
				if edit := editedBy(d, keys, owners, tags, without, goneBy, given("owner")); edit != nil {
					changes = append(changes, map[string]any{"do": "flag.edit", "project": all.Project, "of": d.Key,
						"versions": []int64{d.Version}, "with": edit})
				}
			}
			if len(changes) == 0 {
				s.note("the %s found are like that already: nothing was changed", counted(len(keys), "flag",
					"flags"))
				return s.show(changes, func() {})
			}
			return s.carryOut(cmd.Context(), a, path, path+"/changes", map[string]any{"changes": changes})
		}}
	f := c.Flags()
	f.StringSliceVar(&owners, "owner", nil, "who answers for them, in place of those who do; empty: nobody")
	f.StringSliceVar(&tags, "add-tag", nil, "tags that they get besides")
	f.StringSliceVar(&without, "remove-tag", nil, "tags that they lose")
	f.StringVar(&goneBy, "gone-by", "", `by which date they should be gone, or "stays"`)
	return c
}

// editedBy is the edit of a flag that was found; nil where it changes nothing.
func editedBy(d *app.Definition, keys, owners, tags, without []string, goneBy string, owned bool) map[string]any {
	if !slices.Contains(keys, d.Key) {
		return nil
	}
	edit := map[string]any{}
	if owned && !slices.Equal(owners, d.Owners) {
		edit["owners"] = append([]string{}, owners...)
	}
	now := slices.DeleteFunc(slices.Clone(d.Tags), func(t string) bool { return slices.Contains(without, t) })
	for _, t := range tags {
		if !slices.Contains(now, t) {
			now = append(now, t)
		}
	}
	if !slices.Equal(now, d.Tags) {
		edit["tags"] = append([]string{}, now...)
	}
	if goneBy != "" && goneBy != d.GoneBy {
		edit["goneBy"] = goneBy
	}
	if len(edit) == 0 {
		return nil
	}
	return edit
}
