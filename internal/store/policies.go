package store

import (
	"context"
	"fmt"
	"slices"

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
		"ON DUPLICATE KEY UPDATE version = VALUES(version), at = VALUES(at), gone = VALUES(gone), body = "+
		"VALUES(body)",
		r.ProjectID, row.Policy, row.Version, row.At, row.Gone, string(row.Body)); err != nil {
		return err
	}
	return t.touch(policyRecord(r.ProjectID, row))
}

// AddRulings keeps how policies ruled. No audit tells of them: the entries of a change do, where there are any.
func (t *Tx) AddRulings(r *app.Rulings) error {
	for some := range slices.Chunk(r.Items, portion) {
		var args []any
		for i := range some {
			args = append(args, r.ProjectID, some[i].Policy, some[i].At, encode(&some[i]))
		}
		if err := t.exec("INSERT INTO rulings (project_id, policy, at, body) VALUES "+values(len(some), 4),
			args...); err != nil {
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

// PolicyVersion is the last version of a policy, also of one that was taken away; 0 where there was none.
func (r reader) PolicyVersion(project int64, key string) (int64, error) {
	all, err := list[int64](r.ctx, r.q, "SELECT version FROM policies WHERE project_id = ? AND policy = ?", project,
		key)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[0], nil
}

// PolicyGround reads in one message what policies judge by: a state that changes whenever a policy does, the
// definition
// of a flag (nil where there is none of that key), and whether a release of it runs in an environment.
func (t *Tx) PolicyGround(project, environment int64, key string) (state string, d *app.Definition, releasing bool,
	err error) {
	var states []struct{ State string }
	var bodies []struct{ Body []byte }
	var running []struct{ ID string }
	if err := t.several(query{&states, "SELECT CONCAT(COUNT(*), ' ', COALESCE(SUM(2 * version + gone), 0), ' ', " +
		"COALESCE(MAX(at), 0)) state FROM policies WHERE project_id = ?", []any{project}},
		query{&bodies, "SELECT body FROM definitions WHERE project_id = ? AND flag = ?", []any{project, key}},
		query{&running, "SELECT id FROM releases WHERE environment_id = ? AND flag = ? AND running = 1",
			[]any{environment,
				key}}); err != nil {
		return "", nil, false, fault(err)
	}
	if len(bodies) > 0 {
		one, err := decodeDefinition(bodies[0].Body)
		if err != nil {
			return "", nil, false, err
		}
		d = &one
	}
	return states[0].State, d, len(running) > 0, nil
}

// FlagEverywhere reads a flag's documents in all environments that live, by their keys.
func (r reader) FlagEverywhere(project int64, key string) (map[string]*flag.Document, error) {
	rows, err := list[struct {
		Environment string `db:"environment_key"`
		Document    []byte `db:"document"`
	}](r.ctx, r.q, "SELECT environments.environment_key, f.document FROM environments JOIN flags f ON "+
		"f.environment_id = "+
		"environments.id AND f.flag = ? AND f.document <> 'null' WHERE environments.project_id = ? AND "+
		""+environmentState+" = ?", key, project,
		app.Active)
	out := map[string]*flag.Document{}
	for _, row := range rows {
		d, err := decode[flag.Document](row.Document)
		if err != nil {
			return nil, err
		}
		out[row.Environment] = &d
	}
	return out, err
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
