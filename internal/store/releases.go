package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "releases", Why: "kept, since the audit and their successors speak of them"},
	Kept{Table: "release_steps", Why: "kept with their releases"},
	Kept{Table: "ladders", Why: "kept until somebody takes them away"},
)

var (
	_ = writes((*Tx).PutRelease)
	_ = writes((*Tx).AddReleaseStep)
	_ = writes((*Tx).PutLadder)
)

var _ = speaks("environment", func(v *reading, id int64) {
	read(v, func(r releaseRow) row { return releaseRecord(r) }, "SELECT "+releaseColumns+" FROM releases WHERE "+
		"environment_id = ?", id)
	read(v, func(r stepRow) row { return stepRecord(r) }, "SELECT s.release_id, s.sequence, s.at, s.revision, "+
		"s.body "+
		"FROM release_steps s JOIN releases r ON r.id = s.release_id WHERE r.environment_id = ?", id)
})

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r ladderRow) row { return ladderRecord(id, r) }, "SELECT ladder, gone, body FROM ladders "+
		"WHERE project_id = ?", id)
})

const releaseColumns = "id, project_id, environment_id, flag, COALESCE(running, 0) runs, made, ended, body"

type releaseRow struct {
	ID          string `db:"id"`
	Project     int64  `db:"project_id"`
	Environment int64  `db:"environment_id"`
	Flag        string `db:"flag"`
	Runs        bool   `db:"runs"`
	Made        int64  `db:"made"`
	Ended       int64  `db:"ended"`
	Body        []byte `db:"body"`
}

func (r releaseRow) release() (app.Release, error) {
	out, err := decode[app.Release](r.Body)
	out.ID, out.Project, out.Environment, out.Flag = r.ID, r.Project, r.Environment, r.Flag
	return out, err
}

func releaseRecord(r releaseRow) row {
	return row{of: "releases/" + r.ID, content: []any{r.Project, r.Environment, r.Flag, r.Runs, r.Made, r.Ended,
		string(r.Body)}}
}

type stepRow struct {
	Release  string `db:"release_id"`
	Sequence int64  `db:"sequence"`
	At       int64  `db:"at"`
	Revision int64  `db:"revision"`
	Body     []byte `db:"body"`
}

func stepRecord(r stepRow) row {
	return row{of: fmt.Sprintf("release_steps/%s/%d", r.Release, r.Sequence), content: []any{r.At, r.Revision,
		string(r.Body)}}
}

func releases(rows []releaseRow, err error) ([]app.Release, error) {
	out := make([]app.Release, 0, len(rows))
	for _, r := range rows {
		one, e := r.release()
		if e != nil {
			return nil, e
		}
		out = append(out, one)
	}
	return out, err
}

// Release finds a release by its id.
func (r reader) Release(id string) (*app.Release, error) {
	row, err := get[releaseRow](r.ctx, r.q, "there is no such release", "SELECT "+releaseColumns+
		" FROM releases WHERE id = ?", id)
	if err != nil {
		return nil, err
	}
	out, err := row.release()
	return &out, err
}

// Release finds a release by its id.
func (s *Store) Release(ctx context.Context, id string) (*app.Release, error) {
	return reader{ctx, s.pages}.Release(id)
}

// LastRelease gives the newest release of a flag in an environment; nil for none.
func (r reader) LastRelease(environment int64, flag string) (*app.Release, error) {
	row, err := get[releaseRow](r.ctx, r.q, "none",
		"SELECT "+releaseColumns+" FROM releases WHERE environment_id = ? "+
			"AND flag = ? ORDER BY made DESC, id DESC LIMIT 1", environment, flag)
	var f *app.Fault
	if errors.As(err, &f) && f.Kind == app.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out, err := row.release()
	return &out, err
}

// LastRelease gives the newest release of a flag in an environment; nil for none.
func (s *Store) LastRelease(ctx context.Context, environment int64, flag string) (*app.Release, error) {
	return reader{ctx, s.pages}.LastRelease(environment, flag)
}

// Releases lists the releases of a project: those that run, and then the newest of those that are
// over, at most some of them.
func (s *Store) Releases(ctx context.Context, project int64, over int) ([]app.Release, error) {
	running, err := releases(list[releaseRow](ctx, s.pages, "SELECT "+releaseColumns+" FROM releases WHERE running "+
		"= 1 AND project_id = ? ORDER BY made DESC, id", project))
	if err != nil || over == 0 {
		return running, err
	}
	ended, err := releases(list[releaseRow](ctx, s.pages, "SELECT "+releaseColumns+" FROM releases WHERE "+
		"project_id = ? AND ended > 0 ORDER BY ended DESC LIMIT ?", project, over))
	return append(running, ended...), err
}

// ReleasesOf lists the newest releases of a flag in an environment.
func (s *Store) ReleasesOf(ctx context.Context, environment int64, flag string, most int) ([]app.Release, error) {
	return releases(list[releaseRow](ctx, s.pages, "SELECT "+releaseColumns+" FROM releases WHERE "+
		"environment_id = ? "+
		"AND flag = ? ORDER BY made DESC, id DESC LIMIT ?", environment, flag, most))
}

// Running lists all releases that are not over.
func (s *Store) Running(ctx context.Context) ([]app.Release, error) {
	return releases(list[releaseRow](ctx, s.pools.work, "SELECT "+releaseColumns+" FROM releases WHERE running = 1 "+
		"ORDER BY made, id"))
}

// RunningIn lists the releases of an environment that are not over.
func (s *Store) RunningIn(ctx context.Context, environment int64) ([]app.Release, error) {
	return releases(list[releaseRow](ctx, s.pages, "SELECT "+releaseColumns+" FROM releases WHERE "+
		"environment_id = ? "+
		"AND running = 1 ORDER BY made, id", environment))
}

// ReleaseSteps lists what happened to a release, in order.
func (s *Store) ReleaseSteps(ctx context.Context, id string) ([]app.ReleaseStep, error) {
	rows, err := list[stepRow](ctx, s.pages, "SELECT release_id, sequence, at, revision, body FROM release_steps "+
		"WHERE release_id = ? ORDER BY sequence", id)
	out := make([]app.ReleaseStep, 0, len(rows))
	for _, r := range rows {
		one, err := decode[app.ReleaseStep](r.Body)
		if err != nil {
			return nil, err
		}
		one.Release, one.Sequence, one.At, one.Revision = r.Release, r.Sequence, r.At, r.Revision
		out = append(out, one)
	}
	return out, err
}

// StopsSince lists the stops of an environment that stand, and those of later revisions than one
// whether they stand or not, in order.
func (r reader) StopsSince(environment, revision int64) ([]app.StopRecord, error) {
	return stopRecords(list[stopRow](r.ctx, r.q, "SELECT "+stopColumns+" FROM stops WHERE environment_id = ? AND "+
		"(lifted_at = 0 OR revision > ?) ORDER BY revision", environment, revision))
}

// PutRelease saves a release.
func (t *Tx) PutRelease(r *app.ReleaseRecord) error {
	row := releaseRow{r.ID, r.Project, r.Environment, r.Flag, r.Running(), r.Made, r.Ended,
		[]byte(encode(r.Release))}
	if r.State.Sequence == 1 {
		if err := t.later("INSERT INTO releases (id, project_id, environment_id, flag, running, made, ended, body) "+
			"VALUES (?, ?, ?, ?, 1, ?, ?, ?)", row.ID, row.Project, row.Environment, row.Flag, row.Made, row.Ended,
			string(row.Body)); err != nil {
			return err
		}
		return t.touch(releaseRecord(row))
	}
	running := any(nil)
	if r.Running() {
		running = 1
	}
	if err := t.later("UPDATE releases SET running = ?, ended = ?, body = ? WHERE id = ?", running, row.Ended,
		string(row.Body), row.ID); err != nil {
		return err
	}
	return t.touch(releaseRecord(row))
}

// AddReleaseStep adds what happened to a release.
func (t *Tx) AddReleaseStep(s *app.ReleaseStep) error {
	row := stepRow{s.Release, s.Sequence, s.At, s.Revision, []byte(encode(s))}
	if err := t.later("INSERT INTO release_steps (release_id, sequence, at, revision, body) VALUES (?, ?, ?, ?, ?)",
		row.Release, row.Sequence, row.At, row.Revision, string(row.Body)); err != nil {
		return err
	}
	return t.touch(stepRecord(row))
}

type ladderRow struct {
	Ladder string `db:"ladder"`
	Gone   bool   `db:"gone"`
	Body   []byte `db:"body"`
}

// Ladders lists the ladders of a project: what ships, as the project edited it, and its own behind them.
func (s *Store) Ladders(ctx context.Context, project int64) ([]app.Ladder, error) {
	return reader{ctx, s.pages}.Ladders(project)
}

// Ladders lists the ladders of a project.
func (r reader) Ladders(project int64) ([]app.Ladder, error) {
	rows, err := list[ladderRow](r.ctx, r.q, "SELECT ladder, gone, body FROM ladders WHERE project_id = ?", project)
	if err != nil {
		return nil, err
	}
	var own []app.Ladder
	all := app.ShippedLadders()
	for _, row := range rows {
		at := slices.IndexFunc(all, func(o app.Ladder) bool { return o.Key == row.Ladder })
		one, err := decode[app.Ladder](row.Body)
		if err != nil {
			return nil, err
		}
		switch {
		case row.Gone && at >= 0:
			all = slices.Delete(all, at, at+1)
		case row.Gone:
		case at >= 0:
			all[at] = one
		default:
			own = append(own, one)
		}
	}
	slices.SortFunc(own, func(a, b app.Ladder) int { return strings.Compare(a.Title, b.Title) })
	return append(all, own...), nil
}

// PutLadder saves a ladder, or that it is gone.
func (t *Tx) PutLadder(l *app.LadderRecord) error {
	row := ladderRow{l.Key, l.Gone, []byte(encode(l.Ladder))}
	if err := t.later("INSERT INTO ladders (project_id, ladder, gone, body) VALUES (?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE "+
		"gone = VALUES(gone), body = VALUES(body)", l.ProjectID, row.Ladder, row.Gone,
		string(row.Body)); err != nil {
		return err
	}
	return t.touch(ladderRecord(l.ProjectID, row))
}

func ladderRecord(project int64, r ladderRow) row {
	return row{of: fmt.Sprintf("ladders/%d/%s", project, r.Ladder), content: []any{r.Gone, string(r.Body)}}
}

// StopsAfter lists the stops of an environment that stand, or came after a revision.
func (s *Store) StopsAfter(ctx context.Context, environment, revision int64) ([]app.StopRecord, error) {
	return reader{ctx, s.pools.work}.StopsSince(environment, revision)
}

// ActiveGrants gives what an account holds; nothing where it is disabled.
func (r reader) ActiveGrants(account string) (app.Grants, error) {
	disabled, err := list[string](r.ctx, r.q, "SELECT account_id FROM disabled_accounts WHERE account_id = ?",
		account)
	if err != nil || len(disabled) > 0 {
		return nil, err
	}
	return grantsOf(r.ctx, r.q, account)
}

// UnitsSince lists the units of the population of an attribute that were seen since a time.
func (s *Store) UnitsSince(ctx context.Context, environment int64, attribute string,
	since int64) ([]app.UnitRow, error) {
	return list[app.UnitRow](ctx, s.pools.work, "SELECT hash, unit, context, seen FROM population "+
		"WHERE environment_id = ? "+
		"AND attribute = ? AND seen >= ?", environment, attribute, since)
}

// CameSince counts the units of the population of an attribute that were seen since a time.
func (s *Store) CameSince(ctx context.Context, environment int64, attribute string, since int64) (n int, err error) {
	err = s.pages.GetContext(ctx, &n,
		"SELECT COUNT(*) FROM population WHERE environment_id = ? AND attribute = ? AND "+
			"seen >= ?", environment, attribute, since)
	return n, fault(err)
}

// Definition reads the definition of a flag, as it stands.
func (t *Tx) Definition(project int64, key string) (*app.Definition, error) {
	return oneDefinition(t.ctx, t.tx, key, "", project)
}

// RunningOf tells whether a release of a flag runs in an environment.
func (t *Tx) RunningOf(environment int64, flag string) (is bool, err error) {
	return is, t.get(&is, "SELECT EXISTS (SELECT 1 FROM releases WHERE environment_id = ? AND flag = ? AND "+
		"running = 1)",
		environment, flag)
}
