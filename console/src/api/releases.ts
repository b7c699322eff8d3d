import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "./client";
import { atRest, useChange } from "./queries";

/* Releases, ladders, and whom webhooks tell. A release takes steps that make no revision, which no event tells
   of: while one runs it is looked at. */

const env = "/api/v1/projects/{project}/environments/{environment}";

export type ReleaseLine = Schemas["ReleaseLine"];
export type ReleaseView = Schemas["ReleaseView"];
export type Stage = Schemas["StageRelease"];

/** news are the variants that a release gives: one, or several that are compared with the old one. */
export const news = (plan: { to: string; beside?: string[] | undefined }): string[] => [plan.to, ...(plan.beside ?? [])];

/** How often a release that runs is looked at, in milliseconds. */
const lookEvery = 2_000;

export const isOver = (is: string): boolean => is === "rolled-back" || is === "finished" || is === "withdrawn";

export function useReleases(project: string) {
  return useQuery({
    queryKey: [project, "releases"],
    enabled: project !== "",
    refetchInterval: (q) => (q.state.data?.items.some((r) => !isOver(r.state.is)) ? 2 * lookEvery : atRest(q)),
    queryFn: () => must(api.GET("/api/v1/projects/{project}/releases", { params: { path: { project } } })),
  });
}

export function useReleasesOf(project: string, environment: string, flag: string) {
  return useQuery({
    queryKey: [project, "env", environment, "flag", flag, "releases"],
    refetchInterval: (q) => (q.state.data?.items.some((r) => !isOver(r.state.is)) ? 2 * lookEvery : atRest(q)),
    queryFn: () => must(api.GET(`${env}/flags/{flag}/releases`, { params: { path: { project, environment, flag } } })),
  });
}

export function useRelease(project: string, environment: string, release: string) {
  return useQuery({
    queryKey: [project, "env", environment, "release", release],
    refetchInterval: (q) => (q.state.data && !isOver(q.state.data.state.is) ? lookEvery : atRest(q)),
    queryFn: () => must(api.GET(`${env}/releases/{release}`, { params: { path: { project, environment, release } } })),
  });
}

/** useBadUnits are units to which something bad happened, asked for once somebody wants to see them. */
export function useBadUnits(project: string, environment: string, release: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "env", environment, "release", release, "bad-units"],
    enabled,
    queryFn: () => must(api.GET(`${env}/releases/{release}/bad-units`, { params: { path: { project, environment, release } } })),
  });
}

export type Start = Schemas["StartBody"];

/** useTryStart says what a release would do, stage by stage, without starting it. */
export function useTryStart(project: string, environment: string, flag: string, start: Start | undefined) {
  return useQuery({
    queryKey: ["try release", project, environment, flag, start],
    enabled: start !== undefined && flag !== "",
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
    queryFn: () => must(api.POST(`${env}/flags/{flag}/releases`, { params: { path: { project, environment, flag }, query: { dryRun: "true" } }, body: start! })),
  });
}

export function useStart(project: string, environment: string, flag: string) {
  return useChange(
    project,
    (start: Start) => must(api.POST(`${env}/flags/{flag}/releases`, { params: { path: { project, environment, flag } }, body: start })),
    (r) => `Started: the release of ${r.flag}.`,
  );
}

export type Act = Schemas["ActBody"];

/** What is done with a release: a halt asks for nothing. */
export const halts = ["hold", "roll-back"];

function acting(project: string, environment: string, release: string, act: Act, dryRun: boolean) {
  const params = { path: { project, environment, release }, ...(dryRun && { query: { dryRun: "true" } }) };
  if (halts.includes(act.do ?? "")) return must(api.POST(`${env}/releases/{release}/halts`, { params, body: { do: act.do!, reason: act.reason ?? "" } }));
  if (act.do === "sign" || act.do === "decline") return must(api.POST(`${env}/releases/{release}/signatures`, { params, body: act }));
  return must(api.POST(`${env}/releases/{release}/acts`, { params, body: act }));
}

/** useTryAct says what an act would move. */
export function useTryAct(project: string, environment: string, release: string, act: Act | undefined) {
  return useQuery({
    queryKey: ["try act", project, environment, release, act],
    enabled: act !== undefined,
    retry: false,
    gcTime: 0,
    queryFn: () => acting(project, environment, release, { ...act!, reason: act!.reason || "not said yet" }, true) as Promise<Schemas["DoneRelease"] & { preview?: Schemas["Preview"] }>,
  });
}

export function useAct(project: string, environment: string, release: string) {
  return useChange(project, (act: Act) => acting(project, environment, release, act, false), (r) => r.sentence.text.replaceAll("`", ""));
}

export function useLadders(project: string) {
  return useQuery({ queryKey: [project, "ladders"], queryFn: () => must(api.GET("/api/v1/projects/{project}/ladders", { params: { path: { project } } })) });
}

export function useWebhooks(project: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "webhooks"],
    enabled,
    refetchInterval: atRest,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/webhooks", { params: { path: { project } } })),
  });
}

export function useNotices(project: string, webhook: string) {
  return useQuery({
    queryKey: [project, "webhooks", webhook],
    refetchInterval: atRest,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/webhooks/{webhook}/notices", { params: { path: { project, webhook } } })),
  });
}
