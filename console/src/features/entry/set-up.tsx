import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useSetUp, useSignIn } from "../../api/queries";
import { Button, Problem, TextField } from "../../ui/controls";

export default function SetUp() {
  const [query] = useSearchParams();
  const [body, setBody] = useState({ code: query.get("code") ?? "", email: "", name: "", password: "" });
  const setUp = useSetUp();
  const signIn = useSignIn();
  const go = useNavigate();
  const set = (field: keyof typeof body) => (e: { target: { value: string } }) => setBody({ ...body, [field]: e.target.value });
  return (
    <main className="mx-auto mt-[8vh] w-[min(26rem,92vw)]">
      <h1 className="mb-4 text-xl font-semibold">Make the first account</h1>
      <form
        className="flex flex-col gap-3 rounded border border-line bg-sheet p-5"
        onSubmit={(e) => {
          e.preventDefault();
          setUp.mutate(body, { onSuccess: () => signIn.mutate({ email: body.email, password: body.password }, { onSuccess: () => go("/new-project") }) });
        }}
      >
        <p className="text-soft">It is an installation keeper: it makes projects and accounts.</p>
        <TextField label="Code" hint="The service printed it when it started." required value={body.code} onChange={set("code")} />
        <TextField label="Name" autoFocus required value={body.name} onChange={set("name")} />
        <TextField label="E-mail" type="email" autoComplete="username" required value={body.email} onChange={set("email")} />
        <TextField label="Password" type="password" autoComplete="new-password" hint="At least 10 characters." required value={body.password} onChange={set("password")} />
        <Problem error={setUp.error ?? signIn.error} />
        <Button tone="lever" type="submit" disabled={setUp.isPending} className="justify-center">
          Make the account
        </Button>
      </form>
    </main>
  );
}
