package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "policies", Why: "kept until somebody takes them away"},
	Kept{Table: "rulings", Option: "keep-rulings", Days: 400, Why: "how policies ruled on changes"},
)

var _ = writes((*Tx).PutPolicy)

var _ = writes((*Tx).AddRulings)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r policyRow) row { return policyRecord(id, r) }, "SELECT policy, version, at, gone, body FROM "+
		"policies "+
		"WHERE project_id = ?", id)
})

type policyRow struct {
	Policy  string `db:"policy"`
	Version int64  `db:"version"`
	At      int64  `db:"at"`
	Gone    bool   `db:"gone"`
	Body    []byte `db:"body"`
}

func policyRecord(project int64, r policyRow) row {
	return row{of: fmt.Sprintf("policies/%d/%s", project, r.Policy), content: []any{r.Version, r.At, r.Gone,
		string(r.Body)}}
}

// PutPolicy saves a policy, or that it is gone.
func (t *Tx) PutPolicy(r *app.PolicyRecord) error {
	row := policyRow{r.Key, r.Version, r.At, r.Gone, []byte(encode(r.Policy))}
	if err := t.exec("INSERT INTO policies (project_id, policy, version, at, gone, body) VALUES (?, ?, ?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE version = VALUES(version), at = VALUES(at), gone = VALUES(gone), body = VALUES(body)",
		r.ProjectID, row.Policy, row.Version, row.At, row.Gone, string(row.Body)); err != nil {
		return err
	}
	return t.touch(policyRecord(r.ProjectID, row))
}

// AddRulings keeps how policies ruled. No audit tells of them: the entries of a change do, where there are any.
func (t *Tx) AddRulings(r *app.Rulings) error {
	for i := range r.Items {
		one := &r.Items[i]
		if err := t.exec("INSERT INTO rulings (project_id, policy, at, body) VALUES (?, ?, ?, ?)", r.ProjectID,
			one.Policy, one.At, encode(one)); err != nil {
			return err
		}
	}
	return nil
}

// Policies lists the policies of a project by key.
func (r reader) Policies(project int64) ([]app.Policy, error) {
	return r.policies("SELECT body FROM policies WHERE project_id = ? AND NOT gone ORDER BY policy", project)
}

func (r reader) policies(query string, args ...any) ([]app.Policy, error) {
	bodies, err := list[[]byte](r.ctx, r.q, query, args...)
	out := make([]app.Policy, len(bodies))
	for i := range bodies {
		if out[i], err = decode[app.Policy](bodies[i]); err != nil {
			return nil, err
		}
	}
	return out, err
}

// PolicyVersions names what policies a project has.
func (r reader) PolicyVersions(project int64) ([]app.PolicyVersion, error) {
	return list[app.PolicyVersion](r.ctx, r.q, "SELECT policy, version, at FROM policies WHERE project_id = ? "+
		"AND NOT "+
		"gone ORDER BY policy", project)
}

// PoliciesOf reads policies by key.
func (r reader) PoliciesOf(project int64, keys []string) ([]app.Policy, error) {
	query, args, err := sqlx.In("SELECT body FROM policies WHERE project_id = ? AND NOT gone AND policy IN (?)",
		project,
		keys)
	if err != nil {
		return nil, err
	}
	return r.policies(query, args...)
}

// FlagIn is a flag's document in an environment; nil where there is none.
func (r reader) FlagIn(environment int64, key string) (*flag.Document, error) {
	bodies, err := list[[]byte](r.ctx, r.q, "SELECT document FROM flags WHERE environment_id = ? AND flag = ?",
		environment,
		key)
	if err != nil || len(bodies) == 0 {
		return nil, err
	}
	d, err := decode[flag.Document](bodies[0])
	return &d, err
}

// EnvironmentsNow lists the environments of a project that live.
func (r reader) EnvironmentsNow(project int64) ([]app.Environment, error) {
	return list[app.Environment](r.ctx, r.q, "SELECT "+environmentColumns+" FROM environments WHERE project_id = ? "+
		"HAVING state = ? ORDER BY id", project, app.Active)
}

// RunningRelease tells whether a release of a flag runs in an environment.
func (r reader) RunningRelease(environment int64, flag string) (bool, error) {
	ids, err := list[string](r.ctx, r.q, "SELECT id FROM releases WHERE environment_id = ? AND flag = ? AND "+
		"running = 1",
		environment, flag)
	return len(ids) > 0, err
}

// Policies lists the policies of a project by key.
func (s *Store) Policies(ctx context.Context, project int64) ([]app.Policy, error) {
	return reader{ctx, s.pages}.Policies(project)
}

// RulingsOf lists how policies of a project ruled since a time, the newest first; an empty policy is all.
func (s *Store) RulingsOf(ctx context.Context, project int64, policy string, since int64, most int) ([]app.Ruling,
	error) {
	query, args := "SELECT body FROM rulings WHERE project_id = ? AND at >= ?", []any{project, since}
	if policy != "" {
		query, args = query+" AND policy = ?", append(args, policy)
	}
	bodies, err := list[[]byte](ctx, s.pages, query+" ORDER BY at DESC, id DESC LIMIT ?", append(args, most)...)
	out := make([]app.Ruling, len(bodies))
	for i := range bodies {
		if out[i], err = decode[app.Ruling](bodies[i]); err != nil {
			return nil, err
		}
	}
	return out, err
}

// PastRevisions lists the revisions of an environment that were made since a time, in their order.
func (s *Store) PastRevisions(ctx context.Context, environment, since int64, most int) ([]app.PastRevision, error) {
	return list[app.PastRevision](ctx, s.pages, "SELECT revision, at, event FROM revisions WHERE environment_id "+
		"= ? AND "+
		"at >= ? ORDER BY revision LIMIT ?", environment, since, most)
}
