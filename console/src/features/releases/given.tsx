import { useState } from "react";
import type { ReleaseView } from "../../api/releases";
import { useUsage } from "../../api/usage";
import { spanFor } from "../../draw/course";
import { Sheet } from "../../ui/controls";
import { Variant } from "../../ui/variant";
import { clock } from "../../clock";

/* Who gave what while a release went, told apart: the release itself, other rules, the end, the resting variant, and the
   callers' own fallbacks. */

interface Row {
  says: string;
  counts: Map<string, number>;
}

const kinds = ["this release", "other rules", "the end", "resting", "fallback", "fetched all at once"] as const;

/** ruleOf is what the ids of a release's rules begin with. */
const ruleOf = (id: string): string => `r${id.slice(-12)}-`;

export function Given({ project, environment, release: r }: { project: string; environment: string; release: ReleaseView }) {
  const [now] = useState(() => clock());
  const span = spanFor((r.ended || now) - r.made);
  const usage = useUsage(project, environment, span, r.flag);
  const rows = kinds.map((says): Row => ({ says, counts: new Map() }));
  for (const way of usage.data?.ways ?? []) {
    const kind = way.application === "all at once" ? 5 : !way.variant ? 4 : way.rule?.startsWith(ruleOf(r.id)) ? 0 : way.rule ? 1 : way.reason === "DISABLED" ? 3 : 2;
    const counts = rows[kind]!.counts;
    counts.set(way.variant ?? "", (counts.get(way.variant ?? "") ?? 0) + way.count);
  }
  const shown = rows.filter((row) => row.counts.size > 0);
  return (
    <Sheet title="Given by what">
      {shown.length === 0 && <p className="text-soft">Nobody asked for the flag in the last {span}.</p>}
      <ul className="flex flex-col gap-1">
        {shown.map((row) => (
          <li key={row.says} className="flex flex-wrap items-baseline gap-x-3">
            <span className="w-40">{row.says}</span>
            {[...row.counts].toSorted(([a], [b]) => a.localeCompare(b)).map(([variant, n]) => (
              <span key={variant}>
                {variant ? <Variant names={r.variants} name={variant} /> : "the caller's own"} {n.toLocaleString()}
              </span>
            ))}
          </li>
        ))}
      </ul>
      <p className="mt-2 text-soft">Decisions in the last {span}. Only units that this release itself answered are compared; of those who fetch all answers at once nobody knows what they used.</p>
    </Sheet>
  );
}
