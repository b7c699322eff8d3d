import { useEffect, useState, useSyncExternalStore } from "react";

/* Edits that are not saved yet. They are kept for as long as the tab is, over reloads,
   other pages and an upgrade of the service, and are the person's who made them. */

const prefix = "greenlever draft ";
const owner = "greenlever drafts of";

export interface KeptDraft {
  to: string; // address of the page on which it goes on
  what: string;
}

const listeners = new Set<() => void>();
let list: KeptDraft[] | undefined; // as last read

function changed() {
  list = undefined;
  for (const l of listeners) l();
}

function read<T>(name: string): T | undefined {
  try {
    const text = sessionStorage.getItem(prefix + name);
    return text === null ? undefined : ((JSON.parse(text) as { draft: T }).draft);
  } catch {
    return undefined; // of an older console, or the browser forbids it
  }
}

function write(name: string, kept: (KeptDraft & { draft: unknown }) | undefined) {
  try {
    if (kept) sessionStorage.setItem(prefix + name, JSON.stringify(kept));
    else sessionStorage.removeItem(prefix + name);
  } catch {
    return; // there is no room, or the browser forbids it: the page still has the edit
  }
  changed();
}

/** useKept gives what was kept under a name when the page was opened. */
export function useKept<T>(name: string): T | undefined {
  const [draft] = useState(() => read<T>(name));
  return draft;
}

/** useKeep keeps a draft under a name until it is undefined. */
export function useKeep(name: string, to: string, what: string, draft: unknown) {
  useEffect(() => write(name, draft === undefined ? undefined : { to, what, draft }), [name, to, what, draft]);
}

function names(): string[] {
  try {
    return Object.keys(sessionStorage).filter((k) => k.startsWith(prefix));
  } catch {
    return [];
  }
}

function all(): KeptDraft[] {
  list ??= names()
    .toSorted()
    .flatMap((k) => {
      try {
        return [JSON.parse(sessionStorage.getItem(k) ?? "") as KeptDraft];
      } catch {
        return [];
      }
    });
  return list;
}

let leaving = false;

/** leave goes to an address outside of the page's router: edits are kept, so nobody is asked. */
export function leave(to: string) {
  leaving = true;
  window.location.assign(to);
}

/** useGuard asks before a tab is closed on an edit: what it keeps goes with it. */
export function useGuard(edited: boolean) {
  useEffect(() => {
    if (!edited) return;
    const stay = (e: BeforeUnloadEvent) => leaving || e.preventDefault();
    window.addEventListener("beforeunload", stay);
    return () => window.removeEventListener("beforeunload", stay);
  }, [edited]);
}

/** useDrafts lists all edits that wait, in order of their names. */
export function useDrafts(): KeptDraft[] {
  return useSyncExternalStore(
    (l) => {
      listeners.add(l);
      return () => listeners.delete(l);
    },
    all,
  );
}

/** draftsOf says who is at work: edits of somebody else are dropped. */
export function draftsOf(account: string) {
  try {
    const before = sessionStorage.getItem(owner);
    if (before === account) return;
    sessionStorage.setItem(owner, account);
    for (const k of before === null ? [] : names()) sessionStorage.removeItem(k);
    changed();
  } catch {
    return; // the browser forbids it, so there are none
  }
}
