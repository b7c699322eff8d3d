package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("first", (*session).signInCommand)

func (s *session) signInCommand() *cobra.Command {
	c := &cobra.Command{Use: "sign-in", Short: "Keep an address and a personal token for the other commands",
		Long: "Keeps an address and a personal token in a profile. Without GREENLEVER_TOKEN a " +
			"code is shown here and in\n" +
			"your browser, and who is signed in there lets this program in.",
		Example: "  greenlever sign-in --url http://127.0.0.1:8090",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			p := profile{URL: strings.TrimRight(s.url, "/"), Token: env("GREENLEVER_TOKEN", ""), Project: s.project,
				Env: s.env}
			if p.URL == "" {
				p.URL = env("GREENLEVER_URL", "")
			}
			if p.URL == "" {
				if p.URL, err = s.ask("Address of the service: "); err != nil {
					return err
				}
			}
			if p.Token == "" {
				if p.Token, err = s.byCode(cmd.Context(), p.URL); err != nil {
					return err
				}
			}
			s.url = p.URL
			a, err := s.connect()
			if err != nil {
				return err
			}
			a.Token = p.Token
			var me manage.Me
			if err := a.do(cmd.Context(), request{method: "GET", path: "/me"}, &me); err != nil {
				return err
			}
			path, err := writeProfile(s.profile, p)
			if err != nil {
				return err
			}
			s.note("signed in to %s as %s; kept as profile %s in %s", p.URL, me.Account.Name, s.profile, path)
			return nil
		}}
	return c
}
