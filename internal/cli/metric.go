package cli

import (
	"context"
	"net/url"

	"github.com/spf13/cobra"

	"greenlever.example/core/evidence"
	"greenlever.example/greenlever/internal/app/metrics"
	"greenlever.example/greenlever/internal/files"
)

var _ = listed("places", (*session).metricCommand)

func (s *session) metrics(ctx context.Context) ([]evidence.Metric, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, err
	}
	var all struct{ Items []evidence.Metric }
	err = a.do(ctx, request{method: "GET", path: path + "/metrics"}, &all)
	return all.Items, err
}

func (s *session) metricCommand() *cobra.Command {
	return group("metric", "What is measured of units, so that releases can be watched", s.metricList(),
		s.metricSave(),
		s.metricWrite(), s.metricRemove(), s.metricSend())
}

func (s *session) metricList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "What the project measures of units", Args: exactly(),
		Example: "  greenlever metric list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := s.metrics(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for i := range all {
					m := &all[i]
					rows = append(rows, []any{m.Key, m.Title, string(m.Kind), m.Better + " is better",
						m.Window.String() + " + " + m.Grace.String(), metrics.Tolerated(m)})
				}
				s.rows([]any{"metric", "name", "kind", "direction", "window + grace", "tolerated"}, rows)
			})
		}}
}

func (s *session) metricSave() *cobra.Command {
	return &cobra.Command{Use: "save FILE",
		Short: "Save a metric from a YAML file",
		Long: `Save a metric from a YAML file, a new one or in place of the one with its key; - reads standard
input. "metric write" writes such a file:

  metric: door-open-failed
  title: Doors that stayed shut
  kind: rate                   # or typical, mean, p95
  better: lower                # or higher
  window: 10m                  # how long events of a unit count
  grace: 1m                    # how long late ones are waited for
  tolerance: {relative: 0.1}   # or absolute`, Args: exactly("FILE"),
		Example: "  greenlever metric save door-open-failed.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(args[0])
			if err != nil {
				return err
			}
			m, err := files.ReadMetric(raw)
			if err != nil {
				return coded(exitInvalid, "%s: %v", args[0], err)
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var saved evidence.Metric
			if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/metrics/" + url.PathEscape(m.Key),
				body: map[string]any{"metric": m, "reason": s.because}}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.note("metric %s is saved", saved.Key) })
		}}
}

func (s *session) metricWrite() *cobra.Command {
	return &cobra.Command{Use: "write METRIC", Short: "Write a metric as YAML", Args: exactly("METRIC"),
		Example: "  greenlever metric write door-open-failed > door-open-failed.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := s.metrics(cmd.Context())
			if err != nil {
				return err
			}
			for i := range all {
				if all[i].Key == args[0] {
					raw, err := files.WriteMetric(&all[i])
					if err == nil {
						_, err = s.out.Write(raw)
					}
					return err
				}
			}
			return coded(exitNotFound, "there is no metric %s: greenlever metric list names those that there are",
				args[0])
		}}
}

func (s *session) metricRemove() *cobra.Command {
	return &cobra.Command{Use: "remove METRIC", Short: "Take a metric away; releases that run go on with it",
		Args: exactly("METRIC"), Example: "  greenlever metric remove door-open-failed",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			return a.do(cmd.Context(), request{method: "POST", path: path + "/metrics/" + url.PathEscape(args[0]) +
				"/remove",
				body: map[string]any{"reason": s.because}}, nil)
		}}
}
