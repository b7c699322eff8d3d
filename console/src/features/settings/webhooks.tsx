import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useChange, useEnvironments } from "../../api/queries";
import { useNotices, useWebhooks } from "../../api/releases";
import { Button, Copy, Problem, Sheet, TextField, Time, wrongIn } from "../../ui/controls";
import { Word } from "../../ui/word";

type Webhook = Schemas["WebhookView"];

/** Webhooks are whom other systems are told of what: what was told, what waits, and what could not be told. */
export function Webhooks({ project, keeper }: { project: string; keeper: boolean }) {
  const all = useWebhooks(project, keeper);
  const [open, setOpen] = useState<string>();
  const [secret, setSecret] = useState("");
  if (!keeper) return null;
  return (
    <Sheet title={<Word of="webhook">Webhooks</Word>}>
      <div className="flex flex-col gap-3">
        {secret && (
          <div className="rounded border border-line bg-note px-3 py-2">
            <div className="flex items-center justify-between">
              <span>Shown once: the secret that signs what is told (Standard Webhooks).</span>
              <Copy text={secret} />
            </div>
            <pre className="mt-1 overflow-auto text-xs">{secret}</pre>
          </div>
        )}
        {all.data?.items.length === 0 && <p className="text-soft">Nobody is told. Other systems can be told of every change, as signed CloudEvents.</p>}
        <ul className="flex flex-col gap-3">
          {all.data?.items.map((w) => (
            <One key={w.id} project={project} webhook={w} open={open === w.id} onOpen={() => setOpen(open === w.id ? undefined : w.id)} onSecret={setSecret} />
          ))}
        </ul>
        <Problem error={all.error} />
        {open === "" ? <Editor project={project} webhook={undefined} onDone={() => setOpen(undefined)} onSecret={setSecret} /> : <Button className="self-start" onClick={() => setOpen("")}>New webhook</Button>}
      </div>
    </Sheet>
  );
}

const listed = (all: string[], none: string) => (all.length > 0 ? all.join(", ") : none);

function One({ project, webhook: w, open, onOpen, onSecret }: { project: string; webhook: Webhook; open: boolean; onOpen: () => void; onSecret: (s: string) => void }) {
  const path = { project, webhook: w.id };
  const rotate = useChange(project, () => must(api.POST("/api/v1/projects/{project}/webhooks/{webhook}/rotate", { params: { path }, body: {} })));
  const replay = useChange(project, (numbers: number[]) => must(api.POST("/api/v1/projects/{project}/webhooks/{webhook}/replay", { params: { path }, body: { numbers } })), (r) => `${r.count} told again.`);
  const remove = useChange(project, () => must(api.POST("/api/v1/projects/{project}/webhooks/{webhook}/remove", { params: { path }, body: {} })), (r) => `Removed: webhook ${r.title}.`);
  const [sure, setSure] = useState(false);
  return (
    <li className="border-b border-line pb-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <b className="font-medium">{w.title}</b>
        <span className="break-all text-soft">{w.url}</span>
        {w.off && <span>off</span>}
        <Button tone="bare" className="underline" aria-expanded={open} aria-label={`${open ? "close" : "open"} webhook ${w.title}`} onClick={onOpen}>
          {open ? "close" : "open"}
        </Button>
      </div>
      <div className="text-soft">
        {listed(w.kinds, "everything")}; {listed(w.environments, "all environments")}
        {w.flags.length + w.tags.length > 0 && `; ${[...w.flags, ...w.tags.map((t) => `tagged ${t}`)].join(", ")}`} · told {w.arrived.toLocaleString()}
        {w.waits > 0 && `, ${w.waits.toLocaleString()} wait`}
        {w.parked > 0 && <b className="font-medium text-alarm">, {w.parked.toLocaleString()} could not be told</b>}
        {w.rotating ? <> · the old secret signs too until <Time ms={w.rotating} /></> : null}
      </div>
      {open && (
        <div className="mt-2 flex flex-col gap-3">
          <Editor project={project} webhook={w} onDone={onOpen} onSecret={onSecret} />
          <div className="flex flex-wrap gap-2">
            <Button onClick={() => rotate.mutate(undefined, { onSuccess: (r) => onSecret(r.secret ?? "") })}>New secret</Button>
            {w.parked > 0 && <Button onClick={() => replay.mutate([])}>Tell again what could not be told</Button>}
            <Button onClick={() => (sure ? remove.mutate(undefined) : setSure(true))}>{sure ? "Remove it, with what waits" : "Remove"}</Button>
          </div>
          <Problem error={rotate.error ?? replay.error ?? remove.error} />
          <Notices project={project} webhook={w.id} onReplay={(n) => replay.mutate([n])} />
        </div>
      )}
    </li>
  );
}

function Notices({ project, webhook, onReplay }: { project: string; webhook: string; onReplay: (n: number) => void }) {
  const all = useNotices(project, webhook);
  return (
    <div className="max-h-80 overflow-auto" tabIndex={0} aria-label="what it was told" role="region">
      <table className="w-full text-left">
        <thead className="text-soft">
          <tr>
            {["at", "what", "of", "stands", "tries", "last answer", ""].map((h) => (
              <th key={h} className="pr-3 font-normal">
                {h || <span className="sr-only">again</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.data?.items.map((n) => (
            <tr key={n.number} className="border-t border-line">
              <td className="pr-3">
                <Time ms={n.at} />
              </td>
              <td className="pr-3">{n.action}</td>
              <td className="pr-3 font-mono text-[13px]">{n.subject}</td>
              <td className={`pr-3 ${n.state === 2 ? "text-alarm" : ""}`}>{["waits", "told", "could not be told"][n.state]}</td>
              <td className="pr-3">{n.attempts}</td>
              <td className="pr-3">{n.answer}</td>
              <td>
                {n.state > 0 && (
                  <Button tone="bare" className="underline" onClick={() => onReplay(n.number)}>
                    tell again
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {all.data?.items.length === 0 && <p className="text-soft">It was told nothing yet.</p>}
      <Problem error={all.error} />
    </div>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function Editor({ project, webhook, onDone, onSecret }: { project: string; webhook: Webhook | undefined; onDone: () => void; onSecret: (s: string) => void }) {
  const environments = useEnvironments(project);
  const [title, setTitle] = useState(webhook?.title ?? "");
  const [url, setURL] = useState(webhook?.url ?? "");
  const [kinds, setKinds] = useState((webhook?.kinds ?? []).join(", "));
  const [flags, setFlags] = useState((webhook?.flags ?? []).join(", "));
  const [tags, setTags] = useState((webhook?.tags ?? []).join(", "));
  const [within, setWithin] = useState(webhook?.environments ?? []);
  const [off, setOff] = useState(webhook?.off ?? false);
  const body = { webhook: { id: webhook?.id ?? "", made: webhook?.made ?? 0, title, url, kinds: words(kinds), flags: words(flags), tags: words(tags), environments: within, off } };
  const save = useChange(
    project,
    () => (webhook ? must(api.PUT("/api/v1/projects/{project}/webhooks/{webhook}", { params: { path: { project, webhook: webhook.id } }, body })) : must(api.POST("/api/v1/projects/{project}/webhooks", { params: { path: { project } }, body }))),
    (w) => `Saved: webhook ${w.title}.`,
  );
  const wrong = wrongIn(save.error);
  return (
    <form
      className="flex flex-col gap-3 rounded border border-edge bg-well p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, { onSuccess: (w) => { if (w.secret) onSecret(w.secret); onDone(); } });
      }}
    >
      <div className="flex flex-wrap gap-4">
        <TextField label="Name" required error={wrong("webhook.title")} value={title} onChange={(e) => setTitle(e.target.value)} />
        <TextField label="Address" required className="w-80 max-w-full" placeholder="https://tickets.pinecrest.example/told" error={wrong("webhook.url")} value={url} onChange={(e) => setURL(e.target.value)} />
      </div>
      <div className="flex flex-wrap gap-4">
        <TextField label="Of what" hint="such as release.*, flag.stopped; of everything if left out" error={wrong("webhook.kinds")} value={kinds} onChange={(e) => setKinds(e.target.value)} />
        <TextField label="Flags" hint="all if left out" value={flags} onChange={(e) => setFlags(e.target.value)} />
        <TextField label="Tags" hint="any if left out" value={tags} onChange={(e) => setTags(e.target.value)} />
      </div>
      <fieldset className="flex flex-wrap gap-x-4">
        <legend className="font-medium">Environments (all if none)</legend>
        {environments.data?.items.map((e) => (
          <label key={e.key} className="flex items-center gap-1">
            <input type="checkbox" checked={within.includes(e.key)} onChange={(c) => setWithin(c.target.checked ? [...within, e.key] : within.filter((o) => o !== e.key))} /> {e.key}
          </label>
        ))}
      </fieldset>
      {webhook && (
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={off} onChange={(e) => setOff(e.target.checked)} /> tell it nothing for now
        </label>
      )}
      <Problem error={save.error} beside={["webhook.title", "webhook.url", "webhook.kinds"]} />
      <div className="flex gap-2">
        <Button tone="lever" type="submit" disabled={save.isPending}>
          {webhook ? "Save the webhook" : "Make the webhook"}
        </Button>
        <Button tone="bare" onClick={onDone}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
