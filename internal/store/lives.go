package store

import (
	"context"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "environment_lives", Why: "environments that end by themselves; kept, since the audit speaks of " +
		"them"},
	Kept{Table: "family_gives", Why: "what flags give in short-lived environments of a family"},
)

var (
	_ = writes((*Tx).SetLife)
	_ = writes((*Tx).SetFamilyGives)
	_ = writes((*Tx).ForgetEnvironment)
)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, lifeRecord, "SELECT "+lifeColumns+" FROM environment_lives WHERE environment_id = ?", id)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, familyRecord, "SELECT project_id, family, flag, variant FROM family_gives WHERE project_id = ?", id)
})

const lifeColumns = "environment_id, project_id, family, source, until_at, by_id"

func lifeRecord(l app.Life) row {
	return row{of: fmt.Sprintf("environment_lives/%d", l.EnvironmentID), content: []any{l.ProjectID, l.Family,
		l.Source,
		l.Until, l.By}}
}

func familyRecord(g app.FamilyGives) row {
	out := row{of: fmt.Sprintf("family_gives/%d/%s/%s", g.ProjectID, g.Family, g.Flag)}
	if g.Variant != "" {
		out.content = []any{g.Variant}
	}
	return out
}

// SetLife keeps until when an environment lives.
func (t *Tx) SetLife(l *app.Life) error {
	if err := t.exec("INSERT INTO environment_lives ("+lifeColumns+") VALUES (?, ?, ?, ?, ?, ?) ON DUPLICATE "+
		"KEY UPDATE "+
		"until_at = VALUES(until_at)", l.EnvironmentID, l.ProjectID, l.Family, l.Source, l.Until, l.By); err != nil {
		return err
	}
	return t.touch(lifeRecord(*l))
}

// SetFamilyGives keeps what a flag gives in a family, or that nothing is said.
func (t *Tx) SetFamilyGives(g *app.FamilyGives) error {
	if err := t.exec("DELETE FROM family_gives WHERE project_id = ? AND family = ? AND flag = ?", g.ProjectID,
		g.Family,
		g.Flag); err != nil {
		return err
	}
	if g.Variant != "" {
		if err := t.exec("INSERT INTO family_gives (project_id, family, flag, variant) VALUES (?, ?, ?, ?)",
			g.ProjectID,
			g.Family, g.Flag, g.Variant); err != nil {
			return err
		}
	}
	return t.touch(familyRecord(*g))
}

// ForgetEnvironment forgets what was sampled and counted in an environment. No audit tells of these rows.
func (t *Tx) ForgetEnvironment(f *app.Forgotten) error {
	for _, table := range []string{"population", "uses", "use_kinds", "use_days", "asked", "seen_attributes",
		"measures"} {
		if err := t.exec("DELETE FROM "+table+" WHERE environment_id = ?", f.EnvironmentID); err != nil {
			return err
		}
	}
	return nil
}

// Life is how long an environment lives; nil where it does not end by itself.
func (r reader) Life(environment int64) (*app.Life, error) {
	all, err := list[app.Life](r.ctx, r.q, "SELECT "+lifeColumns+" FROM environment_lives WHERE environment_id = ?",
		environment)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Lives counts the short-lived environments of a project that live.
func (r reader) Lives(project int64) (int, error) {
	n, err := get[int](r.ctx, r.q, "", "SELECT COUNT(*) FROM environment_lives l WHERE l.project_id = ? AND NOT "+
		"EXISTS "+
		"(SELECT 1 FROM environment_states s WHERE s.environment_id = l.environment_id)", project)
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// FamilyGives lists what flags give in a family; an empty family is all of them.
func (r reader) FamilyGives(project int64, family string) ([]app.FamilyGives, error) {
	return list[app.FamilyGives](r.ctx, r.q, "SELECT project_id, family, flag, variant FROM family_gives WHERE "+
		"project_id = ? AND (? = '' OR family = ?) ORDER BY family, flag", project, family, family)
}

// LockFamily holds the environments of a family that live, in order of their ids.
func (t *Tx) LockFamily(project int64, family string) ([]app.Environment, error) {
	ids, err := list[int64](t.ctx, t.tx, "SELECT l.environment_id FROM environment_lives l WHERE l.project_id = "+
		"? AND "+
		"l.family = ? AND NOT EXISTS (SELECT 1 FROM environment_states s WHERE s.environment_id = "+
		"l.environment_id) ORDER "+
		"BY l.environment_id", project, family)
	out := make([]app.Environment, len(ids))
	for i, id := range ids {
		env, err := t.LockEnvironment(id)
		if err != nil {
			return nil, err
		}
		out[i] = *env
	}
	return out, err
}

// SegmentsIn reads all segments of an environment.
func (t *Tx) SegmentsIn(environment int64) ([]app.SegmentRecord, error) {
	rows, err := list[documentRow](t.ctx, t.tx, "SELECT "+segmentColumns+" FROM segments WHERE environment_id = "+
		"? ORDER "+
		"BY segment", environment)
	out := make([]app.SegmentRecord, len(rows))
	for i := range rows {
		r, err := rows[i].segment()
		if err != nil {
			return nil, err
		}
		out[i] = *r
	}
	return out, err
}

// ShortLived lists the short-lived environments of a project that live, or have ended lately, the newest first.
func (s *Store) ShortLived(ctx context.Context, project int64) ([]app.Environment, map[int64]app.Life, error) {
	envs, err := list[app.Environment](ctx, s.door, "SELECT "+environmentColumns+" FROM environments WHERE "+
		"project_id = ? "+
		"AND id IN (SELECT environment_id FROM environment_lives WHERE project_id = ?) HAVING state <> ? ORDER "+
		"BY id DESC",
		project, project, app.Gone)
	if err != nil {
		return nil, nil, err
	}
	all, err := list[app.Life](ctx, s.pages, "SELECT "+lifeColumns+" FROM environment_lives WHERE project_id = ?",
		project)
	lives := make(map[int64]app.Life, len(all))
	for _, l := range all {
		lives[l.EnvironmentID] = l
	}
	return envs, lives, err
}

// FamilyGives lists what flags give in the families of a project.
func (s *Store) FamilyGives(ctx context.Context, project int64) ([]app.FamilyGives, error) {
	return reader{ctx, s.pages}.FamilyGives(project, "")
}

// EndingLives lists the lives that are over at a time, of environments that live; and those of ended ones that were
// over
// before another time, and are not gone yet.
func (s *Store) EndingLives(ctx context.Context, over, gone int64) (ending, going []app.Life, err error) {
	ending, err = list[app.Life](ctx, s.work, "SELECT "+lifeColumns+" FROM environment_lives l WHERE until_at "+
		"<= ? AND NOT "+
		"EXISTS (SELECT 1 FROM environment_states s WHERE s.environment_id = l.environment_id) ORDER BY "+
		"until_at LIMIT "+
		"100", over)
	if err != nil {
		return nil, nil, err
	}
	going, err = list[app.Life](ctx, s.work, "SELECT "+lifeColumns+" FROM environment_lives l WHERE until_at <= "+
		"? AND EXISTS "+
		"(SELECT 1 FROM environment_states s WHERE s.environment_id = l.environment_id AND s.state = ?) ORDER "+
		"BY until_at "+
		"LIMIT 100", gone, app.Archived)
	return ending, going, err
}

// ProjectStamps says for each project with short-lived environments that live what its flags and segments are:
// another
// text whenever one of them changes.
func (s *Store) ProjectStamps(ctx context.Context) (map[int64]string, error) {
	rows, err := list[struct {
		Project int64  `db:"project_id"`
		Stamp   string `db:"stamp"`
	}](ctx, s.work, "SELECT p.project_id, CONCAT(COALESCE((SELECT CONCAT(COUNT(*), ' ', SUM(d.version)) FROM "+
		"definitions d "+
		"WHERE d.project_id = p.project_id), ''), '/', (SELECT COUNT(*) FROM segment_definitions g WHERE "+
		"g.project_id = "+
		"p.project_id)) stamp FROM (SELECT DISTINCT l.project_id FROM environment_lives l WHERE NOT EXISTS "+
		"(SELECT 1 FROM "+
		"environment_states s WHERE s.environment_id = l.environment_id)) p")
	out := map[int64]string{}
	for _, r := range rows {
		out[r.Project] = r.Stamp
	}
	return out, err
}
