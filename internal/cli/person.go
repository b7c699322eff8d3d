package cli

import (
	"context"
	"net/url"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("places", (*session).personCommand)

func (s *session) personCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Who has which roles in a project", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
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
					rows = append(rows, []any{p.Name, p.Email, heldWords(&p.Held), p.Teams, p.Account})
				}
				s.rows([]any{"name", "e-mail", "roles", "teams", "account"}, rows)
			})
		}}
	remove := &cobra.Command{Use: "remove EMAIL", Short: "Remove an account: its name and address are taken out",
		Long: "The account is disabled, and its name and address are taken out of it. What it did stays, under " +
			"its id.",
		Args: exactly("EMAIL"), Example: "  greenlever person remove per.lund@pinecrest.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			var found manage.Found
			if err := a.do(cmd.Context(), request{method: "POST", path: "/accounts/find",
				body: map[string]any{"email": args[0]}}, &found); err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Say("remove the account of %s", words.Name(args[0]))},
				!s.yes); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "DELETE", path: "/accounts/" + found.Account},
				nil); err != nil {
				return err
			}
			s.note("removed")
			return nil
		}}
	var name, password string
	var keeper bool
	make_ := &cobra.Command{Use: "make EMAIL", Short: "Make an account", Args: exactly("EMAIL"),
		RunE: func(cmd *cobra.Command, args []string) error {
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
			if err := a.do(cmd.Context(), request{method: "POST", path: "/accounts",
				body: map[string]any{"email": args[0], "name": name, "password": password, "keeper": keeper}},
				&made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.note("account of %s made; next: %s", made.Name, s.next("person", "roles", made.Email, "developer"))
			})
		}}
	make_.Flags().StringVar(&name, "name", "", "the person's name")
	make_.Flags().StringVar(&password, "password", "", "asked for if left out")
	make_.Flags().BoolVar(&keeper, "keeper", false, "makes projects and accounts")
	roles := s.rolesCommand("roles EMAIL [ROLE...]", "Replace somebody's roles in a project", "Replace somebody's "+
		"roles "+
		"in a project; without any the person leaves it. A robot is named robot:KEY.", "person roles "+
		"per.lund@pinecrest.example developer on-call\nperson roles per.lund@pinecrest.example --in staging=releaser",
		func(ctx context.Context, a *api, path, who string) (string, *manage.Held, error) {
			account, err := a.account(ctx, who)
			if err != nil {
				return "", nil, err
			}
			var all struct{ Items []manage.Person }
			if err := a.do(ctx, request{method: "GET", path: path + "/people"}, &all); err != nil {
				return "", nil, err
			}
			held := &manage.Held{}
			for i := range all.Items {
				if all.Items[i].Account == account {
					held = &all.Items[i].Held
				}
			}
			return path + "/people/" + url.PathEscape(account), held, nil
		})
	reset := &cobra.Command{Use: "password EMAIL", Short: "Give somebody a new password; all their sessions and " +
		"tokens end", Args: exactly("EMAIL"), RunE: func(cmd *cobra.Command, args []string) error {
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
		if err := a.do(cmd.Context(), request{method: "POST", path: "/accounts/" + url.PathEscape(account) +
			"/password", body: map[string]any{"password": password}}, nil); err != nil {
			return err
		}
		s.note("%s has a new password", args[0])
		return nil
	}}
	reset.Flags().StringVar(&password, "password", "", "asked for if left out")
	return group("person", "People and their roles", list, remove, make_, roles, reset, s.leaveCommand(),
		s.sessionsCommand())
}

// account gives the id of an account that is named by its e-mail address, or by its id.
func (a *api) account(ctx context.Context, who string) (string, error) {
	if !strings.Contains(who, "@") && !strings.HasPrefix(who, app.RobotPrefix) {
		return who, nil
	}
	var found manage.Found
	err := a.do(ctx, request{method: "POST", path: "/accounts/find", body: map[string]string{"email": who}}, &found)
	return found.Account, err
}

// leaveCommand changes what an account may do, up to nothing at all.
func (s *session) leaveCommand() *cobra.Command {
	var disable, enable, keeper, noKeeper bool
	c := &cobra.Command{Use: "change EMAIL", Short: "Disable or enable an account, or have it keep the " +
		"installation", Args: exactly("EMAIL"),
		Long: "Changes an account. One that is disabled has no sessions, tokens and streams any more, on every " +
			"node within\nseconds; they do not come back when it is enabled again.",
		Example: "  greenlever person change per.lund@pinecrest.example --disable\n  greenlever person change " +
			"ida.holm@pinecrest.example --no-keeper",
		RunE: func(cmd *cobra.Command, args []string) error {
			edit := map[string]bool{}
			for _, o := range []struct {
				given bool
				name  string
				value bool
			}{{disable, "disabled", true}, {enable, "disabled", false}, {keeper, "keeper", true},
				{noKeeper, "keeper", false}} {
				if o.given {
					edit[o.name] = o.value
				}
			}
			if len(edit) == 0 || disable && enable || keeper && noKeeper {
				return coded(exitUsage, "say what to change: --disable or --enable, --keeper or --no-keeper")
			}
			a, err := s.connect()
			if err != nil {
				return err
			}
			account, err := a.account(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var now app.Account
			if err := a.do(cmd.Context(), request{method: "PATCH", path: "/accounts/" + url.PathEscape(account),
				body: edit}, &now); err != nil {
				return err
			}
			return s.show(now, func() {
				may, keeps := "may sign in", "is no installation keeper"
				if now.Disabled > 0 {
					may = "is disabled, without sessions and tokens"
				}
				if now.Keeper {
					keeps = "is an installation keeper"
				}
				s.note("%s %s, and %s", now.Email, may, keeps)
			})
		}}
	f := c.Flags()
	f.BoolVar(&disable, "disable", false, "it may not be used any more")
	f.BoolVar(&enable, "enable", false, "it may be used again")
	f.BoolVar(&keeper, "keeper", false, "it makes projects and accounts")
	f.BoolVar(&noKeeper, "no-keeper", false, "it does not keep the installation any more")
	return c
}

// sessionsCommand lists what somebody is signed in with, and ends it.
func (s *session) sessionsCommand() *cobra.Command {
	var end string
	c := &cobra.Command{Use: "sessions [EMAIL]", Short: "Somebody's sessions and tokens, or your own; --end ends one",
		Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			path := "/me"
			if len(args) == 1 {
				account, err := a.account(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				path = "/accounts/" + url.PathEscape(account)
			}
			var all struct {
				Sessions []manage.SessionView `json:"sessions"`
				Tokens   []app.Token          `json:"tokens"`
			}
			for _, part := range []struct {
				name string
				into any
			}{{"/sessions", &struct{ Items *[]manage.SessionView }{&all.Sessions}},
				{"/tokens", &struct{ Items *[]app.Token }{&all.Tokens}}} {
				if err := a.do(cmd.Context(), request{method: "GET", path: path + part.name}, part.into); err != nil {
					return err
				}
			}
			for i := range all.Sessions {
				if end != "" && all.Sessions[i].ID == end {
					s.note("session %s ends", end)
					return a.do(cmd.Context(), request{method: "DELETE",
						path: path + "/sessions/" + url.PathEscape(end)}, nil)
				}
			}
			for i := range all.Tokens {
				if end != "" && all.Tokens[i].ID == end {
					s.note("token %q ends", all.Tokens[i].Name)
					return a.do(cmd.Context(), request{method: "DELETE",
						path: path + "/tokens/" + url.PathEscape(end)}, nil)
				}
			}
			if end != "" {
				return coded(exitNotFound, "there is no session and no token %s", end)
			}
			return s.show(all, func() {
				var rows [][]any
				for i := range all.Sessions {
					v := &all.Sessions[i]
					rows = append(rows, []any{"session", v.ID, v.Address + "  " + v.Agent, s.when(v.Created),
						s.when(v.Expires)})
				}
				for _, t := range all.Tokens {
					rows = append(rows, []any{"token", t.ID, t.Name, s.when(t.Created), s.when(t.Expires)})
				}
				s.rows([]any{"what", "id", "from, or for", "since", "until"}, rows)
			})
		}}
	c.Flags().StringVar(&end, "end", "", "id of a session or a token to end")
	return c
}
