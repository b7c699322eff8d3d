import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import type { ReleaseLine } from "../../api/releases";
import { Time } from "../../ui/controls";
import { Lever, type Position } from "../../ui/lever";
import { Said } from "../../ui/variant";
import { clock } from "../../clock";
import { StopSign } from "../../parts/stopper";

function position(cell: Schemas["Cell"]): Position {
  return cell.stops.length > 0 ? "stopped" : (cell.lever as Position);
}

interface BoardRowProps {
  project: string;
  flag: Schemas["BoardFlag"];
  columns: Schemas["BoardEnvironment"][];
  tight: boolean;
  narrow: boolean;
  heading: string | undefined; // of the group that begins here
  pinned: boolean;
  onPin: () => void;
  release: (flag: string, environment: string) => ReleaseLine | undefined; // that goes on
}

/** lately tells whether something was within a day. */
const lately = (ms: number) => clock() - ms < 86_400_000;

/** BoardRow is a flag: one line for each environment, which can be read down the column. */
export function BoardRow({ project, flag: f, columns, tight, narrow, heading, pinned, onPin, release }: BoardRowProps) {
  return (
    <>
      <div role="rowheader" className="flex min-w-0 items-center gap-2">
        <button type="button" aria-label={`${pinned ? "unpin" : "pin"} ${f.key}`} aria-pressed={pinned} className={`cursor-pointer px-1 ${pinned ? "text-lever" : "text-soft hover:text-ink"}`} onClick={onPin}>
          <svg aria-hidden="true" width="12" height="14" viewBox="0 0 12 14">
            <path d="M3 1H9L8 6L11 9H1L4 6ZM6 9V13" fill={pinned ? "currentColor" : "none"} stroke="currentColor" strokeWidth="1.3" strokeLinejoin="round" />
          </svg>
        </button>
        <div className="min-w-0">
          {heading !== undefined && <div className="truncate text-xs font-medium text-soft">{heading}</div>}
          <div className="truncate font-mono text-[13px] font-medium" title={f.key}>
            {f.key}
          </div>
          {!tight && !narrow && heading === undefined && <div className="truncate text-xs text-soft">{f.title}</div>}
        </div>
      </div>
      {columns.map((e) => {
        const cell = f.in[e.key];
        if (!cell) return <div role="cell" key={e.key} />;
        return (
          <div role="cell" key={e.key} className="flex min-w-0 items-center gap-1">
            <Link to={`/p/${project}/${e.key}/flags/${f.key}`} className="flex min-w-0 flex-1 items-center gap-2 rounded" title={cell.sentence.text.replaceAll("`", "")}>
              {narrow && columns.length > 1 && <span className="w-20 truncate text-xs text-soft">{e.key}</span>}
              <Lever position={position(cell)} />
              <span className="min-w-0 flex-1 truncate text-soft">
                <Said said={cell.gist} names={f.variants} />
              </span>
              <GoingOut release={release(f.key, e.key)} />
              {cell.moving && <span className="rounded bg-note px-1 text-xs">moving</span>}
              {!cell.moving && lately(cell.changed) && <span className="text-xs whitespace-nowrap text-soft"><Time near ms={cell.changed} /></span>}
            </Link>
            {position(cell) === "on" && <StopSign project={project} environment={e.key} flag={f.key} loses={f.loses} />}
          </div>
        );
      })}
    </>
  );
}

/** GoingOut says at which stage a flag goes out. */
function GoingOut({ release: r }: { release: ReleaseLine | undefined }) {
  if (!r) return null;
  return (
    <span className="rounded bg-note px-1 text-xs whitespace-nowrap" title={r.sentence.text.replaceAll("`", "")}>
      {r.mine && "sign: "}
      {r.state.plan.stages[r.state.at]?.name ?? "soon"}
      {r.state.is === "held" && ", held"}
    </span>
  );
}
