package store

import (
	"context"
	"slices"

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
