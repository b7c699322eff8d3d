import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must, type Schemas } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Page, Problem, TextField } from "../../ui/controls";

export default function NewProject() {
  const [key, setKey] = useState("");
  const [title, setTitle] = useState("");
  const cache = useQueryClient();
  const go = useNavigate();
  const add = useChange("projects", (body: Schemas["MakeProject"]) => must(api.POST("/api/v1/projects", { params: {}, body })));
  return (
    <Page title="New project">
      <form
        className="flex max-w-md flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate({ key, title }, { onSuccess: async (p) => { await cache.invalidateQueries({ queryKey: ["me"] }); await go(`/p/${p.key}/settings`); } });
        }}
      >
        <TextField label="Title" autoFocus required value={title} onChange={(e) => setTitle(e.target.value)} placeholder="Pinecrest Lockers" />
        <TextField label="Key" required className="font-mono" value={key} onChange={(e) => setKey(e.target.value)} placeholder="pinecrest" />
        <Problem error={add.error} />
        <Button tone="lever" type="submit" className="self-start" disabled={add.isPending}>
          Make the project
        </Button>
      </form>
    </Page>
  );
}
