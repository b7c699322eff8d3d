package cli

import (
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/manage"
)

// lasts reads how long something is to last: 3d, 12h or 30m.
func lasts(text string) (int64, error) {
	if days, is := strings.CutSuffix(text, "d"); is {
		if n, err := strconv.Atoi(days); err == nil && n > 0 {
			return int64(n) * 24 * time.Hour.Milliseconds(), nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, coded(exitUsage, "--for takes a span of time such as 3d, 12h or 30m, not %q", text)
	}
	return d.Milliseconds(), nil
}

func (s *session) environmentBranch() *cobra.Command {
	var from, title, length string
	c := &cobra.Command{Use: "branch KEY", Short: "Make a short-lived environment out of another one",
		Long: "Make a short-lived environment out of another one: its flags and segments as they are there, " +
			"with access keys " +
			"of its own. It\nends by itself, with its keys and what was sampled and counted; the history stays. " +
			"It asks for no " +
			"reasons, counts nowhere\nwhere environments are counted, and is on no board unless it is named. " +
			"What its key has " +
			"before the last hyphen is its family.",
		Example: "  greenlever environment branch review-482 --from staging --for 3d", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if from == "" {
				from = s.env
			}
			if from == "" {
				return coded(exitUsage, "say out of which environment: --from")
			}
			ms, err := lasts(length)
			if err != nil {
				return err
			}
			var made environments.Made
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/environments/" +
				url.PathEscape(from) +
				"/branch", body: withReason(environments.Branch{Key: args[0], Title: title, For: ms}, s.because)},
				&made); err != nil {
				return err
			}
			return s.show(made, func() { s.sayMadeShort(&made) })
		}}
	c.Flags().StringVar(&from, "from", "", "the environment whose flags it begins with; the one of --env if "+
		"left out")
	c.Flags().StringVar(&title, "title", "", "for people; the key if left out")
	c.Flags().StringVar(&length, "for", "3d", "how long it lives: 10m to 90d")
	return c
}

func (s *session) sayMadeShort(made *environments.Made) {
	s.note("environment %s lives until %s", made.Key, s.when(made.Until))
	for _, k := range made.Keys {
		s.say("%-8s %s", k.Kind, k.Secret)
	}
	if len(made.Keys) > 0 {
		s.note("the secrets are shown once")
	}
}

func (s *session) environmentProlong() *cobra.Command {
	var length string
	c := &cobra.Command{Use: "prolong KEY", Short: "Have a short-lived environment live on, from now",
		Long: "Have a short-lived environment live on, from now. One that ended within the last 30 days lives " +
			"again, with its " +
			"flags as\nthey were and with new access keys.",
		Example: "  greenlever environment prolong review-482 --for 2d", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			ms, err := lasts(length)
			if err != nil {
				return err
			}
			var made environments.Made
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/environments/" +
				url.PathEscape(args[0]) +
				"/prolong", body: withReason(environments.Prolong{For: ms}, s.because)}, &made); err != nil {
				return err
			}
			return s.show(made, func() { s.sayMadeShort(&made) })
		}}
	c.Flags().StringVar(&length, "for", "3d", "for how long: 10m to 90d")
	return c
}

func (s *session) environmentShortLived() *cobra.Command {
	return &cobra.Command{Use: "short-lived", Short: "The environments that end by themselves, by family",
		Example: "  greenlever environment short-lived", Args: exactly(), RunE: func(cmd *cobra.Command,
			_ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all manage.ShortLived
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/short-lived"}, &all); err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, f := range all.Families {
					for i := range f.Items {
						e := &f.Items[i]
						is := "until " + s.when(e.Until)
						if e.State != app.Active {
							is = "ended"
						}
						rows = append(rows, []any{f.Family, e.Key, e.From, e.Name, is})
					}
				}
				s.rows([]any{"family", "environment", "from", "made by", "is"}, rows)
				for _, f := range all.Families {
					for _, g := range f.Gives {
						s.note("%s gives %s in all of %s", g.Flag, g.Variant, f.Family)
					}
				}
				if len(rows) == 0 {
					s.note("there are none; %s makes one", s.next("environment", "branch", "KEY", "--from",
						"staging"))
				}
			})
		}}
}

func (s *session) flagFamily() *cobra.Command {
	var family, variant string
	c := &cobra.Command{Use: "family KEY", Short: "Say what a flag gives in all short-lived environments of a " +
		"family",
		Long: "Say what a flag gives in all short-lived environments of a family, those to come included. " +
			"Without a variant " +
			"nothing is said\nfor those to come.",
		Example: "  greenlever flag family one-touch-open --family review --variant on\n" +
			"  greenlever flag family one-touch-open --family review",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if family == "" {
				return coded(exitUsage, "say of which family: --family")
			}
			var given environments.Given
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/flags/" + url.PathEscape(args[0]) +
				"/family",
				body: withReason(environments.Give{Family: family, Variant: variant}, s.because)},
				&given); err != nil {
				return err
			}
			return s.show(given, func() {
				if variant == "" {
					s.note("nothing is said any more of %s for family %s", args[0], family)
					return
				}
				s.note("%s gives %s in %s of family %s, and in those to come", args[0], variant,
					counted(given.Environments, "environment", "environments"), family)
			})
		}}
	c.Flags().StringVar(&family, "family", "", "what the keys of the environments have before the last hyphen")
	c.Flags().StringVar(&variant, "variant", "", "that everybody gets")
	return c
}
