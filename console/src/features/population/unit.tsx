import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useChange } from "../../api/queries";
import { useUnit, useUnits } from "../../api/targeting";
import { Button, inputStyle, Problem, Sheet, Time } from "../../ui/controls";
import { FlagPicker } from "../../parts/flag-picker";
import { Rows } from "../../ui/rows";
import { Said, Variant } from "../../ui/variant";
import { Place } from "./place";

/** UnitPage finds a unit and says what it gets of every flag. */
export default function UnitPage() {
  const { project = "", environment = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const unit = query.get("unit") ?? "";
  const [typed, setTyped] = useState(unit);
  const found = useUnits(project, environment, { has: unit === "" ? typed : "-" });
  const view = useUnit(project, environment, unit);
  return (
    <Place>
      <form
        className="flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          setQuery(typed ? { unit: typed } : {});
        }}
      >
        <input aria-label="unit" placeholder="key of a unit, or a part of it" className={`${inputStyle} w-72 font-mono text-[13px]`} value={typed} onChange={(e) => { setTyped(e.target.value); if (unit) setQuery({}); }} />
        <Button tone="lever" type="submit">
          Look
        </Button>
      </form>
      {unit === "" && (
        <Sheet title="Seen lately" aside={<span className="text-xs text-soft">at most 200</span>}>
          <ul className="flex flex-col gap-0.5">
            {found.data?.items.map((u) => (
              <li key={u.unit} className="truncate">
                <Link className="font-mono text-[13px] underline" to={`?unit=${encodeURIComponent(u.unit)}`} onClick={() => setTyped(u.unit)}>
                  {u.unit}
                </Link>{" "}
                <span className="text-xs text-soft">{JSON.stringify(u.attributes)}</span>
              </li>
            ))}
            {found.data?.items.length === 0 && <li className="text-soft">Nobody who was seen has this in the key. Look all the same: what the key alone gets can be said.</li>}
          </ul>
        </Sheet>
      )}
      <Problem error={view.error ?? found.error} />
      {view.data && <Unit project={project} environment={environment} view={view.data} />}
    </Place>
  );
}

const whence: Record<string, string> = { given: "as given", test: "of the test unit", key: "not known: only the key is" };

function Unit({ project, environment, view }: { project: string; environment: string; view: Schemas["UnitView"] }) {
  const names = (flag: string) => view.variants[flag] ?? [];
  return (
    <div className="grid gap-4 lg:grid-cols-[20rem_1fr]">
      <div className="flex flex-col gap-4">
        <Sheet title={<span className="font-mono text-[13px]">{view.unit}</span>}>
          <p className="mb-2 text-[13px] text-soft">Attributes {view.from === "seen" && view.seen ? <>as they were seen <Time ms={view.seen} /></> : (whence[view.from] ?? view.from)}</p>
          <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5">
            {Object.entries(view.attributes)
              .toSorted(([a], [b]) => a.localeCompare(b))
              .map(([name, value]) => (
                <div key={name} className="contents">
                  <dt className="font-mono text-[13px] text-soft">{name}</dt>
                  <dd className="truncate">{typeof value === "object" && !Array.isArray(value) ? "is there" : JSON.stringify(value)}</dd>
                </div>
              ))}
          </dl>
        </Sheet>
        <KeepAsTest project={project} view={view} />
      </div>
      <Sheet title={`What it gets in ${environment}`}>
        <div data-testid="answers">
          <Rows items={view.answers} keyOf={(a) => a.flag} guess={44} label="answers">
            {(a) => (
              <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_2fr_auto] gap-3 border-b border-line py-2 max-md:grid-cols-2">
                <Link className="font-mono text-[13px] break-all underline" to={`/p/${project}/${environment}/flags/${a.flag}`}>
                  {a.flag}
                </Link>
                <span>
                  <Variant names={names(a.flag)} name={a.variant} />
                </span>
                <span className="text-soft">
                  <Said said={a.because} />
                </span>
                <Link className="underline" aria-label={`why of ${a.flag}`} to={`/p/${project}/${environment}/why?flag=${a.flag}&unit=${encodeURIComponent(view.unit)}`}>
                  why
                </Link>
              </div>
            )}
          </Rows>
        </div>
        <NameIt project={project} environment={environment} unit={view.unit} />
      </Sheet>
    </div>
  );
}

/** NameIt leads to a flag, with the unit named in an edit that is not saved yet. */
function NameIt({ project, environment, unit }: { project: string; environment: string; unit: string }) {
  const [flag, setFlag] = useState("");
  return (
    <p className="mt-3 flex flex-wrap items-center gap-2">
      Name it in
      <FlagPicker project={project} label="flag to name it in" value={flag} onPick={setFlag} />
      {flag !== "" && (
        <Link className="underline" to={`/p/${project}/${environment}/flags/${flag}?name=${encodeURIComponent(unit)}`}>
          go and name it
        </Link>
      )}
    </p>
  );
}

function KeepAsTest({ project, view }: { project: string; view: Schemas["UnitView"] }) {
  const [name, setName] = useState("");
  const save = useChange(project, () => must(api.PUT("/api/v1/projects/{project}/test-units", { params: { path: { project } }, body: { units: [{ unit: view.unit, name, attributes: view.attributes, expected: {} }] } })));
  if (view.from === "test") return <p className="text-soft">It is on the roster as a test unit.</p>;
  return (
    <Sheet title="Keep as a test unit">
      <div className="flex gap-2">
        <input aria-label="name of the test unit" placeholder="a name, such as: my phone" className={`${inputStyle} min-w-0 flex-1`} value={name} onChange={(e) => setName(e.target.value)} />
        <Button disabled={save.isPending} onClick={() => save.mutate(undefined)}>
          Keep it
        </Button>
      </div>
      <Problem error={save.error} />
    </Sheet>
  );
}
