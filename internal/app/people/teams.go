package people

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/admit"
	"greenlever.example/greenlever/internal/app/audit"
)

// MaxMembers bounds a team.
const MaxMembers = 1_000

// teamTx is what of the transaction is about teams.
type teamTx interface {
	Team(key string) (*app.Team, error)
	SaveTeam(v *app.Team) error
	RemoveTeam(v *app.Team) error
}

// writeTeam writes with what is about teams.
func (s *Service) writeTeam(ctx context.Context, fn func(tx Tx, teams teamTx) error) error {
	return s.Write(ctx, func(tx Tx) error {
		teams, ok := tx.(teamTx)
		if !ok {
			return fmt.Errorf("%T keeps no teams", tx)
		}
		return fn(tx, teams)
	})
}

// SaveTeam makes a team, or gives it another title or other members. All that a team holds, its members hold.
func (s *Service) SaveTeam(ctx context.Context, actor app.Actor, key, title string, members []string) (*app.Team,
	error) {
	if err := admit.Installation(&actor); err != nil {
		return nil, err
	}
	if mend := flag.CheckKey(key); mend != "" {
		return nil, app.InvalidField("team", "%s", mend)
	}
	if title = strings.TrimSpace(title); title == "" {
		title = key
	}
	if mend := app.CheckText(title, 1, 200); mend != "" {
		return nil, app.InvalidField("title", "%s", mend)
	}
	members = append([]string{}, members...)
	slices.Sort(members)
	if members = slices.Compact(members); len(members) > MaxMembers {
		return nil, app.InvalidField("members", "has %d members, takes %d", len(members), MaxMembers)
	}
	var team *app.Team
	err := s.writeTeam(ctx, func(tx Tx, teams teamTx) error {
		accounts, err := tx.LockAccounts()
		if err != nil {
			return err
		}
		for i, id := range members {
			if !slices.ContainsFunc(accounts, func(a app.Account) bool { return a.ID == id }) {
				return app.InvalidField(fmt.Sprintf("members[%d]", i), "there is no such account")
			}
		}
		if team, err = teams.Team(key); err != nil {
			return err
		}
		var said []string
		switch {
		case team == nil:
			team = &app.Team{ID: newID(), Key: key, Title: title, Made: s.Now().UnixMilli(), Members: []string{}}
			said = append(said, fmt.Sprintf("team %s made, %q", key, title))
		case team.Title != title:
			said = append(said, fmt.Sprintf("title %q → %q", team.Title, title))
		}
		said = append(said, moved(team.Members, members)...)
		if len(said) == 0 {
			return nil
		}
		team.Title, team.Members = title, members
		if err := teams.SaveTeam(team); err != nil {
			return err
		}
		_, err = tx.Append(audit.Access, s.entry(actor, "team.saved", key, said...), nil)
		return err
	})
	return team, err
}

// moved says who came into a team, and who left it.
func moved(had, has []string) (said []string) {
	for _, id := range has {
		if !slices.Contains(had, id) {
			said = append(said, "account "+id+" is a member")
		}
	}
	for _, id := range had {
		if !slices.Contains(has, id) {
			said = append(said, "account "+id+" is a member no more")
		}
	}
	return said
}

// RemoveTeam takes a team away, and all that its members held by it.
func (s *Service) RemoveTeam(ctx context.Context, actor app.Actor, key string) error {
	if err := admit.Installation(&actor); err != nil {
		return err
	}
	return s.writeTeam(ctx, func(tx Tx, teams teamTx) error {
		team, err := teams.Team(key)
		if err != nil {
			return err
		}
		if team == nil {
			return app.Faultf(app.NotFound, "there is no team %s", key)
		}
		if err := teams.RemoveTeam(team); err != nil {
			return err
		}
		_, err = tx.Append(audit.Access, s.entry(actor, "team.removed", key, fmt.Sprintf("team %s removed, with "+
			"all that "+
			"its %d members held by it", key, len(team.Members))), nil)
		return err
	})
}

// AddRobot makes an account that nobody signs in to: programs act in its name, with tokens that keepers of the
// installation make.
func (s *Service) AddRobot(ctx context.Context, actor app.Actor, key, name string) (*app.Account, error) {
	if err := admit.Installation(&actor); err != nil {
		return nil, err
	}
	if mend := flag.CheckKey(key); mend != "" {
		return nil, app.InvalidField("key", "%s", mend)
	}
	if strings.TrimSpace(name) == "" {
		name = key
	}
	name, err := checkName(name)
	if err != nil {
		return nil, err
	}
	a := &app.Account{ID: newID(), Email: app.RobotPrefix + key, Name: name, Created: s.Now().UnixMilli()}
	return a, s.Write(ctx, func(tx Tx) error { return s.addAccount(tx, a, actor) })
}

// AddRobotToken makes a token of a robot; the secret is shown once.
func (s *Service) AddRobotToken(ctx context.Context, actor app.Actor, account string, in NewToken) (*app.Token, string,
	error) {
	if err := admit.Installation(&actor); err != nil {
		return nil, "", err
	}
	a, err := s.Records.Account(ctx, account)
	if err != nil {
		return nil, "", err
	}
	if !a.IsRobot() {
		return nil, "", app.Faultf(app.Conflict, "%s is a person, who makes their own tokens", a.Name)
	}
	return s.addToken(ctx, actor, account, in)
}
