import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useSignIn } from "../../api/queries";
import { Button, Problem, TextField } from "../../ui/controls";

export default function SignIn() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useSignIn();
  const go = useNavigate();
  const [query] = useSearchParams();
  const to = query.get("to") ?? "/";
  return (
    <main className="mx-auto mt-[12vh] w-[min(22rem,92vw)]">
      <div className="mb-5 flex items-center gap-3">
        <img src="/mark.svg" alt="" width="34" height="34" />
        <h1 className="text-xl font-semibold">Green Lever</h1>
      </div>
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
