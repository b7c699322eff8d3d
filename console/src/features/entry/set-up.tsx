import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useSetUp, useSignIn } from "../../api/queries";
import { PrivateKey } from "../../parts/emergency-key";
import { Button, Problem, TextField } from "../../ui/controls";

export default function SetUp() {
  const [query] = useSearchParams();
  const [body, setBody] = useState({ code: query.get("code") ?? "", email: "", name: "", password: "" });
  const setUp = useSetUp();
  const signIn = useSignIn();
  const go = useNavigate();
  const set = (field: keyof typeof body) => (e: { target: { value: string } }) => setBody({ ...body, [field]: e.target.value });
  const key = setUp.data?.emergencyKey;
  if (key) {
    return (
      <main className="mx-auto mt-[8vh] w-[min(34rem,92vw)]">
        <h1 className="mb-4 text-xl font-semibold">Keep the emergency key</h1>
        <div className="flex flex-col gap-3 rounded border border-line bg-sheet p-5">
          <p>
            It stops flags while the service's records are away: <code className="font-mono text-[13px]">greenlever emergency stop FLAG</code>. It is shown once and kept nowhere here. Give it to whoever is on call, and keep a copy away from the service.
          </p>
          <PrivateKey pem={key} />
          <Problem error={signIn.error} />
          <Button tone="lever" className="justify-center" disabled={signIn.isPending} onClick={() => signIn.mutate({ email: body.email, password: body.password }, { onSuccess: () => go("/new-project") })}>
            I have it: go on
          </Button>
        </div>
      </main>
    );
  }
  return (
    <main className="mx-auto mt-[8vh] w-[min(26rem,92vw)]">
      <h1 className="mb-4 text-xl font-semibold">Make the first account</h1>
      <form
        className="flex flex-col gap-3 rounded border border-line bg-sheet p-5"
        onSubmit={(e) => {
          e.preventDefault();
          setUp.mutate(body);
        }}
      >
        <p className="text-soft">It is an installation keeper: it makes projects and accounts.</p>
        <TextField label="Code" hint="The service printed it when it started." required value={body.code} onChange={set("code")} />
        <TextField label="Name" autoFocus required value={body.name} onChange={set("name")} />
        <TextField label="E-mail" type="email" autoComplete="username" required value={body.email} onChange={set("email")} />
        <TextField label="Password" type="password" autoComplete="new-password" hint="At least 10 characters." required value={body.password} onChange={set("password")} />
        <Problem error={setUp.error} />
        <Button tone="lever" type="submit" disabled={setUp.isPending} className="justify-center">
          Make the account
        </Button>
      </form>
    </main>
  );
}
