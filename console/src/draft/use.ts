import { useCallback, useEffect, useMemo, useReducer, useRef } from "react";
import { equal } from "./equal";
import { begin, changed, reduce, type Action, type Draft } from "./draft";
import { useGuard, useKeep, useKept } from "./kept";
import type { Rules } from "./merge";

/** What is edited, and where it goes on. */
export interface Edited<T> {
  name: string; // under which the edit is kept
  to: string; // address of the page
  what: string; // for people
  base: T | undefined; // as it stands; undefined while that is being read
  version: number;
  rules?: Rules;
}

export interface Editing<T> {
  value: T | undefined; // as it is edited, else as it stands
  draft: Draft<T> | undefined; // nothing where nothing was edited
  edited: boolean;
  taken: number | undefined; // the version of somebody else that the edit was put on top of
  edit: (now: T, field?: string) => void;
  undo: (() => void) | undefined;
  redo: (() => void) | undefined;
  settle: (path: string[], side: "mine" | "theirs") => void;
  attempt: (expected: T) => void; // it is about to be saved, and will stand so
  saved: (sent: T, base: T, version: number) => void;
  drop: () => void;
}

interface Kept<T> {
  draft: Draft<T>;
}

type Event<T> = { action: Action<T>; base: T | undefined; version: number; rules: Rules };

function next<T>(d: Draft<T> | undefined, e: Event<T>): Draft<T> | undefined {
  const from = d ?? (e.action.do === "edit" && e.base !== undefined ? begin(e.base, e.version) : undefined);
  if (!from) return undefined;
  const now = reduce(from, e.action, e.rules);
  // A beginning that changed nothing is none.
  return now && now.past.length + now.next.length + now.meets.length === 0 && !changed(now) ? undefined : now;
}

const none: Rules = {};

/** useDraft is the edit of one thing: it goes on over reloads and other pages, and over what others save. */
export function useDraft<T>({ name, to, what, base, version, rules = none }: Edited<T>): Editing<T> {
  const kept = useKept<Kept<T>>(name);
  const [draft, dispatch] = useReducer(next<T>, kept?.draft);
  const edited = changed(draft) || (draft?.meets.length ?? 0) > 0;
  useKeep(
    name,
    to,
    what,
    useMemo(() => (edited ? { draft } : undefined), [edited, draft]),
  );
  useGuard(edited);
  const send = useCallback((action: Action<T>) => dispatch({ action, base, version, rules }), [base, version, rules]);
  const behind = draft !== undefined && base !== undefined && version > draft.version;
  // What stands may be heard of before the answer, or without it: then it is one's own.
  const attempted = useRef<{ sent: T; expected: T }>(undefined);
  useEffect(() => {
    if (!behind) return;
    const mine = attempted.current;
    attempted.current = undefined;
    if (mine && equal(mine.expected, base)) send({ do: "saved", sent: mine.sent, base, version });
    else send({ do: "theirs", base, version });
  }, [behind, base, version, send]);
  return {
    value: draft?.now ?? base,
    draft,
    edited,
    taken: edited ? draft?.taken : undefined,
    edit: useCallback((now: T, field = "") => send({ do: "edit", now, field, at: Date.now() }), [send]),
    undo: draft && draft.past.length > 0 ? () => send({ do: "undo" }) : undefined,
    redo: draft && draft.next.length > 0 ? () => send({ do: "redo" }) : undefined,
    settle: useCallback((path: string[], side: "mine" | "theirs") => send({ do: "settle", path, side }), [send]),
    attempt: (expected: T) => {
      if (draft) attempted.current = { sent: draft.now, expected };
    },
    saved: useCallback(
      (sent: T, now: T, at: number) => send({ do: "saved", sent, base: now, version: at }),
      [send],
    ),
    drop: useCallback(() => send({ do: "drop" }), [send]),
  };
}
