/* The geometry of the track: widths are true to the units that they stand for. */

/** How many units go where. */
export interface Flow {
  before: number; // the edit; the same as after where there is none
  after: number;
}

export interface Branch {
  id: string;
  takes: Flow;
  /** What the branch's units get, in parts per million of them, in the order in which it is drawn. */
  gets: { variant: string; part: number }[];
}

export interface Stage {
  id: string;
  line: number; // width of the line above, in pixels
  wasLine: number;
  next: number; // of the line below
  wasNext: number;
  width: number; // of the branch
  was: number;
}

/** hair is the least width of what is there at all, in pixels. */
export const hair = 2;

const scaled = (n: number, total: number, full: number) => (total <= 0 || n <= 0 ? 0 : Math.max(hair, (full * n) / total));

/** stages gives the widths at each branch, from the top. What is left behind the last one takes the end. */
export function stages(total: Flow, branches: Branch[], full: number): Stage[] {
  let after = total.after;
  let before = total.before;
  return branches.map((b) => {
    const line = scaled(after, total.after, full);
    const wasLine = scaled(before, total.before, full);
    after = Math.max(0, after - b.takes.after);
    before = Math.max(0, before - b.takes.before);
    return {
      id: b.id,
      line,
      wasLine,
      next: scaled(after, total.after, full),
      wasNext: scaled(before, total.before, full),
      width: scaled(b.takes.after, total.after, full),
      was: scaled(b.takes.before, total.before, full),
    };
  });
}

/** bands splits a branch's width among what its units get. A part that is there keeps a hairline, which the
    widest gives. */
export function bands(width: number, gets: Branch["gets"]): { variant: string; from: number; width: number }[] {
  const there = gets.filter((g) => g.part > 0);
  const sum = there.reduce((s, g) => s + g.part, 0);
  if (width <= 0 || sum <= 0) return [];
  const least = Math.min(hair, width / there.length);
  const widths = there.map((g) => Math.max(least, (width * g.part) / sum));
  const over = widths.reduce((s, w) => s + w, 0) - width;
  const widest = widths.indexOf(Math.max(...widths));
  widths[widest]! -= over;
  let from = 0;
  return there.map((g, i) => {
    const band = { variant: g.variant, from, width: widths[i]! };
    from += widths[i]!;
    return band;
  });
}

const n = (v: number) => Number(v.toFixed(2));

/** bend is the outline of a branch that leaves the line on its right side: it comes down between line-width
    and line, turns, and goes right at the height y to x. */
export function bend(line: number, width: number, y: number, radius: number, x: number): string {
  const left = line - width;
  const r = Math.min(radius, y);
  return [
    `M${n(left)} 0`,
    `H${n(line)}`,
    `V${n(y - r)}`,
    `A${n(r)} ${n(r)} 0 0 0 ${n(line + r)} ${n(y)}`,
    `H${n(x)}`,
    `V${n(y + width)}`,
    `H${n(line + r)}`,
    `A${n(r + width)} ${n(r + width)} 0 0 1 ${n(left)} ${n(y - r)}`,
    "Z",
  ].join("");
}

/** A branch by shares alone, where no unit is known: what is drawn then is what would be of 1,000 units. */
export const unknown = 1_000;

export interface GivesLike {
  variant?: string | undefined;
  shares?: { parts: { variant?: string | undefined; goesOn?: boolean | undefined; share: number }[] } | undefined;
}

/** getsOf says what the units of a branch get. */
export function getsOf(g: GivesLike): Branch["gets"] {
  if (!g.shares) return g.variant === undefined ? [] : [{ variant: g.variant, part: 1_000_000 }];
  return g.shares.parts.flatMap((p) => (p.variant !== undefined && !p.goesOn ? [{ variant: p.variant, part: p.share }] : []));
}

/** takenBy is how many of some units a rule takes by its shares. */
export function takenBy(units: number, g: GivesLike): number {
  const goesOn = g.shares?.parts.find((p) => p.goesOn)?.share ?? 0;
  return (units * (1_000_000 - goesOn)) / 1_000_000;
}

/** platforms are the totals of each variant, over all branches. */
export function platforms(names: string[], branches: (Branch & { was?: Branch["gets"] })[]): Map<string, Flow> {
  const out = new Map<string, Flow>(names.map((n) => [n, { before: 0, after: 0 }]));
  const add = (gets: Branch["gets"], units: number, side: keyof Flow) => {
    const sum = gets.reduce((s, g) => s + g.part, 0);
    for (const g of gets) {
      const f = out.get(g.variant) ?? { before: 0, after: 0 };
      f[side] += sum > 0 ? (units * g.part) / sum : 0;
      out.set(g.variant, f);
    }
  };
  for (const b of branches) {
    add(b.gets, b.takes.after, "after");
    add(b.was ?? b.gets, b.takes.before, "before");
  }
  return out;
}
