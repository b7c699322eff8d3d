package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app"
)

var _ = keeps(
	Kept{Table: "metrics", Why: "kept, also when they are taken away, since evidence speaks of them"},
)

var _ = writes((*Tx).PutMetric)

var _ = speaks("project", func(v *reading, id int64) {
	read(v, func(r metricRow) row { return metricRecord(id, r) }, "SELECT metric, gone, body FROM metrics "+
		"WHERE project_id = ?", id)
})

type metricRow struct {
	Metric string `db:"metric"`
	Gone   bool   `db:"gone"`
	Body   []byte `db:"body"`
}

func metricRecord(project int64, r metricRow) row {
	return row{of: fmt.Sprintf("metrics/%d/%s", project, r.Metric), content: []any{r.Gone, string(r.Body)}}
}

// Metrics lists the metrics of a project, by key.
func (s *Store) Metrics(ctx context.Context, project int64) ([]evidence.Metric, error) {
	return reader{ctx, s.pages}.Metrics(project)
}

// MetricsIn lists the metrics of an environment's project.
func (s *Store) MetricsIn(ctx context.Context, environment int64) ([]evidence.Metric, error) {
	project, err := get[int64](ctx, s.pages, "there is no such environment", "SELECT project_id FROM environments "+
		"WHERE id = ?", environment)
	if err != nil {
		return nil, err
	}
	return s.Metrics(ctx, *project)
}

// Metrics lists the metrics of a project, by key.
func (r reader) Metrics(project int64) ([]evidence.Metric, error) {
	rows, err := list[metricRow](r.ctx, r.q, "SELECT metric, gone, body FROM metrics WHERE project_id = ? AND NOT "+
		"gone ORDER BY metric", project)
	out := make([]evidence.Metric, 0, len(rows))
	for _, row := range rows {
		one, e := decode[evidence.Metric](row.Body)
		if e != nil {
			return nil, e
		}
		out = append(out, one)
	}
	return out, err
}

// MeasuredSince sums up the events of a metric since a Unix minute, and those to which it happened.
func (r reader) MeasuredSince(environment int64, metric string, from int64) (count, bad int64, err error) {
	row, err := get[struct {
		Count int64 `db:"count"`
		Bad   int64 `db:"bad"`
	}](r.ctx, r.q, "none", "SELECT CAST(COALESCE(SUM(count), 0) AS SIGNED) count, CAST(COALESCE(SUM(bad), 0) AS "+
		"SIGNED) bad FROM measures WHERE environment_id = ? AND metric = ? AND minute >= ? AND flag = ''",
		environment, metric, from)
	if err != nil {
		return 0, 0, err
	}
	return row.Count, row.Bad, nil
}

// PutMetric saves a metric, or that it is gone.
func (t *Tx) PutMetric(m *app.MetricRecord) error {
	row := metricRow{m.Key, m.Gone, []byte(encode(m.Metric))}
	if err := t.later("INSERT INTO metrics (project_id, metric, gone, body) VALUES (?, ?, ?, ?) "+
		"ON DUPLICATE KEY UPDATE "+
		"gone = VALUES(gone), body = VALUES(body)", m.ProjectID, row.Metric, row.Gone, string(row.Body)); err != nil {
		return err
	}
	return t.touch(metricRecord(m.ProjectID, row))
}

// FirstBad gives the first minute in which metrics turned out badly where flags had given each of their variants,
// between two Unix minutes.
func (s *Store) FirstBad(ctx context.Context, environment int64, metrics, flags []string, from,
	to int64) ([]app.BadMinute, error) {
	if len(metrics) == 0 || len(flags) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In("SELECT metric, flag, variant, MIN(minute) minute FROM measures WHERE "+
		"environment_id = ? "+
		"AND metric IN (?) AND minute BETWEEN ? AND ? AND flag IN (?) AND bad > 0 GROUP BY metric, flag, variant",
		environment, metrics, from, to, flags)
	if err != nil {
		return nil, err
	}
	return list[app.BadMinute](ctx, s.pages, query, args...)
}
