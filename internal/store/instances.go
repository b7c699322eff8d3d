package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "instances", Option: "keep-lost-instances", Days: 30, Why: "instances that fell silent; those that " +
		"left go after a day"},
	Kept{Table: "introductions", Why: "go with their instances"},
)

var _ = writes((*Tx).AccountFor)

// instanceColumns are an instance's, with whether it is of another history than the records'.
const instanceColumns = "i.environment_id, i.id, i.kind, i.via, i.application, i.version, i.epoch, i.revision, " +
	"i.source, i.skew_millis, i.sequence, i.started, i.seen, i.gone, i.gone_at, i.too_old, " +
	"i.busy_unit, i.busy_calls, i.busy_of, i.streams, i.pollers, " +
	"(i.epoch = g.epoch AND (i.revision > e.revision OR COALESCE(n.digest, '') <> '' AND COALESCE(r.digest, '') <> " +
	"'' AND n.digest <> r.digest)) other"

const instanceTables = "instances i JOIN installation g JOIN environments e ON e.id = i.environment_id LEFT JOIN " +
	"introductions n ON n.environment_id = i.environment_id AND n.instance = i.id " +
	"LEFT JOIN revisions r ON r.environment_id = i.environment_id AND r.revision = i.revision"

// Instances lists the instances of an environment that were seen since a time, and all that
// fell silent without saying goodbye.
func (s *Store) Instances(ctx context.Context, environment, since int64) ([]app.Instance, error) {
	return list[app.Instance](ctx, s.pages, "SELECT "+instanceColumns+" FROM "+instanceTables+
		" WHERE i.environment_id = ? AND (NOT i.gone OR i.gone AND i.seen >= ?) ORDER BY i.application, i.id",
		environment, since)
}

// Following counts the processes that have followed an environment since a time.
func (t *Tx) Following(environment, since int64) (n int, err error) {
	err = t.get(&n, "SELECT COUNT(*) FROM instances WHERE environment_id = ? AND NOT gone AND seen >= ? "+
		"AND kind <> 'service'", environment, since)
	return n, err
}

// Silent gives the instance with an id or, without one, all that have been silent since a time.
func (t *Tx) Silent(environment int64, instance string, silentSince int64) ([]app.Instance, error) {
	where, arg := "i.id = ?", any(instance)
	if instance == "" {
		where, arg = "NOT i.gone AND i.seen < ?", silentSince
	}
	return list[app.Instance](t.ctx, t.tx, "SELECT "+instanceColumns+" FROM "+instanceTables+`
		WHERE i.environment_id = ? AND `+where+" AND i.kind <> 'service' ORDER BY i.id LIMIT 60000", environment, arg)
}

// AccountFor notes of instances that they decide no more, but for those that were heard of.
func (t *Tx) AccountFor(r *app.GoneRecord) error {
	for some := range slices.Chunk(r.IDs, portion) {
		err := t.exec(`
			UPDATE instances SET gone = TRUE, gone_at = ?
			WHERE environment_id = ? AND NOT gone AND seen < ? AND id IN (`+marks(len(some))+")",
			append([]any{r.At, r.EnvironmentID, r.SilentSince}, anys(some)...)...)
		if err != nil {
			return err
		}
	}
	return nil
}

// status takes what an instance says of itself, unless something newer is known, or the key
// has no say in it.
func (b *batch) status(s *wire.Status, via, key string, seen int64) bool {
	k := b.known[s.Instance]
	if k == nil {
		if b.instances >= maxInstances || b.introduced[key] >= maxIntroduced {
			return false
		}
		b.instances++
		b.introduced[key]++
		k = &known{key: key}
		b.known[s.Instance] = k
	}
	if k.key != key && k.key != "" && key != "" {
		long := introducedLong
		if via != "" && k.via != "" { // outposts change keys under those who follow through them
			long = app.SilentAfter * time.Millisecond
		}
		if s.Leaving || k.seen > b.now-long.Milliseconds() {
			return false
		}
	}
	if s.Sequence <= k.Sequence {
		return false
	}
	for _, a := range s.Applied {
		b.applied = append(b.applied, appliedRow{s.Instance, a})
	}
	k.Status, k.via, k.key, k.seen, k.changed = *s, via, cmp.Or(key, k.key), max(k.seen, seen), true
	return true
}

func (b *batch) writeInstances() error {
	var ids []string
	for id, k := range b.known {
		if k.changed {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	for some := range slices.Chunk(ids, portion) {
		var about, keys []any
		for _, id := range some {
			k := b.known[id]
			var busy wire.Busy
			if k.Busy != nil {
				busy = *k.Busy
			}
			goneAt := int64(0)
			if k.Leaving {
				goneAt = k.seen
			}
			about = append(about, b.environment, id, k.Kind, k.via, k.Application, k.Version, k.Epoch, k.Revision,
				k.Source, k.SkewMillis, k.Sequence, k.seen, k.Leaving, goneAt,
				cmp.Or(k.Started, k.seen), app.Texts(k.TooOld), busy.Unit, busy.Calls, busy.Of, k.Streams, k.Pollers)
			keys = append(keys, b.environment, id, k.key, k.Digest)
		}
		if err := b.t.exec("INSERT INTO instances (environment_id, id, kind, via, application, version, epoch, "+
			"revision, source, skew_millis, sequence, seen, gone, gone_at, started, too_old, busy_unit, busy_calls, "+
			"busy_of, streams, pollers) VALUES "+
			values(len(some), 21)+" ON DUPLICATE KEY UPDATE kind = VALUES(kind), via = VALUES(via), application = "+
			"VALUES(application), version = VALUES(version), epoch = VALUES(epoch), revision = VALUES(revision), "+
			"source = VALUES(source), skew_millis = VALUES(skew_millis), sequence = VALUES(sequence), seen = "+
			"VALUES(seen), gone = VALUES(gone), gone_at = VALUES(gone_at), too_old = VALUES(too_old), "+
			"busy_unit = VALUES(busy_unit), busy_calls = VALUES(busy_calls), busy_of = VALUES(busy_of), streams = "+
			"VALUES(streams), pollers = VALUES(pollers)", about...); err != nil {
			return err
		}
		if err := b.t.exec("INSERT INTO introductions (environment_id, instance, access_key, digest) VALUES "+
			values(len(some), 4)+
			" ON DUPLICATE KEY UPDATE access_key = VALUES(access_key), digest = VALUES(digest)", keys...); err != nil {
			return err
		}
	}
	return nil
}
