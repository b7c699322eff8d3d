import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange, useTripwires } from "../../api/queries";
import { useReason } from "../../draft/reason";
import { Button, Copy, Problem, Sheet, TextField, Time, wrongIn } from "../../ui/controls";
import { Word } from "../../ui/word";

type Tripwire = Schemas["TripwireView"];

const stands = (w: Tripwire): string => (w.off ? "off" : w.trial ? "on trial" : w.armed ? "armed" : "disarmed: it stopped, and waits for somebody to arm it");

/** Tripwires are the addresses at which monitoring systems stop flags here, and what they stopped for. */
export function Tripwires({ project, environment, askFirst }: { project: string; environment: string; askFirst: boolean }) {
  const all = useTripwires(project, environment);
  const manage = useMay(project, "manage");
  const [open, setOpen] = useState<string>();
  const [once, setOnce] = useState<Schemas["SavedTripwire"]>();
  return (
    <Sheet title={<Word of="tripwire">Tripwires</Word>}>
      <div className="flex flex-col gap-3">
        {once && (once.secret || once.signing) && (
          <div className="flex flex-col gap-2 rounded border border-line bg-note px-3 py-2">
            {once.secret && <Shown says="Shown once: have alerts sent to this address, as JSON." text={`${location.origin}/tripwire/${once.secret}`} />}
            {once.signing && <Shown says="Shown once: calls are signed with this secret (Standard Webhooks)." text={once.signing} />}
          </div>
        )}
        {all.data?.items.length === 0 && <p className="text-soft">None: a monitoring system can stop a flag here, and nothing else, by an address of its own.</p>}
        <ul className="flex flex-col gap-3">
          {all.data?.items.map((w) => (
            <One key={w.id} project={project} environment={environment} tripwire={w} may={manage.may} askFirst={askFirst} open={open === w.id} onOpen={() => setOpen(open === w.id ? undefined : w.id)} onOnce={setOnce} />
          ))}
        </ul>
        <Problem error={all.error} />
        {manage.may && (open === "" ? <Editor project={project} environment={environment} tripwire={undefined} askFirst={askFirst} onDone={() => setOpen(undefined)} onOnce={setOnce} /> : <Button className="self-start" onClick={() => setOpen("")}>New tripwire</Button>)}
      </div>
    </Sheet>
  );
}

function Shown({ says, text }: { says: string; text: string }) {
  return (
    <div>
      <div className="flex items-center justify-between">
        <span>{says}</span>
        <Copy text={text} />
      </div>
      <pre className="mt-1 overflow-auto text-xs">{text}</pre>
    </div>
  );
}

function One({ project, environment, tripwire: w, may, askFirst, open, onOpen, onOnce }: { project: string; environment: string; tripwire: Tripwire; may: boolean; askFirst: boolean; open: boolean; onOpen: () => void; onOnce: (w: Schemas["SavedTripwire"]) => void }) {
  const path = { project, environment, tripwire: w.id };
  const [reason] = useReason(`${project} tripwires`);
  const body = { reason: reason || (askFirst ? `tripwire ${w.title}` : "") };
  const stop = useMay(project, "stop");
  const arm = useChange(project, () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/tripwires/{tripwire}/arm", { params: { path }, body })), () => `Armed: tripwire ${w.title}.`);
  const rotate = useChange(project, () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/tripwires/{tripwire}/rotate", { params: { path }, body })));
  const remove = useChange(project, () => must(api.POST("/api/v1/projects/{project}/environments/{environment}/tripwires/{tripwire}/remove", { params: { path }, body })), () => `Removed: tripwire ${w.title}.`);
  const [sure, setSure] = useState(false);
  const disarmed = w.alerts.some((a) => a.fired > 0 && !a.cleared);
  return (
    <li className="border-b border-line pb-3 last:border-0 last:pb-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <b className="font-medium">{w.title}</b>
        <span className={w.armed && !w.off && !w.trial ? "text-lever" : "text-soft"}>{stands(w)}</span>
        {may && (
          <Button tone="bare" className="underline" aria-expanded={open} aria-label={`${open ? "close" : "open"} tripwire ${w.title}`} onClick={onOpen}>
            {open ? "close" : "open"}
          </Button>
        )}
      </div>
      <div className="text-soft">
        stops <span className="font-mono text-[13px]">{w.flags.join(", ")}</span>
        {w.when && (
          <>
            {" "}
            where <code className="break-all">{w.when}</code>
          </>
        )}
        {w.least ? `, after ${w.least} calls within ${w.within}` : ""}
        {w.rotating ? <> · its old address is taken too until <Time ms={w.rotating} /></> : null}
      </div>
      {w.alerts.slice(0, 5).map((a) => (
        <div key={a.identity} className="text-soft">
          {a.stop ? (
            <Link className="underline" to={`/p/${project}/${environment}/stops/${a.stop}`}>
              stopped
            </Link>
          ) : (
            "would have stopped"
          )}{" "}
          <Time ms={a.fired} /> {a.name && <code className="break-all">{a.name}</code>}
          {a.cleared ? <>, over <Time near ms={a.cleared} /></> : ", and stops nothing more for this alert"}
        </div>
      ))}
      {disarmed && stop.may && (
        <Button className="mt-1" disabled={arm.isPending} onClick={() => arm.mutate(undefined)}>
          Arm it again
        </Button>
      )}
      <Problem error={arm.error} />
      {open && may && (
        <div className="mt-2 flex flex-col gap-3">
          <Editor project={project} environment={environment} tripwire={w} askFirst={askFirst} onDone={onOpen} onOnce={onOnce} />
          <div className="flex flex-wrap gap-2">
            <Button onClick={() => rotate.mutate(undefined, { onSuccess: onOnce })}>New address</Button>
            <Button onClick={() => (sure ? remove.mutate(undefined) : setSure(true))}>{sure ? "Remove it for good" : "Remove"}</Button>
          </div>
          <Problem error={rotate.error ?? remove.error} />
        </div>
      )}
    </li>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
const fields = ["title", "flags", "flags[0]", "when", "identity", "over", "least", "within", "sources", "sources[0]"].map((f) => `tripwire.${f}`);

function Editor({ project, environment, tripwire, askFirst, onDone, onOnce }: { project: string; environment: string; tripwire: Tripwire | undefined; askFirst: boolean; onDone: () => void; onOnce: (w: Schemas["SavedTripwire"]) => void }) {
  const [title, setTitle] = useState(tripwire?.title ?? "");
  const [flags, setFlags] = useState((tripwire?.flags ?? []).join(", "));
  const [when, setWhen] = useState(tripwire?.when ?? "");
  const [identity, setIdentity] = useState(tripwire?.identity ?? "");
  const [least, setLeast] = useState(tripwire?.least ? String(tripwire.least) : "");
  const [within, setWithin] = useState(tripwire?.within ?? "");
  const [sources, setSources] = useState((tripwire?.sources ?? []).join(", "));
  const [signed, setSigned] = useState(tripwire?.signed ?? false);
  const [trial, setTrial] = useState(tripwire?.trial ?? false);
  const [off, setOff] = useState(tripwire?.off ?? false);
  const [reason, setReason] = useReason(`${project} tripwires`);
  const body = {
    tripwire: { id: tripwire?.id ?? "", made: tripwire?.made ?? 0, hint: tripwire?.hint ?? "", title, flags: words(flags), when, identity, ...(tripwire?.over && { over: tripwire.over }), ...(least.trim() && { least: Number(least) }), ...(within.trim() && { within: within.trim() }), ...(sources.trim() && { sources: words(sources) }), signed, trial, off },
    reason,
  };
  const save = useChange(
    project,
    () =>
      tripwire
        ? must(api.PUT("/api/v1/projects/{project}/environments/{environment}/tripwires/{tripwire}", { params: { path: { project, environment, tripwire: tripwire.id } }, body }))
        : must(api.POST("/api/v1/projects/{project}/environments/{environment}/tripwires", { params: { path: { project, environment } }, body })),
    (w) => `Saved: tripwire ${w.title}.`,
  );
  const wrong = wrongIn(save.error);
  const at = (field: string) => wrong(`tripwire.${field}`);
  return (
    <form
      className="flex flex-col gap-3 rounded border border-edge bg-well p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, { onSuccess: (w) => { onOnce(w); onDone(); } });
      }}
    >
      <div className="flex flex-wrap gap-4">
        <TextField label="Name" required error={at("title")} value={title} onChange={(e) => setTitle(e.target.value)} />
        <TextField label="Flags that it stops" required hint="keys, with commas between" error={at("flags") ?? at("flags[0]")} value={flags} onChange={(e) => setFlags(e.target.value)} />
      </div>
      <TextField label="Of which alerts (may be left out)" hint={'CEL over the alert, such as alert.subject == "weather"; of all if left out'} error={at("when")} value={when} onChange={(e) => setWhen(e.target.value)} />
      <TextField label="An alert is known again by (may be left out)" hint="CEL that gives a text, such as alert.data.alert; without it somebody arms the tripwire again by hand" error={at("identity")} value={identity} onChange={(e) => setIdentity(e.target.value)} />
      <div className="flex flex-wrap gap-4">
        <TextField label="Calls that it takes" className="w-20" placeholder="1" inputMode="numeric" error={at("least")} value={least} onChange={(e) => setLeast(e.target.value)} />
        <TextField label="within" className="w-20" placeholder="5m" error={at("within")} value={within} onChange={(e) => setWithin(e.target.value)} />
        <TextField label="Networks that may call" hint="such as 10.1.0.0/16; any if left out" error={at("sources") ?? at("sources[0]")} value={sources} onChange={(e) => setSources(e.target.value)} />
      </div>
      <div className="flex flex-wrap gap-4">
        {(
          [
            ["calls are signed", signed, setSigned],
            ["on trial: it only records what it would stop", trial, setTrial],
            ["off for now", off, setOff],
          ] as const
        ).map(([label, value, set]) => (
          <label key={label} className="flex items-center gap-2">
            <input type="checkbox" checked={value} onChange={(e) => set(e.target.checked)} /> {label}
          </label>
        ))}
      </div>
      {askFirst && <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />}
      <Problem error={save.error} beside={fields} />
      <div className="flex gap-2">
        <Button tone="lever" type="submit" disabled={save.isPending || (askFirst && reason.trim() === "")}>
          {tripwire ? "Save the tripwire" : "Make the tripwire"}
        </Button>
        <Button tone="bare" onClick={onDone}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
