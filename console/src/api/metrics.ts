import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "./client";
import { atRest, useChange } from "./queries";

/* Metrics: what a project measures of units. */

export type Metric = Schemas["MetricEvidence"];
export type Measured = Schemas["Measured"];

export function useMetrics(project: string) {
  return useQuery({ queryKey: [project, "metrics"], enabled: project !== "", queryFn: () => must(api.GET("/api/v1/projects/{project}/metrics", { params: { path: { project } } })) });
}

export function useMeasured(project: string, environment: string, metric: string, span: string) {
  return useQuery({
    queryKey: [project, "env", environment, "measured", metric, span],
    enabled: environment !== "" && metric !== "",
    refetchInterval: atRest,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/metrics/{metric}/measured", { params: { path: { project, environment, metric }, query: { span } } })),
  });
}

export function useSaveMetric(project: string) {
  return useChange(project, (metric: Metric) => must(api.PUT("/api/v1/projects/{project}/metrics/{metric}", { params: { path: { project, metric: metric.key } }, body: { metric } as Schemas["MetricBody"] })), (m) => `Saved: metric ${m.title}.`);
}

export function useRemoveMetric(project: string) {
  return useChange(project, (metric: string) => must(api.POST("/api/v1/projects/{project}/metrics/{metric}/remove", { params: { path: { project, metric } }, body: {} })), (m) => `Removed: metric ${m.title}.`);
}

/** level says a level of a metric: a rate in percent, a value in its measure. */
export function level(m: Metric, v: number | undefined): string {
  if (v === undefined) return "nothing";
  if (m.kind === "rate") return `${Number((100 * v).toPrecision(3))} %`;
  return `${Number(v.toPrecision(4)).toLocaleString()}${m.measure ? ` ${m.measure}` : ""}`;
}

/** tolerated says how much worse the new side may be. */
export function tolerated(m: Metric): string {
  const out = [];
  if (m.tolerance.relative || !m.tolerance.absolute) out.push(`${Number((100 * m.tolerance.relative).toPrecision(3))} %`);
  if (m.tolerance.absolute) out.push(`${Number((100 * m.tolerance.absolute).toPrecision(3))} percentage points`);
  return `${out.join(" and ")} worse`;
}

export const kinds: Record<string, string> = { rate: "rate", typical: "typical value", mean: "mean, capped", p95: "95 % keep below" };
