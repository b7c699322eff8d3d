import { useContext, useState, type ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { addRule, moveRule, nameUnit, newId, putRule, removeRule, type DraftDocument, type DraftRule } from "../../draft/flag";
import { equal } from "../../draft/equal";
import { getsOf, stages, takenBy, unknown, type Branch, type Stage } from "../../draw/track";
import { ConditionAround, type Node } from "../../ui/condition";
import { Button, inputStyle, Select } from "../../ui/controls";
import { About, Part } from "../../ui/estimate";
import { useNarrow } from "../../ui/narrow";
import { Said, Variant } from "../../ui/variant";
import { Word } from "../../ui/word";
import { GivesEditor } from "./gives";
import { Band, Rail, turn } from "./rail";
import { Peek } from "./peek";
import { RuleEditor } from "./rule-editor";

export interface TrackProps {
  doc: DraftDocument;
  says: Map<string, Schemas["Said"]>; // each rule by its id, and the end; what is not understood yet is missing
  names: string[];
  shift: Schemas["Shift"] | undefined; // who is on which branch; before and after an edit
  stood: DraftDocument | undefined; // before the edit
  edited: boolean;
  stopped: boolean;
  editable: boolean;
  onChange: (d: DraftDocument, field: string) => void;
  onWho: (place: string, title: string) => void;
  newVariant?: ReactNode; // adds a variant, from inside a rule
  unit: string; // that is about to be named
}

/** Places are the rules and the end, as branches of the line. */
export function branchesOf(doc: DraftDocument, shift: Schemas["Shift"] | undefined): { total: number; branches: Branch[] } {
  const places = [...doc.rules.map((r) => ({ ...r, rule: r as DraftRule | undefined })), { id: "end", gives: doc.end, rule: undefined }];
  if (shift && shift.units.counted > 0) {
    const of = (id: string) => shift.branches.find((b) => b.place === id);
    const branches = places.map(({ id, gives }) => {
      const b = of(id);
      const given = Object.entries(b?.gives ?? {}).map(([variant, e]) => ({ variant, part: e.units }));
      return { id, takes: { before: b?.before.units ?? 0, after: b?.after.units ?? 0 }, gets: given.length > 0 ? given : getsOf(gives) };
    });
    return { total: shift.units.units, branches };
  }
  // Nobody was seen: widths say what the shares would do.
  let left = unknown;
  const branches = places.map(({ id, gives, rule }) => {
    const takes = id === "end" ? left : !rule || rule.parked || rule.saysNobody || rule.when ? 0 : takenBy(left, gives);
    left -= takes;
    return { id, takes: { before: takes, after: takes }, gets: getsOf(gives) };
  });
  return { total: unknown, branches };
}

/** Track is the picture of a flag's targeting and its editor: all come in on top, at each rule a branch leaves
    the line, as wide as the units that the rule takes, with the rule's sentence on it, and what goes on runs
    down to the end. While an edit is open, what was shows in dots. */
export function Track(props: TrackProps) {
  const { doc, says, names, shift, stood, edited, stopped, editable, onChange, onWho } = props;
  const around = useContext(ConditionAround);
  const [open, setOpen] = useState<string>();
  const full = useNarrow() ? 40 : 112;
  const rail = full + (full > 60 ? 24 : 14);
  const { total, branches } = branchesOf(doc, shift);
  const drawn = stages({ before: total, after: total }, branches, full);
  const halted = stopped || doc.lever !== "on";
  const before = (id: string) => stood?.rules.find((r) => r.id === id);
  const branch = (id: string) => shift?.branches.find((b) => b.place === id);
  return (
    <>
      <ol aria-label="track" className="flex flex-col">
        <li className="grid items-center gap-x-3" style={{ gridTemplateColumns: `${rail}px 1fr` }}>
          <div aria-hidden="true" className="h-full min-h-12 rounded-t" style={{ width: full, background: halted ? "var(--well)" : "color-mix(in srgb, var(--ink) 22%, var(--sheet))" }} />
          <div className="py-3">
            {shift && shift.units.counted > 0 ? (
              <span className="text-base font-medium">
                <About e={shift.units} /> {shift.units.units === 1 ? "unit comes" : "units come"} in, as lately seen
              </span>
            ) : (
              <>
                all come in <span className="text-soft">(no unit was seen lately: widths say what shares would do)</span>
              </>
            )}
            {halted && (
              <>
                {" "}
                and get <Variant names={names} name={doc.resting} />: {stopped ? "the flag is stopped" : "the flag is off"}
              </>
            )}
            {(doc.needs ?? []).map((n) => (
              <div key={n.flag + n.variant}>
                <Word of="needs" /> <span className="font-mono text-[13px]">{n.flag}</span> to give {n.variant}, else <Variant names={names} name={doc.resting} />
              </div>
            ))}
          </div>
        </li>
        {doc.rules.map((r, i) => (
          <Row key={r.id} faint={r.parked ?? false} stage={drawn[i]!} branch={branches[i]!} names={names} width={rail} edited={edited} halted={halted || (r.parked ?? false)} dotted={r.saysNobody ?? false}>
            <div className="flex flex-wrap items-start gap-x-3 gap-y-1">
              <div className="min-w-0 flex-1 basis-64">
                <div className="text-xs text-soft">
                  {i + 1}. {r.name}
                  {r.parked && " (parked)"}
                  {edited && !equal(before(r.id), r) && <Unsaved what={before(r.id) ? "changed" : "new"} />}
                  <Caught branch={halted || r.saysNobody ? undefined : branch(r.id)} edited={edited} onWho={!edited && branch(r.id) ? () => onWho(r.id, r.name) : undefined} />
                </div>
                <div className="text-base">{r.saysNobody ? "takes nobody until it says whom" : says.has(r.id) ? <Said said={says.get(r.id)} names={names} /> : "..."}</div>
                <SegmentsOf when={r.when} segments={around.segments} />
              </div>
              {r.release && <span className="text-xs text-soft">owned by its release: edited there</span>}
              {editable && !r.release && (
                <div className="flex">
                  <Button tone="bare" aria-label={`move ${r.name} up`} disabled={i === 0} onClick={() => onChange(moveRule(doc, r.id, -1), "")}>
                    ↑
                  </Button>
                  <Button tone="bare" aria-label={`move ${r.name} down`} disabled={i === doc.rules.length - 1} onClick={() => onChange(moveRule(doc, r.id, 1), "")}>
                    ↓
                  </Button>
                  <Button aria-label={`${open === r.id ? "close" : "edit"} ${r.name}`} aria-expanded={open === r.id} onClick={() => setOpen(open === r.id ? undefined : r.id)}>
                    {open === r.id ? "close" : "edit"}
                  </Button>
                </div>
              )}
            </div>
            {editable && !r.release && open === r.id && (
              <RuleEditor rule={r} names={names} resting={doc.resting} newVariant={props.newVariant} onChange={(now, field) => onChange(putRule(doc, now), field)} onRemove={() => onChange(removeRule(doc, r.id), "")} />
            )}
          </Row>
        ))}
        <Row stage={drawn.at(-1)!} branch={branches.at(-1)!} names={names} width={rail} edited={edited} halted={halted}>
          <div className="flex flex-wrap items-start gap-3">
            <div className="min-w-0 flex-1 basis-64">
              <div className="text-xs text-soft">
                <Word of="end" />
                {edited && !equal(stood?.end, doc.end) && <Unsaved what="changed" />}
                <Caught branch={halted ? undefined : branch("end")} edited={edited} onWho={edited || !branch("end") ? undefined : () => onWho("end", "the end")} />
              </div>
              <div className="text-base">{says.has("end") ? <Said said={says.get("end")} names={names} /> : "..."}</div>
            </div>
            {editable && (
              <Button aria-label={open === "end" ? "close the end" : "edit the end"} aria-expanded={open === "end"} onClick={() => setOpen(open === "end" ? undefined : "end")}>
                {open === "end" ? "close" : "edit"}
              </Button>
            )}
          </div>
          {editable && open === "end" && (
            <div className="mt-2 flex flex-col gap-3 rounded border border-edge bg-sheet p-4">
              <GivesEditor end value={doc.end} names={names} resting={doc.resting} onChange={(end, field) => onChange({ ...doc, end }, field === "" ? "" : `end ${field}`)} />
              {props.newVariant}
            </div>
          )}
        </Row>
      </ol>
      {editable && (
        <div className="flex flex-wrap items-center gap-2">
          <Button
            onClick={() => {
              const now = addRule(doc, names, newId());
              onChange(now, "");
              setOpen(now.rules.at(-1)!.id);
            }}
          >
            Add a rule
          </Button>
          <NameUnits doc={doc} names={names} unit={props.unit} onChange={onChange} />
          {doc.rules.length > 1 && (
            <>
              <Button onClick={() => onChange({ ...doc, rules: doc.rules.map((r) => (r.release ? r : { ...r, parked: doc.rules.some((o) => !o.parked && !o.release) })) }, "")}>{doc.rules.some((r) => !r.parked && !r.release) ? "Park all rules" : "Take all into use"}</Button>
              <Button onClick={() => onChange({ ...doc, rules: doc.rules.filter((r) => r.release) }, "")}>Take all rules off</Button>
            </>
          )}
        </div>
      )}
      <Silence doc={doc} editable={editable} onChange={onChange} />
      <datalist id="known-attributes">
        {["targetingKey", ...new Set([...around.hints.map((h) => h.name), ...(JSON.stringify(doc).match(/(?<="attribute":")[^"]+/g) ?? [])])].map((a) => (
          <option key={a} value={a}>
            {around.hints.find((h) => h.name === a)?.about}
          </option>
        ))}
      </datalist>
    </>
  );
}

/** Row is one branch: its piece of the line, and what stands on it. */
function Row({ stage, branch, names, width, edited, halted, dotted = false, faint = false, children }: { stage: Stage; branch: Branch; names: string[]; width: number; edited: boolean; halted: boolean; dotted?: boolean; faint?: boolean; children: ReactNode }) {
  const wide = stage.width > 56; // the sentence stands in the branch itself
  return (
    <li className="grid" style={{ gridTemplateColumns: `${width}px 1fr` }}>
      <Rail stage={stage} gets={branch.gets} names={names} width={width} edited={edited} halted={halted} dotted={dotted} />
      <div className={`relative min-w-0 pr-4 pb-4 pl-3 ${faint ? "opacity-75" : ""}`} style={{ minHeight: turn + Math.max(stage.width, stage.was) + 8, paddingTop: turn + (wide ? 6 : Math.max(stage.width, edited ? stage.was : 0) + 4) }}>
        <Band stage={stage} gets={branch.gets} names={names} edited={edited} halted={halted} />
        <div className="relative">{children}</div>
      </div>
    </li>
  );
}

/** Unsaved marks what the edit changed. */
const Unsaved = ({ what }: { what: string }) => <span className="ml-2 rounded border border-lever px-1 text-lever">{what}, not saved</span>;

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
      <Part e={branch.after} />, {branch.after.units.toLocaleString()} {branch.after.units === 1 ? "unit" : "units"}
      {onWho && <Peek place={branch.place} onWho={onWho} />}
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

/** NameUnits puts units by key on top: the way to try a flag on oneself. */
function NameUnits({ doc, names, unit: given, onChange }: { doc: DraftDocument; names: string[]; unit: string; onChange: (d: DraftDocument, field: string) => void }) {
  const [unit, setUnit] = useState(given);
  const gets = names.find((n) => n !== doc.resting) ?? doc.resting;
  const name = () => {
    const key = unit.trim();
    if (key === "") return;
    setUnit("");
    onChange(nameUnit(doc, key, gets, newId()), "");
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
function Silence({ doc, editable, onChange }: { doc: DraftDocument; editable: boolean; onChange: (d: DraftDocument, field: string) => void }) {
  const minutes = doc.restAfter ?? 0;
  if (!editable && minutes === 0) return null;
  const put = (n: number, field: string) => {
    const { restAfter: _, ...rest } = doc;
    onChange(n > 0 ? { ...rest, restAfter: n } : rest, field);
  };
  if (!editable) {
    return (
      <p className="text-soft">
        A process without contact to the service gives {doc.resting} after {minutes} min.
      </p>
    );
  }
  return (
    <div className="flex flex-wrap items-center gap-2 text-soft">
      <span>a process without contact to the service</span>
      <Select
        aria-label="without contact"
        className="text-ink"
        value={minutes > 0 ? "rests" : "goes on"}
        onChange={(e) => put(e.target.value === "rests" ? 60 : 0, "")}
        options={[
          { value: "goes on", label: "goes on deciding" },
          { value: "rests", label: `gives ${doc.resting}` },
        ]}
      />
      {minutes > 0 && (
        <label className="flex items-center gap-2">
          after
          <input type="number" aria-label="minutes without contact" min={1} max={10_080} className={`${inputStyle} w-24`} value={minutes} onChange={(e) => put(Math.max(1, Math.round(Number(e.target.value) || 1)), "minutes")} />
          min
        </label>
      )}
    </div>
  );
}
