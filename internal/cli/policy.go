package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/files"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("places", (*session).policyCommand)

func (s *session) policyCommand() *cobra.Command {
	return group("policy", "Rules for changes, which are judged when they are made", s.policyList(), s.policyLibrary(),
		s.policyWrite(), s.policySave(), s.policyTry(), s.policyRulings(), s.policyRemove())
}

func (s *session) policyList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "The policies, and how they ruled in the last 90 days", Args: exactly(),
		Example: "  greenlever policy list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.PolicyView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/policies"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for i := range all.Items {
					p := &all.Items[i]
					does := string(p.Outcome)
					if p.Dry {
						does = "dry, would " + does
					}
					ruled := fmt.Sprint(p.Ruled)
					if p.Failed > 0 {
						ruled += fmt.Sprintf(", %d not judged", p.Failed)
					}
					rows = append(rows, []any{p.Key, p.Title, does, strings.Join(p.Nouns, " "), ruled})
				}
				s.rows([]any{"policy", "name", "does", "judges", "ruled"}, rows)
				if len(rows) == 0 {
					s.note("there are none; begin with one of %s", s.next("policy", "library"))
				}
			})
		}}
}

func (s *session) policyLibrary() *cobra.Command {
	return &cobra.Command{Use: "library", Short: "Policies to begin with", Args: exactly(),
		Long: "None of them counts before it is saved: write one with `policy write`, put right what is of your own, " +
			"save it.",
		Example: "  greenlever policy library",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := s.policiesOf(cmd.Context(), "/policies/library")
			if err != nil {
				return err
			}
			return s.show(all, func() {
				for _, p := range all {
					s.say("%s  %s", s.screen.paint(strong, p.Key), p.Title)
					s.say("  %s: %s", p.Outcome, p.When)
				}
			})
		}}
}

func (s *session) policiesOf(ctx context.Context, at string) ([]app.Policy, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, err
	}
	var all struct{ Items []app.Policy }
	err = a.do(ctx, request{method: "GET", path: path + at}, &all)
	return all.Items, err
}

func (s *session) policyWrite() *cobra.Command {
	return &cobra.Command{Use: "write POLICY", Short: "Write a policy as YAML", Args: exactly("POLICY"),
		Long: "Write a policy of the project as YAML, or one of the library where the project has none of " +
			"that key.",
		Example: "  greenlever policy write small-steps > small-steps.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, at := range []string{"/policies", "/policies/library"} {
				all, err := s.policiesOf(cmd.Context(), at)
				if err != nil {
					return err
				}
				if i := slices.IndexFunc(all, func(p app.Policy) bool { return p.Key == args[0] }); i >= 0 {
					raw, err := files.WritePolicy(&all[i])
					if err == nil {
						_, err = s.out.Write(raw)
					}
					return err
				}
			}
			return coded(exitNotFound, "there is no policy %q: greenlever policy list and policy library name "+
				"those that "+
				"there are", args[0])
		}}
}

// readPolicy reads a policy's file.
func (s *session) readPolicy(path string) (*app.Policy, error) {
	raw, err := s.readFile(path)
	if err != nil {
		return nil, err
	}
	p, err := files.ReadPolicy(raw)
	if err != nil {
		return nil, coded(exitInvalid, "%s: %v", path, err)
	}
	return p, nil
}

func (s *session) policySave() *cobra.Command {
	var dry bool
	c := &cobra.Command{Use: "save FILE", Short: "Save a policy from a YAML file", Args: exactly("FILE"),
		Long: "Save a policy from a YAML file, a new one or in place of the one with its key; - reads standard " +
			"input. " +
			"With --dry it is counted and shown, and keeps nothing from happening.",
		Example: "  greenlever policy write small-steps > small-steps.yaml\n" +
			"  greenlever policy save small-steps.yaml --dry",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := s.readPolicy(args[0])
			if err != nil {
				return err
			}
			p.Dry = p.Dry || dry
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var saved app.Policy
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/policies/" + url.PathEscape(p.Key),
				body: withReason(map[string]any{"policy": p}, s.because)}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.note("saved, version %d", saved.Version) })
		}}
	c.Flags().BoolVar(&dry, "dry", false, "count how it rules, and keep nothing from happening")
	return c
}

func (s *session) policyTry() *cobra.Command {
	var days int
	c := &cobra.Command{Use: "try FILE", Short: "How a policy would have ruled on the past", Args: exactly("FILE"),
		Long: "Try a policy from a YAML file on the changes of flags of the last days, before it is saved. What " +
			"they " +
			"moved is not known of the past, so a policy that asks for the shift cannot be judged there.",
		Example: "  greenlever policy write small-steps > small-steps.yaml\n  greenlever policy try small-steps.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := s.readPolicy(args[0])
			if err != nil {
				return err
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var t manage.PolicyTrial
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/policies/try",
				body: map[string]any{"policy": p, "days": days}}, &t); err != nil {
				return err
			}
			return s.show(t, func() { s.sayTrial(&t) })
		}}
	c.Flags().IntVar(&days, "days", 90, "how far back")
	return c
}

func (s *session) sayTrial(t *manage.PolicyTrial) {
	s.say("it would have ruled on %d of %s since %s", t.Bitten, counted(t.Looked, "change", "changes"),
		s.when(t.Since))
	if t.Unknown > 0 {
		s.say("%s could not be judged: %s", counted(t.Unknown, "change", "changes"), t.Failed)
	}
	for _, b := range t.Bites {
		s.say("")
		s.say("%s  %s in %s, by %s: %s", s.when(b.At), s.screen.paint(strong, b.Flag), b.Environment, t.Names[b.Actor],
			b.Reason)
		for _, l := range b.Difference {
			s.say("  %s", said(words.Read(l)))
		}
	}
}

func (s *session) policyRulings() *cobra.Command {
	return &cobra.Command{Use: "rulings POLICY", Short: "How a policy ruled, the newest first",
		Args:    exactly("POLICY"),
		Example: "  greenlever policy rulings small-steps",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.RulingView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/policies/" + url.PathEscape(args[0]) +
				"/rulings"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for i := range all.Items {
					r := &all.Items[i]
					rows = append(rows, []any{s.when(r.At), didRule(&r.Ruling), r.Subject, r.Environment, r.Name})
				}
				s.rows([]any{"when", "did", "what", "where", "who"}, rows)
			})
		}}
}

// didRule says in a word or two what came of a ruling.
func didRule(r *app.Ruling) string {
	says := map[app.Outcome]string{app.Refuse: "refused", app.Warn: "warned", app.Note: "noted"}[r.Outcome]
	switch {
	case r.Dry:
		says = "dry: would have " + says
	case r.Forced:
		says = "overruled"
	}
	if r.Failed != "" {
		says += ", not judged"
	}
	return says
}

func (s *session) policyRemove() *cobra.Command {
	return &cobra.Command{Use: "remove POLICY", Short: "Take a policy away; how it ruled stays",
		Args:    exactly("POLICY"),
		Example: "  greenlever policy remove small-steps",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Say("take policy %s away", words.Name(args[0]))},
				!s.yes); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/policies/" + url.PathEscape(args[0]) +
				"/remove", body: map[string]any{"reason": s.because}}, nil); err != nil {
				return err
			}
			s.note("policy %s is taken away", args[0])
			return nil
		}}
}
