package store

import (
	"context"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "teams", Why: "people who hold roles together"},
	Kept{Table: "team_members", Why: "who is in which team"},
)

var _ = speaks("access", func(v *reading, _ int64) {
	read(v, teamRecord, teamRows)
})

// teamRows are teams with their members in one text.
const teamRows = "SELECT t.id, t.team_key, t.title, t.made, COALESCE((SELECT GROUP_CONCAT(m.account_id ORDER BY " +
	"m.account_id SEPARATOR ',') FROM team_members m WHERE m.team_id = t.id), '') members FROM teams t"

type teamRow struct {
	app.Team
	Joined string `db:"members"`
}

func teamRecord(r teamRow) row {
	return row{of: "teams/" + r.ID, content: []any{r.Key, r.Title, r.Made, r.Joined}}
}

func (r *teamRow) team() app.Team {
	r.Team.Members = []string{}
	if r.Joined != "" {
		r.Team.Members = strings.Split(r.Joined, ",")
	}
	return r.Team
}

// Teams lists all teams, by key, with their members.
func (s *Store) Teams(ctx context.Context) ([]app.Team, error) {
	rows, err := list[teamRow](ctx, s.door, teamRows+" ORDER BY t.team_key")
	if err != nil {
		return nil, err
	}
	said, err := s.saidMembers(ctx)
	out := make([]app.Team, len(rows))
	for i := range rows {
		out[i] = rows[i].team()
		for _, account := range said[out[i].ID] {
			if !slices.Contains(out[i].Members, account) {
				out[i].Members = append(out[i].Members, account)
			}
		}
	}
	return out, err
}

// Team finds a team by its key and holds it.
func (t *Tx) Team(key string) (*app.Team, error) {
	var rows []teamRow
	if err := t.list(&rows, teamRows+" WHERE t.team_key = ? FOR UPDATE", key); err != nil || len(rows) == 0 {
		return nil, err
	}
	team := rows[0].team()
	return &team, nil
}

// SaveTeam keeps a team with its members, a new one or as it is now.
func (t *Tx) SaveTeam(v *app.Team) error {
	if err := t.exec("INSERT INTO teams (id, team_key, title, made) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE "+
		"title = VALUES(title)", v.ID, v.Key, v.Title, v.Made); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM team_members WHERE team_id = ?", v.ID); err != nil {
		return err
	}
	for _, account := range v.Members {
		if err := t.exec("INSERT INTO team_members (team_id, account_id) VALUES (?, ?)", v.ID, account); err != nil {
			return err
		}
	}
	return touchRows(t, teamRecord, teamRows+" WHERE t.id = ?", v.ID)
}

// RemoveTeam takes a team away, with all that it held.
func (t *Tx) RemoveTeam(v *app.Team) error {
	if err := t.removeGrants(v.ID); err != nil {
		return err
	}
	if err := t.touch(row{of: "teams/" + v.ID}); err != nil {
		return err
	}
	if err := t.exec("DELETE FROM team_members WHERE team_id = ?", v.ID); err != nil {
		return err
	}
	return t.exec("DELETE FROM teams WHERE id = ?", v.ID)
}
