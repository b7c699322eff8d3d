import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useOld } from "../../api/connection";
import { useBoard } from "../../api/queries";
import { useLint } from "../../api/targeting";
import { AsOf } from "../../ui/as-of";
import { inputStyle, Page, Problem, Waiting } from "../../ui/controls";
import { Lever, type Position } from "../../ui/lever";
import { Said } from "../../ui/variant";

function position(cell: Schemas["Cell"] | undefined): Position {
  if (!cell) return "off";
  return cell.stops.length > 0 ? "stopped" : (cell.lever as Position);
}

export default function Board() {
  const { project = "" } = useParams();
  const board = useBoard(project);
  const old = useOld(board);
  const [find, setFind] = useState("");
  if (board.isPending) return <Waiting what="the Board" />;
  if (!board.data) return <Page title="Board"><Problem error={board.error} /></Page>;
  const { environments, flags } = board.data;
  const wanted = find.trim().toLowerCase();
  const shown = flags.filter((f) => [f.key, f.title, ...f.owners, ...f.tags].some((s) => s.toLowerCase().includes(wanted)));
  return (
    <Page
      title="Board"
      aside={
        <div className="flex flex-wrap items-center gap-2">
          <input aria-label="find a flag" placeholder="find by key, title, owner, tag" className={`${inputStyle} w-64`} value={find} onChange={(e) => setFind(e.target.value)} />
          <Link to={`/p/${project}/new-flag`} className="rounded bg-lever px-3 py-1.5 font-medium text-lever-ink">
            New flag
          </Link>
        </div>
      }
    >
      {environments.length === 0 && (
        <p className="rounded border border-line bg-note px-4 py-3">
          This project has no environment yet. <Link className="underline" to={`/p/${project}/settings`}>Make the first one</Link>: it comes with the keys that a service needs.
        </p>
      )}
      {environments.length > 0 && flags.length === 0 && (
        <p className="rounded border border-line bg-note px-4 py-3">
          There is no flag yet. <Link className="underline" to={`/p/${project}/new-flag`}>Make the first one</Link>; it changes nothing until its lever is on.
        </p>
      )}
      <div className="overflow-x-auto rounded border border-line bg-sheet">
        <table className="w-full border-collapse text-left align-top max-md:block">
          <thead className="max-md:hidden">
            <tr className="border-b border-line">
              <th className="w-56 px-4 py-2 font-medium">flag</th>
              {environments.map((e) => (
                <th key={e.key} className="px-3 py-2 font-medium">
                  {e.key}
                  <div className="text-xs font-normal text-soft">
                    revision {e.revision}, delivered to {e.delivered} of {e.instances}
                    {e.lost > 0 && <span className="text-alarm">, {e.lost} lost</span>}
                    <AsOf at={old} />
                  </div>
                </th>
              ))}
            </tr>
          </thead>
          <tbody className="max-md:block">
            {shown.map((f) => {
              const names = f.variants.map((v) => v.name);
              return (
                <tr key={f.key} className="border-b border-line last:border-0 max-md:block max-md:py-2">
                  <th scope="row" className="px-4 py-2 align-top font-normal max-md:block">
                    <div className="font-mono text-[13px] font-medium">{f.key}</div>
                    <div className="text-soft">{f.title}</div>
                    <div className="text-xs text-soft">
                      {f.purpose} · {f.goneBy === "stays" ? "stays" : `gone by ${f.goneBy}`}
                    </div>
                  </th>
                  {environments.map((e) => {
                    const cell = f.in[e.key];
                    return (
                      <td key={e.key} className="px-3 py-2 align-top max-md:block">
                        <Link to={`/p/${project}/${e.key}/flags/${f.key}`} className="group block rounded">
                          <span className="mr-2 text-xs text-soft md:hidden">{e.key}</span>
                          <Lever position={position(cell)} />
                          <ToLookAt project={project} environment={e.key} flag={f.key} />
                          <div className="mt-1 line-clamp-4 text-[13px] text-soft group-hover:text-ink">{cell && <Said said={cell.sentence} names={names} />}</div>
                        </Link>
                      </td>
                    );
                  })}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {shown.length === 0 && flags.length > 0 && <p className="text-soft">No flag has “{find}” in its key, title, owners or tags.</p>}
    </Page>
  );
}

/** ToLookAt says how many checks found something. */
function ToLookAt({ project, environment, flag }: { project: string; environment: string; flag: string }) {
  const found = useLint(project, environment);
  const mine = found.data?.items.filter((f) => f.flag === flag && !f.muted) ?? [];
  if (mine.length === 0) return null;
  return (
    <span className="ml-2 rounded border border-line bg-note px-1.5 text-xs" title={mine.map((f) => `${f.place ?? ""} ${f.says.text}`).join("\n")}>
      {mine.length} to look at
    </span>
  );
}
