import { Said, type Sentence } from "./variant";
import { createContext, useContext, useEffect, useRef, useState, type ComponentType } from "react";
import { away, firstLeaf, localTime, retest, testsFor, tests, type Node, type Test, type TestName } from "./condition-tests";
import { Button, inputStyle, Select } from "./controls";
import { Parsed } from "./parsed";
import { parsePercent, percent } from "./percent";
import { Pick } from "./pick";
import { clock } from "../clock";

export type { Node } from "./condition-tests";

/** Hint is what is known of an attribute. */
export interface Hint {
  name: string;
  type: string; // declared, else as it is nearly always sent; empty where nothing is known
  about: string; // for people
  values: string[];
}

export interface FlagTestProps {
  leaf: Node;
  onChange: (n: Node) => void;
}

/** Around is what an editor of conditions knows beside the condition: the service reads and
    writes its text form. */
export interface Around {
  hints: Hint[];
  segments: { key: string; says: Sentence }[];
  FlagTest?: ComponentType<FlagTestProps>; // edits what another flag gives; it is asked for flags by name
  read: (text: string) => Promise<Node | undefined>;
  write: (when: Node | undefined) => Promise<string>;
}

const nothing: Around = { hints: [], segments: [], read: () => Promise.resolve(undefined), write: () => Promise.resolve("") };

export const ConditionAround = createContext<Around>(nothing);

/** ConditionEditor edits whom a rule or a segment takes: as comparisons in groups, and as
    text beside them; each follows the other. Without a condition a rule takes everybody, a
    segment nobody but who is listed. */
export function ConditionEditor({ value, onChange, nobody = false }: { value: Node | undefined; onChange: (n: Node | undefined) => void; nobody?: boolean }) {
  return (
    <div className="grid gap-3 xl:grid-cols-[5fr_3fr]">
      <div className="min-w-0">
        {value ? <Part node={value} onChange={onChange} /> : <div className="mb-2 text-soft">{nobody ? "nobody" : "everybody"}</div>}
        {!value && <Adders onAdd={(n) => onChange(n)} />}
      </div>
      <TextForm value={value} onChange={onChange} />
    </div>
  );
}

/** TextForm is the condition as text. What is typed is read by the service, which says where
    it is no condition. */
function TextForm({ value, onChange }: { value: Node | undefined; onChange: (n: Node | undefined) => void }) {
  const { read, write } = useContext(ConditionAround);
  const [typed, setTyped] = useState("");
  const [wrong, setWrong] = useState("");
  const mine = useRef(""); // the condition, as JSON, that the text stands for
  const turn = useRef(0); // of what was asked last: older answers count for nothing
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const latest = useRef(onChange); // what was edited beside the text meanwhile must not be lost
  useEffect(() => {
    latest.current = onChange;
  }, [onChange]);
  useEffect(() => () => clearTimeout(timer.current), []);
  const now = JSON.stringify(value ?? null);
  useEffect(() => {
    if (now === mine.current) return;
    mine.current = now; // it was changed beside the text, which follows
    clearTimeout(timer.current);
    const asked = ++turn.current;
    write((JSON.parse(now) as Node | null) ?? undefined)
      .then((text) => {
        if (asked !== turn.current) return;
        setTyped(text);
        setWrong("");
      })
      .catch(() => {}); // a comparison that is being filled in has no text yet
  }, [now, write]);
  const type = (text: string) => {
    setTyped(text);
    clearTimeout(timer.current);
    const asked = ++turn.current;
    timer.current = setTimeout(() => {
      read(text)
        .then((when) => {
          if (asked !== turn.current) return;
          setWrong("");
          const got = JSON.stringify(when ?? null);
          if (got === mine.current) return;
          mine.current = got;
          latest.current(when);
        })
        .catch((e: unknown) => asked === turn.current && setWrong(said(e)));
    }, 400);
  };
  return (
    <label className="flex min-w-0 flex-col gap-1">
      <span className="text-xs text-soft">as text</span>
      <textarea aria-label="condition as text" aria-invalid={wrong !== ""} rows={3} spellCheck={false} className={`${inputStyle} font-mono text-[12px] ${wrong ? "border-alarm" : ""}`} value={typed} onChange={(e) => type(e.target.value)} />
      {wrong && (
        <span role="alert" className="text-xs text-alarm">
          {wrong}
        </span>
      )}
    </label>
  );
}

function said(e: unknown): string {
  const fields = (e as { fields?: { mend: string }[] }).fields ?? [];
  return fields[0]?.mend ?? (e instanceof Error ? e.message : String(e));
}

/** Part edits a comparison or a group. */
function Part({ node, onChange, inner = false }: { node: Node; onChange: (n: Node | undefined) => void; inner?: boolean }) {
  if (node.not && !node.not.test) {
    return (
      <div className="rounded border border-line p-2">
        <div className="mb-1 text-soft">
          not{" "}
          <Button tone="bare" onClick={() => onChange(node.not)}>
            remove the not
          </Button>
        </div>
        <Part inner node={node.not} onChange={(n) => onChange(n && { not: n })} />
      </div>
    );
  }
  const group = node.all ?? node.any;
  if (!group) {
    return (
      <div className="flex flex-col gap-2">
        <LeafEditor leaf={node} onChange={onChange} onRemove={() => onChange(undefined)} />
        {!inner && <Adders onAdd={(n) => onChange({ all: [node, n] })} />}
      </div>
    );
  }
  const how = node.all ? "all" : "any";
  const put = (parts: Node[], as: string = how) => onChange(parts.length === 0 ? undefined : parts.length === 1 ? parts[0] : as === "all" ? { all: parts } : { any: parts });
  return (
    <div className={`flex flex-col gap-2 ${inner ? "rounded border border-line p-2" : ""}`}>
      <label className="text-soft">
        where{" "}
        <Select aria-label="how comparisons combine" value={how} onChange={(e) => put(group, e.target.value)} options={[{ value: "all", label: "all hold" }, { value: "any", label: "any holds" }]} />
      </label>
      {group.map((part, i) => (
        // Parts have no identity but their place.
        // oxlint-disable-next-line react/no-array-index-key
        <Part key={i} inner node={part} onChange={(n) => put(n ? group.map((p, j) => (i === j ? n : p)) : group.filter((_, j) => j !== i))} />
      ))}
      <Adders group={!inner} onAdd={(n) => put([...group, n])} />
    </div>
  );
}

/** Adders add what a condition can ask. */
function Adders({ onAdd, group = false }: { onAdd: (n: Node) => void; group?: boolean }) {
  const { segments, FlagTest } = useContext(ConditionAround);
  const kinds: Record<string, () => Node> = {
    segment: () => ({ test: "segment", segment: segments[0]?.key ?? "" }),
    time: () => ({ test: "clock.at-or-after", text: [localTime(new Date(Math.ceil(clock() / 3_600_000) * 3_600_000))] }),
    week: () => ({ test: "clock.weekly", weekly: { days: ["mon", "tue", "wed", "thu", "fri"], from: "08:00", to: "17:00", zone: Intl.DateTimeFormat().resolvedOptions().timeZone } }),
    flag: () => ({ test: "flag.gives", flag: "", text: [] }),
    part: () => ({ test: "part", part: { by: ["targetingKey"], share: 100_000, salt: "", hash: 1 } }),
    group: () => ({ any: [firstLeaf, firstLeaf] }),
  };
  return (
    <div className="flex flex-wrap gap-2">
      <Button onClick={() => onAdd(firstLeaf)}>Add a comparison</Button>
      {segments.length > 0 && <Button onClick={() => onAdd(kinds.segment!())}>Add a segment</Button>}
      <Select
        aria-label="add something else"
        value=""
        onChange={(e) => onAdd(kinds[e.target.value]!())}
        options={[{ value: "", label: "add ..." }, { value: "time", label: "a time" }, { value: "week", label: "hours of the week" }, ...(FlagTest ? [{ value: "flag", label: "what another flag gives" }] : []), { value: "part", label: "a part of the population" }, ...(group ? [{ value: "group", label: "a group" }] : [])]}
      />
    </div>
  );
}

function LeafEditor({ leaf, onChange, onRemove }: { leaf: Node; onChange: (n: Node) => void; onRemove: () => void }) {
  const negated = leaf.not !== undefined;
  const inner = leaf.not ?? leaf;
  const set = (n: Node) => onChange(negated ? { not: n } : n);
  return (
    <div className="flex flex-wrap items-center gap-2 rounded border border-line bg-page px-2 py-1.5">
      <Select aria-label="negation" value={negated ? "not" : ""} onChange={(e) => onChange(e.target.value ? { not: inner } : inner)} options={[{ value: "", label: "where" }, { value: "not", label: "where not" }]} />
      <Asked leaf={inner} onChange={set} />
      <Button tone="bare" onClick={onRemove} aria-label="remove this comparison">
        remove
      </Button>
    </div>
  );
}

/** Asked edits what a leaf asks, by its test. */
function Asked({ leaf, onChange }: { leaf: Node; onChange: (n: Node) => void }) {
  const { segments, FlagTest } = useContext(ConditionAround);
  if (leaf.test === "segment") {
    const says = segments.find((s) => s.key === leaf.segment)?.says;
    return (
      <>
        <span>in segment</span>
        <Pick label="segment" value={leaf.segment ?? ""} onChange={(segment) => onChange({ ...leaf, segment })} options={segments.map((o) => ({ value: o.key }))} />
        {says && <span className="text-xs text-soft"><Said said={says} /></span>}
      </>
    );
  }
  if (leaf.test === "flag.gives") return FlagTest ? <FlagTest leaf={leaf} onChange={onChange} /> : null;
  if (leaf.test === "clock.weekly" && leaf.weekly) return <WeeklyEditor value={leaf.weekly} onChange={(weekly) => onChange({ ...leaf, weekly })} />;
  if (leaf.test === "part" && leaf.part) return <PartEditor value={leaf.part} onChange={(part) => onChange({ ...leaf, part })} />;
  if (leaf.test?.startsWith("clock.")) {
    const ends = leaf.test === "clock.between";
    return (
      <>
        <span>it is</span>
        <Select
          aria-label="before or after"
          value={leaf.test}
          onChange={(e) => onChange({ test: e.target.value as TestName, text: e.target.value === "clock.between" ? [leaf.text![0]!, localTime(new Date(Date.parse(leaf.text![0]!) + 7 * 86_400_000))] : leaf.text!.slice(0, 1) })}
          options={[{ value: "clock.at-or-after", label: "at or after" }, { value: "clock.before", label: "before" }, { value: "clock.between", label: "between" }]}
        />
        <TimeField label="time" value={leaf.text?.[0] ?? ""} onChange={(t) => onChange({ ...leaf, text: [t, ...(leaf.text ?? []).slice(1)] })} verb={leaf.test === "clock.before" ? "ends" : "starts"} />
        {ends && <TimeField label="until" value={leaf.text?.[1] ?? ""} onChange={(t) => onChange({ ...leaf, text: [leaf.text?.[0] ?? "", t] })} verb="ends" />}
      </>
    );
  }
  return <Comparison leaf={leaf} onChange={onChange} />;
}

function Comparison({ leaf, onChange }: { leaf: Node; onChange: (n: Node) => void }) {
  const { hints } = useContext(ConditionAround);
  const hint = hints.find((h) => h.name === leaf.attribute);
  const kind = tests.find((t) => t.value === leaf.test);
  const choices = testsFor(hint?.type ?? "");
  const shown = kind && !choices.includes(kind) ? [kind, ...choices] : choices;
  const name = (attribute: string) => {
    const type = hints.find((h) => h.name === attribute)?.type ?? "";
    // A comparison of another type would never hold: offer one that fits.
    const fits = type === "" || kind === undefined || kind.of === "" || testsFor(type).includes(kind);
    onChange(fits ? { ...leaf, attribute } : { ...retest(leaf, testsFor(type)[0]!.value), attribute });
  };
  return (
    <>
      <input aria-label="attribute" placeholder="attribute" list="known-attributes" className={`${inputStyle} w-36 font-mono text-[13px]`} value={leaf.attribute ?? ""} onChange={(e) => name(e.target.value)} />
      <Select aria-label="comparison" value={leaf.test ?? ""} onChange={(e) => onChange(retest(leaf, e.target.value as TestName))} options={shown} />
      {kind && <Constants kind={kind} leaf={leaf} hint={hint} onChange={onChange} />}
      {leaf.test?.startsWith("string.") && (
        <label className="flex items-center gap-1 text-soft">
          <input type="checkbox" checked={leaf.ignoreCase ?? false} onChange={(e) => onChange(strip({ ...leaf, ignoreCase: e.target.checked }))} /> ignore case
        </label>
      )}
      {hint && <span className="basis-full text-xs text-soft">{hint.about}</span>}
    </>
  );
}

/** strip leaves out what says nothing. */
function strip(n: Node): Node {
  const out = { ...n };
  if (!out.ignoreCase) delete out.ignoreCase;
  return out;
}

function Constants({ kind, leaf, hint, onChange }: { kind: Test; leaf: Node; hint: Hint | undefined; onChange: (n: Node) => void }) {
  if (kind.takes === "none") return null;
  if (kind.takes === "time" || kind.takes === "times") {
    const texts = leaf.text ?? [];
    return (
      <>
        {texts.map((t, i) => (
          // Of two times the first is the earlier one.
          // oxlint-disable-next-line react/no-array-index-key
          <TimeField key={i} label={i === 0 ? "time" : "until"} value={t} verb="is" onChange={(now) => onChange({ ...leaf, text: texts.map((o, j) => (i === j ? now : o)) })} />
        ))}
      </>
    );
  }
  return <Typed key={kind.takes} kind={kind} leaf={leaf} hint={hint} onChange={onChange} />;
}

function Typed({ kind, leaf, hint, onChange }: { kind: Test; leaf: Node; hint: Hint | undefined; onChange: (n: Node) => void }) {
  const joined = (leaf.text ?? leaf.numbers ?? []).join(", ");
  const [typed, setTyped] = useState(joined);
  const mine = useRef(joined);
  useEffect(() => {
    if (joined !== mine.current) {
      mine.current = joined; // it was changed elsewhere, such as in the text
      setTyped(joined);
    }
  }, [joined]);
  const list = ["texts", "numbers", "two", "blocks"].includes(kind.takes);
  const numbers = ["number", "numbers", "two"].includes(kind.takes);
  const known = `values of ${leaf.attribute}`;
  return (
    <>
      <input
        aria-label="value"
        placeholder={list ? "values, separated by commas" : (hint?.values[0] ?? "value")}
        list={hint && !list ? known : undefined}
        className={`${inputStyle} w-44`}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          const words = list
            ? e.target.value
                .split(",")
                .map((s) => s.trim())
                .filter((s) => s !== "")
            : [e.target.value];
          const next = numbers ? words.map(Number).filter((n) => Number.isFinite(n)) : words;
          mine.current = next.join(", ");
          onChange(numbers ? { ...leaf, numbers: next as number[] } : { ...leaf, text: next as string[] });
        }}
      />
      {hint && !list && (
        <datalist id={known}>
          {hint.values.map((v) => (
            <option key={v} value={v} />
          ))}
        </datalist>
      )}
    </>
  );
}

const day = new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long", year: "numeric", hour: "2-digit", minute: "2-digit", timeZoneName: "short" });

/** TimeField edits an instant and says which day of the week that is, in which zone, and how
    far from now. */
export function TimeField({ label, value, onChange, verb }: { label: string; value: string; onChange: (t: string) => void; verb: string }) {
  const at = Date.parse(value);
  const local = Number.isNaN(at) ? "" : localTime(new Date(at)).slice(0, 16);
  return (
    <span className="inline-flex flex-col">
      <input
        aria-label={label}
        type="datetime-local"
        className={inputStyle}
        value={local}
        onChange={(e) => {
          const typed = new Date(e.target.value);
          if (!Number.isNaN(typed.getTime())) onChange(localTime(typed));
        }}
      />
      {!Number.isNaN(at) && (
        <span className="text-xs text-soft">
          {day.format(at)}; {verb} {away(at)}
        </span>
      )}
    </span>
  );
}

const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

function WeeklyEditor({ value, onChange }: { value: NonNullable<Node["weekly"]>; onChange: (w: NonNullable<Node["weekly"]>) => void }) {
  const over = value.to <= value.from;
  return (
    <>
      <span>it is</span>
      {days.map((d) => (
        <label key={d} className="flex items-center gap-0.5">
          <input type="checkbox" checked={value.days.includes(d)} onChange={(e) => onChange({ ...value, days: days.filter((o) => (o === d ? e.target.checked : value.days.includes(o))) })} /> {d}
        </label>
      ))}
      <input aria-label="from" type="time" className={inputStyle} value={value.from} onChange={(e) => onChange({ ...value, from: e.target.value })} />
      to
      <input aria-label="to" type="time" className={inputStyle} value={value.to === "24:00" ? "00:00" : value.to} onChange={(e) => onChange({ ...value, to: e.target.value === "00:00" ? "24:00" : e.target.value })} />
      in
      <input aria-label="time zone" className={`${inputStyle} w-36`} value={value.zone} onChange={(e) => onChange({ ...value, zone: e.target.value })} />
      {over && <span className="basis-full text-xs text-soft">over midnight: it belongs to the day on which it starts</span>}
    </>
  );
}

function PartEditor({ value, onChange }: { value: NonNullable<Node["part"]>; onChange: (p: NonNullable<Node["part"]>) => void }) {
  return (
    <>
      <span>within</span>
      <Parsed label="part in percent" inputMode="decimal" className="w-20 text-right" value={value.share} format={(p) => percent(p).replace(" %", "")} parse={parsePercent} wrong="0 to 100" onChange={(share) => onChange({ ...value, share })} />
      % by
      <Parsed label="part by" list="known-attributes" className="w-40 font-mono text-[13px]" value={value.by} format={(by) => by.join(", ")} parse={(text) => text.split(",").map((s) => s.trim())} wrong="names of attributes" onChange={(by) => onChange({ ...value, by })} />
    </>
  );
}
