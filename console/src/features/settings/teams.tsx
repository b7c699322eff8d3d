import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, must, type Schemas } from "../../api/client";
import { useAccounts, useChange, useProjects } from "../../api/queries";
import { Button, Copy, Problem, Select, Sheet, TextField } from "../../ui/controls";
import { Word } from "../../ui/word";

/** AllTeams are the teams of the installation, for who keeps it. */
export function AllTeams() {
  const teams = useQuery({ queryKey: ["accounts", "teams"], queryFn: () => must(api.GET("/api/v1/teams", {})) });
  const save = useChange("accounts", (t: { key: string; title: string; members: string[] }) => must(api.PUT("/api/v1/teams/{team}", { params: { path: { team: t.key } }, body: { title: t.title, members: t.members } })));
  const remove = useChange("accounts", (key: string) => must(api.DELETE("/api/v1/teams/{team}", { params: { path: { team: key } } })));
  const [key, setKey] = useState("");
  const [sure, setSure] = useState("");
  return (
    <Sheet title={<Word of="team">Teams</Word>}>
      <p className="mb-2 text-soft">What a team holds in a project, its members hold. A flag may be owned by one.</p>
      <ul className="flex flex-col gap-3">
        {teams.data?.items.map((t) => (
          <li key={t.key} className="border-b border-line pb-2">
            <div className="flex flex-wrap items-center gap-3">
              <b className="font-medium">{t.key}</b> <span className="text-soft">{t.title}</span>
              <Button tone="bare" onClick={() => (sure === t.key ? remove.mutate(t.key) : setSure(t.key))}>
                {sure === t.key ? `remove ${t.key}, and all that it holds` : "remove"}
              </Button>
            </div>
            <Members team={t} onSave={(members) => save.mutate({ key: t.key, title: t.title, members })} />
          </li>
        ))}
      </ul>
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate({ key, title: key, members: [] }, { onSuccess: () => setKey("") });
        }}
      >
        <TextField label="New team" className="font-mono" placeholder="doors" required value={key} onChange={(e) => setKey(e.target.value)} />
        <Button type="submit">Make the team</Button>
      </form>
      <Problem error={save.error ?? remove.error ?? teams.error} />
    </Sheet>
  );
}

function Members({ team, onSave }: { team: Schemas["TeamView"]; onSave: (members: string[]) => void }) {
  const accounts = useAccounts(true);
  const others = accounts.data?.items.filter((a) => !team.members.includes(a.email)) ?? [];
  return (
    <div className="mt-1 flex flex-wrap items-center gap-2">
      {team.members.map((m) => (
        <Button key={m} tone="bare" aria-label={`${m} ✕ out of ${team.key}`} onClick={() => onSave(team.members.filter((o) => o !== m))}>
          {m} ✕
        </Button>
      ))}
      {team.members.length === 0 && <span className="text-soft">nobody yet</span>}
      <Select aria-label={`add to ${team.key}`} value="" onChange={(e) => onSave([...team.members, e.target.value])} options={[{ value: "", label: "add ..." }, ...others.map((a) => ({ value: a.email, label: a.name }))]} />
    </div>
  );
}

/** Robots are accounts that nobody signs in to: programs act in their names. */
export function Robots() {
  const accounts = useAccounts(true);
  const make = useChange("accounts", (key: string) => must(api.POST("/api/v1/robots", { params: {}, body: { key } })));
  const [key, setKey] = useState("");
  const robots = accounts.data?.items.filter((a) => a.email.startsWith("robot:")) ?? [];
  return (
    <Sheet title={<Word of="robot">Robots</Word>}>
      <p className="mb-2 text-soft">A robot is a program with an account of its own. It gets roles in a project like a person, and its tokens may be held to fewer.</p>
      <ul className="flex flex-col gap-3">
        {robots.map((r) => (
          <li key={r.id} className="border-b border-line pb-2">
            <b className="font-medium">{r.name}</b> <span className="text-soft">{r.email}</span>
            <RobotToken account={r.id} name={r.name} />
          </li>
        ))}
      </ul>
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(key, { onSuccess: () => setKey("") });
        }}
      >
        <TextField label="New robot" className="font-mono" placeholder="deployer" required value={key} onChange={(e) => setKey(e.target.value)} />
        <Button type="submit">Make the robot</Button>
      </form>
      <Problem error={make.error} />
    </Sheet>
  );
}

const held = ["auditor", "developer", "releaser", "on-call"] as const;

function RobotToken({ account, name }: { account: string; name: string }) {
  const projects = useProjects();
  const [only, setOnly] = useState<{ project: string; environment: string; role: string }>({ project: "", environment: "", role: "" });
  const [secret, setSecret] = useState("");
  const make = useChange("accounts", () =>
    must(
      api.POST("/api/v1/accounts/{account}/tokens", {
        params: { path: { account } },
        body: { name: "made in the console", days: 90, ...(only.role !== "" && only.project !== "" && { only: [{ project: only.project, role: only.role as (typeof held)[number], ...(only.environment !== "" && { environment: only.environment }) }] }) },
      }),
    ),
  );
  return (
    <div className="mt-1 flex flex-wrap items-center gap-2">
      <Select aria-label={`what a token of ${name} is held to`} value={only.role} onChange={(e) => setOnly({ ...only, role: e.target.value, project: only.project || (projects.data?.items[0]?.key ?? "") })} options={[{ value: "", label: "all that it may do" }, ...held]} />
      {only.role !== "" && (
        <>
          <Select aria-label={`in which project a token of ${name}`} value={only.project} onChange={(e) => setOnly({ ...only, project: e.target.value })} options={projects.data?.items.map((p) => p.key) ?? []} />
          <TextField label="in the environment" placeholder="all" value={only.environment} onChange={(e) => setOnly({ ...only, environment: e.target.value })} />
        </>
      )}
      <Button disabled={make.isPending} onClick={() => make.mutate(undefined, { onSuccess: (t) => setSecret(t.secret) })}>
        Make a token for 90 days
      </Button>
      {secret !== "" && (
        <span>
          Shown once: <code>{secret}</code> <Copy text={secret} />
        </span>
      )}
      <Problem error={make.error} />
    </div>
  );
}
