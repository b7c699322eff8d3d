import { useState } from "react";
import type { Schemas } from "../../api/client";
import { inputStyle, Select } from "../../ui/controls";
import { parsePercent, percent } from "../../ui/percent";
import { Variant } from "../../ui/variant";

type Gives = Schemas["Gives"];
type Part = Schemas["Part"];

const all = 1_000_000;

/** GivesEditor edits what a rule or the end gives: one variant, or shares. */
export function GivesEditor({ value, onChange, names, resting, end }: { value: Gives; onChange: (g: Gives) => void; names: string[]; resting: string; end: boolean }) {
  const shares = value.shares;
  return (
    <div className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-2">
        <span className="text-soft">gets</span>
        <Select
          aria-label="what it gives"
          value={shares ? "shares" : `variant ${value.variant}`}
          onChange={(e) => {
            if (e.target.value !== "shares") return onChange({ variant: e.target.value.slice("variant ".length) });
            const first = names.find((n) => n !== resting) ?? names[0]!;
            const rest: Part = end ? { variant: resting, share: all, ranges: [] } : { goesOn: true, share: all, ranges: [] };
            onChange({ shares: { by: ["targetingKey"], salt: "", hash: 1, parts: [{ variant: first, share: 0, ranges: [] }, rest] } });
          }}
          options={[...names.map((n) => ({ value: `variant ${n}`, label: n })), { value: "shares", label: "shares" }]}
        />
        {shares && (
          <label className="flex items-center gap-2 text-soft">
            by
            <input
              aria-label="by which attribute"
              list="known-attributes"
              className={`${inputStyle} w-44 font-mono text-[13px] text-ink`}
              value={shares.by.join(", ")}
              onChange={(e) => onChange({ shares: { ...shares, by: e.target.value.split(",").map((s) => s.trim()) } })}
            />
          </label>
        )}
      </div>
      {shares && <SharesEditor parts={shares.parts} onChange={(parts) => onChange({ shares: { ...shares, parts } })} names={names} end={end} resting={resting} />}
    </div>
  );
}

/** SharesEditor edits percentages; what is left to 100 % is taken or given by the last part. */
function SharesEditor({ parts, onChange, names, end, resting }: { parts: Part[]; onChange: (p: Part[]) => void; names: string[]; end: boolean; resting: string }) {
  const share = (of: (p: Part) => boolean) => parts.find(of)?.share ?? 0;
  const rest = (p: Part) => (end ? p.variant === resting : p.goesOn === true);
  const others = end ? names.filter((n) => n !== resting) : names;
  const set = (name: string, ppm: number) => {
    const kept = others.map((n) => ({ variant: n, share: n === name ? ppm : share((p) => p.variant === n), ranges: [] })).filter((p) => p.share > 0 || p.variant === name);
    const left = all - kept.reduce((sum, p) => sum + p.share, 0);
    const last: Part = end ? { variant: resting, share: Math.max(0, left), ranges: [] } : { goesOn: true, share: Math.max(0, left), ranges: [] };
    onChange([...kept, last]);
  };
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      {others.map((n) => (
        <PercentField key={n} names={names} name={n} ppm={share((p) => p.variant === n)} onChange={(ppm) => set(n, ppm)} />
      ))}
      <span className="text-soft">
        {end ? <Variant names={names} name={resting} /> : "the others go on:"} {percent(share(rest))}
      </span>
    </div>
  );
}

function PercentField({ names, name, ppm, onChange }: { names: string[]; name: string; ppm: number; onChange: (ppm: number) => void }) {
  const [typed, setTyped] = useState(() => percent(ppm).replace(" %", ""));
  const read = parsePercent(typed);
  return (
    <label className="flex items-center gap-1.5">
      <Variant names={names} name={name} />
      <input
        aria-label={`share of ${name} in percent`}
        aria-invalid={read === undefined}
        inputMode="decimal"
        className={`${inputStyle} w-20 text-right ${read === undefined ? "border-alarm" : ""}`}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          const now = parsePercent(e.target.value);
          if (now !== undefined) onChange(now);
        }}
      />
      %
    </label>
  );
}
