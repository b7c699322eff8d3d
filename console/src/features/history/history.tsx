import { useDeferredValue, useState } from "react";
import { Link, useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useChanges, useEnvironments, useNames, usePeople, useVerify, type HistoryFilter } from "../../api/queries";
import { FlagPicker } from "../../parts/flag-picker";
import { PlanDialog } from "../../parts/plan";
import { Button, inputStyle, Page, Problem, Select, Time, Waiting, zone } from "../../ui/controls";
import { useAddressChoices, useAddressField } from "../../ui/address";
import { Pick } from "../../ui/pick";
import { Said } from "../../ui/variant";
import { Then } from "./then";

const fields = ["environment", "flag", "person", "from", "to", "action"] as const;

const actions = { "flag.changed": "changes of flags", "flag.stopped": "stops", "flag.lifted": "lifts", "flag.made": "new flags", "definition.changed": "definitions", "segment.changed": "segments", "environment.changed": "environments", "access-key.made": "new access keys", "roles.changed": "roles" };

/** midnight is when a day begins in the reader's zone, in Unix milliseconds; days later counts on. */
function midnight(day: string, later = 0): string {
  const [y, m, d] = day.split("-").map(Number);
  const at = new Date(y!, m! - 1, d! + later).getTime();
  return Number.isNaN(at) ? "" : String(at);
}

export default function History() {
  const { project = "" } = useParams();
  const [query, choose] = useAddressChoices();
  const [typed, setTyped] = useAddressField("find");
  const [cursors, setCursors] = useState<string[]>([]);
  const environments = useEnvironments(project);
  const people = usePeople(project);
  const filter: HistoryFilter = {};
  for (const f of fields) {
    const v = query.get(f);
    if (v) filter[f] = f === "from" ? midnight(v) : f === "to" ? midnight(v, 1) : v;
  }
  const find = useDeferredValue(typed);
  const asked = { ...filter, ...(find && { find }), ...(cursors.at(-1) && { cursor: cursors.at(-1)! }) };
  const history = useChanges(project, asked);
  const names = useNames(project, (history.data?.items ?? []).flatMap((c) => (c.action.startsWith("flag.") && c.subject ? [c.subject] : [])));
  const set = (name: (typeof fields)[number], value: string) => {
    setCursors([]);
    choose(name, value);
  };
  const taken = new URLSearchParams(Object.entries({ ...filter, ...(typed && { find: typed }) })).toString();
  return (
    <Page title="History" aside={<Verify project={project} />}>
      <div role="search" className="flex flex-wrap items-center gap-2 rounded border border-line bg-sheet px-4 py-3">
        <input type="search" aria-label="find in the history" placeholder="find: a name, a word, a reason" className={`${inputStyle} w-64`} value={typed} onChange={(e) => { setCursors([]); setTyped(e.target.value); }} />
        <Pick label="environment" value={query.get("environment") ?? ""} onChange={(v) => set("environment", v)} options={[{ value: "", label: "every environment" }, ...(environments.data?.items ?? []).map((e) => ({ value: e.key }))]} />
        <FlagPicker project={project} label="flag" className="w-48" none="every flag" value={query.get("flag") ?? ""} onPick={(v) => set("flag", v)} />
        <Pick label="person" value={query.get("person") ?? ""} onChange={(v) => set("person", v)} options={[{ value: "", label: "everybody" }, ...(people.data?.items ?? []).map((p) => ({ value: p.account, label: p.name }))]} />
        <Select aria-label="action" value={query.get("action") ?? ""} onChange={(e) => set("action", e.target.value)} options={[{ value: "", label: "everything" }, ...Object.entries(actions).map(([value, label]) => ({ value, label }))]} />
        <label className="text-soft">
          from <input type="date" className={inputStyle} value={query.get("from") ?? ""} onChange={(e) => set("from", e.target.value)} />
        </label>
        <label className="text-soft">
          to <input type="date" className={inputStyle} value={query.get("to") ?? ""} onChange={(e) => set("to", e.target.value)} />
        </label>
        <span className="text-xs text-soft">times are of {zone}</span>
        <span className="ml-auto flex flex-wrap gap-3">
          <a className="underline" href={`/api/v1/projects/${project}/changes.csv?${taken}`}>
            CSV
          </a>
          <a className="underline" href={`/api/v1/projects/${project}/changes.json?${taken}`}>
            JSON
          </a>
          <a className="underline" href={`/api/v1/projects/${project}/export`}>
            to verify elsewhere
          </a>
        </span>
      </div>
      {history.isPending && <Waiting what="the history" />}
      <Problem error={history.error} />
      <ol className="flex flex-col gap-2" aria-label="history">
        {history.data?.items.map((c) => <Change key={c.change} change={c} names={names(c.subject)} project={project} />)}
      </ol>
      {history.data?.items.length === 0 && (
        <p className="text-soft">
          Nothing was changed that fits.
          {history.data.back && (
            <>
              {" "}
              It was looked back to <Time ms={history.data.back} />.
            </>
          )}
        </p>
      )}
      <div className="flex gap-2">
        {cursors.length > 0 && <Button onClick={() => setCursors(cursors.slice(0, -1))}>Newer</Button>}
        {history.data?.cursor && <Button onClick={() => setCursors([...cursors, history.data.cursor!])}>Older</Button>}
      </div>
    </Page>
  );
}

const backable = ["flag.changed", "definition.changed", "segment.changed", "segment.titled", "attribute.", "recipe.", "ladder.", "metric.", "policy.", "bundle.", "proposal.applied"];

/** takenBack tells whether a change can be taken back at all. */
const takenBack = (c: Schemas["Changed"]) => c.in.some((t) => backable.some((b) => t.action.startsWith(b)));

const says = (t: Schemas["Touched"]) => t.difference.map((d) => d.text).join("\n");

/** Change is one thing that somebody did, over all its environments. Where it did the same in several, that is
    said once. */
function Change({ change: c, names, project }: { change: Schemas["Changed"]; names: string[]; project: string }) {
  const [then, setThen] = useState<{ environment: string; revision: number }>();
  const [back, setBack] = useState(false);
  const groups = [...new Set(c.in.map(says))].map((text) => c.in.filter((t) => says(t) === text));
  const isFlag = c.action.startsWith("flag.") || c.action === "definition.changed";
  return (
    <li className="rounded border border-line bg-sheet px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className="text-base">
          <Said said={c.says} names={names} />
        </span>
        <span className="ml-auto text-soft">
          <Time ms={c.at} />
        </span>
      </div>
      {groups.map((group) => (
        <div key={`${group[0]!.chain} ${group[0]!.sequence}`} className="mt-1">
          <ul className="list-disc pl-5">
            {group[0]!.difference.map((line) => (
              <li key={line.text}>
                <Said said={line} names={names} />
              </li>
            ))}
          </ul>
          <div className="flex flex-wrap gap-x-4 pl-5 text-xs text-soft">
            {group.map((t) => (
              <span key={`${t.chain} ${t.sequence}`} className="flex flex-wrap gap-x-2">
                {t.environment && isFlag && c.subject ? (
                  <Link className="inline-block min-h-6 underline" to={`/p/${project}/${t.environment}/flags/${c.subject}`}>
                    {t.environment}
                  </Link>
                ) : (
                  (t.environment ?? "the project")
                )}
                {t.ended && <span>{t.ended}</span>}
                {t.revision && t.action === "flag.changed" ? (
                  <button type="button" className="min-h-6 cursor-pointer underline" onClick={() => setThen({ environment: t.environment!, revision: t.revision! })}>
                    as it stood then
                  </button>
                ) : null}
                <span title={`${t.chain} no. ${t.sequence}`}>{t.revision ? `revision ${t.revision}` : `no. ${t.sequence}`}</span>
              </span>
            ))}
            <span>through {c.actor.through}</span>
          </div>
        </div>
      ))}
      {c.reason && <div className="mt-1">because {c.reason}</div>}
      {takenBack(c) && (
        <button type="button" className="min-h-6 cursor-pointer text-xs text-soft underline hover:text-ink" onClick={() => setBack(true)}>
          Take back ...
        </button>
      )}
      {back && (
        <PlanDialog project={project} title={`Take back: ${c.says.text}`} of={c.change} verb="Take it back" done="Taken back." onClose={() => setBack(false)} send={({ reason, units, query }) => must(api.POST("/api/v1/projects/{project}/changes/{change}/undo", { params: { path: { project, change: c.change }, query }, body: { at: c.at, units, reason } }))}>
          <p className="text-soft">As a new change. What came after it stays; where that stands on it, it is said and nothing is changed.</p>
        </PlanDialog>
      )}
      {then && c.subject && <Then project={project} environment={then.environment} flag={c.subject} revision={then.revision} names={names} onClose={() => setThen(undefined)} />}
    </li>
  );
}

function Verify({ project }: { project: string }) {
  const verify = useVerify(project);
  const r = verify.data;
  return (
    <div className="flex flex-wrap items-center gap-3">
      {r && r.findings.length === 0 && (
        <span role="status">
          sound: {r.entries} entries in {r.chains.length} chains, {r.signed} signed heads, {r.records} records beside them
        </span>
      )}
      {r && r.findings.length > 0 && (
        <span role="alert" className="text-alarm">
          NOT sound: {r.findings.map((f) => `${f.chain}/${f.sequence} ${f.what}`).join("; ")}
        </span>
      )}
      <Problem error={verify.error} />
      <Button disabled={verify.isPending} onClick={() => verify.mutate()}>
        {verify.isPending ? "verifying ..." : "Verify the chains"}
      </Button>
    </div>
  );
}
