import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useNames } from "../../api/queries";
import { useOnProposal, useProposal, type ProposalView } from "../../api/together";
import { Button, inputStyle, Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";
import { Said } from "../../ui/variant";
import { Word } from "../../ui/word";
import { PreviewSheet } from "../../parts/preview";
import { State, wanted } from "./state";

/** Proposal is one proposal: what it changes in words, what that would move, who signed, and what is said of it. */
export default function Proposal() {
  const { project = "", proposal = "" } = useParams();
  const view = useProposal(project, proposal);
  if (!view.data) {
    return (
      <Page title="Proposal">
        <Problem error={view.error} />
        {view.isPending && <Waiting what="the proposal" />}
      </Page>
    );
  }
  return <Whole project={project} p={view.data} />;
}

function Whole({ project, p }: { project: string; p: ProposalView }) {
  const on = useOnProposal(project, p);
  const names = useNames(project, p.of);
  const error = on.sign.error ?? on.edit.error ?? on.takeOut.error ?? on.withdraw.error ?? on.apply.error;
  const busy = on.sign.isPending || on.apply.isPending || on.withdraw.isPending || on.edit.isPending;
  return (
    <Page title={<span className="break-words">{p.title}</span>} name={p.title} aside={<Link className="underline" to={`/p/${project}/proposals`}>all proposals</Link>}>
      <div className="flex flex-col gap-2 rounded border border-line bg-sheet p-4" aria-live="polite">
        <p className="flex flex-wrap items-baseline gap-x-3 text-base">
          <State p={p} />
          <span>
            by {p.author}, <Time ms={p.made} />
          </span>
          {p.endedBy && <span className="text-soft">ended by {p.endedBy}</span>}
          {p.change && (
            <Link className="underline" to={`/p/${project}/history?find=${encodeURIComponent(p.title)}`}>
              in the history
            </Link>
          )}
        </p>
        {p.reason && p.reason !== p.title && <p className="break-words">{p.reason}</p>}
        {p.wants.map((w) => (
          <p key={wanted(w)} className={w.has < w.need ? "font-medium" : "text-soft"}>
            {w.has < w.need ? "○" : "●"} {wanted(w)}
          </p>
        ))}
        {p.signers.length > 0 && <p className="text-soft">It waits for: {p.signers.join(", ")}.</p>}
        {p.signatures.map((s) => (
          <p key={s.name}>
            ● <Word of="signature">signed</Word> by {s.name}, <Time ms={s.at} />
          </p>
        ))}
        {p.waits && !p.ended && <p className="text-alarm">It was time, and it could not be made: {p.waits}. It is tried until <Time ms={p.latest ?? 0} />.</p>}
        {p.blocked && <p className="text-alarm">It could not be made now: {p.blocked}.</p>}
        {p.problems?.map((f) => (
          <p key={f.place} className="text-alarm">
            {f.place}: {f.mend}
          </p>
        ))}
        {p.notes.map((n) => (
          <p key={n.text} className="rounded bg-note px-3 py-1">
            <Said said={n} />
          </p>
        ))}
        <Problem error={error} />
        <div className="flex flex-wrap gap-2">
          {p.could["sign"] && (
            <Button tone="lever" disabled={busy} onClick={() => on.sign.mutate(false)}>
              Sign it
            </Button>
          )}
          {p.could["unsign"] && (
            <Button disabled={busy} onClick={() => on.sign.mutate(true)}>
              Take your signature back
            </Button>
          )}
          {p.could["apply"] && (
            <Button tone={p.could["sign"] ? "plain" : "lever"} disabled={busy || !!p.blocked} onClick={() => on.apply.mutate()}>
              {on.apply.isPending ? "making it ..." : "Make it now"}
            </Button>
          )}
          {p.could["take"] && (
            <Button disabled={busy} onClick={() => on.edit.mutate({ take: true })}>
              Take it over
            </Button>
          )}
          {p.could["withdraw"] && (
            <Button disabled={busy} onClick={() => on.withdraw.mutate()}>
              Withdraw it
            </Button>
          )}
        </div>
        {p.could["edit"] && <When p={p} save={(body) => on.edit.mutate(body)} />}
      </div>
      {p.items.map((item, i) => (
        <Sheet
          // An item has no identity but its place.
          key={`${item.do}${item.environment}${item.of}${i}`}
          title={
            <>
              {i + 1}. <span className="font-mono text-[13px] break-all">{item.of}</span>
              {item.environment && ` in ${item.environment}`}
            </>
          }
          aside={
            <span className="flex flex-wrap gap-3 text-soft">
              {item.what}
              {p.could["edit"] && p.items.length > 1 && (
                <Button tone="bare" className="underline" aria-label={`take out change ${i + 1}`} onClick={() => on.takeOut.mutate(i + 1)}>
                  take out
                </Button>
              )}
            </span>
          }
        >
          <Item item={item} names={names(item.of)} />
        </Sheet>
      ))}
      {p.previews.map((v) => (
        <Sheet key={v.environment} title={<><Word of="shift" /> in {v.environment}</>}>
          <PreviewSheet project={project} environment={v.environment} doc={docOf(p, v)} preview={v.preview} names={names(v.preview.shifts[0]?.flag)} onOrder={() => undefined} />
        </Sheet>
      ))}
      <Comments p={p} say={on.say} />
    </Page>
  );
}

/** docOf is the document of the flag whose shift is shown first, as it is proposed. */
function docOf(p: ProposalView, v: Schemas["PreviewIn"]): Schemas["Document"] {
  const flag = v.preview.shifts[0]?.flag ?? "";
  const item = p.items.find((i) => i.of === flag && i.environment === v.environment);
  const change = (item?.with as { with?: { document?: Schemas["Document"] } } | undefined)?.with;
  return change?.document ?? ({ key: flag, rules: [] } as unknown as Schemas["Document"]);
}

function Item({ item, names }: { item: Schemas["ItemView"]; names: string[] }) {
  return (
    <div className="flex flex-col gap-2">
      {item.moved && !item.conflicts && (
        <p className="rounded bg-note px-3 py-1">
          {item.changed ? "Others changed what it stands on, and it changes something else by that: it takes new signatures." : "Others changed something else meanwhile. It is carried over as it is."}
        </p>
      )}
      {item.says.map((l) => (
        <ul key={l.action + l.environment + l.subject} className="list-disc pl-5">
          {item.says.length > 1 && l.environment && <span className="-ml-5 text-soft">{l.environment}</span>}
          {l.lines.map((line) => (
            <li key={line.text} className="break-words">
              <Said said={line} names={names} />
            </li>
          ))}
        </ul>
      ))}
      {item.was && item.is && (
        <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3 gap-y-1">
          <dt className="text-soft">before</dt>
          <dd>
            <Said said={item.was} names={names} />
          </dd>
          <dt className="text-soft">after</dt>
          <dd>
            <Said said={item.is} names={names} />
          </dd>
        </dl>
      )}
      {item.conflicts?.map((c) => (
        <div key={c.place} className="rounded border border-alarm px-3 py-2">
          <p className="font-medium text-alarm">Both changed {c.place}</p>
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-3">
            {([["it was", c.base], ["it is now", c.theirs], ["proposed", c.ours]] as const).map(([name, value]) => (
              <Side key={name} name={name} value={value} />
            ))}
          </dl>
          <p className="text-soft">Nothing is lost: propose it again into this proposal, on what stands now.</p>
        </div>
      ))}
    </div>
  );
}

function Side({ name, value }: { name: string; value: unknown }) {
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd className="font-mono text-[13px] break-all">{JSON.stringify(value)}</dd>
    </>
  );
}

/** When says at what time it is made by itself. */
function When({ p, save }: { p: ProposalView; save: (body: Schemas["EditProposal"]) => void }) {
  const [at, setAt] = useState("");
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        save({ at: new Date(at).getTime() });
        setAt("");
      }}
    >
      <label className="text-soft">
        make it by itself at <input type="datetime-local" aria-label="when it is made" className={inputStyle} value={at} onChange={(e) => setAt(e.target.value)} />
      </label>
      <Button type="submit" disabled={at === ""}>
        Set the time
      </Button>
      {p.at ? (
        <Button type="button" onClick={() => save({ at: 0 })}>
          By hand instead
        </Button>
      ) : null}
    </form>
  );
}

function Comments({ p, say }: { p: ProposalView; say: ReturnType<typeof useOnProposal>["say"] }) {
  const [text, setText] = useState("");
  return (
    <Sheet title="What is said of it">
      {p.comments.length === 0 && <p className="text-soft">Nothing yet.</p>}
      <ul className="flex flex-col gap-2">
        {p.comments.map((c) => (
          <li key={`${c.at}${c.name}`}>
            <b className="font-medium">{c.name}</b> <span className="text-soft"><Time ms={c.at} /></span>
            <p className="break-words whitespace-pre-wrap">{c.text}</p>
          </li>
        ))}
      </ul>
      <Problem error={say.error} />
      <form
        className="mt-2 flex flex-wrap gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          say.mutate(text, { onSuccess: () => setText("") });
        }}
      >
        <input aria-label="comment" className={`${inputStyle} min-w-0 flex-1 basis-60`} placeholder="say something of it" value={text} onChange={(e) => setText(e.target.value)} />
        <Button type="submit" disabled={text.trim() === "" || say.isPending}>
          Say it
        </Button>
      </form>
    </Sheet>
  );
}
