import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { draftsOf, leave } from "../draft/kept";
import { say } from "../ui/said";
import { noteSignedIn, signedOut } from "./connection";
import { api, ApiProblem, keepCSRF, must, newKey, passes, underKey, type Schemas } from "./client";
import { clock } from "../clock";

/** How often what no event tells of is read again, in milliseconds: a page at rest asks less than once a minute. */
const restEvery = 240_000;

/** atRest is when a query is read again that no event tells of; sooner where it failed. */
export const atRest = ({ state }: { state: { error: Error | null } }): number => (passes(state.error) ? 5_000 : restEvery);

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

/** useSignInWays is how people sign in here. */
export function useSignInWays() {
  return useQuery({ queryKey: ["sign-in ways"], queryFn: () => must(api.GET("/api/v1/sign-in/ways", {})) });
}

/** useIdentities is whom providers know as somebody; as the reader where no account is named. */
export function useIdentities(account?: string) {
  return useQuery({
    queryKey: ["identities", account ?? "me"],
    queryFn: () => (account ? must(api.GET("/api/v1/accounts/{account}/identities", { params: { path: { account } } })) : must(api.GET("/api/v1/me/identities", {}))),
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

/** What a page of the Board asks for. */
export interface BoardQuery {
  find?: string;
  environments?: string;
  sort?: string;
  group?: string;
  pinned?: string;
  from?: number;
  limit?: number;
}

export const boardQuery = (project: string, q: BoardQuery) => ({
  queryKey: [project, "board", q] as const,
  queryFn: () => {
    const query = Object.fromEntries(Object.entries(q).flatMap(([k, v]) => (v === undefined || v === "" ? [] : [[k, String(v)]])));
    return must(api.GET("/api/v1/projects/{project}/board", { params: { path: { project }, query } }));
  },
});

/** useBoard reads a page of flags in environments. */
export function useBoard(project: string, q: BoardQuery) {
  return useQuery({ ...boardQuery(project, q), enabled: project !== "", placeholderData: (before) => before, retry: false });
}

/** useEnvironments is the project's small index of environments, which every page has. */
export function useEnvironments(project: string) {
  return useQuery({
    queryKey: [project, "environments"],
    enabled: project !== "",
    staleTime: 60_000,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments", { params: { path: { project } } })),
  });
}

/** useFlags finds flags by what is typed: a page of the index, never all. */
export function useFlags(project: string, find: string, limit = 30, enabled = true) {
  return useQuery({
    queryKey: [project, "flags", find, limit],
    enabled: enabled && project !== "",
    placeholderData: (before) => before,
    retry: false,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/flags", { params: { path: { project }, query: { find, limit: String(limit) } } })),
  });
}

/** useNames gives the names of flags' variants, which say how each looks. */
export function useNames(project: string, keys: string[]) {
  const asked = [...new Set(keys)].toSorted().join(",");
  const index = useQuery({
    queryKey: [project, "flags", "by key", asked],
    enabled: asked !== "",
    staleTime: 60_000,
    placeholderData: (before) => before,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/flags", { params: { path: { project }, query: { keys: asked } } })),
  });
  return (flag: string | undefined) => index.data?.flags.find((f) => f.key === flag)?.variants ?? [];
}

export function useRecipes(project: string) {
  return useQuery({ queryKey: [project, "recipes"], queryFn: () => must(api.GET("/api/v1/projects/{project}/recipes", { params: { path: { project } } })) });
}

export function useFlag(project: string, environment: string, flag: string) {
  return useQuery({
    queryKey: [project, "env", environment, "flag", flag],
    refetchInterval: atRest, // since when code asks is told by no event
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

/** How often a stop that still arrives is looked at, in milliseconds, and for how long it is. */
const arriving = { every: 2_000, for: 120_000 };

/** useStopStory is a stop from its cause to its end; soon after it, it is read every two seconds. */
export function useStopStory(project: string, environment: string, stop: string) {
  return useQuery({
    queryKey: [project, "env", environment, "stop", stop],
    enabled: stop !== "",
    refetchInterval: (q) => {
      const s = q.state.data;
      const young = s && clock() - Math.max(s.at, s.liftedAt ?? 0) < arriving.for;
      return young ? arriving.every : s?.wave && s.wave.reached < s.wave.expected ? 5 * arriving.every : atRest(q);
    },
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/stops/{stop}", { params: { path: { project, environment, stop } } })),
  });
}

/** useTryLift says what a lift would move. */
export function useTryLift(project: string, environment: string, stops: string[], enabled: boolean) {
  return useQuery({
    queryKey: ["try lift", project, environment, stops],
    enabled,
    retry: false,
    queryFn: () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/lifts", { params: { path: { project, environment }, query: { dryRun: "true" } }, body: { stops, reason: "not said yet" } })),
  });
}

/** useTripwires are the addresses at which monitoring systems stop flags, and what they stopped for. */
export function useTripwires(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "tripwires"],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/environments/{environment}/tripwires", { params: { path: { project, environment } } })),
  });
}

/** useSayWhy gives a stop its reason afterwards. */
export function useSayWhy(project: string, environment: string, stop: string) {
  return useChange(project, (reason: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/stops/{stop}/reason", { params: { path: { project, environment, stop } }, body: { reason } })));
}

export function useInstances(project: string, environment: string) {
  return useQuery({
    queryKey: [project, "env", environment, "instances"],
    enabled: environment !== "",
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
  find?: string;
  action?: string;
  cursor?: string;
}

export function useChanges(project: string, query: HistoryFilter) {
  return useQuery({
    queryKey: [project, "history", query],
    placeholderData: (before) => before,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/changes", { params: { path: { project }, query: { ...query } } })),
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
  propose?: boolean; // it is looked at as a proposal, for who may not save it
}

function putFlag(project: string, environment: string, flag: string, s: SaveFlag, dryRun: boolean) {
  return must(
    api.PUT("/api/v1/projects/{project}/environments/{environment}/flags/{flag}", {
      params: { path: { project, environment, flag }, header: { "If-Match": String(s.version) }, query: { dryRun: String(dryRun), ...(s.propose && { propose: "new" }) } },
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

/** How long an attempt whose end nobody knows may be made again under its key, in milliseconds. */
const sameAttempt = 60_000;

/** useChange makes a change and has everything of the project read again. An attempt whose answer was lost is
    made again under the same key, so that it is not done twice. Stops and lifts take a new key each time:
    what an old one answers would not be true any more, and twice does no harm. */
export function useChange<In, Out>(project: string, change: (input: In) => Promise<Out>, done?: (out: Out, input: In) => string) {
  const cache = useQueryClient();
  const attempt = useRef<{ key: string; input: string; at: number }>(undefined);
  return useMutation({
    mutationFn: async (input: In) => {
      const said = JSON.stringify(input) ?? "";
      const last = attempt.current;
      const again = last !== undefined && last.input === said && Date.now() - last.at < sameAttempt;
      const now = again ? last : { key: newKey(), input: said, at: Date.now() };
      attempt.current = now;
      try {
        const out = await underKey(now.key, () => change(input));
        attempt.current = undefined;
        return out;
      } catch (e) {
        if (e instanceof ApiProblem && e.status !== 0 && e.status < 500) attempt.current = undefined;
        throw e;
      }
    },
    onSuccess: (out, input) => {
      const text = done?.(out, input);
      if (text) say(text);
      void cache.invalidateQueries({ queryKey: [project] }); // who waits for the change does not wait for the page
    },
  });
}

export function useSaveFlag(project: string, environment: string, flag: string) {
  const cache = useQueryClient();
  return useChange(project, (s: SaveFlag) => putFlag(project, environment, flag, s, false), (saved) => {
    // The page shows what was saved at once, and reads the rest anew.
    const { document, version, revision, sentence, says } = saved;
    cache.setQueryData<Schemas["FlagView"]>([project, "env", environment, "flag", flag], (v) => v && { ...v, document, version, revision, sentence, says, changed: clock(), by: "" });
    return `Saved: ${flag} in ${environment}, version ${version}.`;
  });
}

/** useFreshChange makes a change that may be made twice. What it says is said whatever becomes of the part of
    the page that asked. */
function useFreshChange<In, Out>(project: string, change: (input: In) => Promise<Out>, done: (out: Out) => string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: (out) => {
      say(done(out));
      void cache.invalidateQueries({ queryKey: [project] });
    },
  });
}

export function useStop(project: string, environment: string) {
  return useFreshChange(
    project,
    (body: Schemas["StopBody"]) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/stops", { params: { path: { project, environment } }, body })),
    (stopped) => `Stopped: ${stopped.flags.join(", ")} in ${environment}.`,
  );
}

export function useLift(project: string, environment: string) {
  return useFreshChange(
    project,
    (body: Schemas["LiftBody"]) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/lifts", { params: { path: { project, environment } }, body })),
    (lifted) => `Lifted: ${lifted.flags.join(", ")} in ${environment}.`,
  );
}

export function useMakeFlag(project: string) {
  return useChange(project, (input: { body: Schemas["NewFlagBody"]; reason: string }) =>
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

/** What the stream tells: see the service. */
interface Moved {
  environment: string;
  revision: number;
  flags?: string[];
  segments?: string[];
}

type Reported = Pick<Schemas["BoardEnvironment"], "instances" | "delivered" | "lost"> & { environment: string; revision?: number };

/** useLive keeps what is shown as it is, by what the stream tells: a revision has what it touched read again,
    a delivery is put in place. The stream is open only while the page is seen: browsers allow few connections
    to one host, and many open tabs must not use them up. */
export function useLive(project: string) {
  const cache = useQueryClient();
  useEffect(() => {
    if (project === "") return;
    let source: EventSource | undefined;
    const known = new Map<string, number>(); // the revision that was heard of last, by environment
    const again = (...key: unknown[]) => void cache.invalidateQueries({ queryKey: [project, ...key] });
    let later: ReturnType<typeof setTimeout> | undefined;
    const close = () => {
      clearTimeout(later);
      source?.close();
      source = undefined;
    };
    const moved = (m: Moved) => {
      known.set(m.environment, m.revision);
      again("board");
      again("history");
      if (!m.segments && !m.flags) return again(); // of the environment itself, or of very much
      if (m.segments) return again("env", m.environment);
      const touches = new Set(m.flags);
      // Other flags' own pages stay as they are; what may stand on any flag is read again.
      void cache.invalidateQueries({
        queryKey: [project, "env", m.environment],
        predicate: ({ queryKey: [, , , what, flag] }) => what !== "flag" || touches.has(flag as string),
      });
    };
    const open = () => {
      if (document.visibilityState !== "visible") return close();
      if (source) return;
      source = new EventSource(`/api/v1/projects/${project}/live`);
      source.addEventListener("open", () => {
        if (signedOut()) void cache.refetchQueries({ queryKey: ["me"] }); // in another tab, somebody signed in
      });
      source.addEventListener("error", () => {
        void cache.refetchQueries({ queryKey: ["me"] }, { cancelRefetch: false }); // is it only the stream?
        if (source?.readyState !== EventSource.CLOSED) return; // it comes back by itself
        close(); // a refusal ends it for good: who signs in again is to follow again
        later = setTimeout(open, 5_000);
      });
      source.addEventListener("standing", (e) => {
        const m = JSON.parse(e.data) as Moved;
        const index = cache.getQueryData<Schemas["EnvironmentList"]>([project, "environments"]);
        const first = !known.has(m.environment);
        const before = known.get(m.environment) ?? index?.items.find((i) => i.key === m.environment)?.revision;
        known.set(m.environment, m.revision);
        // What nobody told, because the stream was not open, is read again.
        if (!first) again("environments");
        if (before !== m.revision) again("env", m.environment);
        if (before !== m.revision) again("board");
      });
      source.addEventListener("revision", (e) => moved(JSON.parse(e.data) as Moved));
      source.addEventListener("project", () => again());
      source.addEventListener("report", (e) => {
        const { environment, ...now } = JSON.parse(e.data) as Reported;
        cache.setQueriesData<Schemas["Board"]>({ queryKey: [project, "board"] }, (b) => b && { ...b, environments: b.environments.map((x) => (x.key === environment ? { ...x, ...now } : x)) });
        again("env", environment, "instances");
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
