import { equal, isPlain } from "./equal";

/** A Meet is a place that two people changed, each in another way. */
export interface Meet {
  path: string[]; // of fields; a thing in a list stands under its id
  base: unknown; // as it stood before both; undefined where it did not
  mine: unknown;
  theirs: unknown;
}

/** How things are put together. */
export interface Rules {
  /** whole tells which fields are one thing: what is inside of them is not put together. */
  whole?: (path: string[]) => boolean;
}

interface Identified {
  id: string;
}

const identified = (v: unknown): v is Identified[] => Array.isArray(v) && v.every((e) => isPlain(e) && typeof e.id === "string");

/** merge puts together what two people made of the same thing, field by field. Where both changed the
    same field, mine stands, and the place is among those that meet. */
export function merge<T>(base: T, mine: T, theirs: T, rules: Rules = {}): { merged: T; meets: Meet[] } {
  const meets: Meet[] = [];
  return { merged: at([], base, mine, theirs) as T, meets };

  function at(path: string[], b: unknown, m: unknown, t: unknown): unknown {
    if (equal(m, t) || equal(b, t)) return m;
    if (equal(b, m)) return t;
    if (!(rules.whole?.(path) ?? false)) {
      if (isPlain(b) && isPlain(m) && isPlain(t)) return fields(path, b, m, t);
      if (identified(b) && identified(m) && identified(t)) return lists(path, b, m, t);
    }
    meets.push({ path, base: b, mine: m, theirs: t });
    return m;
  }

  function fields(path: string[], b: Record<string, unknown>, m: Record<string, unknown>, t: Record<string, unknown>) {
    const out: Record<string, unknown> = {};
    for (const k of new Set([...Object.keys(m), ...Object.keys(t)])) {
      const v = at([...path, k], b[k], m[k], t[k]);
      if (v !== undefined) out[k] = v;
    }
    return out;
  }

  function lists(path: string[], b: Identified[], m: Identified[], t: Identified[]) {
    const of = (list: Identified[], id: string) => list.find((e) => e.id === id);
    const kept = new Map<string, unknown>();
    for (const id of new Set([...m, ...t].map((e) => e.id))) {
      const v = at([...path, id], of(b, id), of(m, id), of(t, id));
      if (v !== undefined) kept.set(id, v);
      // What I took away and they changed is shown as theirs, so that it can be had again.
    }
    return order(b, m, t).flatMap((id) => (kept.has(id) ? [kept.get(id)] : []));
  }
}

/** order gives the ids of both lists: in the order of who changed it, mine where both did; what only one
    has stands behind what it stood behind there. */
function order(b: Identified[], m: Identified[], t: Identified[]): string[] {
  const ids = (l: Identified[]) => l.map((e) => e.id);
  const common = ids(b).filter((id) => ids(m).includes(id) && ids(t).includes(id));
  const among = (l: Identified[]) => ids(l).filter((id) => common.includes(id));
  const mine = !equal(among(m), common);
  const [first, second] = mine ? [ids(m), ids(t)] : [ids(t), ids(m)];
  const out = [...first];
  second.forEach((id, i) => {
    if (out.includes(id)) return;
    const before = second.slice(0, i).findLast((p) => out.includes(p));
    out.splice(before === undefined ? 0 : out.indexOf(before) + 1, 0, id);
  });
  return out;
}

/** put gives a thing with another value at a place; undefined takes it away. */
export function put<T>(thing: T, path: string[], value: unknown): T {
  const [key, ...rest] = path;
  if (key === undefined) return value as T;
  if (identified(thing)) {
    const list: Identified[] = thing;
    const has = list.some((e) => e.id === key);
    if (rest.length > 0) return list.map((e) => (e.id === key ? put(e, rest, value) : e)) as T;
    if (value === undefined) return list.filter((e) => e.id !== key) as T;
    return (has ? list.map((e) => (e.id === key ? value : e)) : [...list, value]) as T;
  }
  const out: Record<string, unknown> = { ...(thing as Record<string, unknown>) };
  const next = put(out[key], rest, value);
  if (next === undefined) delete out[key];
  else out[key] = next;
  return out as T;
}
