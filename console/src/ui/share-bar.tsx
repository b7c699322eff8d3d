import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import { all, moveEdge, setRest, setShare, shareOf, type Bar } from "../draft/shares";
import { Select } from "./controls";
import { Parsed } from "./parsed";
import { parsePercent, percent } from "./percent";
import { Mark, Variant, variantColor } from "./variant";

interface ShareBarProps {
  bar: Bar;
  names: string[];
  end: boolean; // what is left can go on nowhere
  onChange: (b: Bar, field: string) => void;
}

const step = 10_000; // of a key: 1 %
const leap = 50_000; // with Shift: 5 %

const name = (n: string) => (n === "" ? "what follows" : n);

/** ShareBar says what a rule gives: dragged at its edges, typed, or moved by keys. One variant is 100 % of it. */
export function ShareBar({ bar, names, end, onChange }: ShareBarProps) {
  const place = useRef<HTMLDivElement>(null);
  const order = [...bar.shares.map((s) => s.variant), bar.rest];
  const shown = order.filter((n) => shareOf(bar, n) > 0);
  const edges = shown.slice(0, -1).map((n, i) => ({ left: n, right: shown[i + 1]!, at: shown.slice(0, i + 1).reduce((s, o) => s + shareOf(bar, o), 0) }));
  const drag = (e: PointerEvent, edge: number) => {
    const box = place.current?.getBoundingClientRect();
    if (!box || (e.buttons & 1) === 0) return;
    const to = Math.round((((e.clientX - box.left) / box.width) * all) / step) * step;
    onChange(moveEdge(bar, shown, edge, to), "shares");
  };
  const press = (e: KeyboardEvent, edge: number) => {
    const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
    if (by === undefined) return;
    e.preventDefault();
    onChange(moveEdge(bar, shown, edge, edges[edge]!.at + by * (e.shiftKey ? leap : step)), "shares");
  };
  return (
    <div className="flex flex-col gap-3">
      <div ref={place} className="relative flex h-9 w-full touch-none overflow-visible rounded border border-edge" data-testid="share-bar">
        {shown.map((n) => (
          <div
            key={n}
            className="flex min-w-0 items-center gap-1.5 overflow-hidden px-2 whitespace-nowrap"
            style={{ width: `${shareOf(bar, n) / 10_000}%`, background: n === "" ? "var(--well)" : `color-mix(in srgb, ${variantColor(names, n)} 26%, var(--sheet))`, borderBottom: n === "" ? undefined : `4px solid ${variantColor(names, n)}` }}
          >
            {n !== "" && <Mark names={names} name={n} />}
            <span className="truncate">
              {percent(shareOf(bar, n))} {name(n)}
            </span>
          </div>
        ))}
        {edges.map((e, i) => (
          <div
            key={`${e.left} ${e.right}`}
            role="slider"
            tabIndex={0}
            aria-label={`edge of ${name(e.left)} and ${name(e.right)}`}
            aria-valuemin={0}
            aria-valuemax={100}
            aria-valuenow={shareOf(bar, e.left) / 10_000}
            aria-valuetext={`${name(e.left)} ${percent(shareOf(bar, e.left))}, ${name(e.right)} ${percent(shareOf(bar, e.right))}`}
            className="absolute -top-1 -bottom-1 w-3 -translate-x-1/2 cursor-ew-resize rounded border border-ink bg-sheet"
            style={{ left: `${e.at / 10_000}%` }}
            onPointerDown={(p) => p.currentTarget.setPointerCapture(p.pointerId)}
            onPointerMove={(p) => drag(p, i)}
            onKeyDown={(k) => press(k, i)}
          />
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        {bar.shares.map((s) => (
          <label key={s.variant} className="flex items-center gap-1.5">
            <Variant names={names} name={s.variant} />
            <Parsed
              label={`share of ${s.variant} in percent`}
              inputMode="decimal"
              className="w-20 text-right"
              value={s.share}
              format={(p) => percent(p).replace(" %", "")}
              parse={parsePercent}
              wrong="0 to 100, with at most four decimals"
              onChange={(p) => onChange(setShare(bar, s.variant, p), `share of ${s.variant}`)}
            />
            %
          </label>
        ))}
        <label className="flex items-center gap-2 text-soft">
          the others
          <Select aria-label="the others" className="text-ink" value={bar.rest} onChange={(e) => onChange(setRest(bar, e.target.value, names), "")} options={[...(end ? [] : [{ value: "", label: "get what follows" }]), ...names.map((n) => ({ value: n, label: `get ${n}` }))]} />
          {percent(bar.left)}
        </label>
        <span className="flex flex-wrap gap-1">
          {names.map((n) => (
            <button key={n} type="button" className="cursor-pointer rounded px-1.5 py-1 text-soft underline hover:text-ink" onClick={() => onChange(setShare(bar, n, all), "")}>
              all {n}
            </button>
          ))}
        </span>
      </div>
    </div>
  );
}
