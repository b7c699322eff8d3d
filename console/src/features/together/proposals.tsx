import { useState } from "react";
import { Link, useParams } from "react-router";
import { useProposals, type ProposalLine } from "../../api/together";
import { inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Word } from "../../ui/word";
import { State, wanted } from "./state";

/** Proposals lists what is proposed, and what became of it. */
export default function Proposals() {
  const { project = "" } = useParams();
  const all = useProposals(project);
  const [find, setFind] = useState("");
  const text = find.trim().toLowerCase();
  const items = (all.data?.items ?? []).filter((p) => text === "" || [p.title, p.author, p.state, ...p.of, ...p.environments].join(" ").toLowerCase().includes(text));
  const mine = items.filter((p) => p.forMe);
  const open = items.filter((p) => !p.ended && !p.forMe);
  const over = items.filter((p) => p.ended);
  return (
    <Page title="Proposals" aside={<input type="search" aria-label="find a proposal" placeholder="find: a title, a flag, a name" className={`${inputStyle} w-64`} value={find} onChange={(e) => setFind(e.target.value)} />}>
      <Problem error={all.error} />
      {all.isPending && <Waiting what="the proposals" />}
      {mine.length > 0 && (
        <Sheet title={`Waits for your signature: ${mine.length}`}>
          <Lines project={project} items={mine} />
        </Sheet>
      )}
      {all.data && open.length + (mine.length > 0 ? 0 : 1) > 0 && (
        <Sheet title="Open">
          {open.length === 0 ? (
            <p className="text-soft">
              Nothing is proposed. A <Word of="proposal">proposal</Word> is one or many changes that others sign, and that are made later, all at once: it begins with the second button below an edit, or with <code>--propose</code> on the command line.
            </p>
          ) : (
            <Lines project={project} items={open} />
          )}
        </Sheet>
      )}
      {over.length > 0 && (
        <Sheet title="Made, withdrawn or expired lately">
          <Lines project={project} items={over} />
        </Sheet>
      )}
    </Page>
  );
}

function Lines({ project, items }: { project: string; items: ProposalLine[] }) {
  return (
    <ul className="flex flex-col gap-3">
      {items.map((p) => (
        <li key={p.id} className="border-b border-line pb-2 last:border-0">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <Link className="font-medium break-words underline" to={`/p/${project}/proposals/${p.id}`}>
              {p.title}
            </Link>
            <State p={p} />
          </div>
          <div className="flex flex-wrap gap-x-3 text-soft">
            <span>
              by {p.author}, <Time ms={p.made} />
            </span>
            <span>
              {p.changes === 1 ? "1 change" : `${p.changes} changes`} of <span className="font-mono text-[13px] break-all">{p.of.join(", ")}</span>
              {p.environments.length > 0 && ` in ${p.environments.join(", ")}`}
            </span>
          </div>
          {p.wants.filter((w) => w.has < w.need).map((w) => (
            <p key={wanted(w)}>{wanted(w)}</p>
          ))}
          {p.refused && <p>{p.refused}</p>}
          {p.waits && !p.ended && <p className="text-alarm">could not be made: {p.waits}</p>}
        </li>
      ))}
    </ul>
  );
}
