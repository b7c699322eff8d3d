import { useState, type ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { ConditionEditor } from "../../ui/condition";
import { Button, inputStyle } from "../../ui/controls";
import { Said, variantColor } from "../../ui/variant";
import { GivesEditor } from "./gives";

type Document = Schemas["Document"];
type Rule = Schemas["Rule"];

export interface TrackProps {
  doc: Document;
  says: string[]; // each rule by itself, and the end; empty where an edit is not understood yet
  names: string[];
  segments: string[];
  stopped: boolean;
  editable: boolean;
  onChange: (d: Document) => void;
}

const full = 12; // width of the line that everybody comes in on

/** carried gives the width of the line before each rule and at the end, as far as shares tell it. */
function carried(rules: Rule[]): number[] {
  const widths = [full];
  for (const r of rules) {
    const before = widths.at(-1)!;
    const goesOn = r.gives.shares?.parts.find((p) => p.goesOn)?.share ?? 0;
    const known = !r.parked && !r.when;
    widths.push(known ? Math.max(1.5, before * (goesOn / 1_000_000)) : before);
  }
  return widths;
}

/** Track is the picture of a flag's targeting and its editor: everybody comes in on top, at
    each rule a branch leaves the line, and what goes on runs down to the end. */
export function Track(props: TrackProps) {
  const { doc, says, names, segments, stopped, editable, onChange } = props;
  const [open, setOpen] = useState<string>();
  const rules = doc.rules ?? [];
  const widths = carried(rules);
  const halted = stopped || doc.lever !== "on";
  const put = (at: number, r: Rule) => onChange({ ...doc, rules: rules.map((o, i) => (i === at ? r : o)) });
  const move = (at: number, by: number) => {
    const next = [...rules];
    const [r] = next.splice(at, 1);
    next.splice(at + by, 0, r!);
    onChange({ ...doc, rules: next });
  };
  const line = halted ? "var(--line)" : "var(--soft)";
  return (
    <ol aria-label="track" className="flex flex-col">
      <Row rail={<Rail line={line} above={0} below={full} mark={<circle cx="22" cy="20" r="5" fill={line} />} />}>
        <div className="text-soft">
          everybody comes in
          {halted && (
            <>
              {" "}
              and gets <Said text={`\`${doc.resting}\``} names={names} />: {stopped ? "the flag is stopped" : "the lever is off"}
            </>
          )}
        </div>
      </Row>
      {(doc.needs ?? []).map((n) => (
        <Row key={n.flag + n.variant} rail={<Rail line={line} above={full} below={full} mark={<rect x="15" y="13" width="14" height="14" fill="var(--sheet)" stroke={line} strokeWidth="2" />} />}>
          needs <span className="font-mono text-[13px]">{n.flag}</span> to give {n.variant}, else <Said text={`\`${doc.resting}\``} names={names} />
        </Row>
      ))}
      {rules.map((r, i) => {
        const id = r.id || `new ${i}`;
        return (
          <Row
            key={id}
            faint={r.parked ?? false}
            rail={<Rail line={line} above={widths[i]!} below={widths[i + 1]!} branch={r.parked ? undefined : branchOf(r, names, widths[i]! - widths[i + 1]!)} />}
          >
            <div className="flex flex-wrap items-start gap-x-3 gap-y-1">
              <div className="min-w-0 flex-1 basis-72">
                <div className="text-xs text-soft">
                  {i + 1}. {r.name}
                  {r.parked && " (parked)"}
                </div>
                <div>{says[i] ? <Said text={says[i]} names={names} /> : <span className="text-soft">...</span>}</div>
              </div>
              {editable && (
                <div className="flex">
                  <Button tone="bare" aria-label={`move ${r.name} up`} disabled={i === 0} onClick={() => move(i, -1)}>
                    ↑
                  </Button>
                  <Button tone="bare" aria-label={`move ${r.name} down`} disabled={i === rules.length - 1} onClick={() => move(i, 1)}>
                    ↓
                  </Button>
                  <Button tone="bare" aria-expanded={open === id} onClick={() => setOpen(open === id ? undefined : id)}>
                    {open === id ? "close" : "edit"}
                  </Button>
                </div>
              )}
            </div>
            {editable && open === id && (
              <RuleEditor rule={r} names={names} resting={doc.resting} segments={segments} onChange={(now) => put(i, now)} onRemove={() => onChange({ ...doc, rules: rules.filter((_, j) => j !== i) })} />
            )}
          </Row>
        );
      })}
      <Row rail={<Rail line={line} above={widths.at(-1)!} below={0} mark={<path d="M10 20h24" stroke={line} strokeWidth="4" strokeLinecap="round" />} />}>
        <div className="flex flex-wrap items-start gap-3">
          <div className="min-w-0 flex-1 basis-72">
            <div className="text-xs text-soft">end</div>
            <div>{says[rules.length] ? <Said text={says[rules.length]!} names={names} /> : "..."}</div>
          </div>
          {editable && (
            <Button tone="bare" aria-expanded={open === "end"} onClick={() => setOpen(open === "end" ? undefined : "end")}>
              {open === "end" ? "close" : "edit"}
            </Button>
          )}
        </div>
        {editable && open === "end" && (
          <div className="mt-2 rounded border border-line p-3">
            <GivesEditor end value={doc.end} names={names} resting={doc.resting} onChange={(end) => onChange({ ...doc, end })} />
          </div>
        )}
        {editable && (
          <div className="mt-3 flex flex-wrap gap-2">
            <Button
              onClick={() => {
                const first = names.find((n) => n !== doc.resting) ?? doc.resting;
                onChange({ ...doc, rules: [...rules, { id: "", name: `Rule ${rules.length + 1}`, gives: { variant: first } }] });
                setOpen(`new ${rules.length}`);
              }}
            >
              Add a rule
            </Button>
            <NameUnits doc={doc} names={names} onChange={onChange} />
          </div>
        )}
      </Row>
      <datalist id="known-attributes">
        {["targetingKey", ...new Set(JSON.stringify(doc).match(/(?<="attribute":")[^"]+/g) ?? [])].map((a) => (
          <option key={a} value={a} />
        ))}
      </datalist>
    </ol>
  );
}

interface Branch {
  color: string;
  width: number;
}

function branchOf(r: Rule, names: string[], taken: number): Branch {
  const shares = r.gives.shares?.parts.filter((p) => !p.goesOn && p.share > 0) ?? [];
  const variant = r.gives.variant ?? shares[0]?.variant ?? "";
  return { color: variantColor(names, variant), width: r.when ? 3 : Math.max(2, taken) };
}

function Row({ rail, children, faint = false }: { rail: ReactNode; children: ReactNode; faint?: boolean }) {
  return (
    <li className="grid grid-cols-[64px_1fr]">
      {rail}
      <div className={`min-w-0 py-2.5 ${faint ? "opacity-60" : ""}`}>{children}</div>
    </li>
  );
}

/** Rail is a piece of the line: it comes in from above, a branch may leave it, and it goes on below. */
function Rail({ line, above, below, branch, mark }: { line: string; above: number; below: number; branch?: Branch | undefined; mark?: ReactNode }) {
  return (
    <div aria-hidden="true" className="relative">
      {above > 0 && <div className="absolute top-0 h-[20px]" style={{ left: 22 - above / 2, width: above, background: line }} />}
      {below > 0 && <div className="absolute top-[20px] bottom-0" style={{ left: 22 - below / 2, width: below, background: line }} />}
      <svg width="64" height="40" className="absolute top-0 left-0">
        {branch && (
          <>
            <path d="M22 8C22 22 30 22 40 22H54" fill="none" stroke={branch.color} strokeWidth={Math.min(branch.width, 8)} />
            <rect x="52" y="14" width="6" height="16" rx="2" fill={branch.color} />
          </>
        )}
        {mark}
      </svg>
    </div>
  );
}

function RuleEditor({ rule, names, resting, segments, onChange, onRemove }: { rule: Rule; names: string[]; resting: string; segments: string[]; onChange: (r: Rule) => void; onRemove: () => void }) {
  return (
    <div className="mt-2 flex flex-col gap-3 rounded border border-line p-3">
      <input aria-label="name of the rule" className={`${inputStyle} max-w-sm`} value={rule.name} onChange={(e) => onChange({ ...rule, name: e.target.value })} />
      <ConditionEditor
        value={rule.when}
        segments={segments}
        onChange={(when) => {
          const { when: _, ...rest } = rule;
          onChange(when ? { ...rest, when } : rest);
        }}
      />
      <GivesEditor end={false} value={rule.gives} names={names} resting={resting} onChange={(gives) => onChange({ ...rule, gives })} />
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => onChange({ ...rule, parked: !rule.parked })}>{rule.parked ? "Take into use again" : "Park"}</Button>
        <Button tone="alarm" onClick={onRemove}>
          Remove the rule
        </Button>
      </div>
    </div>
  );
}

/** NameUnits puts units by key on top: the way to try a flag on oneself. */
function NameUnits({ doc, names, onChange }: { doc: Document; names: string[]; onChange: (d: Document) => void }) {
  const [unit, setUnit] = useState("");
  const gets = names.find((n) => n !== doc.resting) ?? doc.resting;
  const name = () => {
    const rules = doc.rules ?? [];
    const at = rules.findIndex((r) => r.when?.attribute === "targetingKey" && r.when.test === "string.one-of" && r.gives.variant === gets);
    const key = unit.trim();
    if (key === "") return;
    setUnit("");
    if (at < 0) {
      onChange({ ...doc, rules: [{ id: "", name: "Just me", when: { test: "string.one-of", attribute: "targetingKey", text: [key] }, gives: { variant: gets } }, ...rules] });
      return;
    }
    const text = [...new Set([...(rules[at]!.when!.text ?? []), key])];
    onChange({ ...doc, rules: rules.map((r, i) => (i === at ? { ...r, when: { ...r.when!, text } } : r)) });
  };
  return (
    <span className="inline-flex gap-1">
      <input aria-label="key of a unit to name" placeholder="your key, to name yourself" className={`${inputStyle} w-52`} value={unit} onChange={(e) => setUnit(e.target.value)} onKeyDown={(e) => e.key === "Enter" && name()} />
      <Button onClick={name} disabled={unit.trim() === ""}>
        gets {gets}
      </Button>
    </span>
  );
}
