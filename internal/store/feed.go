package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
)

var _ = keeps(
	Kept{Table: "revisions", Option: "keep-past", Days: 1_100, Why: "what each revision brought", Bytes: 1_000},
)

var _ = speaks("environment", func(v *reading, id int64) {
	type revision struct {
		Revision int64  `db:"revision"`
		At       int64  `db:"at"`
		Change   string `db:"change_id"`
		Event    []byte `db:"event"`
		Digest   string `db:"digest"`
	}
	readPages(v, func(r revision) row {
		out := revisionRecord(id, r.Revision, r.At, r.Change, string(r.Event))
		out.revision, out.entry = r.Revision, r.Digest
		return out
	}, "SELECT revision, at, change_id, event, digest FROM revisions WHERE environment_id = ?", []any{id}, "revision",
		func(r revision) (string, []any) { return "revision > ?", []any{r.Revision} })
})

// NoteRevision has the next entry speak of a revision, before its digest is known.
func (t *Tx) NoteRevision(environment int64, e *flag.Event, change string) error {
	return t.touch(revisionRecord(environment, e.Revision, e.At, change, encode(plainEvent(e))))
}

// plainEvent is an event as it is kept: its identity stands beside it.
func plainEvent(e *flag.Event) *flag.Event {
	plain := *e
	plain.Digest, plain.Proof = "", ""
	if plain.Stops = slices.Clone(e.Stops); len(plain.Stops) > 0 {
		for i := range plain.Stops {
			plain.Stops[i].Proof = ""
		}
	}
	return &plain
}

// AddRevision records the environment's next revision and what it brings to followers; the
// event's digest is that of the revision's entry in the audit. It gets its proof here.
func (t *Tx) AddRevision(environment int64, e *flag.Event, change string) error {
	secret, err := t.store.secret(t.ctx)
	if err != nil {
		return err
	}
	e.Proof = flag.Position{Epoch: e.Epoch, Revision: e.Revision, At: e.At, Digest: e.Digest}.Prove(secret,
		environment)
	prove(e.Stops, secret, environment)
	if err := t.later("UPDATE environments SET revision = ? WHERE id = ?", e.Revision, environment); err != nil {
		return err
	}
	return t.later("INSERT INTO revisions (environment_id, revision, at, change_id, event, digest) "+
		"VALUES (?, ?, ?, ?, ?, ?)",
		environment, e.Revision, e.At, change, encode(plainEvent(e)), e.Digest)
}

// secret reads what event ids are authenticated with.
func (s *Store) secret(ctx context.Context) ([]byte, error) {
	if v := s.kept.Load(); v != nil {
		return *v, nil
	}
	v, err := get[[]byte](ctx, s.feed, "the installation has no secret", "SELECT secret FROM installation")
	if err != nil {
		return nil, err
	}
	s.kept.Store(v)
	return *v, nil
}

// Genuine tells whether a service over these records, or over those that they are a backup of, gave a position.
func (s *Store) Genuine(ctx context.Context, environment int64, p flag.Position) (bool, error) {
	secret, err := s.secret(ctx)
	return err == nil && p.Genuine(secret, environment), err
}

// Revisions reads the environment's revisions after one, in order, at most limit of them. It
// returns flag.ErrGap where the one before is not of the history that digest names.
func (s *Store) Revisions(ctx context.Context, environment, after int64, digest string,
	limit int) ([]*flag.Event, error) {
	secret, err := s.secret(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := list[struct {
		Revision int64  `db:"revision"`
		Event    []byte `db:"event"`
		Digest   string `db:"digest"`
	}](ctx, s.feed, "SELECT revision, event, digest FROM revisions WHERE environment_id = ? AND revision >= ? "+
		"ORDER BY revision LIMIT ?", environment, after, limit+1)
	if err != nil {
		return nil, err
	}
	out := make([]*flag.Event, 0, len(rows))
	for _, r := range rows {
		if r.Revision == after {
			if r.Digest != digest && r.Digest != "" && digest != "" {
				return nil, fmt.Errorf("revision %d of environment %d is another one than before: %w", after,
					environment, flag.ErrGap)
			}
			continue
		}
		e, err := decode[flag.Event](r.Event)
		if err != nil {
			return nil, fmt.Errorf("revision %d of environment %d: %w", r.Revision, environment, err)
		}
		e.Digest = r.Digest
		e.Proof = flag.Position{Epoch: e.Epoch, Revision: e.Revision, At: e.At, Digest: e.Digest}.Prove(secret,
			environment)
		prove(e.Stops, secret, environment)
		out = append(out, &e)
	}
	return out[:min(len(out), limit)], nil
}

// Followed lists the environments that some process follows, or decided by, or that were made, since a
// time.
func (s *Store) Followed(ctx context.Context, since int64) ([]int64, error) {
	return list[int64](ctx, s.feed, `
		SELECT id FROM environments e
		WHERE (EXISTS (SELECT 1 FROM instances i WHERE i.environment_id = e.id AND i.seen >= ? AND i.kind <> 'service')
			OR EXISTS (SELECT 1 FROM use_days d WHERE d.environment_id = e.id AND d.day >= ?)
			OR e.created >= ?)
			AND NOT EXISTS (SELECT 1 FROM environment_states s WHERE s.environment_id = e.id)
		ORDER BY id`, since, since/(24*60*60*1000), since)
}

// Heads says where some environments stand, by id. What it costs hangs on how many they are, and
// not on how many there are.
func (s *Store) Heads(ctx context.Context, environments []int64) (map[int64]feed.Head, error) {
	if len(environments) == 0 {
		return nil, nil
	}
	rows, err := list[struct {
		ID       int64  `db:"id"`
		Revision int64  `db:"revision"`
		Epoch    int64  `db:"epoch"`
		Digest   string `db:"digest"`
		Behind   int64  `db:"behind"`
	}](ctx, s.feed, `
		SELECT e.id, e.revision, e.behind, i.epoch, COALESCE(r.digest, '') digest
		FROM installation i JOIN environments e ON e.id IN (`+marks(len(environments))+`)
		LEFT JOIN revisions r ON r.environment_id = e.id AND r.revision = e.revision`, anys(environments)...)
	heads := make(map[int64]feed.Head, len(rows))
	for _, r := range rows {
		heads[r.ID] = feed.Head{Epoch: r.Epoch, Revision: r.Revision, Digest: r.Digest, Behind: r.Behind > 0}
	}
	return heads, err
}

// DigestAt is the identity of a revision; empty where it is not known (any more).
func (s *Store) DigestAt(ctx context.Context, environment, revision int64) (string, error) {
	rows, err := list[string](ctx, s.feed, "SELECT digest FROM revisions WHERE environment_id = ? AND revision = ?",
		environment, revision)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return rows[0], nil
}

// Ruleset reads an environment as it stands, at one revision. What cannot be read is put
// aside and named.
func (s *Store) Ruleset(ctx context.Context, environment int64) (*flag.Ruleset, []app.Aside, error) {
	return s.ruleset(ctx, environment, newest)
}

// newest stands for the environment's newest revision.
const newest = -1

// RulesetAt reads an environment as it stood at a revision.
func (s *Store) RulesetAt(ctx context.Context, environment, revision int64) (*flag.Ruleset, error) {
	if revision < 0 {
		return nil, app.Faultf(app.NotFound, "revisions count from 0, before the first change")
	}
	rs, _, err := s.ruleset(ctx, environment, revision)
	return rs, err
}

func (s *Store) ruleset(ctx context.Context, environment, revision int64) (*flag.Ruleset, []app.Aside, error) {
	secret, err := s.secret(ctx)
	if err != nil {
		return nil, nil, err
	}
	secrets, err := s.Sampling(ctx, environment)
	if err != nil {
		return nil, nil, err
	}
	var snap *flag.Snapshot
	var aside []app.Aside
	past := &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}
	err = within(ctx, s.feed, past, func(tx *sqlx.Tx) (bool, error) {
		snap, aside, err = snapshot(newTx(ctx, tx, s), environment, revision, secret, secrets.SeeAs)
		return false, err
	})
	if err != nil {
		return nil, nil, fault(err)
	}
	rs, err := flag.NewRuleset(snap) // lists never change under their digest, so they need no snapshot
	if err != nil {
		return nil, nil, err
	}
	more, err := s.hold(ctx, environment, rs)
	return rs, append(aside, more...), err
}

// snapshot reads an environment as it stood at a revision, all of one moment.
func snapshot(t *Tx, environment, revision int64, secret, seeAs []byte) (*flag.Snapshot, []app.Aside, error) {
	var head struct {
		Revision int64 `db:"revision"`
		Epoch    int64 `db:"epoch"`
	}
	if err := t.get(&head, "SELECT e.revision, i.epoch FROM environments e, installation i WHERE e.id = ?",
		environment); err != nil {
		return nil, nil, err
	}
	if revision == newest {
		revision = head.Revision
	}
	if revision > head.Revision {
		return nil, nil, app.Faultf(app.NotFound, "there is no revision %d: the newest is %d", revision, head.Revision)
	}
	snap := &flag.Snapshot{Format: flag.Format, Epoch: head.Epoch, Revision: revision,
		SeeAs: flag.SeeAsKey(seeAs)}
	if revision > 0 {
		var made struct {
			At     int64  `db:"at"`
			Digest string `db:"digest"`
		}
		if err := t.get(&made, "SELECT at, digest FROM revisions WHERE environment_id = ? AND revision = ?",
			environment, revision); err != nil {
			return nil, nil, err
		}
		snap.At, snap.Digest = made.At, made.Digest
		snap.Proof = flag.Position{Epoch: snap.Epoch, Revision: revision, At: snap.At,
			Digest: snap.Digest}.Prove(secret, environment)
	}
	var aside []app.Aside
	for _, part := range []struct {
		table, versions, key string
		into                 *[]json.RawMessage
	}{{"flags", "flag_versions", "flag", &snap.Flags}, {"segments", "segment_versions", "segment", &snap.Segments}} {
		docs, err := documentsAt(t, part.table, part.versions, part.key, environment, revision, head.Revision)
		if err != nil {
			return nil, nil, err
		}
		for _, d := range docs {
			if d.retired() {
				continue
			}
			if why := readable(part.key, d.Document, d.Key); why != "" {
				aside = append(aside, app.Aside{Kind: part.key, Key: d.Key, Why: why})
				continue
			}
			*part.into = append(*part.into, d.Document)
		}
	}
	var err error
	if snap.Stops, err = stopsAt(t, environment, revision); err != nil {
		return nil, nil, err
	}
	prove(snap.Stops, secret, environment)
	if snap.Settled, err = t.Settled(environment); err != nil {
		return nil, nil, err
	}
	snap.Emergency, err = t.emergencyOf(environment)
	return snap, aside, err
}

// documentsAt reads documents with their keys as they stood at a revision.
func documentsAt(t *Tx, table, versions, key string, environment, revision,
	head int64) (docs []documentRow, err error) {
	query, args := fmt.Sprintf("SELECT %s doc_key, document FROM %s WHERE environment_id = ?", key, table),
		[]any{environment}
	if revision < head {
		// For each key one look into the index; a limit keeps MariaDB from asking that for each row that it joins.
		query = fmt.Sprintf("SELECT v.%[3]s doc_key, v.document FROM (SELECT f.%[3]s, (SELECT m.version "+
			"FROM %[2]s m WHERE m.environment_id = f.environment_id AND m.%[3]s = f.%[3]s AND m.revision <= ? "+
			"ORDER BY m.revision DESC LIMIT 1) version "+
			"FROM %[1]s f WHERE f.environment_id = ? LIMIT 1000000) l STRAIGHT_JOIN %[2]s v ON v.environment_id = ? "+
			"AND v.%[3]s = l.%[3]s AND v.version = l.version", table, versions, key)
		args = []any{revision, environment, environment}
	}
	return docs, t.list(&docs, query, args...)
}

// inWords says what is wrong with JSON without speaking of this program's types.
func inWords(err error) string {
	var kind *json.UnmarshalTypeError
	switch {
	case !errors.As(err, &kind):
		return err.Error()
	case kind.Field == "":
		return "it is a JSON " + kind.Value + ", and should be an object"
	}
	return fmt.Sprintf("a JSON %s stands at %s", kind.Value, kind.Field)
}

// readable tells why a document cannot be used; empty where it can.
func readable(kind string, raw []byte, key string) string {
	var named struct {
		Key string `json:"key"`
	}
	err := json.Unmarshal(raw, &named)
	if err == nil && kind == "segment" {
		err = json.Unmarshal(raw, new(flag.Segment))
	} else if err == nil {
		err = json.Unmarshal(raw, new(flag.Document))
	}
	switch {
	case err != nil:
		return "its document cannot be read: " + inWords(err)
	case named.Key != key:
		return fmt.Sprintf("its document names another key, %q", named.Key)
	}
	return ""
}

// hold puts the long lists at hand that a ruleset needs; one that cannot be read is named,
// and who is on it is unknown.
func (s *Store) hold(ctx context.Context, environment int64, rs *flag.Ruleset) (aside []app.Aside, err error) {
	_, missing := rs.Needed()
	for _, digest := range missing {
		h, err := s.List(ctx, environment, digest)
		if err != nil {
			if unreachable(err) {
				return nil, err
			}
			aside = append(aside, app.Aside{Kind: "list", Key: digest, Why: strings.TrimPrefix(err.Error(),
				"list "+digest+": ")})
			continue
		}
		if rs.Hashes == nil {
			rs.Hashes = map[string]flag.Hashes{}
		}
		rs.Hashes[digest] = h
	}
	return aside, nil
}

// newestUpTo looks at the last revisions up to a time only: of a year's it would look at all. A
// clock that went back in between is none the worse for it.
const newestUpTo = "SELECT COALESCE(MAX(revision), 0) FROM (SELECT revision FROM revisions WHERE environment_id = ? " +
	"AND at <= ? ORDER BY at DESC LIMIT 1000) l"

// RevisionAt is the newest revision of an environment at a time; 0 before the first.
func (s *Store) RevisionAt(ctx context.Context, environment, at int64) (int64, error) {
	v, err := get[int64](ctx, s.pages, "", newestUpTo, environment, at)
	if err != nil {
		return 0, err
	}
	return *v, nil
}

// SetBehind notes, under the environment's lock, that a follower has a position of this
// installation that the records do not know: they were restored from a backup. It tells
// whether that is so, and whether a stop or a lift was taken since that position, which
// followers of the lost history would not get.
func (s *Store) SetBehind(ctx context.Context, environment int64, p flag.Position) (behind, urgent bool, err error) {
	err = s.Write(ctx, func(t *Tx) error {
		env, err := t.LockEnvironment(environment)
		if err != nil {
			return err
		}
		epoch, err := t.Epoch()
		if err != nil {
			return err
		}
		var digests []string
		if err := t.list(&digests, "SELECT digest FROM revisions WHERE environment_id = ? AND revision = ?",
			environment, p.Revision); err != nil {
			return err
		}
		ahead := p.Epoch > epoch || p.Epoch == epoch && p.Revision > env.Revision
		other := p.Epoch == epoch && len(digests) > 0 && digests[0] != "" && p.Digest != "" && digests[0] != p.Digest
		if behind = ahead || other; !behind {
			return nil
		}
		if err := t.exec("UPDATE environments SET behind = GREATEST(behind, ?) WHERE id = ?", p.Revision,
			environment); err != nil {
			return err
		}
		return t.get(&urgent, "SELECT EXISTS (SELECT 1 FROM stops WHERE environment_id = ? AND (at > ? "+
			"OR lifted_at > ?))", environment, p.At, p.At)
	})
	return behind, urgent, err
}

// Behind names the environments that take no changes until a new epoch begins.
func (s *Store) Behind(ctx context.Context) ([]string, error) {
	return list[string](ctx, s.door, "SELECT CONCAT('environment ', p.project_key, '/', e.environment_key) "+
		"FROM environments e JOIN projects p ON p.id = e.project_id WHERE e.behind > 0 ORDER BY e.id")
}

func revisionRecord(environment, revision, at int64, change, event string) row {
	return row{of: fmt.Sprintf("revisions/%d/%d", environment, revision), content: []any{at, change, event},
		mayGo: true}
}
