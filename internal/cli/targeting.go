package cli

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/seeas"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/manage"
)

// readCondition reads a condition that is written as text, or as JSON.
func (s *session) readCondition(ctx context.Context, text string) (*condition.Node, error) {
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		n := &condition.Node{}
		if err := json.Unmarshal([]byte(text), n); err != nil {
			return nil, coded(exitUsage, "the condition is no JSON: %w", err)
		}
		return n, nil
	}
	a, err := s.connect()
	if err != nil {
		return nil, err
	}
	var v manage.ConditionView
	if err := a.do(ctx, request{method: "POST", path: "/conditions/read", body: map[string]any{"text": text}}, &v); err != nil {
		return nil, err
	}
	return v.When, nil
}

func (s *session) conditionCommand() *cobra.Command {
	return &cobra.Command{Use: "condition TEXT", Short: "Read a condition and say it in words, as text and as JSON", Args: exactly("TEXT"),
		Example: "  greenlever condition 'version(firmware) >= version(\"4.2.0\") && !inSegment(\"staff\")'\n  greenlever condition help",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if args[0] == "help" {
				var all struct{ Items []string }
				if err := a.do(cmd.Context(), request{method: "GET", path: "/conditions/functions"}, &all); err != nil {
					return err
				}
				return s.show(all.Items, func() {
					for _, u := range all.Items {
						s.say("%s", u)
					}
				})
			}
			var v manage.ConditionView
			if err := a.do(cmd.Context(), request{method: "POST", path: "/conditions/read", body: map[string]any{"text": args[0]}}, &v); err != nil {
				return err
			}
			return s.show(v, func() {
				s.say("%s", v.Words)
				s.say("%s", v.Text)
			})
		}}
}

func (s *session) flagRule() *cobra.Command {
	var name, text, gets string
	var place int
	c := &cobra.Command{Use: "rule KEY", Short: "Add a rule, or change whom one takes and which variant it gives", Args: exactly("KEY"),
		Example: "  greenlever flag rule one-touch-open --name 'Old firmware' --when 'version(firmware) < version(\"4.2.0\")' --gets off --place 1 --env production --try",
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
						return coded(exitUsage, "a new rule gives a variant: say which with --gets: %s", strings.Join(d.VariantNames(), ", "))
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
	c.Flags().StringVar(&text, "when", "", "whom it takes, as text or JSON; everybody if left out")
	c.Flags().StringVar(&gets, "gets", "", "the variant")
	c.Flags().IntVar(&place, "place", 0, "of a new rule among the others, from 1; the last if left out")
	_ = c.MarkFlagRequired("name")
	return c
}

func (s *session) flagOrder() *cobra.Command {
	return &cobra.Command{Use: "order KEY RULE...", Short: "Put rules in another order: those named come first, in this order", RunE: func(cmd *cobra.Command, args []string) error {
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

func (s *session) flagDrawAnew() *cobra.Command {
	var rule string
	c := &cobra.Command{Use: "draw-anew KEY", Short: "Draw the units of shares anew: others get the same parts", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
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
				return coded(exitUsage, "there are no shares at that place: name a rule with --rule, or leave it out for the end")
			}
			shares.DrawAnew = true
			return nil
		})
	}}
	c.Flags().StringVar(&rule, "rule", "", "id or name of the rule; the end if left out")
	return c
}

func (s *session) flagSnippet() *cobra.Command {
	var name string
	c := &cobra.Command{Use: "snippet KEY", Short: "Code that asks for a flag, filled in", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []snippet.Snippet }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/flags/" + url.PathEscape(args[0]) + "/snippets"}, &all); err != nil {
			return err
		}
		if name != "" {
			all.Items = slices.DeleteFunc(all.Items, func(v snippet.Snippet) bool { return !strings.EqualFold(v.Name, name) })
		}
		return s.show(all.Items, func() {
			for i, v := range all.Items {
				if i > 0 {
					s.say("")
				}
				s.say("%s\n%s", v.Name, v.Code)
			}
		})
	}}
	c.Flags().StringVar(&name, "for", "", "Go, Browser, OpenFeature or HTTP; all if left out")
	return c
}

func (s *session) checkCommand() *cobra.Command {
	c := &cobra.Command{Use: "check [FLAG]", Short: "What is probably wrong with flags, although they can be saved", Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		if len(args) == 1 {
			path += "/flags/" + url.PathEscape(args[0])
		}
		var all struct{ Items []lint.Finding }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/lint"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			for _, f := range all.Items {
				place := f.Flag
				if f.Place != "" {
					place += ", rule " + f.Place
				}
				muted := ""
				if f.Muted != "" {
					muted = " (muted: " + f.Muted + ")"
				}
				s.say("%s [%s]%s", place, f.Check, muted)
				s.say("    %s", wrap(said(f.Says)+"; "+f.Mend, s.wide(), 4))
			}
			if len(all.Items) == 0 {
				s.note("nothing was found")
			}
		})
	}}
	list := &cobra.Command{Use: "list", Short: "What is looked for, and why", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		return s.show(lint.Checks(), func() {
			for _, k := range lint.Checks() {
				s.say("%-16s %s", k.Name, wrap(k.Reason, s.wide(), 17))
				s.say("%-16s for example: %s", "", wrap(k.Bad, s.wide(), 30))
			}
		})
	}}
	mute := &cobra.Command{Use: "mute FLAG CHECK", Short: "Mute a check for a flag; --because says why", Args: exactly("FLAG", "CHECK"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.mute(cmd.Context(), args[0], args[1], s.because)
	}}
	unmute := &cobra.Command{Use: "unmute FLAG CHECK", Short: "Hear of a check again", Args: exactly("FLAG", "CHECK"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.mute(cmd.Context(), args[0], args[1], "")
	}}
	c.AddCommand(list, mute, unmute)
	return c
}

func (s *session) mute(ctx context.Context, key, check, reason string) error {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return err
	}
	path += "/flags/" + url.PathEscape(key)
	var d app.Definition
	if err := a.do(ctx, request{method: "GET", path: path}, &d); err != nil {
		return err
	}
	muted := slices.DeleteFunc(append([]app.Mute{}, d.Muted...), func(m app.Mute) bool { return m.Check == check })
	if reason != "" {
		muted = append(muted, app.Mute{Check: check, Reason: reason})
	} else if len(muted) == len(d.Muted) {
		return coded(exitUsage, "say why with --because, or unmute a check that is muted")
	}
	return a.do(ctx, request{method: "PATCH", path: path, body: map[string]any{"muted": muted}, version: d.Version}, nil)
}

func (s *session) seeAsCommand() *cobra.Command {
	var minutes int64
	c := &cobra.Command{Use: "see-as FLAG=VARIANT...", Short: "Get a signed override for your own session; it touches no rule", Args: atLeastOne("FLAG=VARIANT"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		variants := map[string]string{}
		for _, pair := range args {
			key, variant, ok := strings.Cut(pair, "=")
			if !ok {
				return coded(exitUsage, "write FLAG=VARIANT, not %q", pair)
			}
			variants[key] = variant
		}
		var out seeas.Issued
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/see-as", body: map[string]any{"variants": variants, "minutes": minutes, "reason": s.because}}, &out); err != nil {
			return err
		}
		return s.show(out, func() {
			s.say("%s: %s", flag.SeeAsHeader, out.Token)
			s.note("good until %s; send it as this header, or as the cookie %s", time.UnixMilli(out.Until).Local().Format("15:04"), flag.SeeAsCookie)
		})
	}}
	c.Flags().Int64Var(&minutes, "minutes", 60, "that it lasts, 480 at most")
	return c
}
