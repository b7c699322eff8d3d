import createClient, { type Middleware } from "openapi-fetch";
import { noteClock } from "../clock";
import { noteAnswer, signedInTimes, unable } from "./connection";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Field = Schemas["FieldProblem"];

/** ApiProblem is an answer that refuses: what is wrong, where, and the mend. */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly fields: Field[],
    readonly more: Record<string, unknown>,
  ) {
    super(detail);
  }
}

/** passes tells of a failure that is not about what was asked, and may be over soon. */
export const passes = (e: unknown): boolean => e !== null && e !== undefined && (!(e instanceof ApiProblem) || e.status === 0 || e.status === 429 || e.status >= 500);

let csrf = "";

/** keepCSRF keeps the session's token, which every change sends along. */
export function keepCSRF(token: string | undefined) {
  csrf = token ?? csrf;
}

/** newKey names one attempt at a change. The browser's own way to make one is not there over
    plain HTTP from another host. */
export function newKey(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
}

/** sessionHeaders are what a change must carry. */
export function sessionHeaders(): Record<string, string> {
  return { "X-Greenlever-CSRF": csrf, "Idempotency-Key": under ?? newKey() };
}

let under: string | undefined;

/** underKey has the next change be the attempt of a key. */
export function underKey<T>(key: string, change: () => Promise<T>): Promise<T> {
  under = key;
  try {
    return change(); // asks before it waits
  } finally {
    under = undefined;
  }
}

/** Accounts and sessions take no idempotency key: what was answered there is not done again. */
const unkeyed = /^\/api\/v1\/(me|accounts|teams|robots|sign-|set-up)/;

const session: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") {
      request.headers.set("X-Greenlever-CSRF", csrf);
      if (!request.headers.has("Idempotency-Key") && !unkeyed.test(new URL(request.url).pathname)) request.headers.set("Idempotency-Key", under ?? newKey());
    }
    return request;
  },
  onResponse({ response }) {
    noteClock(response);
  },
};

export const api = createClient<paths>({ baseUrl: window.location.origin });
api.use(session);

interface Result<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** What a change answers where it is made, and not proposed: see useProposeFlag. */
type Made<T> = [Exclude<T, Schemas["Proposal"]>] extends [never] ? T : Exclude<T, Schemas["Proposal"]>;

/** must gives the answer's data, or throws its problem. */
export async function must<T>(call: Promise<Result<T>>): Promise<Made<T>> {
  let result: Result<T>;
  const asked = signedInTimes();
  try {
    result = await call;
  } catch {
    noteAnswer(0, "");
    throw new ApiProblem(0, "The service cannot be reached. Nothing is lost: try again.", [], {});
  }
  noteAnswer(result.response.status, result.response.url, asked);
  if (result.response.ok) return result.data as Made<T>;
  const body = (result.error ?? {}) as { detail?: string; fields?: Field[] };
  const { status, statusText } = result.response;
  // The service speaks to programs there, of headers.
  const said = unable.has(status) ? `The service cannot answer now (${status}). Nothing is lost: try again.` : (body.detail ?? statusText);
  throw new ApiProblem(status, said, body.fields ?? [], body as Record<string, unknown>);
}
