package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
)

var _ = listed("places", (*session).environmentCommand)

func (s *session) environmentCommand() *cobra.Command {
	var title string
	var askFirst, archived bool
	list := &cobra.Command{Use: "list", Short: "The environments of a project", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.Environment }
			path += "/environments"
			if archived {
				path += "?archived=true"
			}
			if err := a.do(cmd.Context(), request{method: "GET", path: path}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, e := range all.Items {
					rows = append(rows, []any{e.Key, e.Title, e.AskFirst, e.Revision})
				}
				s.rows([]any{"environment", "title", "asks first", "revision"}, rows)
			})
		}}
	list.Flags().BoolVar(&archived, "archived", false, "those that are archived, instead of those that live")
	make_ := &cobra.Command{Use: "make KEY", Short: "Make an environment, with its first access keys",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var e environments.Made
			body := map[string]any{"key": args[0], "title": title, "askFirst": askFirst, "reason": s.because}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/environments", body: body},
				&e); err != nil {
				return err
			}
			return s.show(e, func() {
				s.note("environment %s made. These keys are shown once:", e.Key)
				s.say("GREENLEVER_URL=%s", a.URL)
				for _, k := range e.Keys {
					name := map[app.KeyKind]string{app.ServiceKey: "GREENLEVER_KEY",
						app.BrowserKey: "GREENLEVER_BROWSER_KEY"}[k.Kind]
					s.say("%s=%s", name, k.Secret)
				}
			})
		}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	make_.Flags().BoolVar(&askFirst, "ask-first", false, "wants a reason and a confirmation for every change")
	return group("environment", "Environments", list, make_, s.environmentEdit(), s.environmentAsOf(),
		s.environmentBranch(),
		s.environmentProlong(), s.environmentShortLived(),
		s.environmentEnd("archive", "Archive an environment that nobody follows",
			"archived: nobody can follow it, and it can be brought back", false),
		s.environmentEnd("bring-back", "Have an archived environment live again", "lives again", false),
		s.environmentEnd("remove", "End an archived environment for good", "is gone",
			true))
}

// environmentEnd is a command that takes an environment a step nearer to its end, or back.
func (s *session) environmentEnd(verb, short, said string, forGood bool) *cobra.Command {
	return &cobra.Command{Use: verb + " KEY", Short: short, Args: exactly("KEY"), RunE: func(cmd *cobra.Command,
		args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		path += "/environments/" + url.PathEscape(args[0]) + "/" + verb
		if s.try {
			path += "?dryRun=true"
		} else if forGood && !s.yes {
			answer, err := s.ask(fmt.Sprintf("End environment %s for good? Its key is never used again. [y/N] ",
				args[0]))
			if err != nil {
				return coded(exitUsage, "this cannot be taken back: add --yes to go on without a question")
			}
			if !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
				return coded(exitFailed, "nothing was changed")
			}
		}
		var e app.Environment
		if err := a.do(cmd.Context(), request{method: "POST", path: path, body: map[string]any{"reason": s.because}},
			&e); err != nil {
			return err
		}
		return s.show(e, func() {
			if s.try {
				s.note("nothing stands against it; nothing was changed")
				return
			}
			s.note("environment %s %s", e.Key, said)
		})
	}}
}
