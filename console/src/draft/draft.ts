import { equal } from "./equal";
import { merge, put, type Meet, type Rules } from "./merge";

/* An edit of one thing, from its beginning until it is saved or dropped. Nothing here knows of pages. */

export interface Draft<T> {
  base: T; // as it stood when the edit began, or when what others saved was taken in
  version: number; // of the base
  now: T;
  past: Step<T>[]; // newest last
  next: T[]; // taken back, and can be done again; newest last
  meets: Meet[]; // what others changed too; each has to be settled
  taken?: number; // the version of somebody else that it was put on top of last
}

interface Step<T> {
  was: T;
  field: string;
  at: number;
}

export type Action<T> =
  | { do: "edit"; now: T; field: string; at: number } // field names what is edited; "" is a step of its own
  | { do: "undo" }
  | { do: "redo" }
  | { do: "theirs"; base: T; version: number } // somebody saved
  | { do: "settle"; path: string[]; side: "mine" | "theirs" }
  | { do: "saved"; sent: T; base: T; version: number }
  | { do: "drop" };

/** What is typed in one go is one step: up to this long after its last letter, in milliseconds. */
const oneGo = 1_000;

const mostSteps = 200;

export function begin<T>(base: T, version: number): Draft<T> {
  return { base, version, now: base, past: [], next: [], meets: [] };
}

export const changed = <T>(d: Draft<T> | undefined): boolean => d !== undefined && !equal(d.base, d.now);

export function reduce<T>(d: Draft<T>, a: Action<T>, rules: Rules = {}): Draft<T> | undefined {
  switch (a.do) {
    case "edit": {
      if (equal(d.now, a.now)) return d;
      const last = d.past.at(-1);
      const goesOn = last !== undefined && a.field !== "" && last.field === a.field && a.at - last.at < oneGo;
      const past = goesOn ? [...d.past.slice(0, -1), { ...last, at: a.at }] : [...d.past.slice(1 - mostSteps), { was: d.now, field: a.field, at: a.at }];
      return { ...d, now: a.now, past, next: [] };
    }
    case "undo": {
      const last = d.past.at(-1);
      return last ? { ...d, now: last.was, past: d.past.slice(0, -1), next: [...d.next, d.now] } : d;
    }
    case "redo": {
      const again = d.next.at(-1);
      return again === undefined ? d : { ...d, now: again, past: [...d.past, { was: d.now, field: "", at: 0 }], next: d.next.slice(0, -1) };
    }
    case "theirs": {
      if (a.version <= d.version) return d;
      const { merged, meets } = merge(d.base, d.now, a.base, rules);
      // It has become what was wanted, or an answer was lost that said so.
      if (equal(merged, a.base) && d.meets.length + meets.length === 0) return undefined;
      // Steps from before would take back what they saved.
      const over = (one: T) => merge(d.base, one, a.base, rules).merged;
      return {
        base: a.base,
        version: a.version,
        taken: a.version,
        now: merged,
        past: d.past.map((s) => ({ ...s, was: over(s.was) })),
        next: d.next.map(over),
        meets: [...d.meets.filter((m) => !meets.some((n) => equal(n.path, m.path))), ...meets],
      };
    }
    case "settle": {
      const meet = d.meets.find((m) => equal(m.path, a.path));
      if (!meet) return d;
      const meets = d.meets.filter((m) => m !== meet);
      if (a.side === "mine") return { ...d, meets };
      return { ...d, meets, now: put(d.now, meet.path, meet.theirs), past: [...d.past, { was: d.now, field: "", at: 0 }], next: [] };
    }
    case "saved": {
      if (equal(d.now, a.sent)) return undefined;
      // What was typed while it was being saved goes on, on top of it.
      const { merged } = merge(a.sent, d.now, a.base, rules);
      return { ...begin(a.base, a.version), now: merged };
    }
    case "drop":
      return undefined;
  }
}
