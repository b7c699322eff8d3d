import { useState } from "react";
import { Button, inputStyle, Select } from "./controls";

/** Node is a condition, as the API has it. */
export interface Node {
  all?: Node[];
  any?: Node[];
  not?: Node;
  test?: string;
  attribute?: string;
  text?: string[];
  numbers?: number[];
  ignoreCase?: boolean;
  segment?: string;
}

/* The tests by what they compare. The service checks every condition; this list only says
   what can be chosen here. */
const tests: { value: string; label: string; takes: "text" | "texts" | "number" | "numbers" | "two" | "none" | "segment" }[] = [
  { value: "string.equals", label: "is", takes: "text" },
  { value: "string.one-of", label: "is one of", takes: "texts" },
  { value: "string.begins", label: "begins with", takes: "texts" },
  { value: "string.ends", label: "ends with", takes: "texts" },
  { value: "string.contains", label: "contains", takes: "texts" },
  { value: "string.matches", label: "matches pattern", takes: "text" },
  { value: "number.equals", label: "= (number)", takes: "number" },
  { value: "number.differs", label: "≠", takes: "number" },
  { value: "number.less", label: "<", takes: "number" },
  { value: "number.at-most", label: "≤", takes: "number" },
  { value: "number.more", label: ">", takes: "number" },
  { value: "number.at-least", label: "≥", takes: "number" },
  { value: "number.between", label: "is between", takes: "two" },
  { value: "number.one-of", label: "is one of (numbers)", takes: "numbers" },
  { value: "boolean.true", label: "is true", takes: "none" },
  { value: "boolean.false", label: "is false", takes: "none" },
  { value: "present", label: "is present", takes: "none" },
  { value: "absent", label: "is absent", takes: "none" },
];

export const firstLeaf: Node = { test: "string.equals", attribute: "", text: [""] };

function isLeaf(n: Node): boolean {
  return n.test !== undefined || n.not?.test !== undefined;
}

/** flat tells whether the condition is one comparison, or one group of comparisons. */
function flat(n: Node): { how: "all" | "any"; leaves: Node[] } | undefined {
  if (isLeaf(n)) return { how: "all", leaves: [n] };
  const group = n.all ?? n.any;
  if (group && group.every(isLeaf)) return { how: n.all ? "all" : "any", leaves: group };
  return undefined;
}

function build(how: "all" | "any", leaves: Node[]): Node | undefined {
  if (leaves.length === 0) return undefined;
  if (leaves.length === 1) return leaves[0];
  return how === "all" ? { all: leaves } : { any: leaves };
}

/** ConditionEditor edits whom a rule or a segment takes; a condition with groups in groups as
    text. Without a condition a rule takes everybody, a segment nobody. */
export function ConditionEditor({ value, onChange, segments, nobody = false }: { value: Node | undefined; onChange: (n: Node | undefined) => void; segments: string[]; nobody?: boolean }) {
  const parts = value ? flat(value) : { how: "all" as const, leaves: [] };
  if (!parts) return <JSONEditor value={value!} onChange={onChange} />;
  const { how, leaves } = parts;
  const replace = (i: number, n: Node) => onChange(build(how, leaves.map((l, j) => (i === j ? n : l))));
  return (
    <div className="flex flex-col gap-2">
      {leaves.length === 0 && <div className="text-soft">{nobody ? "nobody" : "everybody"}</div>}
      {leaves.length > 1 && (
        <label className="text-soft">
          where{" "}
          <Select aria-label="how comparisons combine" value={how} onChange={(e) => onChange(build(e.target.value as "all" | "any", leaves))} options={[{ value: "all", label: "all hold" }, { value: "any", label: "any holds" }]} />
        </label>
      )}
      {leaves.map((leaf, i) => (
        // Comparisons have no identity but their place.
        // oxlint-disable-next-line react/no-array-index-key
        <LeafEditor key={i} leaf={leaf} segments={segments} onChange={(n) => replace(i, n)} onRemove={() => onChange(build(how, leaves.filter((_, j) => j !== i)))} />
      ))}
      <div className="flex gap-2">
        <Button onClick={() => onChange(build(how, [...leaves, firstLeaf]))}>Add a comparison</Button>
        {segments.length > 0 && <Button onClick={() => onChange(build(how, [...leaves, { test: "segment", segment: segments[0]! }]))}>Add a segment</Button>}
      </div>
    </div>
  );
}

function LeafEditor({ leaf, segments, onChange, onRemove }: { leaf: Node; segments: string[]; onChange: (n: Node) => void; onRemove: () => void }) {
  const negated = leaf.not !== undefined;
  const inner = leaf.not ?? leaf;
  const set = (n: Node) => onChange(negated ? { not: n } : n);
  const kind = tests.find((t) => t.value === inner.test);
  return (
    <div className="flex flex-wrap items-center gap-2 rounded border border-line bg-page px-2 py-1.5">
      <Select aria-label="negation" value={negated ? "not" : ""} onChange={(e) => onChange(e.target.value ? { not: inner } : inner)} options={[{ value: "", label: "where" }, { value: "not", label: "where not" }]} />
      {inner.test === "segment" ? (
        <>
          <span>in segment</span>
          <Select aria-label="segment" value={inner.segment ?? ""} onChange={(e) => set({ ...inner, segment: e.target.value })} options={segments} />
        </>
      ) : (
        <>
          <input aria-label="attribute" placeholder="attribute" list="known-attributes" className={`${inputStyle} w-40 font-mono text-[13px]`} value={inner.attribute ?? ""} onChange={(e) => set({ ...inner, attribute: e.target.value })} />
          <Select aria-label="comparison" value={inner.test ?? ""} onChange={(e) => set(retest(inner, e.target.value))} options={tests} />
          {kind && <Constants takes={kind.takes} leaf={inner} onChange={set} />}
          {inner.test?.startsWith("string.") && (
            <label className="flex items-center gap-1 text-soft">
              <input type="checkbox" checked={inner.ignoreCase ?? false} onChange={(e) => set(strip({ ...inner, ignoreCase: e.target.checked }))} /> ignore case
            </label>
          )}
        </>
      )}
      <Button tone="bare" onClick={onRemove} aria-label="remove this comparison">
        remove
      </Button>
    </div>
  );
}

/** strip leaves out what says nothing. */
function strip(n: Node): Node {
  const out = { ...n };
  if (!out.ignoreCase) delete out.ignoreCase;
  return out;
}

/** retest changes the test and keeps the constants that it can take. */
function retest(n: Node, test: string): Node {
  const takes = tests.find((t) => t.value === test)?.takes ?? "none";
  const out: Node = { test, attribute: n.attribute ?? "" };
  const text = n.text ?? n.numbers?.map(String) ?? [];
  if (takes === "text") out.text = [text[0] ?? ""];
  if (takes === "texts") out.text = text.length > 0 ? text : [""];
  const numbers = (n.numbers ?? text.map(Number)).filter((x) => Number.isFinite(x));
  if (takes === "number") out.numbers = [numbers[0] ?? 0];
  if (takes === "numbers") out.numbers = numbers.length > 0 ? numbers : [0];
  if (takes === "two") out.numbers = [numbers[0] ?? 0, numbers[1] ?? 1];
  if (n.ignoreCase && test.startsWith("string.")) out.ignoreCase = true;
  return out;
}

function Constants({ takes, leaf, onChange }: { takes: (typeof tests)[number]["takes"]; leaf: Node; onChange: (n: Node) => void }) {
  const joined = (leaf.text ?? leaf.numbers ?? []).join(", ");
  const [typed, setTyped] = useState(joined);
  if (takes === "none" || takes === "segment") return null;
  const text = takes === "text" || takes === "texts";
  const list = takes !== "text" && takes !== "number";
  return (
    <input
      aria-label="value"
      placeholder={list ? "values, separated by commas" : "value"}
      className={`${inputStyle} w-56`}
      value={typed}
      onChange={(e) => {
        setTyped(e.target.value);
        const words = list
          ? e.target.value
              .split(",")
              .map((s) => s.trim())
              .filter((s) => s !== "")
          : [e.target.value];
        if (text) onChange({ ...leaf, text: words });
        else {
          const numbers = words.map(Number).filter((n) => Number.isFinite(n));
          onChange({ ...leaf, numbers });
        }
      }}
    />
  );
}

function JSONEditor({ value, onChange }: { value: Node; onChange: (n: Node) => void }) {
  const [typed, setTyped] = useState(() => JSON.stringify(value, null, 2));
  const [wrong, setWrong] = useState("");
  return (
    <div className="flex flex-col gap-1">
      <div className="text-soft">This condition has groups within groups; it is edited as text.</div>
      <textarea
        aria-label="condition"
        rows={10}
        className={`${inputStyle} font-mono text-[12px]`}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          try {
            onChange(JSON.parse(e.target.value) as Node);
            setWrong("");
          } catch (error) {
            setWrong(String(error));
          }
        }}
      />
      {wrong && <div className="text-xs text-alarm">{wrong}</div>}
    </div>
  );
}
