import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "../../api/client";
import { useAccounts, useChange, useEnvironments, useMe, usePeople } from "../../api/queries";
import { Button, Problem, Select, Sheet, TextField } from "../../ui/controls";
import { Word } from "../../ui/word";

type Role = Schemas["RolesBody"]["roles"][number];
const roles: Role[] = ["auditor", "developer", "releaser", "on-call", "keeper"];

interface Held {
  roles: Role[];
  in?: Record<string, Role[]>;
}

/** People who hold roles in a project, and which: in all environments, or in one. */
export function People({ project, keeper, installation }: { project: string; keeper: boolean; installation: boolean }) {
  const people = usePeople(project);
  const set = useChange(project, (p: { account: string } & Held) => must(api.PUT("/api/v1/projects/{project}/people/{account}", { params: { path: { project, account: p.account } }, body: { roles: p.roles, ...(p.in && { in: p.in }) } })));
  return (
    <Sheet title="People">
      <ul className="flex flex-col gap-3">
        {people.data?.items.map((p) => (
          <li key={p.account}>
            <Holding project={project} name={p.name} below={p.robot ? "a robot" : p.email} by={p.teams ?? []} held={p} may={keeper && !set.isPending} onSet={(held) => set.mutate({ account: p.account, ...held })} />
          </li>
        ))}
      </ul>
      <Problem error={set.error} />
      {keeper && <AddPerson installation={installation} onAdd={(account, role) => set.mutate({ account, roles: [role] })} />}
    </Sheet>
  );
}

/** Teams, and what their members hold by them. */
export function Teams({ project, keeper }: { project: string; keeper: boolean }) {
  const teams = useQuery({ queryKey: [project, "teams"], queryFn: () => must(api.GET("/api/v1/projects/{project}/teams", { params: { path: { project } } })) });
  const set = useChange(project, (t: { team: string } & Held) => must(api.PUT("/api/v1/projects/{project}/teams/{team}", { params: { path: { project, team: t.team } }, body: { roles: t.roles, ...(t.in && { in: t.in }) } })));
  if (!teams.data?.items.length) return null;
  return (
    <Sheet title={<Word of="team">Teams</Word>}>
      <ul className="flex flex-col gap-3">
        {teams.data.items.map((t) => (
          <li key={t.key}>
            <Holding project={project} name={t.title} below={`${t.key}: ${t.members.join(", ") || "nobody yet"}`} by={[]} held={t} may={keeper && !set.isPending} onSet={(held) => set.mutate({ team: t.key, ...held })} />
          </li>
        ))}
      </ul>
      <Problem error={set.error} />
    </Sheet>
  );
}

const now = (of: Role[], r: Role, has: boolean) => (has ? [...of, r] : of.filter((o) => o !== r));

/** What one person or team holds: a line for all environments, and one for each that has roles of its own. */
function Holding({ project, name, below, by, held, may, onSet }: { project: string; name: string; below: string; by: string[]; held: Held; may: boolean; onSet: (h: Held) => void }) {
  const environments = useEnvironments(project);
  const [more, setMore] = useState<string[]>([]);
  const keys = environments.data?.items.map((e) => e.key) ?? [];
  const places = keys.filter((k) => (held.in?.[k]?.length ?? 0) > 0 || more.includes(k));
  const left = keys.filter((k) => !places.includes(k));
  const checks = (of: Role[], where: string, all: Role[], set: (next: Role[]) => void) =>
    all.map((r) => (
      <label key={r} className="flex items-center gap-1">
        <input type="checkbox" aria-label={`${r} ${where}: ${name}`} disabled={!may} checked={of.includes(r)} onChange={(e) => set(now(of, r, e.target.checked))} /> {r}
      </label>
    ));
  return (
    <div className="flex flex-wrap items-start gap-x-4 gap-y-1">
      <span className="w-60">
        {name} <span className="block text-xs text-soft">{below}</span>
        {by.length > 0 && <span className="block text-xs text-soft">also by {by.join(", ")}</span>}
      </span>
      <div className="flex flex-col gap-1">
        <div className="flex flex-wrap gap-x-4 gap-y-1">{checks(held.roles, "everywhere", roles, (next) => onSet({ ...held, roles: next }))}</div>
        {places.map((k) => (
          <div key={k} className="flex flex-wrap gap-x-4 gap-y-1">
            <span className="text-soft">in {k}</span>
            {checks(held.in?.[k] ?? [], `in ${k}`, roles.filter((r) => r !== "keeper"), (next) => onSet({ ...held, in: { ...held.in, [k]: next } }))}
          </div>
        ))}
        {may && left.length > 0 && (
          <Select aria-label={`one environment for ${name}`} className="w-fit" value="" onChange={(e) => setMore([...more, e.target.value])} options={[{ value: "", label: "in one environment ..." }, ...left]} />
        )}
      </div>
    </div>
  );
}

const actions: { value: string; label: string }[] = [
  { value: "read", label: "read" },
  { value: "make", label: "make a flag" },
  { value: "define", label: "edit definitions and segments" },
  { value: "document", label: "edit all of a flag" },
  { value: "release", label: "turn levers, edit rules, release" },
  { value: "stop", label: "stop" },
  { value: "propose", label: "propose changes" },
  { value: "lift", label: "lift a stop" },
  { value: "see-as", label: "see a flag as another variant" },
  { value: "manage", label: "manage the project" },
];

/** Can says who may do what, and why. */
export function Can({ project }: { project: string }) {
  const people = usePeople(project);
  const environments = useEnvironments(project);
  const me = useMe();
  const [asked, setAsked] = useState({ who: "", what: "release", environment: "" });
  const environment = asked.environment || environments.data?.items.at(-1)?.key || "";
  const who = asked.who || me.data?.account.email || "";
  const answer = useQuery({
    queryKey: [project, "can", who, asked.what, environment],
    enabled: environment !== "" && who !== "",
    placeholderData: (before) => before,
    queryFn: () => must(api.GET("/api/v1/projects/{project}/can", { params: { path: { project }, query: { who, do: asked.what, environment } } })),
  });
  const all = people.data?.items ?? [];
  const mine = me.data && !all.some((p) => p.email === me.data.account.email) ? [{ value: me.data.account.email, label: me.data.account.name }] : [];
  return (
    <Sheet title="Who may do what">
      <div className="flex flex-wrap items-center gap-2">
        <Select aria-label="who" value={who} onChange={(e) => setAsked({ ...asked, who: e.target.value })} options={[...mine, ...all.map((p) => ({ value: p.email, label: p.name }))]} />
        <Select aria-label="does what" value={asked.what} onChange={(e) => setAsked({ ...asked, what: e.target.value })} options={actions} />
        <Select aria-label="in which environment" value={environment} onChange={(e) => setAsked({ ...asked, environment: e.target.value })} options={environments.data?.items.map((e) => e.key) ?? []} />
      </div>
      {answer.data && (
        <p className="mt-2" role="status">
          <b className="font-medium">{answer.data.who} {answer.data.may ? "may" : "may not"}:</b> {answer.data.why}.
          <span className="block text-soft">{answer.data.could.length > 0 ? `Who could: ${answer.data.could.join(", ")}.` : "Nobody could."}</span>
        </p>
      )}
      <Problem error={answer.error} />
    </Sheet>
  );
}

function AddPerson({ installation, onAdd }: { installation: boolean; onAdd: (account: string, role: Role) => void }) {
  const accounts = useAccounts(installation);
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState<Role>("developer");
  const known = accounts.data?.items.some((a) => a.email === email.trim().toLowerCase());
  const find = useChange("accounts", (address: string) => must(api.POST("/api/v1/accounts/find", { body: { email: address } })));
  const make = useChange("accounts", (body: Schemas["AccountBody"]) => must(api.POST("/api/v1/accounts", { params: {}, body })));
  return (
    <form
      className="mt-4 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (known || !installation) find.mutate(email, { onSuccess: (found) => onAdd(found.account, role) });
        else make.mutate({ email, name, password }, { onSuccess: (a) => onAdd(a.id, role) });
      }}
    >
      <TextField label="Add somebody" type="email" required placeholder="e-mail" value={email} onChange={(e) => setEmail(e.target.value)} />
      {installation && !known && email.includes("@") && (
        <>
          <TextField label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          <TextField label="First password" type="password" autoComplete="new-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        </>
      )}
      <Select aria-label="role" value={role} onChange={(e) => setRole(e.target.value as Role)} options={roles} />
      <Button type="submit">{installation && !known ? "Make the account and add" : "Add"}</Button>
      <Problem error={make.error ?? find.error} />
    </form>
  );
}
