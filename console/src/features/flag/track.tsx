import { useContext, useState, type ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { ConditionAround, ConditionEditor, type Node } from "../../ui/condition";
import { Button, inputStyle, Select } from "../../ui/controls";
import { About, Part } from "../../ui/estimate";
import { Said, Variant, variantColor } from "../../ui/variant";
import { GivesEditor } from "./gives";

type Document = Schemas["Document"];
type Rule = Schemas["Rule"];

export interface TrackProps {
  doc: Document;
  says: Schemas["Said"][]; // each rule by itself, and the end; empty where an edit is not understood yet
  names: string[];
  shift: Schemas["Shift"] | undefined; // who is on which branch; before and after an edit
  edited: boolean;
  stopped: boolean;
  editable: boolean;
  onChange: (d: Document) => void;
  onWho: (place: string, title: string) => void;
  newVariant?: ReactNode; // adds a variant, from inside a rule
  unit: string; // that is about to be named
}

const full = 14; // width of the line that everybody comes in on

/** Flow is how many units are on the line and on a branch, as widths. */
interface Flow {
  line: number;
  was: number; // of the line before the edit
  taken: number;
  took: number;
}

/** flows gives the widths of the line before each rule and at the end. Without a population
    they are told by shares alone. */
function flows(rules: Rule[], shift: Schemas["Shift"] | undefined): Flow[] {
  const total = shift?.units.counted ?? 0;
  const out: Flow[] = [];
  let line = full;
  let was = full;
  for (const r of rules) {
    const branch = total > 0 ? shift?.branches.find((b) => b.place === r.id) : undefined;
    const goesOn = r.gives.shares?.parts.find((p) => p.goesOn)?.share ?? 0;
    const guess = r.parked || r.when ? 0 : line * (1 - goesOn / 1_000_000);
    const taken = total > 0 ? (full * (branch?.after.counted ?? 0)) / total : guess;
    const took = total > 0 ? (full * (branch?.before.counted ?? 0)) / total : guess;
    out.push({ line, was, taken, took });
    line = Math.max(0, line - taken);
    was = Math.max(0, was - took);
  }
  return [...out, { line, was, taken: line, took: was }];
}

/** Track is the picture of a flag's targeting and its editor: everybody comes in on top, at
    each rule a branch leaves the line, as wide as the units that the rule takes, and what
    goes on runs down to the end. While an edit is open, the old track shows faintly under it. */
export function Track(props: TrackProps) {
  const { doc, says, names, shift, edited, stopped, editable, onChange, onWho } = props;
  const around = useContext(ConditionAround);
  const [open, setOpen] = useState<string>();
  const rules = doc.rules ?? [];
  const widths = flows(rules, shift);
  const halted = stopped || doc.lever !== "on";
  const put = (at: number, r: Rule) => onChange({ ...doc, rules: rules.map((o, i) => (i === at ? r : o)) });
  const move = (at: number, by: number) => {
    const next = [...rules];
    const [r] = next.splice(at, 1);
    next.splice(at + by, 0, r!);
    onChange({ ...doc, rules: next });
  };
  const line = halted ? "var(--line)" : "var(--soft)";
  const last = widths.at(-1)!;
  return (
    <ol aria-label="track" className="flex flex-col">
      <Row rail={<Rail line={line} above={0} below={full} was={edited ? full : 0} mark={<circle cx="22" cy="20" r="5" fill={line} />} />}>
        <div className="text-soft">
          {shift && shift.units.counted > 0 ? (
            <>
              <About e={shift.units} /> {shift.units.units === 1 ? "unit comes" : "units come"} in, as lately seen
            </>
          ) : (
            "all come in"
          )}
          {halted && (
            <>
              {" "}
              and get <Variant names={names} name={doc.resting} />: {stopped ? "the flag is stopped" : "the flag is off"}
            </>
          )}
        </div>
      </Row>
      {(doc.needs ?? []).map((n) => (
        <Row key={n.flag + n.variant} rail={<Rail line={line} above={full} below={full} was={edited ? full : 0} mark={<rect x="15" y="13" width="14" height="14" fill="var(--sheet)" stroke={line} strokeWidth="2" />} />}>
          needs <span className="font-mono text-[13px]">{n.flag}</span> to give {n.variant}, else <Variant names={names} name={doc.resting} />
        </Row>
      ))}
      {rules.map((r, i) => {
        const id = r.id || `new ${i}`;
        const flow = widths[i]!;
        const next = widths[i + 1]!;
        const branch = shift?.branches.find((b) => b.place === r.id);
        return (
          <Row
            key={id}
            faint={r.parked ?? false}
            rail={<Rail line={line} above={flow.line} below={next.line} was={edited ? next.was : 0} branch={r.parked ? undefined : { color: variantColor(names, mainVariant(r)), width: flow.taken, was: edited ? flow.took : 0 }} />}
          >
            <div className="flex flex-wrap items-start gap-x-3 gap-y-1">
              <div className="min-w-0 flex-1 basis-72">
                <div className="text-xs text-soft">
                  {i + 1}. {r.name}
                  {r.parked && " (parked)"}
                  <Caught branch={halted ? undefined : branch} edited={edited} onWho={r.id && branch && !edited ? () => onWho(r.id, r.name) : undefined} />
                </div>
                <div>{says[i] ? <Said said={says[i]} names={names} /> : <span className="text-soft">...</span>}</div>
                <SegmentsOf when={r.when} segments={around.segments} />
              </div>
              {editable && (
                <div className="flex">
                  <Button tone="bare" aria-label={`move ${r.name} up`} disabled={i === 0} onClick={() => move(i, -1)}>
                    ↑
                  </Button>
                  <Button tone="bare" aria-label={`move ${r.name} down`} disabled={i === rules.length - 1} onClick={() => move(i, 1)}>
                    ↓
                  </Button>
                  <Button tone="bare" aria-label={`${open === id ? "close" : "edit"} ${r.name}`} aria-expanded={open === id} onClick={() => setOpen(open === id ? undefined : id)}>
                    {open === id ? "close" : "edit"}
                  </Button>
                </div>
              )}
            </div>
            {editable && open === id && (
              <RuleEditor rule={r} names={names} resting={doc.resting} newVariant={props.newVariant} onChange={(now) => put(i, now)} onRemove={() => onChange({ ...doc, rules: rules.filter((_, j) => j !== i) })} />
            )}
          </Row>
        );
      })}
      <Row rail={<Rail line={line} above={last.line} below={0} was={0} mark={<path d="M10 20h24" stroke={line} strokeWidth="4" strokeLinecap="round" />} />}>
        <div className="flex flex-wrap items-start gap-3">
          <div className="min-w-0 flex-1 basis-72">
            <div className="text-xs text-soft">
              end
              <Caught branch={halted ? undefined : shift?.branches.find((b) => b.place === "end")} edited={edited} onWho={edited ? undefined : () => onWho("end", "the end")} />
            </div>
            <div>{says[rules.length] ? <Said said={says[rules.length]} names={names} /> : "..."}</div>
          </div>
          {editable && (
            <Button tone="bare" aria-label={open === "end" ? "close the end" : "edit the end"} aria-expanded={open === "end"} onClick={() => setOpen(open === "end" ? undefined : "end")}>
              {open === "end" ? "close" : "edit"}
            </Button>
          )}
        </div>
        {editable && open === "end" && (
          <div className="mt-2 flex flex-col gap-2 rounded border border-line p-3">
            <GivesEditor end value={doc.end} names={names} resting={doc.resting} onChange={(end) => onChange({ ...doc, end })} />
            {props.newVariant}
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
            <NameUnits doc={doc} names={names} unit={props.unit} onChange={onChange} />
            {rules.length > 1 && (
              <>
                <Button onClick={() => onChange({ ...doc, rules: rules.map((r) => ({ ...r, parked: rules.some((o) => !o.parked) })) })}>{rules.some((r) => !r.parked) ? "Park all rules" : "Take all into use"}</Button>
                <Button onClick={() => onChange({ ...doc, rules: [] })}>Take all rules off</Button>
              </>
            )}
          </div>
        )}
      </Row>
      <Silence doc={doc} editable={editable} onChange={onChange} />
      <datalist id="known-attributes">
        {["targetingKey", ...new Set([...around.hints.map((h) => h.name), ...(JSON.stringify(doc).match(/(?<="attribute":")[^"]+/g) ?? [])])].map((a) => (
          <option key={a} value={a}>
            {around.hints.find((h) => h.name === a)?.about}
          </option>
        ))}
      </datalist>
    </ol>
  );
}

/** Caught says how many units are on a branch, and asks who they are. */
function Caught({ branch, edited, onWho }: { branch: Schemas["Branch"] | undefined; edited: boolean; onWho: (() => void) | undefined }) {
  if (!branch || (branch.after.counted === 0 && branch.before.counted === 0)) return null;
  const same = branch.after.counted === branch.before.counted;
  return (
    <span className="ml-2">
      {edited && !same && (
        <>
          <Part e={branch.before} /> →{" "}
        </>
      )}
      <Part e={branch.after} />
      {onWho && (
        <button type="button" className="ml-2 cursor-pointer underline" onClick={onWho}>
          who?
        </button>
      )}
    </span>
  );
}

/** SegmentsOf lets the segments of a rule be read in place. */
function SegmentsOf({ when, segments }: { when: Node | undefined; segments: { key: string; says: Schemas["Said"] }[] }) {
  const named = [...new Set(JSON.stringify(when ?? {}).match(/(?<="segment":")[^"]+/g) ?? [])];
  const known = named.flatMap((k) => segments.filter((s) => s.key === k));
  if (known.length === 0) return null;
  return (
    <ul className="text-xs text-soft">
      {known.map((s) => (
        <li key={s.key}>
          {s.key}: <Said said={s.says} />
        </li>
      ))}
    </ul>
  );
}

interface Branch {
  color: string;
  width: number;
  was: number; // before the edit
}

/** mainVariant is the variant whose colour a rule's branch has. */
function mainVariant(r: Rule): string {
  return r.gives.variant ?? r.gives.shares?.parts.find((p) => !p.goesOn && p.share > 0)?.variant ?? "";
}

function Row({ rail, children, faint = false }: { rail: ReactNode; children: ReactNode; faint?: boolean }) {
  return (
    <li className="grid grid-cols-[64px_1fr]">
      {rail}
      <div className={`min-w-0 py-2.5 ${faint ? "opacity-60" : ""}`}>{children}</div>
    </li>
  );
}

const path = "M22 6C22 22 30 22 40 22H54"; // of a branch

/** seen keeps what is thin from vanishing. */
function seen(w: number): number {
  return w > 0 ? Math.max(1.5, w) : 0;
}

/** Rail is a piece of the line: it comes in from above, a branch may leave it, and it goes on
    below. What it was before an edit shows as an outline under it. */
function Rail({ line, above, below, was, branch, mark }: { line: string; above: number; below: number; was: number; branch?: Branch | undefined; mark?: ReactNode }) {
  return (
    <div aria-hidden="true" className="relative">
      {was > 0 && <div className="absolute top-[20px] bottom-0 border-x border-dashed border-soft/60" style={{ left: 22 - seen(was) / 2 - 1, width: seen(was) + 2 }} />}
      {above > 0 && <div className="absolute top-0 h-[20px]" style={{ left: 22 - seen(above) / 2, width: seen(above), background: line }} />}
      {below > 0 && <div className="absolute top-[20px] bottom-0" style={{ left: 22 - seen(below) / 2, width: seen(below), background: line }} />}
      <svg width="64" height="40" className="absolute top-0 left-0">
        {branch && (
          <>
            {branch.was > 0 && <path d={path} fill="none" stroke={branch.color} strokeOpacity="0.35" strokeWidth={seen(branch.was) + 4} />}
            {branch.width > 0 ? (
              <path d={path} fill="none" stroke={branch.color} strokeWidth={seen(branch.width)} />
            ) : (
              <path d={path} fill="none" stroke={branch.color} strokeWidth="1" strokeDasharray="2 3" />
            )}
            <rect x="52" y="12" width="6" height="20" rx="2" fill={branch.color} />
          </>
        )}
        {mark}
      </svg>
    </div>
  );
}

function RuleEditor({ rule, names, resting, newVariant, onChange, onRemove }: { rule: Rule; names: string[]; resting: string; newVariant: ReactNode; onChange: (r: Rule) => void; onRemove: () => void }) {
  return (
    <div className="mt-2 flex flex-col gap-3 rounded border border-line p-3">
      <input aria-label="name of the rule" className={`${inputStyle} max-w-sm`} value={rule.name} onChange={(e) => onChange({ ...rule, name: e.target.value })} />
      <ConditionEditor
        value={rule.when}
        onChange={(when) => {
          const { when: _, ...rest } = rule;
          onChange(when ? { ...rest, when } : rest);
        }}
      />
      <GivesEditor end={false} value={rule.gives} names={names} resting={resting} onChange={(gives) => onChange({ ...rule, gives })} />
      {newVariant}
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
function NameUnits({ doc, names, unit: given, onChange }: { doc: Document; names: string[]; unit: string; onChange: (d: Document) => void }) {
  const [unit, setUnit] = useState(given);
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
    <span className="inline-flex flex-wrap gap-1">
      <input aria-label="key of a unit to name" placeholder="your key, to name yourself" className={`${inputStyle} w-52`} value={unit} onChange={(e) => setUnit(e.target.value)} onKeyDown={(e) => e.key === "Enter" && name()} />
      <Button onClick={name} disabled={unit.trim() === ""}>
        gets {gets}
      </Button>
    </span>
  );
}

/** Silence says, and edits, what a process does that hears nothing of the service for long. */
function Silence({ doc, editable, onChange }: { doc: Document; editable: boolean; onChange: (d: Document) => void }) {
  const minutes = doc.restAfter ?? 0;
  if (!editable && minutes === 0) return null;
  const put = (n: number) => {
    const { restAfter: _, ...rest } = doc;
    onChange(n > 0 ? { ...rest, restAfter: n } : rest);
  };
  return (
    <li className="mt-2 flex flex-wrap items-center gap-2 pl-16 text-soft">
      <span>a process without contact to the service</span>
      {editable ? (
        <>
          <Select
            aria-label="without contact"
            value={minutes > 0 ? "rests" : "goes on"}
            onChange={(e) => put(e.target.value === "rests" ? 60 : 0)}
            options={[
              { value: "goes on", label: "goes on deciding" },
              { value: "rests", label: `gives ${doc.resting}` },
            ]}
          />
          {minutes > 0 && (
            <label className="flex items-center gap-2">
              after
              <input
                type="number"
                aria-label="minutes without contact"
                min={1}
                max={10_080}
                className={`${inputStyle} w-24 text-ink`}
                value={minutes}
                onChange={(e) => put(Math.max(1, Math.round(Number(e.target.value) || 1)))}
              />
              min
            </label>
          )}
        </>
      ) : (
        <span>
          gives {doc.resting} after {minutes} min
        </span>
      )}
    </li>
  );
}
