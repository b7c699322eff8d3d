package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/manage"
)

func parseTime(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.ParseInLocation(time.DateOnly, text, time.Local)
}

func (s *session) signInCommand() *cobra.Command {
	c := &cobra.Command{Use: "sign-in", Short: "Keep an address and a personal token for the other commands",
		Long: "Keeps an address and a personal token in a profile. Make the token in the console under Settings.", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			p := profile{URL: strings.TrimRight(s.url, "/"), Token: env("GREENLEVER_TOKEN", ""), Project: s.project, Env: s.env}
			if p.URL == "" {
				p.URL = env("GREENLEVER_URL", "")
			}
			if p.URL == "" {
				if p.URL, err = s.ask("Address of the service: "); err != nil {
					return err
				}
			}
			if p.Token == "" {
				if p.Token, err = s.askSecret("Personal token (it is not shown): "); err != nil {
					return err
				}
			}
			s.url = p.URL
			a, err := s.connect()
			if err != nil {
				return err
			}
			a.token = p.Token
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

func (s *session) projectCommand() *cobra.Command {
	var title string
	list := &cobra.Command{Use: "list", Short: "The projects in which you have a role", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		var all struct{ Items []app.Project }
		if err := a.do(cmd.Context(), request{method: "GET", path: "/projects"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, p := range all.Items {
				rows = append(rows, []any{p.Key, p.Title, when(p.Created)})
			}
			s.rows([]any{"project", "title", "made"}, rows)
		})
	}}
	make_ := &cobra.Command{Use: "make KEY", Short: "Make a project", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		var p app.Project
		if err := a.do(cmd.Context(), request{method: "POST", path: "/projects", body: map[string]string{"key": args[0], "title": title}}, &p); err != nil {
			return err
		}
		return s.show(p, func() {
			s.note("project %s made; next: %s", p.Key, s.next("environment", "make", "development", "--project", p.Key))
		})
	}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	return group("project", "Projects", list, make_)
}

func (s *session) environmentCommand() *cobra.Command {
	var title string
	var askFirst bool
	list := &cobra.Command{Use: "list", Short: "The environments of a project", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []app.Environment }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/environments"}, &all); err != nil {
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
	make_ := &cobra.Command{Use: "make KEY", Short: "Make an environment, with its first access keys", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		var e environments.Made
		body := map[string]any{"key": args[0], "title": title, "askFirst": askFirst, "reason": s.because}
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/environments", body: body}, &e); err != nil {
			return err
		}
		return s.show(e, func() {
			s.note("environment %s made. These keys are shown once:", e.Key)
			s.say("GREENLEVER_URL=%s", a.url)
			for _, k := range e.Keys {
				name := map[app.KeyKind]string{app.ServiceKey: "GREENLEVER_KEY", app.BrowserKey: "GREENLEVER_BROWSER_KEY"}[k.Kind]
				s.say("%s=%s", name, k.Secret)
			}
		})
	}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	make_.Flags().BoolVar(&askFirst, "ask-first", false, "wants a reason and a confirmation for every change")
	return group("environment", "Environments", list, make_)
}

func (s *session) keyCommand() *cobra.Command {
	var kind, purpose string
	var origins []string
	list := &cobra.Command{Use: "list", Short: "The access keys of an environment", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []app.AccessKey }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/keys"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, k := range all.Items {
				rows = append(rows, []any{k.ID, k.Kind, k.Purpose, k.Hint + "…", strings.Join(k.Origins, " "), when(k.Created), when(k.Revoked)})
			}
			s.rows([]any{"key", "kind", "purpose", "begins with", "pages", "made", "revoked"}, rows)
		})
	}}
	make_ := &cobra.Command{Use: "make", Short: "Make an access key; it is shown once", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var k keys.Made
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/keys", body: map[string]any{"kind": kind, "purpose": purpose, "origins": origins}}, &k); err != nil {
			return err
		}
		return s.show(k, func() { s.say("%s", k.Secret) })
	}}
	make_.Flags().StringVar(&kind, "kind", "service", "service or browser")
	make_.Flags().StringVar(&purpose, "purpose", "default", "what it is for; two of a kind and purpose may live at a time")
	make_.Flags().StringSliceVar(&origins, "origin", nil, "of pages that may use a browser key, such as https://desk.pinecrest.example; any if left out")
	revoke := &cobra.Command{Use: "revoke KEY", Short: "Revoke an access key by its id; its streams end within seconds", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		if err := a.do(cmd.Context(), request{method: "DELETE", path: path + "/keys/" + url.PathEscape(args[0])}, nil); err != nil {
			return err
		}
		s.note("revoked")
		return nil
	}}
	return group("key", "Access keys of software", list, make_, revoke)
}

func (s *session) tokenCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Your personal tokens", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		var all struct{ Items []app.Token }
		if err := a.do(cmd.Context(), request{method: "GET", path: "/me/tokens"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, t := range all.Items {
				rows = append(rows, []any{t.ID, t.Name, when(t.Created), when(t.Expires)})
			}
			s.rows([]any{"token", "name", "made", "expires"}, rows)
		})
	}}
	remove := &cobra.Command{Use: "remove TOKEN", Short: "Remove a personal token by its id", Args: exactly("TOKEN"), RunE: func(cmd *cobra.Command, args []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		if err := a.do(cmd.Context(), request{method: "DELETE", path: "/me/tokens/" + url.PathEscape(args[0])}, nil); err != nil {
			return err
		}
		s.note("removed")
		return nil
	}}
	return group("token", "Your personal tokens; they are made in the console, by who is signed in there", list, remove)
}

func (s *session) personCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Who has which roles in a project", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []manage.Person }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/people"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, p := range all.Items {
				rows = append(rows, []any{p.Name, p.Email, fmt.Sprint(p.Roles), p.Account})
			}
			s.rows([]any{"name", "e-mail", "roles", "account"}, rows)
		})
	}}
	var name, password string
	var keeper bool
	make_ := &cobra.Command{Use: "make EMAIL", Short: "Make an account", Args: exactly("EMAIL"), RunE: func(cmd *cobra.Command, args []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		if password == "" {
			if password, err = s.askSecret("First password (it is not shown): "); err != nil {
				return err
			}
		}
		var made app.Account
		if err := a.do(cmd.Context(), request{method: "POST", path: "/accounts", body: map[string]any{"email": args[0], "name": name, "password": password, "keeper": keeper}}, &made); err != nil {
			return err
		}
		return s.show(made, func() {
			s.note("account of %s made; next: %s", made.Name, s.next("person", "roles", made.Email, "developer"))
		})
	}}
	make_.Flags().StringVar(&name, "name", "", "the person's name")
	make_.Flags().StringVar(&password, "password", "", "asked for if left out")
	make_.Flags().BoolVar(&keeper, "keeper", false, "makes projects and accounts")
	roles := &cobra.Command{Use: "roles EMAIL [ROLE...]", Short: "Replace somebody's roles in a project; none takes the person out", Args: atLeastOne("e-mail address"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		account, err := a.account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/people/" + url.PathEscape(account), body: map[string]any{"roles": append([]string{}, args[1:]...)}}, nil); err != nil {
			return err
		}
		s.note("%s now has the roles %v in %s", args[0], args[1:], s.project)
		return nil
	}}
	reset := &cobra.Command{Use: "password EMAIL", Short: "Give somebody a new password; all their sessions and tokens end", Args: exactly("EMAIL"), RunE: func(cmd *cobra.Command, args []string) error {
		a, err := s.connect()
		if err != nil {
			return err
		}
		if password == "" {
			if password, err = s.askSecret("New password (it is not shown): "); err != nil {
				return err
			}
		}
		account, err := a.account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if err := a.do(cmd.Context(), request{method: "POST", path: "/accounts/" + url.PathEscape(account) + "/password", body: map[string]any{"password": password}}, nil); err != nil {
			return err
		}
		s.note("%s has a new password", args[0])
		return nil
	}}
	reset.Flags().StringVar(&password, "password", "", "asked for if left out")
	return group("person", "People and their roles", list, make_, roles, reset, s.leaveCommand(), s.sessionsCommand())
}

func (s *session) epochCommand() *cobra.Command {
	return group("epoch", "The installation's generation", &cobra.Command{Use: "new", Short: "Start a new epoch, after the records were restored from a backup",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if !s.yes {
				answer, err := s.ask("Followers will take the state of the records, older as it may be. Start a new epoch? [y/N] ")
				if err != nil {
					return coded(exitUsage, "add --yes to start a new epoch without a question")
				}
				if !strings.EqualFold(answer, "y") {
					return coded(exitFailed, "nothing was changed")
				}
			}
			var out struct{ Epoch int64 }
			if err := a.do(cmd.Context(), request{method: "POST", path: "/epoch", body: map[string]string{"reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() { s.say("%d", out.Epoch) })
		}})
}
