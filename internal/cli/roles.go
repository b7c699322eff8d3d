package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var (
	_ = listed("places", (*session).teamCommand)
	_ = listed("places", (*session).robotCommand)
	_ = listed("places", (*session).canCommand)
)

// rolesCommand is the command that gives a person or a team its roles. find gives the address of what they hold, and
// what they hold now.
func (s *session) rolesCommand(use, short, long, examples string, find func(ctx context.Context, a *api, path,
	who string) (string, *manage.Held, error)) *cobra.Command {
	var in []string
	c := &cobra.Command{Use: use, Short: short, Long: long + " With --in alone, what is held in all of the project " +
		"stays. " +
		"Roles add up:\n\n" + roleWords(), Args: atLeastOne("name"),
		Example: "  greenlever " + strings.ReplaceAll(examples, "\n", "\n  greenlever "),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			at, held, err := find(cmd.Context(), a, path, args[0])
			if err != nil {
				return err
			}
			if err := newRoles(held, args[1:], in); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "PUT", path: at, body: held}, nil); err != nil {
				return err
			}
			s.note("%s now has the roles %s in %s", args[0], heldWords(held), s.project)
			return nil
		}}
	c.Flags().StringArrayVar(&in, "in", nil, "ENVIRONMENT=ROLE,ROLE: roles that count there alone; none after = "+
		"takes "+
		"them away")
	return c
}

// newRoles puts what was typed in place of what was held.
func newRoles(held *manage.Held, typed, in []string) error {
	if len(typed) > 0 || len(in) == 0 {
		held.Roles = []app.Role{}
	}
	if len(in) == 0 && len(typed) == 0 {
		held.In = nil
	}
	for _, role := range typed {
		held.Roles = append(held.Roles, app.Role(role))
	}
	for _, one := range in {
		environment, roles, is := strings.Cut(one, "=")
		if !is {
			return coded(exitUsage, "--in takes ENVIRONMENT=ROLE,ROLE, not %q", one)
		}
		if held.In == nil {
			held.In = map[string][]app.Role{}
		}
		held.In[environment] = []app.Role{}
		for _, role := range strings.FieldsFunc(roles, func(r rune) bool { return r == ',' }) {
			held.In[environment] = append(held.In[environment], app.Role(role))
		}
	}
	return nil
}

// heldWords says roles in one line.
func heldWords(h *manage.Held) string {
	var parts []string
	for _, r := range h.Roles {
		parts = append(parts, string(r))
	}
	for _, environment := range slices.Sorted(maps.Keys(h.In)) {
		for _, r := range h.In[environment] {
			parts = append(parts, string(r)+" in "+environment)
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

// roleWords says what each role may do.
func roleWords() string {
	var b strings.Builder
	for _, r := range app.Roles() {
		var does []string
		for _, a := range app.Actions() {
			if slices.Contains(a.Takes(), r) {
				does = append(does, a.Says())
			}
		}
		fmt.Fprintf(&b, "  %-12s %s\n", r, strings.Join(does, "; "))
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// teams lists all teams of the installation.
func (s *session) teams(ctx context.Context) (*api, []manage.TeamView, error) {
	a, err := s.connect()
	if err != nil {
		return nil, nil, err
	}
	var all struct{ Items []manage.TeamView }
	err = a.do(ctx, request{method: "GET", path: "/teams"}, &all)
	return a, all.Items, err
}

func (s *session) teamCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "All teams, and who is in them", Args: exactly(),
		Example: "  greenlever team list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, all, err := s.teams(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, t := range all {
					rows = append(rows, []any{t.Key, t.Title, t.Members, s.when(t.Made)})
				}
				s.rows([]any{"team", "title", "members", "made"}, rows)
			})
		}}
	var title string
	var members []string
	save := &cobra.Command{Use: "save KEY", Short: "Make a team, or give it another title or other members",
		Args: exactly("KEY"), Example: "  greenlever team save doors --title 'Door crew' --member " +
			"ida.holm@pinecrest.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, all, err := s.teams(cmd.Context())
			if err != nil {
				return err
			}
			body := map[string]any{"title": title, "members": append([]string{}, members...)}
			for _, t := range all { // what is left out stays
				if t.Key == args[0] && !cmd.Flags().Changed("title") {
					body["title"] = t.Title
				}
				if t.Key == args[0] && !cmd.Flags().Changed("member") {
					body["members"] = t.Members
				}
			}
			var saved manage.TeamView
			if err := a.do(cmd.Context(), request{method: "PUT", path: "/teams/" + url.PathEscape(args[0]),
				body: body},
				&saved); err != nil {
				return err
			}
			return s.show(saved, func() {
				s.note("team %s has %d members; its roles: %s", saved.Key, len(saved.Members), s.next("team", "roles",
					saved.Key, "releaser"))
			})
		}}
	save.Flags().StringVar(&title, "title", "", "for people; as it is, or the key, if left out")
	save.Flags().StringSliceVar(&members, "member", nil, "e-mail addresses, in place of those who are in it; as "+
		"they are "+
		"if left out")
	remove := &cobra.Command{Use: "remove KEY", Short: "Take a team away, and all that its members held by it",
		Args: exactly("KEY"), Example: "  greenlever team remove doors",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if err := s.sure("take team " + args[0] + " away, with all that it holds"); err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "DELETE", path: "/teams/" + url.PathEscape(args[0])},
				nil); err != nil {
				return err
			}
			s.note("team %s is taken away", args[0])
			return nil
		}}
	roles := s.rolesCommand("roles KEY [ROLE...]", "Replace a team's roles in a project", "Replace a team's roles "+
		"in a "+
		"project; without any the team has none.", "team roles doors on-call\nteam roles doors --in staging=releaser",
		func(ctx context.Context, a *api, path, key string) (string, *manage.Held, error) {
			var all struct{ Items []manage.TeamRoles }
			if err := a.do(ctx, request{method: "GET", path: path + "/teams"}, &all); err != nil {
				return "", nil, err
			}
			held := &manage.Held{}
			for i := range all.Items {
				if all.Items[i].Key == key {
					held = &all.Items[i].Held
				}
			}
			return path + "/teams/" + url.PathEscape(key), held, nil
		})
	return group("team", "People who hold roles together", list, save, roles, remove)
}

// sure asks whether something is really meant.
func (s *session) sure(what string) error {
	if s.yes {
		return nil
	}
	answer, err := s.ask(strings.ToUpper(what[:1]) + what[1:] + "? [y/N] ")
	if err != nil {
		return coded(exitUsage, "add --yes to %s without a question", what)
	}
	if !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return coded(exitFailed, "nothing was changed")
	}
	return nil
}

func (s *session) robotCommand() *cobra.Command {
	var name string
	make_ := &cobra.Command{Use: "make KEY", Short: "Make an account that nobody signs in to", Args: exactly("KEY"),
		Example: "  greenlever robot make deployer --name Deployer",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			var made app.Account
			if err := a.do(cmd.Context(), request{method: "POST", path: "/robots", body: map[string]any{"key": args[0],
				"name": name}}, &made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.note("robot %s made; next:\n%s\n%s", args[0], s.next("person", "roles", made.Email, "auditor"),
					s.next("robot", "token", args[0]))
			})
		}}
	make_.Flags().StringVar(&name, "name", "", "for people; the key if left out")
	var days int
	var only []string
	token := &cobra.Command{Use: "token KEY", Short: "Make a robot's token; it is shown once", Args: exactly("KEY"),
		Example: "  greenlever robot token deployer --only pinecrest/staging=releaser",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			account, err := a.account(cmd.Context(), app.RobotPrefix+args[0])
			if err != nil {
				return err
			}
			body := map[string]any{"name": "cli", "days": days}
			if len(only) > 0 {
				if body["only"], err = onlyOf(only); err != nil {
					return err
				}
			}
			var made struct {
				app.Token
				Secret string `json:"secret"`
			}
			if err := a.do(cmd.Context(), request{method: "POST",
				path: "/accounts/" + url.PathEscape(account) + "/tokens",
				body: body}, &made); err != nil {
				return err
			}
			return s.show(made, func() { s.say("%s", made.Secret) })
		}}
	token.Flags().IntVar(&days, "days", 90, "for how many days it is taken")
	token.Flags().StringArrayVar(&only, "only", nil, "PROJECT=ROLE or PROJECT/ENVIRONMENT=ROLE: what it is held "+
		"to; all "+
		"that the robot may do if left out")
	return group("robot", "Programs with accounts of their own", make_, token)
}

// onlyOf reads what a token is held to.
func onlyOf(texts []string) (out []map[string]string, err error) {
	for _, text := range texts {
		where, role, is := strings.Cut(text, "=")
		if !is || where == "" || role == "" {
			return nil, coded(exitUsage, "--only takes PROJECT=ROLE or PROJECT/ENVIRONMENT=ROLE, not %q", text)
		}
		project, environment, _ := strings.Cut(where, "/")
		one := map[string]string{"project": project, "role": role}
		if environment != "" {
			one["environment"] = environment
		}
		out = append(out, one)
	}
	return out, nil
}

func (s *session) canCommand() *cobra.Command {
	var does []string
	for _, a := range app.Actions() {
		does = append(does, fmt.Sprintf("  %-10s %s", a, a.Says()))
	}
	return &cobra.Command{Use: "can WHO DO", Short: "May somebody do something, why, and who could",
		Long: "May somebody do something in the environment of --env, or in the project as a whole; why, and who " +
			"could. The exit " +
			"code is 3 where they may not. What is done is one of\n\n" + strings.Join(does, "\n"),
		Args: exactly("WHO", "DO"), Example: "  greenlever can ida.holm@pinecrest.example stop --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			query := url.Values{"who": {args[0]}, "do": {args[1]}}
			if s.env != "" {
				query.Set("environment", s.env)
			}
			var can manage.Can
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/can?" + query.Encode()},
				&can); err != nil {
				return err
			}
			if err := s.show(can, func() {
				s.say("%s %s: %s", can.Who, map[bool]string{true: "may", false: "may not"}[can.May], can.Why)
				s.say("who could: %s", strings.Join(can.Could, ", "))
			}); err != nil || can.May {
				return err
			}
			return coded(exitRefused, "%s may not", can.Who)
		}}
}
