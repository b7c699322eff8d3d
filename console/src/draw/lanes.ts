/* The lanes of a course: what each watch had found over time, the ratio new to old with its bounds, on a scale on which
   twice as much and half as much are equally far from as much. Pure. */

export interface Found {
  at: number;
  run: number;
  verdict: string;
  ratio?: number;
  low?: number;
  high?: number;
}

/** laneName says what a lane is of. */
export const laneName = (l: { metric: string; variant?: string | undefined }): string => (l.variant ? `${l.metric}, ${l.variant}` : l.metric);

const far = (r: number | undefined) => (r && r > 0 ? Math.max(r, 1 / r) : 1);

/** widest is the ratio at the edge of a lane: it shows the tolerance and the estimates, and is never less than two. */
export function widest(points: Found[], tolerated: number): number {
  return Math.min(16, Math.max(2, far(tolerated) * 1.4, ...points.map((p) => far(p.ratio) * 1.2)));
}

/** level is where a ratio stands in a lane: 0 is its upper edge, 1 its lower one. */
export function level(ratio: number, edge: number): number {
  const part = 0.5 - Math.log(Math.max(ratio, 1e-9)) / Math.log(edge) / 2;
  return Math.max(0, Math.min(1, part));
}

/** runs splits what was found where the evidence began anew: nothing is drawn across. */
export function runs(points: Found[]): Found[][] {
  const out: Found[][] = [];
  for (const p of points) {
    if (out.at(-1)?.[0]?.run === p.run) out.at(-1)!.push(p);
    else out.push([p]);
  }
  return out;
}

/** outline is the band between the bounds, once around: a bound that is not known lies at the edge. */
export function outline(points: Found[], edge: number, until: number): [at: number, level: number][] {
  const last = points.at(-1);
  if (!last) return [];
  const all = [...points, { ...last, at: Math.max(until, last.at) }];
  const upper = all.map((p): [number, number] => [p.at, level(p.high ?? edge, edge)]);
  const lower = all.map((p): [number, number] => [p.at, level(p.low ?? 1 / edge, edge)]);
  return [...upper, ...lower.toReversed()];
}

/** verdicts are the moments at which a watch first found something, in each run. */
export function verdicts(points: Found[]): { at: number; verdict: string }[] {
  return runs(points).flatMap((run) => {
    const out: { at: number; verdict: string }[] = [];
    let was = "undecided";
    for (const p of run) {
      if (p.verdict !== was && p.verdict !== "undecided") out.push({ at: p.at, verdict: p.verdict });
      was = p.verdict;
    }
    return out;
  });
}

/** lastBefore is what was found last before a moment. */
export function lastBefore<P extends Found>(points: P[], ms: number): P | undefined {
  return points.findLast((p) => p.at <= ms);
}

/** times says a ratio with two digits that count. */
export function times(r: number): string {
  if (r >= 100) return String(Math.round(r));
  return String(Number(r.toPrecision(2)));
}

/** bounds says where a ratio lies; empty where nothing is known. */
export function bounds(p: { ratio?: number; low?: number; high?: number }): string {
  if (p.low !== undefined && p.high !== undefined) return `${times(p.low)} to ${times(p.high)} times`;
  if (p.low !== undefined) return `at least ${times(p.low)} times`;
  if (p.high !== undefined) return `at most ${times(p.high)} times`;
  return p.ratio !== undefined ? `about ${times(p.ratio)} times` : "";
}
