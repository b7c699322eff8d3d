import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useChange } from "../../api/queries";
import { useRoster } from "../../api/targeting";
import { Button, Problem, Sheet, TextField, Waiting } from "../../ui/controls";
import { Variant } from "../../ui/variant";
import { Place } from "./place";
import { takeOut } from "../../ui/typed";

/** RosterPage is test units by flags: what each gets, against what is expected of it and what
    chance says of them all. */
export default function RosterPage() {
  const { project = "", environment = "" } = useParams();
  const roster = useRoster(project, environment);
  const names = (flag: string) => roster.data?.variants[flag] ?? [];
  return (
    <Place>
      <Problem error={roster.error} />
      {roster.isPending && <Waiting what="the roster" />}
      {roster.data && (
        <Sheet title={`What test units get in ${environment}`}>
          {roster.data.units.length === 0 && <p className="text-soft">There is no test unit yet. Make one below, or keep one from a unit's page.</p>}
          <div className="overflow-x-auto">
            <table className="w-full border-collapse text-left" data-testid="roster">
              <thead>
                <tr className="border-b border-line align-bottom text-[13px]">
                  <th className="py-1 pr-3 font-medium">flag</th>
                  {roster.data.units.map((u) => (
                    <th key={u.unit} className="pr-3 font-medium">
                      {u.name || u.unit}
                      <div className="font-normal">
                        <Link className="font-mono text-xs underline" to={`/p/${project}/${environment}/population/unit?unit=${encodeURIComponent(u.unit)}`}>
                          {u.unit}
                        </Link>
                      </div>
                    </th>
                  ))}
                  <th className="font-medium">how many, and what would be usual</th>
                </tr>
              </thead>
              <tbody>
                {roster.data.flags.map((f) => (
                  <tr key={f} className="border-b border-line align-top last:border-0">
                    <th scope="row" className="py-1.5 pr-3 font-normal">
                      <Link className="font-mono text-[13px] underline" to={`/p/${project}/${environment}/flags/${f}`}>
                        {f}
                      </Link>
                    </th>
                    {roster.data.units.map((u) => (
                      <Cell key={u.unit} cell={u.gets[f]} names={names(f)} />
                    ))}
                    <td className="pt-1.5 text-[13px] text-soft">
                      {roster.data.units.length > 0 &&
                        (roster.data.chances[f] ?? [])
                          .filter((c) => c.actual > 0 || c.high > 0)
                          .map((c) => (
                            <div key={c.variant} className={c.actual < c.low || c.actual > c.high ? "text-ink" : ""}>
                              {c.actual} of {roster.data.units.length} get {c.variant}; {c.low === c.high ? c.low : `${c.low} to ${c.high}`} would be usual
                            </div>
                          ))}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </Sheet>
      )}
      <NewTestUnit project={project} units={roster.data?.units ?? []} />
    </Place>
  );
}

function Cell({ cell, names }: { cell: Schemas["RosterCell"] | undefined; names: string[] }) {
  if (!cell) return <td />;
  const odd = cell.expected && cell.expected !== cell.variant;
  return (
    <td className={`pt-1.5 pr-3 ${odd ? "bg-alarm-sheet" : ""}`} title={cell.because.text}>
      <Variant names={names} name={cell.variant} />
      {cell.expected && <div className={`text-xs ${odd ? "text-alarm" : "text-soft"}`}>{odd ? `expected ${cell.expected}` : "as expected"}</div>}
    </td>
  );
}

/** pairs reads "name = value" lines: true, false, numbers and JSON as such, all else as text. */
function pairs(text: string): Record<string, unknown> {
  const out: Record<string, unknown> = {};
  for (const line of text.split("\n")) {
    const at = line.indexOf("=");
    if (at <= 0) continue;
    const value = line.slice(at + 1).trim();
    try {
      out[line.slice(0, at).trim()] = JSON.parse(value);
    } catch {
      out[line.slice(0, at).trim()] = value;
    }
  }
  return out;
}

function NewTestUnit({ project, units }: { project: string; units: Schemas["RosterUnit"][] }) {
  const [unit, setUnit] = useState("");
  const [name, setName] = useState("");
  const [attributes, setAttributes] = useState("");
  const [expected, setExpected] = useState("");
  const path = { project };
  const save = useChange(project, (u: Schemas["TestUnit"]) => must(api.PUT("/api/v1/projects/{project}/test-units", { params: { path }, body: { units: [u] } })));
  const remove = useChange(project, (key: string) => must(api.POST("/api/v1/projects/{project}/test-units/remove", { params: { path }, body: { unit: key } })));
  return (
    <Sheet title="Test units">
      <ul className="mb-3 flex flex-col gap-0.5">
        {units.map((u) => (
          <li key={u.unit} className="flex flex-wrap items-center gap-2">
            <span className="font-mono text-[13px]">{u.unit}</span> {u.name} <span className="text-xs text-soft">{JSON.stringify(u.attributes)}</span>
            <Button tone="bare" aria-label={`remove test unit ${u.unit}`} onClick={() => remove.mutate(u.unit)}>
              remove
            </Button>
          </li>
        ))}
      </ul>
      <form
        className="grid gap-3 md:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          const wants = Object.fromEntries(Object.entries(pairs(expected)).map(([k, v]) => [k, String(v)]));
          save.mutate({ unit, name, attributes: pairs(attributes), expected: wants }, { onSuccess: () => { takeOut(setUnit, unit); takeOut(setName, name); takeOut(setAttributes, attributes); takeOut(setExpected, expected); } });
        }}
      >
        <TextField label="Key of the test unit" required className="font-mono" value={unit} onChange={(e) => setUnit(e.target.value)} />
        <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} />
        <label className="flex flex-col gap-1">
          <span className="font-medium">Its attributes</span>
          <textarea aria-label="Its attributes" rows={3} placeholder={"site.id = site-12\nfirmware = 4.3.1"} className="rounded border border-line bg-sheet px-2 py-1 font-mono text-[13px]" value={attributes} onChange={(e) => setAttributes(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          <span className="font-medium">What it should get</span>
          <textarea aria-label="What it should get" rows={3} placeholder="one-touch-open = on" className="rounded border border-line bg-sheet px-2 py-1 font-mono text-[13px]" value={expected} onChange={(e) => setExpected(e.target.value)} />
        </label>
        <Problem error={save.error ?? remove.error} />
        <Button tone="lever" type="submit" className="justify-self-start md:col-start-1" disabled={save.isPending}>
          Save the test unit
        </Button>
      </form>
    </Sheet>
  );
}
