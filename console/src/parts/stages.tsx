import { useContext, useEffect, useRef, useState } from "react";
import type { Stage } from "../api/releases";
import { ConditionAround, type Node } from "../ui/condition";
import { Button, inputStyle, Select } from "../ui/controls";
import { Parsed } from "../ui/parsed";
import { parsePercent, percent } from "../ui/percent";

/* The stages of a plan, as a person writes them: a row each, an audience as text or a share. */

export type DraftStage = Stage & { asks?: boolean | undefined };

const roles = ["auditor", "developer", "releaser", "on-call", "keeper"] as const;

const span = /^(\d+(ms|d|h|m|s) ?)+$/;

/** an is the article of a role. */
export const an = (role: string): string => (/^[aeiou]/.test(role) ? "an" : "a");

interface StagesProps {
  value: DraftStage[];
  onChange: (now: DraftStage[], field?: string) => void;
  begun?: number; // so many of them have begun: whom those are for stays
  ladder?: boolean; // stages may ask for their units at the start
  watched?: boolean; // watches look at the stages
  wrong: (place: string) => string | undefined;
  at?: string; // of the places of what is wrong
}

export function StagesEditor({ value, onChange, begun = 0, ladder = false, watched = false, wrong, at = "stages" }: StagesProps) {
  const put = (i: number, s: DraftStage, field?: string) => onChange(value.map((o, j) => (i === j ? s : o)), field && `${i} ${field}`);
  const move = (i: number, by: number) => {
    const next = [...value];
    const [s] = next.splice(i, 1);
    next.splice(i + by, 0, s!);
    onChange(next);
  };
  const top = Math.max(0, ...value.map((s) => s.share ?? 0));
  const fresh = (s: Partial<DraftStage>, name: string): DraftStage => ({ ...s, name: value.some((o) => o.name === name) ? `${name} again` : name }) as DraftStage;
  return (
    <div className="flex flex-col gap-2">
      <ol className="flex flex-col gap-2">
        {value.map((s, i) => (
          <li key={`${i}`} className="flex flex-col gap-1 rounded border border-line p-2">
            <div className="flex flex-wrap items-center gap-2">
              <span className="w-5 text-soft">{i + 1}</span>
              <input aria-label={`name of stage ${i + 1}`} className={`${inputStyle} w-32`} value={s.name} disabled={i < begun} onChange={(e) => put(i, { ...s, name: e.target.value }, "name")} />
              {s.asks ? (
                <span className="text-soft">units that are named at the start</span>
              ) : s.share !== undefined ? (
                <label className="flex items-center gap-1">
                  <Parsed label={`share of stage ${i + 1} in percent`} className="w-20 text-right" value={s.share} format={percent} parse={parsePercent} wrong="a share from 0 to 100 %" disabled={i < begun} onChange={(share) => put(i, { ...s, share }, "share")} /> of all
                </label>
              ) : (
                <Audience label={`audience of stage ${i + 1}`} value={s.who as Node | undefined} disabled={i < begun} onChange={(who) => put(i, { ...s, who } as DraftStage, "who")} />
              )}
              {i >= begun && (
                <span className="ml-auto flex">
                  <Button tone="bare" aria-label={`move stage ${s.name} up`} disabled={i <= begun} onClick={() => move(i, -1)}>
                    ↑
                  </Button>
                  <Button tone="bare" aria-label={`move stage ${s.name} down`} disabled={i === value.length - 1} onClick={() => move(i, 1)}>
                    ↓
                  </Button>
                  <Button tone="bare" className="underline" aria-label={`remove stage ${s.name}`} onClick={() => onChange(value.filter((_, j) => j !== i))}>
                    remove
                  </Button>
                </span>
              )}
            </div>
            <div className="flex flex-wrap items-center gap-x-3 gap-y-1 pl-7 text-soft">
              <Length label={`stage ${i + 1} stays at least`} says="at least" value={s.least} onChange={(least) => put(i, without(s, "least", least), "least")} />
              <label className="flex items-center gap-1">
                <Parsed label={`units seen in stage ${i + 1}`} className="w-20 text-right" value={s.units ?? 0} format={(n) => (n === 0 ? "" : String(n))} parse={(t) => (t.trim() === "" ? 0 : /^\d+$/.test(t.trim()) ? Number(t) : undefined)} wrong="a whole number" placeholder="any" onChange={(units) => put(i, without(s, "units", units || undefined), "units")} />
                units seen
              </label>
              <Length label={`stage ${i + 1} takes at most`} says="at most" value={s.longest} onChange={(longest) => put(i, longest ? without(s, "longest", longest) : without(without(s, "longest", undefined), "late", undefined), "longest")} />
              {s.longest && <Select aria-label={`then, in stage ${i + 1}`} value={s.late || "hold"} onChange={(e) => put(i, { ...s, late: e.target.value as NonNullable<Stage["late"]> })} options={[{ value: "hold", label: "then holds" }, { value: "ask", label: "then asks" }, { value: "roll-back", label: "then rolls back" }]} />}
              {(watched || s.until) && s.share !== undefined && s.share < 1_000_000 && <Select aria-label={`what the watches of stage ${i + 1} must have found`} value={s.until ?? ""} onChange={(e) => put(i, without(s, "until", e.target.value))} options={[{ value: "", label: "no harm" }, { value: "clear", label: "every watch is clear" }]} />}
              <SignOff stage={s} number={i + 1} onChange={(now) => put(i, now)} />
            </div>
            {["", ".name", ".share", ".who", ".units", ".least", ".longest", ".late", ".until", ".signOff"].map((f) => wrong(`${at}[${i}]${f}`)).find((w) => w) && (
              <div role="alert" className="pl-7 text-xs text-alarm">
                {["", ".name", ".share", ".who", ".units", ".least", ".longest", ".late", ".until", ".signOff"].map((f) => wrong(`${at}[${i}]${f}`)).find((w) => w)}
              </div>
            )}
          </li>
        ))}
      </ol>
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => onChange([...value, fresh({ share: Math.min(1_000_000, top === 0 ? 20_000 : top * 3), least: "1d" }, percent(Math.min(1_000_000, top === 0 ? 20_000 : top * 3)))])}>Add a share</Button>
        <Button onClick={() => onChange([...value, fresh({ least: "1d" }, `audience ${value.length + 1}`)])}>Add an audience</Button>
        {ladder && <Button onClick={() => onChange([...value, fresh({ asks: true, least: "1h" }, "self")])}>Add named units</Button>}
      </div>
    </div>
  );
}

function without(s: DraftStage, field: keyof DraftStage, value: unknown): DraftStage {
  const { [field]: _, ...rest } = s;
  return (value === undefined || value === "" ? rest : { ...rest, [field]: value }) as DraftStage;
}

function Length({ label, says, value, onChange }: { label: string; says: string; value: string | undefined; onChange: (v: string | undefined) => void }) {
  return (
    <label className="flex items-center gap-1">
      {says}
      <Parsed label={label} className="w-20" value={value ?? ""} format={(v) => v} parse={(t) => (t.trim() === "" || span.test(t.trim()) ? t.trim() : undefined)} wrong="such as 30m, 4h, 2d" placeholder="any" onChange={(v) => onChange(v || undefined)} />
    </label>
  );
}

function SignOff({ stage: s, number, onChange }: { stage: DraftStage; number: number; onChange: (s: DraftStage) => void }) {
  const signs = s.signOff ?? [];
  return (
    <>
      <Select
        aria-label={`who signs in stage ${number}`}
        value={signs.join(" or ")}
        onChange={(e) => onChange(e.target.value === "" ? without(without(s, "signOff", undefined), "declined", undefined) : { ...s, signOff: e.target.value.split(" or ") })}
        options={[{ value: "", label: "goes on by itself" }, { value: "releaser or keeper", label: "a releaser or keeper signs" }, ...roles.map((r) => ({ value: r, label: `${an(r)} ${r} signs` })), ...(signs.length > 1 && signs.join(" or ") !== "releaser or keeper" ? [{ value: signs.join(" or "), label: `${an(signs[0]!)} ${signs.join(" or ")} signs` }] : [])]}
      />
      {signs.length > 0 && <Select aria-label={`declined, in stage ${number}`} value={s.declined || "hold"} onChange={(e) => onChange({ ...s, declined: e.target.value as NonNullable<Stage["declined"]> })} options={[{ value: "hold", label: "declined: holds" }, { value: "roll-back", label: "declined: rolls back" }]} />}
    </>
  );
}

/** Audience is a condition as one line of text, which the service reads; a segment is offered by its name. */
export function Audience({ label, value, disabled = false, onChange }: { label: string; value: Node | undefined; disabled?: boolean; onChange: (n: Node | undefined) => void }) {
  const { read, write, segments } = useContext(ConditionAround);
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState("");
  const mine = useRef("");
  const asked = useRef(0);
  const now = JSON.stringify(value ?? null);
  useEffect(() => {
    if (now === mine.current) return;
    mine.current = now;
    const turn = ++asked.current;
    void write((JSON.parse(now) as Node | null) ?? undefined).then((t) => turn === asked.current && setText(t)).catch(() => {});
  }, [now, write]);
  const type = (typed: string) => {
    setText(typed);
    const turn = ++asked.current;
    setTimeout(() => {
      if (turn !== asked.current) return;
      read(typed)
        .then((n) => {
          if (turn !== asked.current) return;
          setWrong("");
          mine.current = JSON.stringify(n ?? null);
          onChange(n);
        })
        .catch((e: unknown) => turn === asked.current && setWrong((e as { fields?: { mend: string }[] }).fields?.[0]?.mend ?? String(e)));
    }, 350);
  };
  return (
    <span className="flex min-w-0 flex-1 basis-60 flex-col">
      <input aria-label={label} disabled={disabled} aria-invalid={wrong !== ""} spellCheck={false} list="audiences" placeholder='inSegment("staff")' className={`${inputStyle} w-full font-mono text-[13px] ${wrong ? "border-alarm!" : ""}`} value={text} onChange={(e) => type(e.target.value)} />
      <datalist id="audiences">
        {segments.map((s) => (
          <option key={s.key} value={`inSegment(${JSON.stringify(s.key)})`} />
        ))}
      </datalist>
      {wrong && (
        <span role="alert" className="text-xs text-alarm">
          {wrong}
        </span>
      )}
    </span>
  );
}

/** sent are stages as the service takes them. */
export const sent = (stages: DraftStage[]): Stage[] =>
  stages.map((s) => {
    const { asks: _, ...rest } = s;
    return rest;
  });
