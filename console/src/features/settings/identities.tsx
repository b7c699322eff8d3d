import { api, must } from "../../api/client";
import { useChange, useIdentities } from "../../api/queries";
import { Button, Problem, Sheet, Time } from "../../ui/controls";

/** Identities are whom providers know as somebody, and who asks to be: the reader, or an account that they keep. */
export function Identities({ account }: { account?: string }) {
  const all = useIdentities(account);
  const say = useChange("identities", (p: { identity: string; is: boolean }) =>
    account
      ? must(api.POST("/api/v1/accounts/{account}/identities/{identity}", { params: { path: { account, identity: p.identity } }, body: { is: p.is } }))
      : must(api.POST("/api/v1/me/identities/{identity}", { params: { path: { identity: p.identity } }, body: { is: p.is } })),
  );
  if (!all.data || all.data.items.length === 0) return null;
  const list = (
    <>
      <ul className="flex flex-col gap-2">
        {all.data.items.map((i) => (
          <li key={i.id} className="flex flex-wrap items-center gap-3">
            <span className="break-all">
              {i.subject} of {i.issuer}
            </span>
            {i.confirmed ? (
              <span className="text-soft">
                signs in since <Time ms={i.confirmed} />
              </span>
            ) : (
              <>
                <b className="font-medium">asks to be {account ? "this account" : "you"}, since <Time ms={i.made} /></b>
                <Button disabled={say.isPending} onClick={() => say.mutate({ identity: i.id, is: true })}>
                  {account ? "It is" : "That is me"}
                </Button>
              </>
            )}
            <Button tone="bare" disabled={say.isPending} onClick={() => say.mutate({ identity: i.id, is: false })}>
              {i.confirmed ? "no longer" : account ? "it is not" : "that is not me"}
            </Button>
          </li>
        ))}
      </ul>
      <Problem error={say.error} />
    </>
  );
  return account ? <div className="my-2">{list}</div> : <Sheet title="Signing in with your company's provider">{list}</Sheet>;
}
