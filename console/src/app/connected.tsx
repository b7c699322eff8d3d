import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useConnection } from "../api/connection";
import { useSignIn } from "../api/queries";
import { leave } from "../draft/kept";
import { Button, clockTime, Dialog, Problem, TextField } from "../ui/controls";

/** How often a lost service is asked for again, in milliseconds. */
const askEvery = 2_000;

/** NotConnected says since when the service is not reached, asks for it, and has all read again once it is. */
export function NotConnected() {
  const { since } = useConnection();
  const cache = useQueryClient();
  useEffect(() => {
    if (since === undefined) return;
    const timer = setInterval(() => void cache.refetchQueries({ queryKey: ["me"] }, { cancelRefetch: false }), askEvery);
    return () => {
      clearInterval(timer);
      void cache.invalidateQueries();
    };
  }, [since, cache]);
  return (
    <div role="status">
      {since !== undefined && (
        <p className="border-b border-alarm bg-alarm-sheet px-4 py-2 text-center text-alarm">
          Not connected since {clockTime(since)}. What you see is from before; what you typed is kept. Asking again every 2 s.
        </p>
      )}
    </div>
  );
}

/** SignInAgain asks who is there, over a page that keeps everything. */
export function SignInAgain({ email }: { email: string }) {
  const [password, setPassword] = useState("");
  const cache = useQueryClient();
  const signIn = useSignIn();
  return (
    <Dialog open onClose={() => undefined} title="Sign in again">
      <p>The service does not know this session any more. Nothing that you typed is lost.</p>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate({ email, password }, { onSuccess: () => void cache.invalidateQueries() });
        }}
      >
        <TextField label="E-mail" type="email" autoComplete="username" readOnly value={email} />
        <TextField label="Password" type="password" autoComplete="current-password" autoFocus required value={password} onChange={(e) => setPassword(e.target.value)} />
        <Problem error={signIn.error} />
        <div className="flex flex-wrap items-center gap-3">
          <Button tone="lever" type="submit" disabled={signIn.isPending}>
            {signIn.isPending ? "signing in ..." : "Sign in"}
          </Button>
          <Button tone="bare" className="underline" onClick={() => leave("/sign-in")}>
            I am somebody else
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
