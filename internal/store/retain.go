package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"greenlever.example/greenlever/internal/app"
)

// Days gives for how many days things are kept, by option.
func Days() map[string]int {
	days := map[string]int{}
	for _, k := range Retention() {
		if k.Option != "" {
			days[k.Option] = k.Days
		}
	}
	return days
}

// MayBeGone tells whether a row of a table may have been forgotten by now, where its entry in
// the chain is of a time (both in Unix milliseconds). Options are in days, as for [Store.Forget].
func MayBeGone(table string, at, now int64, days map[string]int) bool {
	for _, k := range Retention() {
		if k.Table != table {
			continue
		}
		n, ok := days[k.Option]
		if !ok {
			n = max(k.Days, 1)
		}
		return at < now-int64(n)*dayMillis
	}
	return false
}

// Work is bounded by portions, so that it holds no row for long and ends in time.
const (
	atOnce     = 5_000           // rows of one statement that forgets
	budget     = 5 * time.Second // of one job in one round; the rest waits for the next
	keptAlways = 1_000           // revisions of each environment, however old
)

// rounds repeats a portion until nothing is left of it or its time is up.
func rounds(ctx context.Context, portion func(ctx context.Context) (int64, error)) error {
	end := time.Now().Add(budget)
	for time.Now().Before(end) {
		n, err := portion(ctx)
		if err != nil || n == 0 {
			return err
		}
	}
	return nil
}

// forget removes rows in portions.
func (s *Store) forget(ctx context.Context, query string, args ...any) error {
	return rounds(ctx, func(ctx context.Context) (int64, error) {
		res, err := s.work.ExecContext(ctx, query+fmt.Sprintf(" LIMIT %d", atOnce), args...)
		if err != nil {
			return 0, fault(err)
		}
		n, err := res.RowsAffected()
		if n < atOnce {
			n = 0
		}
		return n, err
	})
}

// Forget removes what is kept no longer, by option in days; one that is not given has its
// default. One process does it at a time.
func (s *Store) Forget(ctx context.Context, now int64, days map[string]int) error {
	before := func(option string) int64 {
		n, ok := days[option]
		if !ok {
			n = Days()[option]
		}
		return now - int64(n)*dayMillis
	}
	var err error
	add := func(query string, args ...any) { err = errors.Join(err, s.forget(ctx, query, args...)) }
	add("DELETE FROM idempotency WHERE at < ?", before("keep-results"))
	add("DELETE FROM notices WHERE state > 0 AND at < ?", before("keep-notices"))
	add("DELETE FROM sessions WHERE expires < ?", now)
	add("DELETE FROM tokens WHERE expires < ?", now-dayMillis)
	add("DELETE FROM access_keys WHERE revoked > 0 AND revoked < ?", before("keep-revoked-keys"))
	add("DELETE FROM instances WHERE gone AND kind <> 'service' AND gone_at < ?", now-dayMillis)
	add("DELETE FROM instances WHERE seen < ? AND kind <> 'service'", before("keep-lost-instances"))
	add("DELETE FROM nodes WHERE until < NOW(6) - INTERVAL 1 DAY")
	add("DELETE FROM applied WHERE at < ?", before("keep-applied"))
	add("DELETE FROM deliveries WHERE at > 0 AND at < ?", before("keep-deliveries"))
	add("DELETE FROM asked WHERE last < ?", before("keep-asked"))
	add("DELETE FROM seen_attributes WHERE day < ?", before("keep-seen-attributes")/dayMillis)
	add("DELETE FROM stops WHERE lifted_at > 0 AND lifted_at < ?", before("keep-past"))
	add("DELETE FROM device_asks WHERE expires < ?", now)
	add("DELETE FROM rulings WHERE at < ?", before("keep-rulings"))
	add("DELETE FROM inverses WHERE at < ?", before("keep-past"))
	add("DELETE FROM drills WHERE at < ?", before("keep-past"))
	add("DELETE FROM use_days WHERE day < ?", before("keep-counts")/dayMillis)
	add("DELETE FROM use_kinds WHERE last < ?", before("keep-counts")/60_000)
	add("DELETE FROM measures WHERE minute < ?", before("keep-measures")/60_000)
	add("DELETE FROM ingested WHERE at < ?", before("keep-batches"))
	add("DELETE FROM tripwire_calls WHERE at < ?", before("keep-calls"))
	add("DELETE FROM tripwire_alerts WHERE cleared > 0 AND cleared < ?", before("keep-past"))
	add("DELETE FROM evidence_marks WHERE until < ?", now-dayMillis)
	err = errors.Join(err, s.thinHeads(ctx, before("keep-every-head")),
		s.forgetExposures(ctx, before("keep-exposures")))
	envs, e := list[app.Environment](ctx, s.work, "SELECT "+environmentColumns+" FROM environments ORDER BY id")
	err = errors.Join(err, e)
	for i := range envs {
		err = errors.Join(err, s.forgetIn(ctx, &envs[i], now, before("keep-past"), before("keep-counts")))
	}
	return errors.Join(err, s.forgetLists(ctx, envs, now-dayMillis))
}

// forgetExposures removes the units of runs that ended before a time.
func (s *Store) forgetExposures(ctx context.Context, ended int64) error {
	runs, err := list[int64](ctx, s.work, "SELECT id FROM evidence_runs r WHERE ended > 0 AND ended < ? AND EXISTS "+
		"(SELECT 1 FROM exposures e WHERE e.run = r.id)", ended)
	for _, id := range runs {
		err = errors.Join(err, s.forget(ctx, "DELETE FROM bad_units WHERE run = ?", id),
			s.forget(ctx, "DELETE FROM exposures WHERE run = ?", id))
	}
	return err
}

func (s *Store) forgetIn(ctx context.Context, env *app.Environment, now, past, counts int64) error {
	sampling, err := s.Sampling(ctx, env.ID)
	if err != nil {
		return err
	}
	err = errors.Join(s.forget(ctx, "DELETE FROM population WHERE environment_id = ? AND seen < ?", env.ID,
		now-int64(sampling.Days)*dayMillis),
		s.forget(ctx, "DELETE FROM introductions WHERE environment_id = ? AND NOT EXISTS (SELECT 1 FROM instances i "+
			"WHERE i.environment_id = introductions.environment_id AND i.id = introductions.instance)", env.ID),
		s.forget(ctx, "DELETE FROM uses WHERE environment_id = ? AND span = 1440 AND minute < ?", env.ID,
			counts/60_000))
	cut, e := get[int64](ctx, s.work, "", newestUpTo, env.ID, past-1)
	if e != nil {
		return errors.Join(err, e)
	}
	cutAt := min(*cut, env.Revision-keptAlways)
	if cutAt <= 0 {
		return err
	}
	return errors.Join(err, s.forget(ctx, "DELETE FROM revisions WHERE environment_id = ? AND revision < ?", env.ID,
		cutAt),
		s.forgetVersions(ctx, "flag_versions", "flag", env.ID, cutAt), s.forgetVersions(ctx, "segment_versions",
			"segment", env.ID, cutAt))
}

// forgetVersions removes what was replaced before a revision; what stood at it stays.
func (s *Store) forgetVersions(ctx context.Context, table, key string, environment, cut int64) error {
	return rounds(ctx, func(ctx context.Context) (int64, error) {
		rows, err := list[struct {
			Key  string `db:"doc_key"`
			Keep int64  `db:"keep"`
		}](ctx, s.work, fmt.Sprintf("SELECT %s doc_key, MAX(revision) keep FROM %s WHERE environment_id = ? "+
			"AND revision <= ? GROUP BY %[1]s HAVING COUNT(*) > 1 LIMIT 100", key, table), environment, cut)
		for _, r := range rows {
			if _, e := s.work.ExecContext(ctx, fmt.Sprintf("DELETE FROM %s WHERE environment_id = ? AND %s = ? "+
				"AND revision < ?", table, key), environment, r.Key, r.Keep); e != nil {
				return 0, fault(e)
			}
		}
		return int64(len(rows)), err
	})
}

// gatherings are the steps in which counts are gathered into longer spans, in minutes, and after
// how many. Pages ask for a window and the one before it: an hour by the minute, 6 by 5 minutes, a
// day by 15, a week by 120.
var gatherings = []struct{ span, into, after int64 }{{1, 5, 125}, {5, 15, 13 * 60}, {15, 120, 49 * 60},
	{60, 120, 49 * 60}, {120, 1440, 15 * 24 * 60}}

const (
	spans       = "1, 5, 15, 60, 120, 1440" // that rows stand for; 60 of the release before
	longestSpan = 1440
	keptToADay  = 1440 // how exactly a kind knows when it was last met
)
