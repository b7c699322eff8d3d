package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

// Bounds of who may be introduced, so that a key that invents instances does little harm.
const (
	maxInstances   = 50_000 // in an environment, those that left not counted
	maxIntroduced  = 10_000 // by one access key
	introducedLong = 24 * time.Hour
)

// TakeReports records reports of an environment, each once, in one transaction: it tells of
// each whether it was new. An instance is spoken for by the access key that introduced it, and by another one
// only after it was silent for long.
func (s *Store) TakeReports(ctx context.Context, environment int64, all []app.Incoming, now int64) ([]bool, error) {
	taken := make([]bool, len(all))
	err := s.background(ctx, func(t *Tx) error {
		b := &batch{t: t, store: s, environment: environment, now: now}
		var brought []*app.Evidence
		if err := b.meet(all); err != nil {
			return err
		}
		for i, r := range all {
			taken[i] = b.status(&r.Status, "", r.Key, now)
			if !taken[i] {
				continue
			}
			for j := range r.Behind {
				f := &r.Behind[j]
				b.status(&f.Status, r.Instance, r.Key, now-max(0, f.Age))
			}
			if r.Evidence != nil {
				brought = append(brought, r.Evidence)
			}
			for _, l := range r.Counts {
				if l.Application == "" && l.Version == "" {
					l.Application, l.Version = r.Application, r.Version
				}
				b.count(l)
			}
			for _, l := range r.Unknown {
				l.Application = cmp.Or(l.Application, r.Application)
				b.unknown = append(b.unknown, l)
			}
		}
		if err := b.write(); err != nil || len(brought) == 0 {
			return err
		}
		return t.bring(environment, now, brought)
	})
	return taken, err
}

// batch gathers what reports say before it is written, a statement for each table.
type batch struct {
	t           *Tx
	store       *Store
	environment int64
	now         int64
	known       map[string]*known
	introduced  map[string]int // by access key
	instances   int
	applied     []appliedRow
	counts      map[wire.CountLine]uint64
	unknown     []wire.UnknownLine
}

// known is an instance as the records and this batch know it.
type known struct {
	wire.Status
	via     string
	seen    int64
	key     string
	changed bool
}

type appliedRow struct {
	instance string
	wire.Applied
}

// meet reads what is known of the instances that reports speak of, and holds their rows.
func (b *batch) meet(all []app.Incoming) error {
	b.known, b.introduced = map[string]*known{}, map[string]int{}
	var ids []string
	for _, r := range all {
		ids = append(ids, r.Instance)
		for i := range r.Behind {
			ids = append(ids, r.Behind[i].Instance)
		}
	}
	slices.Sort(ids) // one order of locks
	ids = slices.Compact(ids)
	for some := range slices.Chunk(ids, portion) {
		var rows []struct {
			ID       string `db:"id"`
			Sequence int64  `db:"sequence"`
			Seen     int64  `db:"seen"`
			Via      string `db:"via"`
			Key      string `db:"access_key"`
		}
		// A key that was revoked has no say any more.
		if err := b.t.list(&rows, "SELECT i.id, i.sequence, i.seen, i.via, COALESCE((SELECT k.id FROM access_keys k "+
			"WHERE k.id = n.access_key AND k.revoked = 0), '') access_key FROM instances i "+
			"LEFT JOIN introductions n ON n.environment_id = i.environment_id AND n.instance = i.id "+
			"WHERE i.environment_id = ? AND i.id IN ("+marks(len(some))+") ORDER BY i.id FOR UPDATE",
			append([]any{b.environment}, anys(some)...)...); err != nil {
			return err
		}
		for _, r := range rows {
			b.known[r.ID] = &known{Status: wire.Status{Sequence: r.Sequence}, seen: r.Seen, via: r.Via, key: r.Key}
		}
	}
	if len(b.known) == len(ids) {
		return nil
	}
	var rows []struct {
		Key   string `db:"access_key"`
		Count int    `db:"count"`
	}
	if err := b.t.list(&rows, "SELECT n.access_key, COUNT(*) count FROM introductions n "+
		"JOIN instances i ON i.environment_id = n.environment_id AND i.id = n.instance "+
		"WHERE n.environment_id = ? AND NOT i.gone GROUP BY n.access_key", b.environment); err != nil {
		return err
	}
	for _, r := range rows {
		b.introduced[r.Key], b.instances = r.Count, b.instances+r.Count
	}
	return nil
}

func (b *batch) write() error {
	if err := b.writeInstances(); err != nil {
		return err
	}
	slices.SortFunc(b.applied, func(x, y appliedRow) int {
		return cmp.Or(cmp.Compare(x.instance, y.instance), cmp.Compare(x.Epoch, y.Epoch),
			cmp.Compare(x.Revision, y.Revision))
	})
	for some := range slices.Chunk(b.applied, portion) {
		args := make([]any, 0, 6*len(some))
		for _, a := range some {
			args = append(args, b.environment, a.instance, a.Epoch, a.Revision, a.At, a.Digest)
		}
		if err := b.t.exec(
			"INSERT IGNORE INTO applied (environment_id, instance, epoch, revision, at, digest) VALUES "+
				values(len(some), 6), args...); err != nil {
			return err
		}
	}
	lines, err := b.countLines()
	if err != nil {
		return err
	}
	if err := b.writeUses(lines); err != nil {
		return err
	}
	return b.writeAsked(lines)
}

// maxAsked bounds how many flags that do not exist are noted in an environment.
const maxAsked = 5_000
