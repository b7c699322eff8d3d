import { useQuery } from "@tanstack/react-query";
import { atRest } from "./queries";
import { api, ApiProblem, must, sessionHeaders, type Schemas } from "./client";

/* What conditions, previews and pages of units rest on. */

const env = "/api/v1/projects/{project}/environments/{environment}";

export function useAttributes(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "attributes"],
    enabled: environment !== "",
    staleTime: 10_000,
    queryFn: () => must(api.GET(`${env}/attributes`, { params: { path: { project, environment } } })),
  });
}

export function useTrack(project: string, environment: string, flag: string) {
  return useQuery({
    queryKey: [project, "env", environment, "track", flag],
    refetchInterval: atRest,
    queryFn: () => must(api.GET(`${env}/flags/{flag}/track`, { params: { path: { project, environment, flag } } })),
  });
}

export function useLint(project: string, environment: string, flag?: string) {
  return useQuery({
    queryKey: [project, "env", environment, "lint", flag ?? ""],
    enabled: environment !== "",
    queryFn: () =>
      flag === undefined
        ? must(api.GET(`${env}/lint`, { params: { path: { project, environment } } }))
        : must(api.GET(`${env}/flags/{flag}/lint`, { params: { path: { project, environment, flag } } })),
  });
}

export function useSnippets(project: string, environment: string, flag: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "env", environment, "snippets", flag],
    enabled,
    queryFn: () => must(api.GET(`${env}/flags/{flag}/snippets`, { params: { path: { project, environment, flag } } })),
  });
}

export function usePopulation(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "population"],
    refetchInterval: atRest,
    queryFn: () => must(api.GET(`${env}/population`, { params: { path: { project, environment } } })),
  });
}

export function useUnits(project: string, environment: string, query: { has?: string; flag?: string; at?: string; of?: string } | undefined) {
  return useQuery({
    queryKey: [project, "env", environment, "units", query],
    enabled: query !== undefined,
    placeholderData: (before) => before,
    queryFn: () => must(api.POST(`${env}/population/units`, { params: { path: { project, environment } }, body: query! })),
  });
}

export function useUnit(project: string, environment: string, unit: string) {
  return useQuery({
    queryKey: [project, "env", environment, "unit", unit],
    enabled: unit !== "",
    queryFn: () => must(api.POST(`${env}/unit`, { params: { path: { project, environment } }, body: { unit } })),
  });
}

export function useRoster(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "roster"],
    queryFn: () => must(api.GET(`${env}/roster`, { params: { path: { project, environment } } })),
  });
}

/** readCondition reads a condition from its text; the service says where it is none. */
export async function readCondition(text: string): Promise<Schemas["Node"] | undefined> {
  return (await must(api.POST("/api/v1/conditions/read", { params: {}, body: { text } }))).when;
}

export async function writeCondition(when: Schemas["Node"] | undefined): Promise<string> {
  return (await must(api.POST("/api/v1/conditions/write", { params: {}, body: when ? { when } : {} }))).text;
}

/** useTrySegment says what an edit of a segment would move, without saving it. */
export function useTrySegment(project: string, environment: string, segment: string, version: number, edit: Schemas["SegmentEdit"]) {
  return useQuery({
    queryKey: ["try segment", project, environment, segment, version, edit],
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
    queryFn: () =>
      must(
        api.PUT(`${env}/segments/{segment}`, {
          params: { path: { project, environment, segment }, header: { "If-Match": String(version) }, query: { dryRun: "true" } },
          body: { ...edit, reason: "not said yet" },
        }),
      ),
  });
}

export type ListMode = "add" | "remove" | "replace";

interface ListPlace {
  project: string;
  environment: string;
  segment: string;
  list: string;
  mode: ListMode;
  reason: string;
}

/** sendList sends a file of units and tells how much of it is sent, from 0 to 1. */
export function sendList(to: ListPlace, file: File, progress: (done: number) => void): Promise<Schemas["SavedSegment"]> {
  const path = [to.project, "environments", to.environment, "segments", to.segment, "lists", to.list].map(encodeURIComponent).join("/");
  return new Promise((resolve, reject) => {
    const send = new XMLHttpRequest(); // fetch tells no progress
    send.open("PUT", `/api/v1/projects/${path}?${new URLSearchParams({ mode: to.mode }).toString()}`);
    send.setRequestHeader("Greenlever-Reason", encodeURIComponent(to.reason));
    send.setRequestHeader("Content-Type", "text/plain; charset=utf-8");
    for (const [name, value] of Object.entries(sessionHeaders())) send.setRequestHeader(name, value);
    send.upload.addEventListener("progress", (e) => progress(e.total > 0 ? e.loaded / e.total : 0));
    send.addEventListener("error", () => reject(new ApiProblem(0, "The service cannot be reached. Nothing is lost: try again.", [], {})));
    send.addEventListener("load", () => {
      const answer = JSON.parse(send.responseText || "{}") as Schemas["SavedSegment"] & { detail?: string; fields?: Schemas["FieldProblem"][] };
      if (send.status < 300) resolve(answer);
      else reject(new ApiProblem(send.status, answer.detail ?? send.statusText, answer.fields ?? [], {}));
    });
    send.send(file);
  });
}
