import { useState } from "react";
import { useParams } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useArchived, useChange, useEnvironments, useKeys, useMe, useProjects } from "../../api/queries";
import { Button, Copy, inputStyle, Page, Problem, Sheet, TextField, Time } from "../../ui/controls";
import { takeOut } from "../../ui/typed";
import { FreezeList } from "../../parts/freezes";
import { Titled } from "../../parts/titled";
import { Can, People, Teams } from "./people";
import { Ladders } from "./ladders";
import { Policies } from "./policies";
import { Recipes } from "./recipes";
import { ShortLived } from "./short-lived";
import { Signing } from "./signing";
import { Webhooks } from "./webhooks";

export default function Settings() {
  const { project = "" } = useParams();
  const me = useMe();
  const environments = useEnvironments(project);
  const projects = useProjects();
  const keeper = me.data?.roles[project]?.includes("keeper") ?? false;
  return (
    <Page title="Settings">
      {!keeper && <p className="text-soft">Only a keeper of this project changes what stands here.</p>}
      <Sheet title="Project">
        <div className="flex flex-wrap items-center gap-3">
          <b className="font-medium">{project}</b>
          <Titled project={project} of={project} title={projects.data?.items.find((p) => p.key === project)?.title ?? ""} may={keeper} asks={false} save={(body) => must(api.PATCH("/api/v1/projects/{project}", { params: { path: { project } }, body })).then(() => projects.refetch())} />
        </div>
      </Sheet>
      <Sheet title="Environments">
        <div className="flex flex-col gap-4">
          {environments.data?.items.map((e) => <Environment key={e.key} project={project} environment={e} keeper={keeper} />)}
          <Archived project={project} keeper={keeper} />
          {keeper && <NewEnvironment project={project} first={environments.data?.items.length === 0} />}
        </div>
      </Sheet>
      <ShortLived project={project} />
      <Policies project={project} />
      <Recipes project={project} />
      <Ladders project={project} />
      <Webhooks project={project} keeper={keeper} />
      <People project={project} keeper={keeper} installation={me.data?.account.keeper ?? false} />
      <Teams project={project} keeper={keeper} />
      <Can project={project} />
    </Page>
  );
}

function Environment({ project, environment, keeper }: { project: string; environment: Schemas["Environment"]; keeper: boolean }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const path = { project, environment: environment.key };
  const edit = useChange(project, (askFirst: boolean) => must(api.PATCH("/api/v1/projects/{project}/environments/{environment}", { params: { path }, body: { askFirst, reason } })));
  const owners = useChange(project, (ownersOnly: boolean) => must(api.PATCH("/api/v1/projects/{project}/environments/{environment}", { params: { path }, body: { ownersOnly, reason } })));
  const archive = useChange(project, (why: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/archive", { params: { path }, body: { reason: why } })));
  // An environment that asks first also asks why it should no longer.
  const asks = environment.askFirst && reason.trim() === "";
  return (
    <div className="border-b border-line pb-3">
      <div className="flex flex-wrap items-center gap-3">
        <b className="font-medium">{environment.key}</b>
        <Titled project={project} of={environment.key} title={environment.title} may={keeper} asks={environment.askFirst} save={(body) => must(api.PATCH("/api/v1/projects/{project}/environments/{environment}", { params: { path }, body }))} />
        {environment.askFirst ? <span>asks first</span> : <span className="text-soft">does not ask first</span>}
        {environment.ownersOnly && <span>only owners change flags</span>}
        {environment.signing && (
          <span>
            {environment.signing.need === 1 ? "1 signature" : `${environment.signing.need} signatures`}
            {environment.signing.lever && ", but for the lever alone"}
          </span>
        )}
        {keeper && (
          <Button tone="bare" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "close" : "access keys, asking and freezes"}
          </Button>
        )}
      </div>
      {open && (
        <div className="my-2 flex flex-wrap items-center gap-2">
          <input aria-label={`why change ${environment.key}`} className={inputStyle} placeholder={environment.askFirst ? "why?" : "why? (may be left out)"} value={reason} onChange={(e) => setReason(e.target.value)} />
          <Button disabled={asks || edit.isPending} onClick={() => edit.mutate(!environment.askFirst, { onSuccess: () => takeOut(setReason, reason) })}>
            {environment.askFirst ? `Let ${environment.key} no longer ask first` : `Let ${environment.key} ask first`}
          </Button>
          <Button disabled={asks || owners.isPending} onClick={() => owners.mutate(!environment.ownersOnly, { onSuccess: () => takeOut(setReason, reason) })}>
            {environment.ownersOnly ? `Let others than owners change flags in ${environment.key}` : `Let only owners change flags in ${environment.key}`}
          </Button>
          <Button disabled={asks || archive.isPending} onClick={() => archive.mutate(reason)}>
            Archive {environment.key}
          </Button>
        </div>
      )}
      <Problem error={edit.error ?? owners.error ?? archive.error} />
      {open && <Signing project={project} environment={environment} reason={reason} asks={asks} />}
      {open && <FreezeList project={project} environment={environment.key} keeper={keeper} />}
      {open && <Keys project={project} environment={environment.key} />}
    </div>
  );
}

/** What nobody follows any more is kept here, until somebody brings it back or ends it for good. */
function Archived({ project, keeper }: { project: string; keeper: boolean }) {
  const archived = useArchived(project);
  const [sure, setSure] = useState("");
  const [reason, setReason] = useState("");
  const at = (environment: string) => ({ params: { path: { project, environment } }, body: { reason } });
  const bringBack = useChange(project, (key: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/bring-back", at(key))));
  const remove = useChange(project, (key: string) => must(api.POST("/api/v1/projects/{project}/environments/{environment}/remove", at(key))));
  if (!archived.data?.items.length) return null;
  return (
    <div className="border-b border-line pb-3">
      <p className="mb-1 text-soft">Archived: nobody can follow these, and nothing in them changes but what the project changes everywhere.</p>
      {archived.data.items.map((e) => (
        <div key={e.key} className="flex flex-wrap items-center gap-3">
          <b className="font-medium">{e.key}</b>
          <span className="text-soft">{e.title}</span>
          {keeper && e.askFirst && <input aria-label={`why end or bring back ${e.key}`} className={inputStyle} placeholder="why?" value={reason} onChange={(c) => setReason(c.target.value)} />}
          {keeper && (
            <Button tone="bare" onClick={() => bringBack.mutate(e.key)}>
              bring back
            </Button>
          )}
          {keeper && (
            <Button tone="bare" onClick={() => (sure === e.key ? remove.mutate(e.key) : setSure(e.key))}>
              {sure === e.key ? `end ${e.key} for good: its key is never used again` : "end for good"}
            </Button>
          )}
        </div>
      ))}
      <Problem error={bringBack.error ?? remove.error} />
    </div>
  );
}

function Keys({ project, environment }: { project: string; environment: string }) {
  const keys = useKeys(project, environment, true);
  const path = { project, environment };
  const [made, setMade] = useState<Schemas["MadeKey"]>();
  const [pages, setPages] = useState("");
  const add = useChange(project, (kind: Schemas["MakeKey"]["kind"]) =>
    must(api.POST("/api/v1/projects/{project}/environments/{environment}/keys", { params: { path }, body: { kind, ...(kind === "browser" && { origins: pages.split(/[\s,]+/).filter(Boolean) }) } })),
  );
  const revoke = useChange(project, (key: string) => must(api.DELETE("/api/v1/projects/{project}/environments/{environment}/keys/{key}", { params: { path: { ...path, key } } })));
  return (
    <div className="mt-2 flex flex-col gap-2">
      <ul className="flex flex-col gap-1">
        {keys.data?.items.map((k) => (
          <li key={k.id} className="flex flex-wrap items-center gap-3">
            <span className="w-16">{k.kind}</span>
            <code>{k.hint}…</code>
            <span className="text-soft">
              {k.purpose}, made <Time ms={k.created} />
              {k.origins && k.origins.length > 0 && `, for pages of ${k.origins.join(", ")}`}
            </span>
            {k.revoked ? (
              <span className="text-soft">revoked</span>
            ) : (
              <Button tone="bare" onClick={() => revoke.mutate(k.id)}>
                revoke
              </Button>
            )}
          </li>
        ))}
      </ul>
      {made && <Secrets lines={[`${made.kind === "service" ? "GREENLEVER_KEY" : "GREENLEVER_BROWSER_KEY"}=${made.secret}`]} />}
      <Problem error={add.error ?? revoke.error ?? keys.error} />
      <div className="flex flex-wrap items-center gap-2">
        {(["service", "browser"] as const).map((kind) => (
          <Button key={kind} onClick={() => add.mutate(kind, { onSuccess: setMade })}>
            New {kind} key
          </Button>
        ))}
        <input
          aria-label={`pages that may use a new browser key of ${environment}`}
          placeholder="for pages of https://... (any)"
          className={`${inputStyle} w-64`}
          value={pages}
          onChange={(e) => setPages(e.target.value)}
        />
      </div>
    </div>
  );
}

/** Secrets are shown once. */
function Secrets({ lines }: { lines: string[] }) {
  return (
    <div className="rounded border border-line bg-note px-3 py-2">
      <div className="flex items-center justify-between">
        <span>Shown once. Copy these lines to where the service runs:</span>
        <Copy text={lines.join("\n")} />
      </div>
      <pre className="mt-1 overflow-auto text-xs" data-testid="secrets">
        {lines.join("\n")}
      </pre>
    </div>
  );
}

function NewEnvironment({ project, first }: { project: string; first: boolean }) {
  const [key, setKey] = useState(first ? "development" : "");
  const [askFirst, setAskFirst] = useState(false);
  const [made, setMade] = useState<Schemas["MadeEnvironment"]>();
  const add = useChange(project, (body: Schemas["EnvironmentBody"]) => must(api.POST("/api/v1/projects/{project}/environments", { params: { path: { project } }, body })));
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate({ key, title: "", askFirst }, { onSuccess: (m) => { setMade(m); takeOut(setKey, key); } });
      }}
    >
      {made && (
        <>
          <div>
            {made.key} is made. A Go service follows it with these lines, and <code>greenlever.Open(ctx, greenlever.Options{"{}"})</code>:
          </div>
          <Secrets lines={[`GREENLEVER_URL=${window.location.origin}`, ...made.keys.map((k) => `${k.kind === "service" ? "GREENLEVER_KEY" : "GREENLEVER_BROWSER_KEY"}=${k.secret}`)]} />
        </>
      )}
      <div className="flex flex-wrap items-end gap-3">
        <TextField label="New environment" placeholder="production" required value={key} onChange={(e) => setKey(e.target.value)} />
        <label className="flex items-center gap-1.5 pb-1.5">
          <input type="checkbox" checked={askFirst} onChange={(e) => setAskFirst(e.target.checked)} /> asks first
        </label>
        <Button tone="lever" type="submit" disabled={add.isPending}>
          Make it
        </Button>
      </div>
      <Problem error={add.error} />
    </form>
  );
}
