import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { draftsOf, leave } from "../draft/kept";
import { noteSignedIn } from "./connection";
import { api, ApiProblem, keepCSRF, must, type Schemas } from "./client";

/* Every hook owns one piece of the service's data. Keys begin with the project, so that a
   revision makes exactly what it touches be read again. */

export function useMe() {
  return useQuery({
    queryKey: ["me"],
    retry: (n, e) => n < 2 && !(e instanceof ApiProblem && e.status === 401),
    queryFn: async () => {
      const me = await must(api.GET("/api/v1/me", {}));
      keepCSRF(me.csrf);
      noteSignedIn(); // in another tab, it may be
      draftsOf(me.account.id);
      return me;
    },
  });
}

export function useSignIn() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["SignInBody"]) => must(api.POST("/api/v1/sign-in", { body, params: {} })),
    onSuccess: (me) => {
      keepCSRF(me.csrf);
      noteSignedIn();
      draftsOf(me.account.id);
      cache.setQueryData(["me"], me);
    },
  });
}

export function useSetUp() {
  return useMutation({ mutationFn: (body: Schemas["SetUpBody"]) => must(api.POST("/api/v1/set-up", { body, params: {} })) });
}

export function useSignOut() {
  return useMutation({
    mutationFn: () => must(api.POST("/api/v1/sign-out", { params: {} })),
    onSuccess: () => leave("/sign-in"),
  });
}

export function useProjects() {
  return useQuery({ queryKey: ["projects"], queryFn: () => must(api.GET("/api/v1/projects", {})) });
}

export function useBoard(project: string) {
  return useQuery({
    queryKey: [project, "board"],
    enabled: project !== "",
    queryFn: () => must(api.GET("/api/v1/projects/{project}/board", { params: { path: { project } } })),
  });
}

export function useFlag(project: string, environment: string, flag: string) {
  return useQuery({
    queryKey: [project, "env", environment, "flag", flag],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/flags/{flag}", { params: { path: { project, environment, flag } } })),
  });
}

export function useSegments(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "segments"],
    enabled: environment !== "",
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/segments", { params: { path: { project, environment } } })),
  });
}

export function useStops(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "stops"],
    enabled: environment !== "",
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/stops", { params: { path: { project, environment } } })),
  });
}

export function useInstances(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "instances"],
    enabled: environment !== "",
    refetchInterval: 3000,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/instances", { params: { path: { project, environment } } })),
  });
}

export function useKeys(project: string, environment: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "env", environment, "keys"],
    enabled,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/keys", { params: { path: { project, environment } } })),
  });
}

/** Environments that are archived: nobody follows them, and they can be brought back. */
export function useArchived(project: string) {
  return useQuery({
    queryKey: [project, "archived"],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments", { params: { path: { project }, query: { archived: "true" } } })),
  });
}

export function usePeople(project: string) {
  return useQuery({
    queryKey: [project, "people"],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/people", { params: { path: { project } } })),
  });
}

export function useAccounts(enabled: boolean) {
  return useQuery({ queryKey: ["accounts"], enabled, queryFn: () => must(api.GET("/api/v1/accounts", {})) });
}

export function useSessions() {
  return useQuery({ queryKey: ["sessions"], queryFn: () => must(api.GET("/api/v1/me/sessions", {})) });
}

/** What somebody is signed in with, for who keeps the installation. */
export function useSignedIn(account: string) {
  const path = { account };
  return {
    sessions: useQuery({ queryKey: ["accounts", account, "sessions"], queryFn: () => must(api.GET("/api/v1/accounts/{account}/sessions", { params: { path } })) }),
    tokens: useQuery({ queryKey: ["accounts", account, "tokens"], queryFn: () => must(api.GET("/api/v1/accounts/{account}/tokens", { params: { path } })) }),
  };
}

export function useTokens() {
  return useQuery({ queryKey: ["tokens"], queryFn: () => must(api.GET("/api/v1/me/tokens", {})) });
}

export interface HistoryFilter {
  environment?: string;
  flag?: string;
  person?: string;
  from?: string;
  to?: string;
  cursor?: string;
}

export function useHistory(project: string, query: HistoryFilter) {
  return useQuery({
    queryKey: [project, "history", query],
    placeholderData: (before) => before,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/history", { params: { path: { project }, query } })),
  });
}

export function useVerify(project: string) {
  // Long chains are verified a portion at a time.
  const verify = async () => {
    let report = await must(api.GET("/api/v1/projects/{project}/verify", { params: { path: { project } } }));
    while (report.cursor) report = await must(api.GET("/api/v1/projects/{project}/verify", { params: { path: { project }, query: { cursor: report.cursor } } }));
    return report;
  };
  return useMutation({ mutationFn: verify });
}

export interface SaveFlag {
  document: Schemas["Document"];
  version: number;
  reason: string;
  units?: number; // that would move, where the service asked to confirm that number
}

function putFlag(project: string, environment: string, flag: string, s: SaveFlag, dryRun: boolean) {
  return must(
    api.PUT("/api/v1/projects/{project}/environments/{environment}/flags/{flag}", {
      params: { path: { project, environment, flag }, header: { "If-Match": String(s.version) }, query: { dryRun: String(dryRun) } },
      body: { document: s.document, reason: s.reason, ...(s.units !== undefined && { units: s.units }) },
    }),
  );
}

/** useTry says what an edit would change, without saving it. */
export function useTry(project: string, environment: string, flag: string, edit: SaveFlag | undefined) {
  return useQuery({
    queryKey: ["try", project, environment, flag, edit],
    enabled: edit !== undefined,
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
    queryFn: () => putFlag(project, environment, flag, edit!, true),
  });
}

/** useChange makes a change and has everything of the project read again. */
export function useChange<In, Out>(project: string, change: (input: In) => Promise<Out>) {
  const cache = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: () => cache.invalidateQueries({ queryKey: [project] }) });
}

export function useSaveFlag(project: string, environment: string, flag: string) {
  return useChange(project, (s: SaveFlag) => putFlag(project, environment, flag, s, false));
}

export function useStop(project: string, environment: string) {
  return useChange(project, (body: Schemas["StopBody"]) =>
    must(api.POST("/api/v1/projects/{project}/environments/{environment}/stops", { params: { path: { project, environment } }, body })),
  );
}

export function useLift(project: string, environment: string) {
  return useChange(project, (body: Schemas["LiftBody"]) =>
    must(api.POST("/api/v1/projects/{project}/environments/{environment}/lifts", { params: { path: { project, environment } }, body })),
  );
}

export function useMakeFlag(project: string) {
  return useChange(project, (input: { body: Schemas["Definition"]; reason: string }) =>
    must(
      api.POST("/api/v1/projects/{project}/flags", {
        params: { path: { project } },
        body: { ...input.body, reason: input.reason },
      }),
    ),
  );
}

export function useEditDefinition(project: string, flag: string) {
  return useChange(project, (input: { body: Schemas["DefinitionEdit"]; version: number }) =>
    must(api.PATCH("/api/v1/projects/{project}/flags/{flag}", { params: { path: { project, flag }, header: { "If-Match": String(input.version) } }, body: input.body })),
  );
}

export function useWhy(project: string, environment: string, flag: string, body: Schemas["WhyBody"] | undefined) {
  return useQuery({
    queryKey: [project, "env", environment, "why", flag, body],
    enabled: body !== undefined && flag !== "",
    retry: false,
    queryFn: () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/flags/{flag}/why", { params: { path: { project, environment, flag } }, body: body! })),
  });
}

/** How often what processes report is taken as a reason to read the board again, in milliseconds. */
const boardEvery = 5_000;

/** useLive reads again what a revision or a report touches, as soon as it happens. The
    stream is open only while the page is seen: browsers allow few connections to one host,
    and many open tabs must not use them up. */
export function useLive(project: string) {
  const cache = useQueryClient();
  useEffect(() => {
    if (project === "") return;
    let source: EventSource | undefined;
    let told = 0;
    const again = (...key: string[]) => void cache.invalidateQueries({ queryKey: [project, ...key] });
    const close = () => {
      source?.close();
      source = undefined;
    };
    const open = () => {
      if (document.visibilityState !== "visible") return close();
      if (source) return;
      source = new EventSource(`/api/v1/projects/${project}/live`);
      source.addEventListener("error", () => void cache.refetchQueries({ queryKey: ["me"] }, { cancelRefetch: false })); // is it only the stream?
      source.addEventListener("revision", (e) => {
        const { environment } = JSON.parse(e.data) as { environment: string };
        again("board");
        again("history");
        again("env", environment);
      });
      source.addEventListener("report", () => {
        if (Date.now() - told < boardEvery) return; // what processes report is shown on the board as it is now and then
        told = Date.now();
        again("board");
      });
    };
    open();
    document.addEventListener("visibilitychange", open);
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", open);
    return () => {
      close();
      document.removeEventListener("visibilitychange", open);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", open);
    };
  }, [project, cache]);
}
