import { useState } from "react";
import { useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useNames, useWhy } from "../../api/queries";
import { Button, Field, inputStyle, Page, Problem, Sheet, Time } from "../../ui/controls";
import { Environments } from "../../parts/environments";
import { FlagPicker } from "../../parts/flag-picker";
import { percent } from "../../ui/percent";
import { Said, Variant } from "../../ui/variant";

/** contextOf reads "name = value" lines: true, false, numbers and JSON as such, all else as text. */
function contextOf(unit: string, lines: string): Record<string, unknown> {
  const out: Record<string, unknown> = {};
  if (unit !== "") out.targetingKey = unit;
  for (const line of lines.split("\n")) {
    const at = line.indexOf("=");
    if (at <= 0) continue;
    const text = line.slice(at + 1).trim();
    try {
      out[line.slice(0, at).trim()] = JSON.parse(text);
    } catch {
      out[line.slice(0, at).trim()] = text;
    }
  }
  return out;
}

export default function WhyPage() {
  const { project = "", environment = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const [flag, setFlag] = useState(query.get("flag") ?? "");
  const [unit, setUnit] = useState(query.get("unit") ?? "");
  const [attributes, setAttributes] = useState(query.get("with") ?? "");
  const [at, setAt] = useState(query.get("at") ?? "");
  const [against, setAgainst] = useState(query.get("against") ?? "");
  const [againstAt, setAgainstAt] = useState(query.get("against-at") ?? "");
  const asked = query.get("flag") && query.has("unit") ? bodyOf(query) : undefined;
  const why = useWhy(project, environment, query.get("flag") ?? "", asked);
  const names = useNames(project, [query.get("flag") ?? ""])(query.get("flag") ?? "");
  return (
    <Page
      title="Why"
      aside={
        <Environments project={project} environment={environment} to={(e) => `/p/${project}/${e}/why?${query}`} />
      }
    >
      <form
        className="grid gap-3 rounded border border-line bg-sheet p-4 md:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          const next: Record<string, string> = { flag, unit };
          if (attributes) next.with = attributes;
          if (at) next.at = at;
          if (against) next.against = against;
          if (againstAt) next["against-at"] = againstAt;
          setQuery(next);
        }}
      >
        <div className="flex flex-col gap-1">
          <span className="font-medium">Flag</span>
          <FlagPicker project={project} label="Flag" className="w-full" value={flag} onPick={setFlag} />
        </div>
        <Field label="Unit" hint="its targeting key">
          {(id) => <input id={id} className={inputStyle} placeholder="recipient-17" value={unit} onChange={(e) => setUnit(e.target.value)} />}
        </Field>
        <Field label="Attributes" hint="one on a line: name = value; empty: as the unit was last seen">
          {(id) => <textarea id={id} rows={3} className={`${inputStyle} font-mono text-[13px]`} placeholder={"site.id = site-12\nfirmware = 4.3.1"} value={attributes} onChange={(e) => setAttributes(e.target.value)} />}
        </Field>
        <Field label="At" hint="a time in the past; empty is now">
          {(id) => <input id={id} type="datetime-local" step="1" className={inputStyle} value={at} onChange={(e) => setAt(e.target.value)} />}
        </Field>
        <Field label="Against another unit" hint="empty: none, or the same unit at another time">
          {(id) => <input id={id} className={inputStyle} placeholder="recipient-18" value={against} onChange={(e) => setAgainst(e.target.value)} />}
        </Field>
        <Field label="Against another time">{(id) => <input id={id} type="datetime-local" step="1" className={inputStyle} value={againstAt} onChange={(e) => setAgainstAt(e.target.value)} />}</Field>
        <Button tone="lever" type="submit" className="justify-self-start" disabled={flag === ""}>
          Ask why
        </Button>
      </form>
      <Problem error={why.error} />
      {why.data && <Answer why={why.data} names={names} />}
    </Page>
  );
}

function bodyOf(query: URLSearchParams): Schemas["WhyBody"] {
  const unit = query.get("unit") ?? "";
  const attributes = query.get("with") ?? "";
  const body: Schemas["WhyBody"] = attributes === "" && unit !== "" ? { unit } : { context: contextOf(unit, attributes) };
  const at = query.get("at");
  if (at) body.at = new Date(at).getTime();
  const against = query.get("against");
  const againstAt = query.get("against-at");
  if (against || againstAt) body.against = { ...(against && { unit: against }), ...(againstAt && { at: new Date(againstAt).getTime() }) };
  return body;
}

const whence: Record<string, string> = { given: "as given", test: "of the test unit", key: "not known: only the key is" };

function Answer({ why, names }: { why: Schemas["Why"]; names: string[] }) {
  return (
    <>
      <p className="rounded border border-line bg-sheet px-4 py-3 text-base" data-testid="answer">
        <span className="font-mono">{why.flag}</span> gives {why.variant ? <Variant names={names} name={why.variant} /> : "nothing"}{" "}
        <code className="text-soft">{JSON.stringify(why.value)}</code>, because <Said said={why.because} names={names} />.
        <span className="block text-xs text-soft">
          {why.reason}, revision {why.revision} of epoch {why.epoch}, made <Time ms={why.made} />; attributes {why.from === "seen" && why.seen ? <>as they were seen <Time ms={why.seen} /></> : (whence[why.from] ?? why.from)}
        </span>
      </p>
      {why.unknown.length > 0 && (
        <ul className="rounded border border-line bg-note px-4 py-2" data-testid="unknown">
          {why.unknown.map((u) => (
            <li key={u.text}>
              <Said said={u} />.
            </li>
          ))}
        </ul>
      )}
      {why.against && (
        <Sheet title={`Against ${why.against.unit || "nobody"}`}>
          <p>
            It gets {why.against.variant ? <Variant names={names} name={why.against.variant} /> : "nothing"}, because <Said said={why.against.because} names={names} />.
          </p>
          <ul className="mt-2 list-disc pl-5" data-testid="differs">
            {why.differs?.map((d) => <li key={d}>{d}</li>)}
            {!why.differs && <li>nothing differs</li>}
          </ul>
        </Sheet>
      )}
      <Sheet title="Step by step">
        <ol className="flex flex-col gap-3">
          <Step ok={why.stops.length === 0} text={why.stops.length === 0 ? "no stop stands" : `stopped: ${why.stops.join(", ")}`} />
          <Step ok={why.lever === "on"} text={`the lever is ${why.lever}`} />
          {why.needs.map((n) => (
            <Step key={n.flag} ok={n.met} text={`needs ${n.flag} to give ${n.wants}: it gives ${n.gave ?? "nothing"}`} />
          ))}
          {why.rules.map((r, i) => (
            <li key={r.id} className={`rounded border px-3 py-2 ${r.id === why.rule ? "border-lever" : "border-line"}`}>
              <div>
                <b className="font-medium">
                  {i + 1}. {r.name}
                </b>{" "}
                {r.says}
                {r.id === why.rule && <span className="ml-2 rounded bg-lever px-1.5 text-xs text-lever-ink">decides</span>}
              </div>
              <Condition x={r.condition} />
              {r.shares && <Draw step={r.shares} names={names} />}
            </li>
          ))}
          {why.rule === undefined && why.reason !== "DISABLED" && (
            <li className="rounded border border-lever px-3 py-2">
              <b className="font-medium">end</b> <span className="ml-2 rounded bg-lever px-1.5 text-xs text-lever-ink">decides</span>
              {why.end && <Draw step={why.end} names={names} />}
            </li>
          )}
        </ol>
      </Sheet>
    </>
  );
}

function Step({ ok, text }: { ok: boolean; text: string }) {
  return (
    <li className="flex gap-2">
      <span className={`w-14 ${ok ? "text-soft" : "font-medium text-alarm"}`}>{ok ? "passed" : "rests"}</span>
      {text}
    </li>
  );
}

function Condition({ x }: { x: Schemas["Explained"] }) {
  return (
    <div className="mt-1 border-l-2 border-line pl-3 text-[13px]">
      <span className={`mr-2 inline-block w-16 ${x.truth === "true" ? "font-medium" : x.truth === "unknown" ? "text-alarm" : "text-soft"}`}>{x.truth}</span>
      <Said said={x.words} />
      {x.seen && (
        <span className="text-soft">
          ; seen: <code>{x.seen}</code>
        </span>
      )}
      {x.note && (
        <span className="text-alarm">
          {" "}
          (<Said said={x.note} />)
        </span>
      )}
      {x.parts?.map((p) => <Condition key={p.words.text + (p.seen ?? "")} x={p} />)}
    </div>
  );
}

/** Draw shows where the unit lies among the buckets of a share. */
function Draw({ step, names }: { step: Schemas["SharesStep"]; names: string[] }) {
  const draw = step.draw;
  if (!draw) return null;
  return (
    <div className="mt-2 text-[13px]">
      {draw.by === "targetingKey" ? "key" : draw.by} <code>{draw.key}</code> lies at {percent(draw.bucket)}
      <ul className="mt-1">
        {step.parts.map((p) => {
          const here = p.ranges.some((r) => r[0]! <= draw.bucket && draw.bucket < r[1]!);
          return (
            <li key={p.variant ?? "left"} className={here ? "font-medium" : "text-soft"}>
              {p.goesOn ? "what follows" : <Variant names={names} name={p.variant ?? ""} />} {percent(p.share)}: {p.ranges.map((r) => `from ${percent(r[0]!)} to ${percent(r[1]!)}`).join(", ") || "nobody"}
              {here && " (here)"}
            </li>
          );
        })}
      </ul>
    </div>
  );
}
