import { useSyncExternalStore } from "react";

/** What every answer and every failure tells of the connection to the service. */
export interface Connection {
  since: number | undefined; // when it was found to be gone, in milliseconds since 1970
  signedOut: boolean; // the service answers, and does not know the session any more
}

let state: Connection = { since: undefined, signedOut: false };
const listeners = new Set<() => void>();

function become(next: Connection) {
  if (next.since === state.since && next.signedOut === state.signedOut) return;
  state = next;
  for (const l of listeners) l();
}

/** Statuses of answers of a service that cannot work now, or of what stands before it. */
export const unable = new Set([502, 503, 504]);

let signIns = 0;

/** signedOut says whether the page believes that its session is over. */
export const signedOut = (): boolean => state.signedOut;

/** signedInTimes counts how often it was found that somebody is signed in. */
export const signedInTimes = (): number => signIns;

/** noteAnswer takes what came back, or 0 where nothing did, for what was asked after so many sign-ins. A refusal of what was asked
    before the last one says nothing of the session that there is now. */
export function noteAnswer(status: number, url: string, asked = signIns) {
  if (status === 401 && asked < signIns) return;
  if (status === 0 || unable.has(status)) become({ ...state, since: state.since ?? Date.now() });
  else if (status === 401 && !url.endsWith("/sign-in")) become({ since: undefined, signedOut: true });
  else become({ ...state, since: undefined });
}

export function noteSignedIn() {
  signIns++;
  become({ since: undefined, signedOut: false });
}

const listen = (l: () => void) => {
  listeners.add(l);
  return () => listeners.delete(l);
};

export function useConnection(): Connection {
  return useSyncExternalStore(listen, () => state);
}

/** useOld says when something was read, in milliseconds since 1970, where it can't be read anew now. */
export function useOld(read: { isError: boolean; dataUpdatedAt: number }): number | undefined {
  const { since } = useConnection();
  return since !== undefined || read.isError ? read.dataUpdatedAt : undefined;
}
