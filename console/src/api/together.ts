import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "./client";
import { atRest, useChange } from "./queries";

/* What several people do together: proposals, what waits for one, the calendar and policies. None of it makes a
   revision that an event tells of, so it is looked at. */

export type ProposalLine = Schemas["ProposalLine"];
export type ProposalView = Schemas["ProposalView"];
export type Want = Schemas["WantProposal"];
export type Need = Schemas["NeedOf"];
export type Dated = Schemas["ItemCalendar"];
export type Policy = Schemas["Policy"];
export type PolicyView = Schemas["PolicyView"];

const at = "/api/v1/projects/{project}/proposals/{proposal}";

/** How often what others sign is looked at, in milliseconds. */
const lookEvery = 15_000;

export function useNeeds(project: string) {
  return useQuery({
    queryKey: [project, "needs"],
    enabled: project !== "",
    refetchInterval: 2 * lookEvery,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/needs", { params: { path: { project } } })),
  });
}

export function useProposals(project: string) {
  return useQuery({
    queryKey: [project, "proposals"],
    refetchInterval: lookEvery,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/proposals", { params: { path: { project } } })),
  });
}

export function useProposal(project: string, proposal: string) {
  return useQuery({
    queryKey: [project, "proposal", proposal],
    refetchInterval: lookEvery,
    queryFn: () => must(api.GET(at, { params: { path: { project, proposal } } })),
  });
}

/** useOnProposal is everything that is done with a proposal. */
export function useOnProposal(project: string, p: ProposalView) {
  const path = { project, proposal: p.id };
  const seen = { "If-Match": String(p.version) };
  return {
    sign: useChange(project, (back: boolean) => must(api.POST(`${at}/signatures`, { params: { path }, body: { digest: p.digest, back } })), (_, back) => (back ? "Your signature is taken back." : "Signed.")),
    say: useChange(project, (text: string) => must(api.POST(`${at}/comments`, { params: { path }, body: { text } }))),
    edit: useChange(project, (body: Schemas["EditProposal"]) => must(api.PATCH(at, { params: { path, header: seen }, body })), () => "Saved."),
    takeOut: useChange(project, (item: number) => must(api.POST(`${at}/items/{item}/remove`, { params: { path: { ...path, item: String(item) }, header: seen } })), () => "Taken out."),
    withdraw: useChange(project, () => must(api.POST(`${at}/withdraw`, { params: { path } })), () => "Withdrawn."),
    apply: useChange(project, () => must(api.POST(`${at}/apply`, { params: { path } })), () => "Made."),
  };
}

export function useCalendar(project: string, from: number, to: number) {
  return useQuery({
    queryKey: [project, "calendar", from, to],
    placeholderData: (before) => before,
    refetchInterval: atRest,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/calendar", { params: { path: { project }, query: { from: String(from), to: String(to) } } })),
  });
}

export function useCalendarAddresses(project: string) {
  return useQuery({
    queryKey: [project, "calendar-addresses"],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/calendar/addresses", { params: { path: { project } } })),
  });
}

export function usePolicies(project: string) {
  return useQuery({
    queryKey: [project, "policies"],
    queryFn: () => must(api.GET("/api/v1/projects/{project}/policies", { params: { path: { project } } })),
  });
}

export function usePolicyLibrary(project: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "policy-library"],
    enabled,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/policies/library", { params: { path: { project } } })),
  });
}

export function useRulings(project: string, policy: string, enabled: boolean) {
  return useQuery({
    queryKey: [project, "rulings", policy],
    enabled,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/policies/{policy}/rulings", { params: { path: { project, policy } } })),
  });
}

export interface ProposeFlag {
  document: Schemas["Document"];
  version: number;
  reason: string;
  units?: number;
}

/** useProposeFlag proposes a flag's document in place of saving it. */
export function useProposeFlag(project: string, environment: string, flag: string) {
  return useChange(
    project,
    async (s: ProposeFlag) =>
      (await must(
        api.PUT("/api/v1/projects/{project}/environments/{environment}/flags/{flag}", {
          params: { path: { project, environment, flag }, header: { "If-Match": String(s.version) }, query: { propose: "new", title: s.reason || `${flag} in ${environment}` } },
          body: { document: s.document, reason: s.reason, ...(s.units !== undefined && { units: s.units }) },
        }),
      )) as unknown as Schemas["Proposal"],
    (p) => `Proposed: ${p.title}.`,
  );
}
