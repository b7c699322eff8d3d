import type { Schemas } from "../../api/client";
import { bands } from "../../draw/track";
import { Part } from "../../ui/estimate";
import { Mark, variantColor } from "../../ui/variant";

/** Platforms are where everybody arrives: each variant's total, and its change in the open edit. */
export function Platforms({ names, shift, edited }: { names: string[]; shift: Schemas["Shift"] | undefined; edited: boolean }) {
  if (!shift || shift.units.counted === 0) return null;
  const there = names.filter((n) => (shift.after[n]?.units ?? 0) > 0 || (edited && (shift.before[n]?.units ?? 0) > 0));
  const bar = (side: Schemas["Shift"]["after"]) => bands(1000, there.map((n) => ({ variant: n, part: side[n]?.units ?? 0 })));
  return (
    <div className="flex flex-col gap-2" data-testid="platforms">
      <div aria-hidden="true" className="flex flex-col gap-1">
        {edited && (
          <div className="flex h-2 w-full overflow-hidden opacity-60">
            {bar(shift.before).map((b) => (
              <div key={b.variant} style={{ width: `${b.width / 10}%`, background: variantColor(names, b.variant) }} />
            ))}
          </div>
        )}
        <div className="flex h-6 w-full overflow-hidden rounded-sm">
          {bar(shift.after).map((b) => (
            <div key={b.variant} style={{ width: `${b.width / 10}%`, background: variantColor(names, b.variant) }} />
          ))}
        </div>
      </div>
      <ul aria-label="who gets what" className="grid grid-cols-[repeat(auto-fit,minmax(17rem,1fr))] gap-x-6 gap-y-2">
        {there.map((n) => {
          const [before, after] = [shift.before[n], shift.after[n]];
          const moved = edited && before?.units !== after?.units;
          return (
            <li key={n} className="flex flex-wrap items-baseline gap-x-3">
              <span className="flex items-center gap-2 text-xl font-semibold">
                <Mark names={names} name={n} size={24} /> {n}
              </span>
              <span className="text-2xl font-semibold tabular-nums">
                {moved && <span className="text-soft">{(before?.units ?? 0).toLocaleString()} → </span>}
                {(after?.units ?? 0).toLocaleString()}
              </span>
              <span className="text-soft">{after ? <Part e={after} /> : "0 %"}</span>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
