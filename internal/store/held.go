package store

import (
	"database/sql"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
)

// LockProject holds the project's row until the end of the transaction, so that what
// spans all of its environments finds them all.
func (t *Tx) LockProject(id int64) error {
	var got int64
	return t.get(&got, "SELECT id FROM projects WHERE id = ? FOR UPDATE", id)
}

// LockEnvironment holds an environment's row until the end of the transaction and reads it.
// It gives the order of commits in the environment. The head of its chain is held with it.
func (t *Tx) LockEnvironment(id int64) (*app.Environment, error) {
	p := t.holding(id)
	if err := t.several(p.queries()...); err != nil {
		return nil, err
	}
	return p.held()
}

// LockEnvironments holds all lasting environments of a project, in order of their ids, and their chains. Short-lived
// ones
// follow within seconds.
func (t *Tx) LockEnvironments(project int64) ([]app.Environment, error) {
	p := &holding{t: t}
	if err := t.several(p.environments("project_id = ? "+lasting, project), p.epoch(), p.digests("project_id = ?",
		project)); err != nil {
		return nil, err
	}
	for i := range p.envs {
		p.chains = append(p.chains, audit.EnvironmentChain(p.envs[i].ID))
	}
	if len(p.chains) > 0 {
		if err := t.several(headsOf(&p.heads, p.chains...)); err != nil {
			return nil, err
		}
	}
	p.note()
	return p.envs, nil
}

// holding is one or more environments while they are being held. The epoch stands as long as one
// is held, since only who holds all of them raises it.
type holding struct {
	t            *Tx
	chains       []string
	envs         []app.Environment
	heads        []audit.Head
	installation []struct {
		Epoch int64 `db:"epoch"`
	}
	newest []struct {
		ID     int64  `db:"id"`
		Digest string `db:"digest"`
	}
	id int64
}

func (t *Tx) holding(id int64) *holding {
	return &holding{t: t, id: id, chains: []string{audit.EnvironmentChain(id)}}
}

// queries hold one environment, its chain's head behind it.
func (p *holding) queries() []query {
	return []query{p.environments("id = ?", p.id), p.epoch(), p.digests("id = ?", p.id),
		headsOf(&p.heads, p.chains...)}
}

func (p *holding) environments(where string, value int64) query {
	return query{&p.envs, "SELECT " + environmentColumns + " FROM environments WHERE " + where +
		" HAVING state <> " +
		"? ORDER BY id FOR UPDATE", []any{value, app.Gone}}
}

func (p *holding) digests(where string, value int64) query {
	return query{&p.newest, "SELECT e.id, r.digest FROM environments e JOIN revisions r ON r.environment_id = " +
		"e.id " +
		"AND r.revision = e.revision WHERE e." + where, []any{value}}
}

func (p *holding) epoch() query { return query{&p.installation, "SELECT epoch FROM installation", nil} }

// held gives the one environment that was asked for.
func (p *holding) held() (*app.Environment, error) {
	if len(p.envs) == 0 {
		return nil, sql.ErrNoRows
	}
	p.note()
	return &p.envs[0], nil
}

// note keeps for the transaction what cannot change while the environments are held.
func (p *holding) note() {
	for _, i := range p.installation {
		p.t.epoch = i.Epoch
	}
	for _, n := range p.newest {
		for i := range p.envs {
			if p.envs[i].ID == n.ID {
				p.envs[i].Digest = n.Digest
			}
		}
	}
	p.t.holds(p.heads, p.chains...)
}

// headsOf asks for the heads of chains, and holds them.
func headsOf(into *[]audit.Head, chains ...string) query {
	return query{into, "SELECT chain, sequence, digest FROM audit_heads WHERE chain IN (" + marks(len(chains)) +
		") ORDER BY chain FOR UPDATE", anys(chains)}
}

// holds notes the heads of chains that are held; nil for one that has not begun.
func (t *Tx) holds(heads []audit.Head, chains ...string) {
	for _, chain := range chains {
		t.heads[chain] = nil
	}
	for i := range heads {
		t.heads[heads[i].Chain] = &heads[i]
	}
}

// LockFlag holds an environment and reads a flag as it stands in it, with what an edit of it
// rests on.
func (t *Tx) LockFlag(environment int64, key string) (*app.HeldFlag, error) {
	var docs []documentRow
	var standing []struct {
		Any bool `db:"standing"`
	}
	p := t.holding(environment)
	if err := t.several(append(p.queries(),
		query{&docs, "SELECT " + flagColumns + " FROM flags WHERE environment_id = ? AND flag = ?",
			[]any{environment, key}},
		query{&standing, "SELECT EXISTS (SELECT 1 FROM stops WHERE environment_id = ? AND lifted_at = 0) standing",
			[]any{environment}})...); err != nil {
		return nil, err
	}
	env, err := p.held()
	if err != nil {
		return nil, err
	}
	if len(docs) == 0 || docs[0].retired() {
		return nil, noFlag(key)
	}
	held := &app.HeldFlag{Environment: env}
	if held.Flag, err = docs[0].flag(); err != nil {
		return nil, err
	}
	if len(standing) > 0 && standing[0].Any { // mostly none does, and to look for a flag in them takes long
		held.Stop, err = t.stopOf(environment, key)
	}
	return held, err
}
