package app

import (
	"cmp"
	"slices"
)

// Grant is a role that somebody holds in a project: by themselves or as a member of a team, in all of its
// environments or in one.
type Grant struct {
	Project     int64
	Environment int64 // 0: all
	Role        Role
	Team        string // key; empty: by themselves
}

// Grants are all that somebody holds.
type Grants []Grant

// Everywhere are roles in all environments of a project.
func Everywhere(project int64, roles ...Role) (out Grants) {
	for _, r := range roles {
		out = append(out, Grant{Project: project, Role: r})
	}
	return out
}

// Projects are those in which something is held.
func (g Grants) Projects() (ids []int64) {
	for _, one := range g {
		ids = append(ids, one.Project)
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// Roles are those that count in an environment of a project; environment 0 stands for the project as a whole, where
// a role in one environment does not count.
func (g Grants) Roles(project, environment int64) (roles []Role) {
	for _, one := range g {
		if one.Project == project && (one.Environment == 0 || one.Environment == environment) {
			roles = append(roles, one.Role)
		}
	}
	slices.Sort(roles)
	return slices.Compact(roles)
}

// Allows finds the grant that allows an action in an environment, or in the project as a whole; what is held for all
// environments, and by themselves, comes first. To read, to propose and to make a flag takes a role in any
// environment.
func (g Grants) Allows(a Action, project, environment int64) (Grant, bool) {
	takes := a.Takes()
	best, found := Grant{}, false
	for _, one := range g {
		counts := one.Environment == 0 || one.Environment == environment || a == Read || a == MakeFlag || a == Propose
		if one.Project != project || !counts || !slices.Contains(takes, one.Role) {
			continue
		}
		if !found || one.wider(best) {
			best, found = one, true
		}
	}
	return best, found
}

func (g Grant) wider(than Grant) bool {
	return cmp.Or(cmp.Compare(min(g.Environment, 1), min(than.Environment, 1)), cmp.Compare(len(g.Team),
		len(than.Team))) < 0
}

// Team is people who hold roles together, and may own flags.
type Team struct {
	ID      string   `json:"-" db:"id"`
	Key     string   `json:"key" db:"team_key"`
	Title   string   `json:"title" db:"title"`
	Made    int64    `json:"made" db:"made"`
	Members []string `json:"members" db:"-"` // accounts
}

// Narrow is what a token is held to, of all that its account may do.
type Narrow struct {
	By   string     `json:"by,omitempty"`   // the account that made it, where it is another one's
	Only []Narrowed `json:"only,omitempty"` // empty: all
}

// Narrowed is a role in one project, in one of its environments or in all.
type Narrowed struct {
	Project     int64 `json:"project"`
	Environment int64 `json:"environment,omitempty"` // 0: all
	Role        Role  `json:"role"`
}

// Within gives what of all that is held a token may do: where it names a role everywhere, and its account holds it
// in one environment, it is that one.
func (g Grants) Within(n *Narrow) (out Grants) {
	if n == nil || len(n.Only) == 0 {
		return g
	}
	for _, has := range g {
		for _, only := range n.Only {
			if has.Project != only.Project || has.Role != only.Role || has.Environment != 0 && only.Environment != 0 &&
				has.Environment != only.Environment {
				continue
			}
			both := has
			both.Environment = max(has.Environment, only.Environment)
			if !slices.Contains(out, both) {
				out = append(out, both)
			}
		}
	}
	return out
}
