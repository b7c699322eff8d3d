import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "./client";
import { atRest, useChange } from "./queries";

/* What was decided, by whom, and where it does not do what somebody thinks it does. */

export const spans = ["15m", "1h", "6h", "1d", "7d", "30d", "90d"] as const;

export function useUsage(project: string, environment: string, span: string, flag = "") {
  return useQuery({
    queryKey: [project, "env", environment, "usage", span, flag],
    enabled: environment !== "",
    refetchInterval: atRest,
    placeholderData: (before, query) => (query?.queryKey.at(-1) === flag ? before : undefined),
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/usage", { params: { path: { project, environment }, query: { span, ...(flag && { flag }) } } })),
  });
}

export function useRadar(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "radar"],
    refetchInterval: atRest,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/radar", { params: { path: { project, environment } } })),
  });
}

export function useAccountFor(project: string, environment: string) {
  return useChange(project, (input: { instance: string; reason: string }) =>
    must(api.POST("/api/v1/projects/{project}/environments/{environment}/instances/{instance}/gone", { params: { path: { project, environment, instance: input.instance } }, body: { reason: input.reason } })),
  );
}

export function useAccountForAll(project: string, environment: string) {
  return useChange(project, (reason: string) =>
    must(api.POST("/api/v1/projects/{project}/environments/{environment}/instances/gone", { params: { path: { project, environment } }, body: { reason } })),
  );
}

export type UsageLine = Schemas["UsageLine"];
