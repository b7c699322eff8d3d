/* How a stop, or any revision, reaches processes: a line for each in the order in which they took it, with time across.
   Pure. */

export interface Took {
  id: string;
  application: string;
  version?: string | undefined;
  kind?: string | undefined;
  via?: string | undefined;
  after: number; // milliseconds; -1: not yet
  lost?: boolean | undefined;
}

export interface WaveLine {
  took: Took;
  name: string;
  indent: boolean; // it follows through an outpost
  y: number; // its middle, in pixels
  to: number; // where it took it, 0 to 1 across; 1: it has not
  state: "has it" | "not yet" | "lost";
}

export interface Wave {
  lines: WaveLine[];
  height: number;
  span: number; // milliseconds across
  ticks: { at: number; says: string }[]; // 0 to 1
}

const most = 320; // pixels for all lines

/** wave lays the lines out. elapsed is how long ago it was, in milliseconds: what has not arrived is drawn up to there. Outposts
    have those that follow through them right below. */
export function wave(took: Took[], elapsed: number): Wave {
  const arrived = took.filter((t) => t.after >= 0).map((t) => t.after);
  const waits = took.some((t) => t.after < 0);
  const span = Math.max(100, ...arrived.map((a) => a * 1.15), waits ? Math.min(Math.max(0, elapsed), 300_000) : 0);
  const below = (id: string) => took.filter((t) => t.via === id);
  const roots = took.filter((t) => !t.via || !took.some((o) => o.id === t.via));
  const ordered = roots.flatMap((t) => [t, ...(t.kind === "outpost" ? below(t.id) : [])]);
  const row = Math.max(1, Math.min(18, most / Math.max(1, ordered.length)));
  return {
    lines: ordered.map((t, i) => ({ took: t, name: `${t.application} ${t.version ?? ""}`.trim(), indent: !roots.includes(t), y: (i + 0.5) * row, to: t.after < 0 ? 1 : Math.min(1, t.after / span), state: t.after >= 0 ? "has it" : t.lost ? "lost" : "not yet" })),
    height: ordered.length * row,
    span,
    ticks: [0, 0.25, 0.5, 0.75].map((at) => ({ at, says: at === 0 ? "confirmed" : soon(at * span) })),
  };
}

/** soon says a short span of time. */
export function soon(ms: number): string {
  if (ms < 1_000) return `${Math.round(ms)} ms`;
  return ms < 10_000 ? `${(ms / 1_000).toFixed(1)} s` : `${Math.round(ms / 1_000)} s`;
}

export interface Given {
  minute: number;
  variant?: string | undefined;
  resting: boolean;
  count: number;
}

/** effect sums up what was given by minute: at rest, and otherwise. */
export function effect(given: Given[], from: number, to: number): { minute: number; resting: number; other: number }[] {
  return Array.from({ length: Math.max(0, to - from) }, (_, i) => {
    const rows = given.filter((g) => g.minute === from + i);
    const sum = (resting: boolean) => rows.filter((g) => g.resting === resting).reduce((n, g) => n + g.count, 0);
    return { minute: from + i, resting: sum(true), other: sum(false) };
  });
}
