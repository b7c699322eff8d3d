/* A rule's result is always a bar of shares: one variant is 100 % of it. */

/** All units, in parts per million. */
export const all = 1_000_000;

export interface Part {
  variant?: string | undefined;
  goesOn?: boolean | undefined;
  share: number;
  ranges?: unknown[] | undefined;
}

export interface Shares {
  by: string[];
  salt: string;
  hash: number;
  parts: Part[];
}

export interface Gives<S extends Shares = Shares> {
  variant?: string | undefined;
  shares?: S | undefined;
}

/** A Bar is a gives as it is drawn: a share for each variant, and what is left. */
export interface Bar {
  shares: Share[]; // in the order of the flag's variants, without the one that takes what is left
  rest: string; // the variant that takes what is left; "" where that goes on to the next rule
  left: number;
}

interface Share {
  variant: string;
  share: number;
}

const sum = (shares: Share[]) => shares.reduce((s, n) => s + n.share, 0);

const clamp = (n: number, most: number) => Math.max(0, Math.min(most, Math.round(n)));

const bar = (shares: Share[], rest: string): Bar => ({ shares, rest, left: all - sum(shares) });

/** barOf reads a gives. rest is who would take what is left, where nothing says so. */
export function barOf(g: Gives, names: string[], rest: string): Bar {
  const of = (takes: string, has: (n: string) => number) => bar(names.filter((n) => n !== takes).map((n) => ({ variant: n, share: has(n) })), takes);
  if (!g.shares) return of(rest, (n) => (n === g.variant ? all : 0));
  const { parts } = g.shares;
  const has = (n: string) => parts.find((p) => p.variant === n)?.share ?? 0;
  const goesOn = parts.some((p) => p.goesOn);
  return of(goesOn ? "" : rest !== "" && has(rest) > 0 ? rest : (parts.at(-1)?.variant ?? rest), has);
}

/** shareOf is the share of a variant, or of what is left. */
export const shareOf = (b: Bar, name: string): number => (name === b.rest ? b.left : (b.shares.find((s) => s.variant === name)?.share ?? 0));

/** setShare gives a variant another share. What is left gives it or takes it; where nothing is left, the
    others give it in their order, the last one first. */
export function setShare(b: Bar, name: string, share: number): Bar {
  if (name === b.rest) return setLeft(b, share);
  const shares = b.shares.map((s) => (s.variant === name ? { ...s, share: clamp(share, all) } : { ...s }));
  let over = sum(shares) - all;
  for (const s of shares.toReversed()) {
    if (over <= 0) break;
    if (s.variant === name) continue;
    const gives = Math.min(s.share, over);
    s.share -= gives;
    over -= gives;
  }
  return bar(shares, b.rest);
}

/** setLeft has more or less be left: the others keep their shares to each other. Where there are none, the
    first takes what is not left. */
function setLeft(b: Bar, left: number): Bar {
  const give = all - clamp(left, all);
  const had = all - b.left;
  const exact = b.shares.map((s, i) => (had === 0 ? (i === 0 ? give : 0) : (s.share * give) / had));
  const shares = b.shares.map((s, i) => ({ ...s, share: Math.floor(exact[i]!) }));
  // What rounding leaves over goes to where it is missed most.
  const missed = shares.map((s, i) => ({ s, by: exact[i]! - s.share })).toSorted((x, y) => y.by - x.by);
  for (const { s } of missed.slice(0, give - sum(shares))) s.share++;
  return bar(shares, b.rest);
}

/** setRest says who takes what is left: a variant, or "" for what follows. */
export function setRest(b: Bar, rest: string, names: string[]): Bar {
  if (rest === b.rest) return b;
  return bar(names.filter((n) => n !== rest).map((n) => ({ variant: n, share: shareOf(b, n) })), rest);
}

/** moveEdge drags the edge behind a part to a place from 0 to all: the parts on its two sides change, and
    no other. order is that in which the bar is drawn, what is left last. */
export function moveEdge(b: Bar, order: string[], edge: number, to: number): Bar {
  const before = order.slice(0, edge).reduce((s, n) => s + shareOf(b, n), 0);
  const [one, two] = [order[edge]!, order[edge + 1]!];
  const both = shareOf(b, one) + shareOf(b, two);
  const first = clamp(to - before, both);
  const set = (s: Share) => (s.variant === one ? first : s.variant === two ? both - first : s.share);
  return bar(b.shares.map((s) => ({ ...s, share: set(s) })), b.rest);
}

/** givesOf writes a bar. Of one variant that all get it is said without shares, unless units are drawn
    already: then they keep their places for when it is less again. */
export function givesOf<S extends Shares>(b: Bar, was: Gives<S>, names: string[]): Gives<S> {
  const parts: Part[] = b.shares.filter((s) => s.share > 0).map((s) => ({ variant: s.variant, share: s.share, ranges: [] }));
  const left: Part = b.rest === "" ? { goesOn: true, share: b.left, ranges: [] } : { variant: b.rest, share: b.left, ranges: [] };
  if (b.left > 0 || b.rest === "" || parts.length === 0) parts.push(left);
  const there = parts.filter((p) => p.share > 0);
  if (!was.shares && there.length === 1 && there[0]!.variant !== undefined) return { variant: there[0]!.variant };
  if (parts.length === 1 && parts[0]!.goesOn) parts.unshift({ variant: names[0]!, share: 0, ranges: [] });
  const shares = was.shares ? { ...was.shares, parts } : ({ by: ["targetingKey"], salt: "", hash: 1, parts } as unknown as S);
  return { shares };
}
