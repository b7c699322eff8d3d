package app

import "greenlever.example/core/evidence"

// MetricRecord is a metric that a project saved, or took away.
type MetricRecord struct {
	ProjectID int64
	*evidence.Metric
	Gone bool
}
