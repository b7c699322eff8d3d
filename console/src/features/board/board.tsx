import { useQueries } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useLayoutEffect, useRef, useState, useSyncExternalStore } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useOld } from "../../api/connection";
import { useShortLived } from "../../api/life";
import { useMay } from "../../api/may";
import { boardQuery, useBoard, useEnvironments, type BoardQuery } from "../../api/queries";
import { useAddressChoices, useAddressField } from "../../ui/address";
import { AsOf } from "../../ui/as-of";
import { inputStyle, Page, Problem, Select, Waiting } from "../../ui/controls";
import { Choice, Menu, Part } from "../../ui/menu";
import { isOver, useReleases } from "../../api/releases";
import { BoardRow } from "./row";
import { Found } from "./found";
import { usePins, useSearches, useTight } from "./kept";
import { Words } from "./words";

/** How many flags come at a time. */
const page = 60;

/** How wide the flags' names and an environment are at least, in pixels. */
const nameWidth = 300;
const cellWidth = 260;

const listen = (l: () => void) => {
  window.addEventListener("resize", l);
  return () => window.removeEventListener("resize", l);
};

/** useFitting is how many environments fit beside the names. */
const useFitting = () => useSyncExternalStore(listen, () => Math.max(1, Math.floor((Math.min(window.innerWidth, 1600) - 40 - nameWidth) / cellWidth)));

export default function Board() {
  const { project = "" } = useParams();
  const index = useEnvironments(project);
  if (index.isPending) return <Waiting what="the Board" />;
  if (!index.data) return <Page title="Board"><Problem error={index.error} /></Page>;
  return <BoardOf key={project} project={project} environments={index.data.items} />;
}

/** first orders environments by how much they matter: those that ask first, else the last ones made. */
function first(all: Schemas["Environment"][], many: number): string[] {
  const asks = all.filter((e) => e.askFirst);
  const order = [...asks, ...all.filter((e) => !e.askFirst).toReversed()];
  const chosen = order.slice(0, many).map((e) => e.key);
  return all.filter((e) => chosen.includes(e.key)).map((e) => e.key);
}

function BoardOf({ project, environments }: { project: string; environments: Schemas["Environment"][] }) {
  const [query, set] = useAddressChoices();
  const fitting = useFitting();
  const [pins, togglePin] = usePins(project);
  const [tight, setTight] = useTight();
  const [searches, keepSearch] = useSearches(project);
  const { may } = useMay(project, "make");
  const mayDefine = useMay(project, "define");
  const named = query.get("show")?.split(",").filter(Boolean) ?? [];
  const lasting = (k: string) => environments.some((e) => e.key === k);
  // A short-lived environment is shown where the address names it.
  const short = useShortLived(project, named.some((k) => !lasting(k)));
  const chosen = named.filter((k) => lasting(k) || (short.data?.families ?? []).some((f) => f.items.some((e) => e.key === k && !e.state)));
  const shown = chosen.length > 0 ? chosen : first(environments, fitting);
  const [find, setFind] = useAddressField("find");
  const asked: BoardQuery = {
    find: useDeferredValue(find),
    environments: shown.join(","),
    sort: query.get("sort") ?? "attention",
    group: query.get("group") ?? "",
    pinned: pins.join(","),
    limit: page,
  };
  const board = useBoard(project, { ...asked, from: 0 });
  const old = useOld(board);
  const columns = board.data?.environments.filter((e) => shown.includes(e.key)) ?? [];
  return (
    <Page
      title="Board"
      aside={
        <div className="flex flex-wrap items-center gap-2">
          <Words />
          <Link to={`/p/${project}/bundles`} className="text-soft underline hover:text-ink">
            bundles
          </Link>
          <Link to={`/p/${project}/retiring`} className="text-soft underline hover:text-ink">
            retiring
          </Link>
          <input type="search" aria-label="find flags" placeholder="find: door owner:juno on:production" className={`${inputStyle} w-72 max-w-full`} value={find} onChange={(e) => setFind(e.target.value)} />
          <Menu label="View">
            <Part>Environments</Part>
            {environments.map((e) => (
              <Choice key={e.key} chosen={shown.includes(e.key)} onChoose={(on) => set("show", environments.map((o) => o.key).filter((k) => (k === e.key ? on : shown.includes(k))).join(","))}>
                {e.key}
              </Choice>
            ))}
            <Part>Searches</Part>
            <Choice chosen={searches.includes(find.trim())} onChoose={() => keepSearch(find.trim())}>
              {find.trim() === "" ? "type one to keep it" : `keep “${find.trim()}”`}
            </Choice>
            {["owner:me", ...searches].filter((s) => s !== find.trim()).map((s) => (
              <Choice key={s} chosen={false} onChoose={() => setFind(s)}>
                {s}
              </Choice>
            ))}
            <Part>Rows</Part>
            <Choice chosen={tight} onChoose={setTight}>
              tight
            </Choice>
          </Menu>
          <Select aria-label="order" className="max-sm:hidden" value={asked.sort} onChange={(e) => set("sort", e.target.value === "attention" ? "" : e.target.value)} options={[{ value: "attention", label: "what needs a look first" }, { value: "key", label: "by key" }, { value: "changed", label: "changed last first" }, { value: "gone-by", label: "gone by first" }]} />
          <Select aria-label="groups" className="max-sm:hidden" value={asked.group ?? ""} onChange={(e) => set("group", e.target.value)} options={[{ value: "", label: "no groups" }, { value: "owner", label: "by owner" }, { value: "tag", label: "by tag" }, { value: "bundle", label: "by bundle" }]} />
          {may && (
            <Link to={`/p/${project}/new-flag`} className="rounded bg-lever px-3 py-1.5 font-medium text-lever-ink">
              New flag
            </Link>
          )}
        </div>
      }
    >
      <Problem error={board.error} />
      {environments.length === 0 && (
        <Hint command="greenlever environment make development">
          This project has no environment yet. <Link className="underline" to={`/p/${project}/settings`}>Make the first one</Link>: it comes with the keys that a service needs.
        </Hint>
      )}
      {environments.length > 0 && board.data?.all === 0 && (
        <Hint command="greenlever flag make one-touch-open --recipe step-by-step">
          There is no flag yet. <Link className="underline" to={`/p/${project}/new-flag`}>Make the first one</Link>; it changes nothing until its lever is on.
        </Hint>
      )}
      {board.data && mayDefine.may && <Found project={project} find={asked.find ?? ""} total={new Set(board.data.flags.map((f) => f.key)).size === board.data.flags.length ? board.data.total : 0} />}
      {board.data && board.data.total > 0 && (
        <Rows project={project} asked={asked} total={board.data.total} columns={columns} old={old} tight={tight} pins={pins} onPin={togglePin} />
      )}
      {board.data?.total === 0 && board.data.all > 0 && !board.error && <p className="text-soft">None of the {board.data.all.toLocaleString()} flags is found by “{find}”.</p>}
    </Page>
  );
}

interface RowsProps {
  project: string;
  asked: BoardQuery;
  total: number;
  columns: Schemas["BoardEnvironment"][];
  old: number | undefined;
  tight: boolean;
  pins: string[];
  onPin: (key: string) => void;
}

/** Rows holds only the flags that are seen; the service sends them a page at a time. */
function Rows({ project, asked, total, columns, old, tight, pins, onPin }: RowsProps) {
  const list = useRef<HTMLDivElement>(null);
  const releases = useReleases(project);
  const release = (flag: string, environment: string) => releases.data?.items.find((r) => r.flag === flag && r.environment === environment && !isOver(r.state.is));
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    if (list.current) setTop(list.current.getBoundingClientRect().top + window.scrollY);
  }, []);
  const narrow = window.innerWidth < 640;
  const height = narrow ? 44 + 30 * columns.length : tight ? 32 : 52;
  // oxlint-disable-next-line react/incompatible-library -- it is not memoized here
  const rows = useWindowVirtualizer({ count: total, estimateSize: () => height, overscan: 6, scrollMargin: top });
  const items = rows.getVirtualItems();
  const from = Math.floor((items[0]?.index ?? 0) / page);
  const to = Math.floor((items.at(-1)?.index ?? 0) / page);
  const pages = useQueries({ queries: Array.from({ length: to - from + 1 }, (_, i) => ({ ...boardQuery(project, { ...asked, from: (from + i) * page }), retry: false, placeholderData: (before: Schemas["Board"] | undefined) => before })) });
  const at = (i: number) => pages[Math.floor(i / page) - from]?.data?.flags[i % page];
  useLayoutEffect(() => rows.measure(), [rows, height]);
  const grid = narrow ? "minmax(0,1fr)" : `minmax(${nameWidth - 80}px,1.1fr) repeat(${columns.length},minmax(0,1fr))`;
  return (
    <div role="table" aria-label="flags" aria-rowcount={total + 1} className="rounded border border-line bg-sheet">
      <div role="rowgroup" className="sticky top-12 z-10 rounded-t border-b border-line bg-sheet max-sm:static">
        <div role="row" aria-rowindex={1} className="grid gap-x-4 px-4 py-2" style={{ gridTemplateColumns: grid }}>
          <div role="columnheader" className="font-medium max-sm:hidden">
            {total.toLocaleString()} {total === 1 ? "flag" : "flags"}
          </div>
          {columns.map((e) => (
            <div role="columnheader" key={e.key} className="min-w-0">
              <span className="font-medium">{e.key}</span>
              <div className="truncate text-xs text-soft" title={`revision ${e.revision}`}>
                delivered to {e.delivered} of {e.instances}
                {e.lost > 0 && <span className="text-alarm">, {e.lost} lost</span>}
                <AsOf at={old} />
              </div>
            </div>
          ))}
        </div>
      </div>
      <div role="rowgroup" ref={list} className="relative" style={{ height: rows.getTotalSize() }}>
        {items.map((row) => {
          const f = at(row.index);
          return (
            <div
              role="row"
              key={row.key}
              aria-rowindex={row.index + 2}
              className="absolute top-0 left-0 grid w-full items-center gap-x-4 border-b border-line px-4 hover:bg-well/50"
              style={{ height, transform: `translateY(${row.start - top}px)`, gridTemplateColumns: grid }}
            >
              {f ? <BoardRow project={project} flag={f} columns={columns} tight={tight} narrow={narrow} heading={f.group !== undefined && f.group !== at(row.index - 1)?.group ? f.group : undefined} pinned={pins.includes(f.key)} onPin={() => onPin(f.key)} release={release} /> : <div role="cell" className="text-soft">...</div>}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** Hint teaches the next step where there is nothing yet, and shows its command. */
function Hint({ command, children }: { command: string; children: React.ReactNode }) {
  return (
    <div className="flex flex-col gap-2 rounded border border-line bg-note px-4 py-3">
      <p>{children}</p>
      <p className="text-soft">
        On the command line: <code className="text-ink">{command}</code>
      </p>
    </div>
  );
}
