import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Problem, TextField } from "../../ui/controls";
import { Word } from "../../ui/word";

const roles = ["auditor", "developer", "releaser", "on-call", "keeper"];

/** Signing says how many persons sign a change of an environment, and whose signatures count. */
export function Signing({ project, environment, reason, asks }: { project: string; environment: Schemas["Environment"]; reason: string; asks: boolean }) {
  const stands = environment.signing;
  const [need, setNeed] = useState(String(stands?.need ?? 0));
  const [of, setOf] = useState([...(stands?.roles ?? []), ...(stands?.teams ?? [])].join(", "));
  const [lever, setLever] = useState(stands?.lever ?? false);
  const path = { project, environment: environment.key };
  const save = useChange(project, (signing: Schemas["Signing"]) => must(api.PATCH("/api/v1/projects/{project}/environments/{environment}", { params: { path }, body: { signing, reason } })), () => `Saved: what ${environment.key} wants signed.`);
  const names = of.split(",").map((w) => w.trim()).filter((w) => w !== "");
  return (
    <form
      className="my-2 flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate({ need: Number(need), roles: names.filter((n) => roles.includes(n)) as Schemas["Signing"]["roles"] & string[], teams: names.filter((n) => !roles.includes(n)), lever });
      }}
    >
      <Word of="signature">Signatures</Word>
      <TextField label="how many" className="w-20" inputMode="numeric" value={need} onChange={(e) => setNeed(e.target.value)} />
      <TextField label="of roles or teams" hint="of all who may make the change where nothing is said" value={of} onChange={(e) => setOf(e.target.value)} />
      <label>
        <input type="checkbox" checked={lever} onChange={(e) => setLever(e.target.checked)} /> the lever is turned without
      </label>
      <Button type="submit" disabled={asks || save.isPending}>
        Save what {environment.key} wants signed
      </Button>
      <Problem error={save.error} />
    </form>
  );
}
