/* Which version of an application is in use over time, by what its processes measure. Pure. */

export interface VersionLine {
  application?: string | undefined;
  version?: string | undefined;
  counts: number[];
}

export interface Adopted {
  application: string;
  versions: { version: string; stack: [from: number, to: number][]; first: number; last: number }[];
}

const most = 8;
const order = new Intl.Collator("en", { numeric: true });

/** adoption gives, of each application, its versions from the oldest to the newest, and for each step from where to
    where each one reaches when they are put upon each other; first and last are its parts in the first and the last step
    with events. Beyond eight versions the oldest are one. */
export function adoption(lines: VersionLine[]): Adopted[] {
  const of = new Map<string, VersionLine[]>();
  for (const l of lines) of.set(l.application ?? "", [...(of.get(l.application ?? "") ?? []), l]);
  return [...of].toSorted(([a], [b]) => order.compare(a, b)).map(([application, all]) => {
    const versions = all.map((l) => ({ version: l.version ?? "", counts: l.counts })).toSorted((a, b) => order.compare(a.version, b.version));
    const older = versions.splice(0, Math.max(0, versions.length - most));
    if (older.length > 0) versions[0] = { version: `${versions[0]!.version} and older`, counts: versions[0]!.counts.map((n, i) => older.reduce((sum, o) => sum + (o.counts[i] ?? 0), n)) };
    const totals = (versions[0]?.counts ?? []).map((_, i) => versions.reduce((sum, v) => sum + (v.counts[i] ?? 0), 0));
    const filled = totals.flatMap((n, i) => (n > 0 ? [i] : []));
    const reached = totals.map(() => 0);
    return {
      application,
      versions: versions.map((v) => {
        const stack = totals.map((total, i): [number, number] => {
          const from = reached[i]!;
          reached[i] = total > 0 ? from + (v.counts[i] ?? 0) / total : 0;
          return [from, reached[i]];
        });
        const share = (i: number | undefined) => (i === undefined ? 0 : stack[i]![1] - stack[i]![0]);
        return { version: v.version, stack, first: share(filled[0]), last: share(filled.at(-1)) };
      }),
    };
  });
}
