import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSignIn } from "../api/queries";
import { leave } from "../draft/kept";
import { Button, Problem, TextField } from "../ui/controls";
import { Dialog } from "../ui/dialog";

/** SignInAgain asks who is there, over a page that keeps everything. */
export default function SignInAgain({ email }: { email: string }) {
  const [password, setPassword] = useState("");
  const cache = useQueryClient();
  const signIn = useSignIn();
  return (
    <Dialog open title="Sign in again">
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
