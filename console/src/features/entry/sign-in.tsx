import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useSignIn, useSignInWays } from "../../api/queries";
import { Button, Problem, TextField } from "../../ui/controls";

/** What is told of a sign-in with a provider that was refused. */
const refused: Record<string, string> = {
  away: "Your company's sign-in cannot be reached now. Try again in a moment.",
  state: "That sign-in had begun elsewhere, or took too long. Begin again.",
  denied: "Your company's sign-in did not let you in.",
  replayed: "That sign-in was used already, or is too old. Begin again.",
  issuer: "The answer comes from another provider than the one that was asked. Tell a keeper of the installation.",
  audience: "The answer is meant for another service. Tell a keeper of the installation.",
  key: "The answer is signed with a key that your company's sign-in does not name. Tell a keeper of the installation.",
  expired: "The answer was too old when it came. Begin again; if it stays so, a clock is wrong.",
  clock: "The answer is of the future: a clock is wrong, there or here. Tell a keeper of the installation.",
  nonce: "The answer does not belong to this sign-in. Begin again.",
  groups: "Your company's sign-in did not say in which groups you are. Tell a keeper of the installation.",
  address: "Your company's sign-in says no address of yours that it has checked.",
  unbound: "There is an account with your address already. Sign in to it once with its password, and say under Account that this is you; or ask a keeper of the installation to.",
  disabled: "Your account is disabled. Ask a keeper of the installation.",
};

export default function SignIn() {
  const ways = useSignInWays();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useSignIn();
  const go = useNavigate();
  const [query] = useSearchParams();
  const to = query.get("to") ?? "/";
  const why = query.get("refused");
  return (
    <main className="mx-auto mt-[12vh] w-[min(22rem,92vw)]">
      <div className="mb-5 flex items-center gap-3">
        <img src="/mark.svg" alt="" width="34" height="34" />
        <h1 className="text-xl font-semibold">Green Lever</h1>
      </div>
      {why && (
        <p role="alert" className="mb-3 rounded border border-alarm bg-alarm-sheet px-4 py-3">
          {refused[why] ?? "The sign-in was refused. Begin again."}
        </p>
      )}
      {(ways.data?.providers.length ?? 0) > 0 && (
        <div className="mb-3 flex flex-col gap-2">
          {ways.data!.providers.map((p) => (
            <a key={p.key} className="rounded bg-lever px-3 py-2 text-center font-medium text-lever-ink" href={`/sign-in/with/${p.key}?to=${encodeURIComponent(to)}`}>
              Sign in with {p.title}
            </a>
          ))}
          {!ways.data!.passwords && <p className="text-xs text-soft">Passwords are for keepers of the installation here.</p>}
        </div>
      )}
      <form
        className="flex flex-col gap-3 rounded border border-line bg-sheet p-5"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate({ email, password }, { onSuccess: () => go(/^\/(?![/\\])/.test(to) ? to : "/", { replace: true }) });
        }}
      >
        <TextField label="E-mail" type="email" name="email" autoComplete="username" autoFocus required value={email} onChange={(e) => setEmail(e.target.value)} />
        <TextField label="Password" type="password" name="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        <Problem error={signIn.error} />
        <Button tone="lever" type="submit" disabled={signIn.isPending} className="justify-center">
          {signIn.isPending ? "signing in ..." : "Sign in"}
        </Button>
      </form>
      <p className="mt-3 text-xs text-soft">No account yet? An installation keeper makes one, and resets a lost password.</p>
    </main>
  );
}
