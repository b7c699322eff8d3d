import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useAccounts, useChange, useSignedIn } from "../../api/queries";
import { Identities } from "./identities";
import { Button, Problem, Sheet, Time } from "../../ui/controls";

/** All accounts, for who keeps the installation: who may be used, and what somebody is signed in with. */
export default function Accounts({ me }: { me: string }) {
  const accounts = useAccounts(true);
  const edit = useChange("accounts", (p: { account: string; body: Schemas["Edit"] }) =>
    must(api.PATCH("/api/v1/accounts/{account}", { params: { path: { account: p.account } }, body: p.body })),
  );
  const remove = useChange("accounts", (account: string) => must(api.DELETE("/api/v1/accounts/{account}", { params: { path: { account } } })), () => "Name and address are taken out; what was done stays.");
  const [open, setOpen] = useState("");
  return (
    <Sheet title="Accounts">
      <p className="mb-2 text-soft">A disabled account has no sessions, tokens or streams any more, on every node within seconds.</p>
      <ul className="flex flex-col gap-1.5">
        {accounts.data?.items.map((a) => (
          <li key={a.id}>
            <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
              <span className="w-60">
                {a.name} <span className="block text-xs text-soft">{a.email}</span>
              </span>
              <span className="text-xs text-soft">{a.seen ? <>seen <Time ms={a.seen} near /></> : "never seen"}</span>
              <label className="flex items-center gap-1">
                <input type="checkbox" disabled={edit.isPending || a.id === me} checked={a.keeper} onChange={(e) => edit.mutate({ account: a.id, body: { keeper: e.target.checked } })} /> keeps the installation
              </label>
              {(a.disabled ?? 0) > 0 ? (
                <>
                  <span className="text-alarm">
                    disabled since <Time ms={a.disabled ?? 0} />
                  </span>
                  <Button tone="bare" aria-label={`enable ${a.name}`} onClick={() => edit.mutate({ account: a.id, body: { disabled: false } })}>
                    enable
                  </Button>
                  <Button tone="bare" aria-label={`remove ${a.name}`} onClick={() => remove.mutate(a.id)}>
                    remove
                  </Button>
                </>
              ) : (
                a.id !== me && (
                  <Button tone="bare" aria-label={`disable ${a.name}`} onClick={() => edit.mutate({ account: a.id, body: { disabled: true } })}>
                    disable
                  </Button>
                )
              )}
              <Button tone="bare" aria-label={`${open === a.id ? "close" : ""} sessions and tokens of ${a.name}`.trim()} onClick={() => setOpen(open === a.id ? "" : a.id)}>
                sessions and tokens
              </Button>
            </div>
            {open === a.id && <Identities account={a.id} />}
            {open === a.id && <SignedIn account={a.id} />}
          </li>
        ))}
      </ul>
      <Problem error={edit.error ?? remove.error} />
    </Sheet>
  );
}

/** What somebody is signed in with. */
function SignedIn({ account }: { account: string }) {
  const { sessions, tokens } = useSignedIn(account);
  const path = { account };
  const endSession = useChange("accounts", (session: string) => must(api.DELETE("/api/v1/accounts/{account}/sessions/{session}", { params: { path: { ...path, session } } })));
  const endToken = useChange("accounts", (token: string) => must(api.DELETE("/api/v1/accounts/{account}/tokens/{token}", { params: { path: { ...path, token } } })));
  if (!sessions.data || !tokens.data) return null;
  return (
    <ul className="ml-4 mt-1 flex flex-col gap-0.5 border-l border-line pl-3">
      {sessions.data.items.map((s) => (
        <li key={s.id} className="flex flex-wrap items-center gap-3">
          session from {s.address} <span className="text-soft">since <Time ms={s.created} /></span>
          <Button tone="bare" onClick={() => endSession.mutate(s.id)}>end it</Button>
        </li>
      ))}
      {tokens.data.items.map((t) => (
        <li key={t.id} className="flex flex-wrap items-center gap-3">
          token {t.name} <span className="text-soft">until <Time ms={t.expires} /></span>
          <Button tone="bare" onClick={() => endToken.mutate(t.id)}>end it</Button>
        </li>
      ))}
      {sessions.data.items.length + tokens.data.items.length === 0 && <li className="text-soft">Nothing.</li>}
      <Problem error={endSession.error ?? endToken.error} />
    </ul>
  );
}
