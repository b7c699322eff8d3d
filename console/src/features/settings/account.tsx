import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { Identities } from "./identities";
import { useChange, useMe, useSessions, useSignOut, useTokens } from "../../api/queries";
import { EmergencyKey } from "../../parts/emergency-key";
import Accounts from "./accounts";
import { AllTeams, Robots } from "./teams";
import { Button, Copy, Page, Problem, Sheet, TextField, Time } from "../../ui/controls";
import { takeOut } from "../../ui/typed";

export default function Account() {
  const me = useMe();
  const signOut = useSignOut();
  return (
    <Page title={me.data?.account.name ?? "Account"} aside={<Button onClick={() => signOut.mutate()}>Sign out</Button>}>
      <Tokens />
      <Sessions />
      <Password />
      <Identities />
      {me.data?.account.keeper && (
        <p>
          You are an installation keeper: <Link className="underline" to="/new-project">make a project</Link>.
        </p>
      )}
      {me.data?.account.keeper && <Accounts me={me.data.account.id} />}
      {me.data?.account.keeper && <AllTeams />}
      {me.data?.account.keeper && <Robots />}
      {me.data?.account.keeper && <EmergencyKey />}
    </Page>
  );
}

function Tokens() {
  const tokens = useTokens();
  const [name, setName] = useState("");
  const [made, setMade] = useState<Schemas["MadeToken"]>();
  const add = useChange("tokens", (body: Schemas["TokenBody"]) => must(api.POST("/api/v1/me/tokens", { params: {}, body })));
  const remove = useChange("tokens", (token: string) => must(api.DELETE("/api/v1/me/tokens/{token}", { params: { path: { token } } })));
  return (
    <Sheet title="Personal tokens">
      <p className="mb-2 text-soft">For the command line and scripts; a token has your rights.</p>
      <ul className="flex flex-col gap-1">
        {tokens.data?.items.map((t) => (
          <li key={t.id} className="flex flex-wrap items-center gap-3">
            {t.name}
            <span className="text-soft">
              until <Time ms={t.expires} />
            </span>
            <Button tone="bare" onClick={() => remove.mutate(t.id)}>
              remove
            </Button>
          </li>
        ))}
      </ul>
      {made && (
        <div className="my-2 flex flex-wrap items-center gap-2 rounded border border-line bg-note px-3 py-2">
          Shown once: <code data-testid="token">{made.secret}</code>
          <Copy text={made.secret} />
        </div>
      )}
      <form
        className="mt-2 flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate({ name, days: 90 }, { onSuccess: (t) => { setMade(t); takeOut(setName, name); } });
        }}
      >
        <TextField label="New token" placeholder="what it is for" required value={name} onChange={(e) => setName(e.target.value)} />
        <Button type="submit">Make it, for 90 days</Button>
      </form>
      <Problem error={add.error ?? remove.error} />
    </Sheet>
  );
}

function Sessions() {
  const sessions = useSessions();
  const end = useChange("sessions", (session: string) => must(api.DELETE("/api/v1/me/sessions/{session}", { params: { path: { session } } })));
  return (
    <Sheet title="Where you are signed in">
      <ul className="flex flex-col gap-1">
        {sessions.data?.items.map((s) => (
          <li key={s.id} className="flex flex-wrap items-center gap-3">
            {s.address} <span className="max-w-md truncate text-soft">{s.agent}</span>
            <span className="text-soft">
              since <Time ms={s.created} />
            </span>
            {s.own ? <span className="text-soft">this one</span> : <Button tone="bare" onClick={() => end.mutate(s.id)}>end it</Button>}
          </li>
        ))}
      </ul>
      <Problem error={end.error} />
    </Sheet>
  );
}

function Password() {
  const tokens = useTokens();
  const [keep, setKeep] = useState<string[]>([]);
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const change = useChange("me", (body: Schemas["PasswordBody"]) => must(api.POST("/api/v1/me/password", { params: {}, body })));
  return (
    <Sheet title="Password">
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate({ old, password, keepTokens: keep }, { onSuccess: () => { takeOut(setOld, old); takeOut(setPassword, password); } });
        }}
      >
        <TextField label="Present password" type="password" autoComplete="current-password" required value={old} onChange={(e) => setOld(e.target.value)} />
        <TextField label="New password" type="password" autoComplete="new-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        <Button type="submit">Change it</Button>
        {change.isSuccess && <span role="status">changed; your other sessions have ended</span>}
      </form>
      {(tokens.data?.items.length ?? 0) > 0 && (
        <fieldset className="mt-3 flex flex-wrap gap-x-4">
          <legend className="text-soft">Your other sessions and your personal tokens end with it, but for the tokens that you keep:</legend>
          {tokens.data?.items.map((t) => (
            <label key={t.id} className="flex items-center gap-1">
              <input type="checkbox" checked={keep.includes(t.name)} onChange={(e) => setKeep(e.target.checked ? [...keep, t.name] : keep.filter((n) => n !== t.name))} /> {t.name}
            </label>
          ))}
        </fieldset>
      )}
      <Problem error={change.error} />
    </Sheet>
  );
}
