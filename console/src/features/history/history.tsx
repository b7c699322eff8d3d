import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useBoard, useHistory, usePeople, useVerify, type HistoryFilter } from "../../api/queries";
import { Button, inputStyle, Page, Problem, Select, Time, Waiting } from "../../ui/controls";
import { Said } from "../../ui/variant";

const fields = ["environment", "flag", "person", "from", "to"] as const;

export default function History() {
  const { project = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const [cursors, setCursors] = useState<string[]>([]);
  const board = useBoard(project);
  const people = usePeople(project);
  const filter: HistoryFilter = {};
  for (const f of fields) {
    const v = query.get(f);
    if (v) filter[f] = f === "to" ? dayAfter(v) : v;
  }
  const cursor = cursors.at(-1);
  if (cursor) filter.cursor = cursor;
  const history = useHistory(project, filter);
  const set = (name: (typeof fields)[number], value: string) => {
    const next = new URLSearchParams(query);
    if (value) next.set(name, value);
    else next.delete(name);
    setCursors([]);
    setQuery(next);
  };
  const names = (subject: string | undefined) => board.data?.flags.find((f) => f.key === subject)?.variants.map((v) => v.name) ?? [];
  return (
    <Page title="History" aside={<Verify project={project} />}>
      <div className="flex flex-wrap items-center gap-2 rounded border border-line bg-sheet px-4 py-3">
        <Select aria-label="environment" value={query.get("environment") ?? ""} onChange={(e) => set("environment", e.target.value)} options={[{ value: "", label: "every environment" }, ...(board.data?.environments.map((e) => e.key) ?? [])]} />
        <Select aria-label="flag" value={query.get("flag") ?? ""} onChange={(e) => set("flag", e.target.value)} options={[{ value: "", label: "every flag" }, ...(board.data?.flags.map((f) => f.key) ?? [])]} />
        <Select aria-label="person" value={query.get("person") ?? ""} onChange={(e) => set("person", e.target.value)} options={[{ value: "", label: "everybody" }, ...(people.data?.items.map((p) => ({ value: p.account, label: p.name })) ?? [])]} />
        <label className="text-soft">
          from <input type="date" className={inputStyle} value={query.get("from") ?? ""} onChange={(e) => set("from", e.target.value)} />
        </label>
        <label className="text-soft">
          to <input type="date" className={inputStyle} value={query.get("to") ?? ""} onChange={(e) => set("to", e.target.value)} />
        </label>
        <a className="ml-auto underline" href={`/api/v1/projects/${project}/export`}>
          Export, to verify elsewhere
        </a>
      </div>
      {history.isPending && <Waiting what="the history" />}
      <Problem error={history.error} />
      <ol className="flex flex-col gap-2" aria-label="history">
        {history.data?.items.map((e) => <Entry key={`${e.chain} ${e.sequence}`} entry={e} names={names(e.subject)} project={project} />)}
      </ol>
      {history.data?.items.length === 0 && <p className="text-soft">Nothing was changed that fits.</p>}
      <div className="flex gap-2">
        {cursors.length > 0 && <Button onClick={() => setCursors(cursors.slice(0, -1))}>Newer</Button>}
        {history.data?.cursor && <Button onClick={() => setCursors([...cursors, history.data.cursor!])}>Older</Button>}
      </div>
    </Page>
  );
}

/** dayAfter makes "to" include its day. */
function dayAfter(day: string): string {
  const d = new Date(day);
  d.setDate(d.getDate() + 1);
  return d.toISOString().slice(0, 10);
}

function Entry({ entry, names, project }: { entry: Schemas["HistoryEntry"]; names: string[]; project: string }) {
  return (
    <li className="rounded border border-line bg-sheet px-4 py-2.5">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <Time ms={entry.at} />
        <b className="font-medium">{entry.name || entry.actor.kind}</b>
        <span className="text-soft">{entry.action}</span>
        {entry.subject && names.length > 0 && entry.environment ? (
          <Link className="font-mono text-[13px] underline" to={`/p/${project}/${entry.environment}/flags/${entry.subject}`}>
            {entry.subject}
          </Link>
        ) : (
          <span className="font-mono text-[13px]">{entry.subject}</span>
        )}
        {entry.environment && <span>in {entry.environment}</span>}
        <span className="ml-auto text-xs text-soft">
          {entry.revision ? `revision ${entry.revision}, ` : ""}
          {entry.chain} no. {entry.sequence}, through {entry.actor.through}
        </span>
      </div>
      <ul className="mt-1 list-disc pl-5">
        {entry.difference.map((line) => (
          <li key={line.text}>
            <Said said={line} names={names} />
          </li>
        ))}
      </ul>
      {entry.reason && <div className="mt-1 text-soft">because {entry.reason}</div>}
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
