package cli

import (
	"cmp"
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/manage"
)

// pages gives a board with all of its pages.
func (s *session) pages(ctx context.Context, a *api, path string, q url.Values) (*manage.Board, error) {
	var all manage.Board
	for from := 0; from == 0 || len(all.Flags) < all.Total; from = len(all.Flags) {
		var b manage.Board
		q.Set("from", strconv.Itoa(from))
		if err := a.do(ctx, request{method: "GET", path: path + "/board?" + q.Encode()}, &b); err != nil {
			return nil, err
		}
		b.Flags = append(all.Flags, b.Flags...)
		if all = b; len(all.Flags) == from {
			break // fewer than there were
		}
	}
	return &all, nil
}

func (s *session) flagList() *cobra.Command {
	return s.watched(&cobra.Command{Use: "list [WORD...]", Short: "The flags, a line each, with who answers for them",
		Long: "The flags, a line each, with who answers for them. Words find them, as on the Board:\n\n" + findWords(),
		Example: "  greenlever flag list\n  greenlever flag list owner:juno 'gone-by:<30d'\n" +
			"  greenlever flag list -- tag:door -visible:yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			q := url.Values{"find": {strings.Join(args, " ")}, "sort": {"key"}}
			if s.env != "" {
				q.Set("environments", s.env)
			}
			all, err := s.pages(cmd.Context(), a, path, q)
			if err != nil {
				return err
			}
			return s.show(all.Flags, func() {
				head := []any{"flag", "type", "gone by", "owners", "tags"}
				for _, e := range all.Environments {
					head = append(head, e.Key)
				}
				var rows [][]any
				for _, f := range all.Flags {
					row := []any{f.Key, string(f.Type), f.GoneBy, strings.Join(f.Owners, " "), strings.Join(f.Tags,
						" ")}
					for _, e := range all.Environments {
						c := f.In[e.Key]
						row = append(row, leverState(c.Lever, c.Stops))
					}
					rows = append(rows, row)
				}
				s.rows(head, rows)
				if len(all.Flags) == 0 && all.All > 0 {
					s.note("none of the %d flags is found by these words", all.All)
				}
			})
		}})
}

func (s *session) flagEdit() *cobra.Command {
	var in flags.Edit
	var title, description, loses, goneBy, visible string
	var owners, tags, variants []string
	c := &cobra.Command{Use: "edit KEY", Short: "Edit a flag's title, owners, date, variants, and what it is for",
		Long: "Edit what the project says of a flag. What is left out stays. New variants " +
			"and visibility change in all\n" +
			"environments at once; what a flag does in one of them is edited with the other commands.",
		Example: "  greenlever flag edit one-touch-open --title 'Open at a " +
			"touch' --owner door-team --gone-by 2027-06-30\n" +
			"  greenlever flag edit arrival-estimate --variant guessed=guessed\n" +
			"  greenlever flag edit arrival-estimate --remove-variant guessed",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			path += "/flags/" + url.PathEscape(args[0])
			var d app.Definition
			if err := a.do(cmd.Context(), request{method: "GET", path: path}, &d); err != nil {
				return err
			}
			given := cmd.Flags().Changed
			for name, field := range map[string]struct{ into, from any }{"title": {&in.Title, &title},
				"description": {&in.Description, &description}, "loses": {&in.Loses, &loses}, "gone-by": {&in.GoneBy,
					&goneBy}} {
				if given(name) {
					*field.into.(**string) = field.from.(*string)
				}
			}
			if given("owner") {
				in.Owners = &owners
			}
			if given("tag") {
				in.Tags = &tags
			}
			if given("visible") {
				is, err := strconv.ParseBool(visible)
				if err != nil {
					return coded(exitUsage, "--visible takes true or false, not %q", visible)
				}
				in.Visible = &is
			}
			for _, v := range variants {
				name, value, ok := strings.Cut(v, "=")
				if !ok {
					return coded(exitUsage, "--variant takes NAME=VALUE, not %q", v)
				}
				in.AddVariants = append(in.AddVariants, app.Variant{Name: name, Value: valueOf(d.Type, value)})
			}
			if !slices.ContainsFunc([]string{"title", "description", "loses", "gone-by", "visible", "owner", "tag",
				"variant",
				"remove-variant"}, given) {
				return coded(exitUsage, "say what to edit; see %s --help", cmd.CommandPath())
			}
			var now app.Definition
			if err := a.do(cmd.Context(), request{method: "PATCH",
				path: path + map[bool]string{true: "?dryRun=true"}[s.try],
				body: withReason(in, s.because), version: d.Version}, &now); err != nil {
				return err
			}
			if now.Version == d.Version {
				s.note("%s is like that already: nothing was changed", d.Key)
			}
			return s.show(now, func() { s.sayDefinition(&now) })
		}}
	f := c.Flags()
	f.StringVar(&title, "title", "", "for people")
	f.StringVar(&description, "description", "", "what the flag decides")
	f.StringVar(&loses, "loses", "", "what users lose while it rests")
	f.StringVar(&goneBy, "gone-by", "", `by which date the flag should be gone, or "stays"`)
	f.StringVar(&visible, "visible", "", "true or false: whether browsers may see it")
	f.StringSliceVar(&owners, "owner", nil, "who answers for the flag, in place of those who do; empty: nobody")
	f.StringSliceVar(&tags, "tag", nil, "the tags, in place of those that it has; empty: none")
	f.StringArrayVar(&variants, "variant", nil, "NAME=VALUE: a variant more, in every environment")
	f.StringSliceVar(&in.RemoveVariants, "remove-variant", nil, "a variant that is used nowhere")
	return c
}

// sayDefinition says what the project says of a flag.
func (s *session) sayDefinition(d *app.Definition) {
	s.say("%s  %s", d.Key, d.Title)
	none := func(of []string) string { return cmp.Or(strings.Join(of, ", "), "none") }
	s.say("type     %s, %s, visible to browsers: %t", d.Type, goneBy(d.GoneBy), d.Visible)
	if d.Description != "" {
		s.say("decides  %s", wrap(d.Description, s.wide(), 9))
	}
	if d.Loses != "" {
		s.say("loses    %s", wrap(d.Loses, s.wide(), 9))
	}
	s.say("owners   %s", none(d.Owners))
	s.say("tags     %s", none(d.Tags))
	var names []string
	for _, v := range d.Variants {
		names = append(names, v.Name)
	}
	s.say("variants %s", none(names))
	s.say("version  %d", d.Version)
}

func (s *session) flagCopy() *cobra.Command {
	var from string
	var to []string
	var anew bool
	c := &cobra.Command{Use: "copy KEY", Short: "Copy a flag's rules and end from an environment into others",
		Long: "Copy a flag's rules and end from an environment into others, in one " +
			"change. Levers, values and resting\n" +
			"variants stay. The same units are in everywhere, unless --draw-anew.",
		Example: "  greenlever flag copy one-touch-open --from staging --to production --because 'it held in staging'",
		Args:    exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if from = cmp.Or(from, s.env); from == "" || len(to) == 0 {
				return coded(exitUsage, "say from which environment and into which: --from and --to")
			}
			into, asks, err := s.into(cmd.Context(), a, path, args[0], to)
			if err != nil {
				return err
			}
			in := flags.CopyRules{From: from, To: into, DrawAnew: anew}
			path += "/flags/" + url.PathEscape(args[0]) + "/copy-rules"
			var tried struct {
				Items []struct {
					flags.Saved
					Preview *preview.Preview `json:"preview"`
				} `json:"items"`
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "?dryRun=true",
				body: withReason(in, cmp.Or(s.because, "not said yet"))}, &tried); err != nil {
				return err
			}
			if len(tried.Items) == 0 {
				s.note("the rules are the same there already: nothing was changed")
				return s.show(tried.Items, func() {})
			}
			for i := range tried.Items {
				t := &tried.Items[i]
				s.note("in %s:", t.Environment)
				s.notePreview(t.Difference, t.Preview, t.Document)
				for j := range in.To {
					if in.To[j].Environment != t.Environment || s.try {
						continue
					}
					units, err := s.confirmSweep(t.Preview)
					if err != nil {
						return err
					}
					if n, is := units.(int64); is {
						in.To[j].Units = &n
					}
				}
			}
			if s.try {
				return s.show(tried.Items, func() {})
			}
			if err := s.confirm([]words.Said{words.Say("copy the rules of "+
				"%s", words.Key(args[0]))}, asks); err != nil {
				return err
			}
			var done flags.Copied
			if err := a.do(cmd.Context(), request{method: "POST", path: path, body: withReason(in, s.because)},
				&done); err != nil {
				return err
			}
			return s.show(done, func() {
				for _, d := range done.Items {
					s.say("%s: %s", d.Environment, wrap(said(d.Sentence), s.wide(), len(d.Environment)+2))
				}
			})
		}}
	c.Flags().StringVar(&from, "from", "", "the environment whose rules they are; the one of --env if left out")
	c.Flags().StringSliceVar(&to, "to", nil, "the environments that get them")
	c.Flags().BoolVar(&anew, "draw-anew", false, "shares get other units there")
	return c
}

// into reads how a flag stands in environments, and tells whether one of them asks first.
func (s *session) into(ctx context.Context, a *api, path, key string, to []string) (into []flags.Into, asks bool,
	err error) {
	for _, env := range to {
		var v manage.FlagView
		if err := a.do(ctx, request{method: "GET", path: path + "/environments/" + url.PathEscape(env) + "/flags/" +
			url.PathEscape(key)}, &v); err != nil {
			return nil, false, err
		}
		into = append(into, flags.Into{Environment: env, Version: v.Version})
		asks = asks || v.Environment.AskFirst
	}
	return into, asks, nil
}

func (s *session) environmentEdit() *cobra.Command {
	var title, asks, owners string
	var signing app.Signing
	var signs []string
	c := &cobra.Command{Use: "edit KEY", Short: "Edit an environment's title, or what it asks for",
		Example: "  greenlever environment edit production --title 'The real lockers' --ask-first true " +
			"--because 'customers stand there'\n" +
			"  greenlever environment edit trial --signatures 1 --signed-by releaser,keeper --lever-alone " +
			"--because 'nobody alone'",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			body := map[string]any{}
			if cmd.Flags().Changed("title") {
				body["title"] = title
			}
			if cmd.Flags().Changed("ask-first") {
				if body["askFirst"], err = strconv.ParseBool(asks); err != nil {
					return coded(exitUsage, "--ask-first takes true or false, not %q", asks)
				}
			}
			if cmd.Flags().Changed("owners-only") {
				if body["ownersOnly"], err = strconv.ParseBool(owners); err != nil {
					return coded(exitUsage, "--owners-only takes true or false, not %q", owners)
				}
			}
			if cmd.Flags().Changed("signatures") || len(signs) > 0 || cmd.Flags().Changed("lever-alone") {
				if !cmd.Flags().Changed("signatures") {
					return coded(exitUsage, "say with --signatures how many persons sign; 0 for none")
				}
				signing.Roles, signing.Teams = nil, nil
				for _, one := range signs {
					if role := app.Role(one); app.CheckRole(role) == "" {
						signing.Roles = append(signing.Roles, role)
					} else {
						signing.Teams = append(signing.Teams, one)
					}
				}
				body["signing"] = signing
			}
			if len(body) == 0 {
				return coded(exitUsage, "say what to edit: --title, --ask-first, --owners-only, --signatures")
			}
			if s.because != "" {
				body["reason"] = s.because
			}
			var now app.Environment
			if err := a.do(cmd.Context(), request{method: "PATCH", path: path + "/environments/" +
				url.PathEscape(args[0]), body: body}, &now); err != nil {
				return err
			}
			return s.show(now, func() {
				s.say("%s  %s, asks first: %t, wants %s", now.Key, now.Title, now.AskFirst,
					now.Signing)
			})
		}}
	c.Flags().StringVar(&title, "title", "", "for people")
	c.Flags().StringVar(&owners, "owners-only", "", "true or false: whether only those who own a flag, or are in a "+
		"team that "+
		"does, change it there")
	c.Flags().IntVar(&signing.Need, "signatures", 0, "how many persons besides its author sign a change there "+
		"before it "+
		"is made; 0: none")
	c.Flags().StringSliceVar(&signs, "signed-by", nil, "roles, or keys of teams, whose signatures count; of all who "+
		"may make the change if left out")
	c.Flags().BoolVar(&signing.Lever, "lever-alone", false, "a lever is turned there without signatures")
	c.Flags().StringVar(&asks, "ask-first", "", "true or false: whether each change wants a reason and a confirmation")
	return c
}

// titleEdit is a command that gives something another title.
func (s *session) titleEdit(what, example, short string, path func(key string) string) *cobra.Command {
	var title string
	c := &cobra.Command{Use: "edit KEY", Short: short, Args: exactly("KEY"),
		Example: "  greenlever " + what + " edit " + example,
		RunE: func(cmd *cobra.Command, args []string) error {
			if title == "" {
				return coded(exitUsage, "say what to edit: --title")
			}
			a, err := s.connect()
			if err != nil {
				return err
			}
			if what != "project" {
				if a, _, err = s.inProject(cmd.Context()); err != nil {
					return err
				}
			}
			var now struct {
				Key   string `json:"key"`
				Title string `json:"title"`
			}
			body := map[string]string{"title": title}
			if s.because != "" {
				body["reason"] = s.because
			}
			if err := a.do(cmd.Context(), request{method: "PATCH", path: path(args[0]), body: body},
				&now); err != nil {
				return err
			}
			return s.show(now, func() { s.say("%s  %s", now.Key, now.Title) })
		}}
	c.Flags().StringVar(&title, "title", "", "for people")
	return c
}
