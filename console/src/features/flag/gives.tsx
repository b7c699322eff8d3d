import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Button, inputStyle, Select } from "../../ui/controls";
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
      {shares && (
        <div className="flex flex-wrap items-center gap-3 text-xs text-soft">
          {shares.drawAnew ? (
            <span>
              the units are drawn anew: others get the same parts{" "}
              <Button tone="bare" onClick={() => onChange({ shares: without(shares, "drawAnew") })}>
                leave them as they are
              </Button>
            </span>
          ) : shares.salt !== "" && !shares.like ? (
            <Button tone="bare" onClick={() => onChange({ shares: { ...shares, drawAnew: true } })}>
              draw anew
            </Button>
          ) : null}
          {shares.like && (
            <span>
              moves together with {shares.like.rule ? `a rule of ${shares.like.flag}` : `the end of ${shares.like.flag}`}{" "}
              <Button tone="bare" onClick={() => onChange({ shares: without(shares, "like") })}>
                no longer
              </Button>
            </span>
          )}
        </div>
      )}
      {shares && <SharesEditor parts={shares.parts} onChange={(parts) => onChange({ shares: { ...shares, parts } })} names={names} end={end} resting={resting} />}
    </div>
  );
}

function without(shares: Schemas["Shares"], name: "like" | "drawAnew"): Schemas["Shares"] {
  const out = { ...shares };
  delete out[name];
  return out;
}

/** SharesEditor edits percentages. What is left to 100 % goes on, or gets a variant. */
function SharesEditor({ parts, onChange, names, end, resting }: { parts: Part[]; onChange: (p: Part[]) => void; names: string[]; end: boolean; resting: string }) {
  const [rest, setRest] = useState(() => (parts.some((p) => p.goesOn) ? "" : end ? resting : (parts.at(-1)?.variant ?? resting)));
  const share = (of: (p: Part) => boolean) => parts.find(of)?.share ?? 0;
  const others = names.filter((n) => n !== rest);
  const lay = (to: string, shares: (name: string) => number) => {
    const kept: Part[] = names.filter((n) => n !== to).map((n) => ({ variant: n, share: shares(n), ranges: [] })).filter((p) => p.share > 0);
    const left = Math.max(0, all - kept.reduce((sum, p) => sum + p.share, 0));
    onChange([...kept, to === "" ? { goesOn: true, share: left, ranges: [] } : { variant: to, share: left, ranges: [] }]);
  };
  const has = (name: string) => share((p) => p.variant === name);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      {others.map((n) => (
        <PercentField key={n} names={names} name={n} ppm={has(n)} onChange={(ppm) => lay(rest, (o) => (o === n ? ppm : has(o)))} />
      ))}
      <label className="flex items-center gap-2 text-soft">
        the others
        <Select
          aria-label="the others"
          value={rest}
          onChange={(e) => {
            setRest(e.target.value);
            lay(e.target.value, has);
          }}
          options={[...(end ? [] : [{ value: "", label: "get what follows" }]), ...names.map((n) => ({ value: n, label: `get ${n}` }))]}
        />
        {percent(share((p) => (rest === "" ? p.goesOn === true : p.variant === rest)))}
      </label>
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
