/* The course of a release: one time axis, now at three quarters of it, what was to its left and what is planned
   to its right. Pure: what is drawn, in parts of the whole, and what is said of a moment. */

export interface Step {
  at: number;
  tell: string;
  is: string;
  stage: number;
  share: number; // parts per million
}

export interface Planned {
  name: string;
  share: number;
  least: number; // milliseconds
}

export interface Piece {
  from: number;
  to: number;
  is: string;
  stage: number;
  share: number;
  planned: boolean;
}

/** pieces are the spans of time in which a release stood in one way, up to now or its end. */
export function pieces(steps: Step[], until: number): Piece[] {
  return steps.flatMap((s, i) => {
    const to = Math.min(steps[i + 1]?.at ?? until, until);
    return to > s.at || i === steps.length - 1 ? [{ from: s.at, to: Math.max(to, s.at), is: s.is, stage: s.stage, share: s.is === "rolled-back" || s.is === "withdrawn" ? 0 : s.share, planned: false }] : [];
  });
}

/** ahead are the stages to come, each as long as it takes at least; what takes no time gets a little, to be seen. */
export function ahead(stages: Planned[], at: number, left: number, now: number, least: number): Piece[] {
  const out: Piece[] = [];
  let from = now;
  let share = 0;
  stages.forEach((s, i) => {
    share = Math.max(share, s.share);
    if (i < at) return;
    const to = from + Math.max(i === at ? left : s.least, least);
    out.push({ from, to, is: "under-way", stage: i, share, planned: true });
    from = to;
  });
  return out;
}

export interface Axis {
  from: number;
  now: number;
  to: number;
}

/** Where now stands while a release goes. */
const nowAt = 0.75;

/** The least that the axis shows of the past, in milliseconds. */
const leastPast = 60_000;

export function axisOf(made: number, now: number, ended: number): Axis {
  if (ended > 0) return { from: made, now: ended, to: made + Math.max((ended - made) / 0.96, leastPast) };
  const past = Math.max(now - made, leastPast);
  return { from: now - past, now, to: now - past + past / nowAt };
}

/** place is where on the axis something is, from 0 to 1; beyond it what is not seen. */
export const place = (a: Axis, at: number): number => (at - a.from) / (a.to - a.from);

const steps = [1_000, 5_000, 15_000, 60_000, 300_000, 900_000, 3_600_000, 4 * 3_600_000, 12 * 3_600_000, 86_400_000, 7 * 86_400_000, 28 * 86_400_000];

/** ticks are round times on the axis, at most so many. */
export function ticks(a: Axis, most: number, offset: number): number[] {
  const step = steps.find((s) => (a.to - a.from) / s <= most) ?? steps.at(-1)!;
  const out: number[] = [];
  for (let t = Math.ceil((a.from + offset) / step) * step - offset; t <= a.to; t += step) out.push(t);
  return out;
}

/** at gives the piece in which a moment lies. */
export function at(all: Piece[], ms: number): Piece | undefined {
  return all.find((p) => p.from <= ms && ms < p.to) ?? all.at(ms >= (all.at(-1)?.to ?? 0) ? -1 : 0);
}

/** line is a series of counts as points of a line on the axis, x and y from 0 to 1; y runs down. */
export function line(a: Axis, from: number, step: number, counts: number[], most: number): [number, number][] {
  return counts.flatMap((n, i): [number, number][] => {
    const x = place(a, from + (i + 0.5) * step);
    return x < 0 || x > 1 || from + i * step > a.now ? [] : [[x, 1 - n / Math.max(1, most)]];
  });
}

const spans: [string, number][] = [["15m", 900_000], ["1h", 3_600_000], ["6h", 6 * 3_600_000], ["1d", 86_400_000], ["7d", 7 * 86_400_000], ["30d", 30 * 86_400_000], ["90d", 90 * 86_400_000]];

/** spanFor is the shortest span of counts that holds so long a time up to now. */
export const spanFor = (ms: number): string => (spans.find(([, long]) => long >= ms) ?? spans.at(-1)!)[0];

/** millis reads a length of time as the service writes it: 2d12h. */
export function millis(text: string | undefined): number {
  const units: Record<string, number> = { d: 86_400_000, h: 3_600_000, m: 60_000, s: 1_000, ms: 1 };
  return [...(text ?? "").matchAll(/(\d+)(ms|d|h|m|s)/g)].reduce((sum, [, n, unit]) => sum + Number(n) * units[unit!]!, 0);
}

/** lasts says a length of time in its two largest units. */
export function lasts(ms: number): string {
  const parts: [string, number][] = [["d", 86_400_000], ["h", 3_600_000], ["min", 60_000], ["s", 1_000]];
  const out: string[] = [];
  let left = ms;
  for (const [name, of] of parts) {
    const n = Math.floor(left / of);
    left -= n * of;
    if (n > 0) out.push(`${n} ${name}`);
    if (out.length === 2 || (out.length === 1 && n === 0)) break;
  }
  return out.join(" ") || "a moment";
}

/** initials of a name, for a mark that is narrow. */
export const initials = (name: string): string =>
  name
    .split(/\s+/)
    .map((w) => w[0] ?? "")
    .join("")
    .slice(0, 3)
    .toUpperCase();
