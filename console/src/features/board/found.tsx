import { useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { PlanDialog } from "../../parts/plan";
import { Button, inputStyle } from "../../ui/controls";

/** Found edits owners, tags and the date of all flags that were found. */
export function Found({ project, find, total }: { project: string; find: string; total: number }) {
  const [open, setOpen] = useState(false);
  if (find.trim() === "" || total === 0) return null;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Edit the {total === 1 ? "flag" : `${total} flags`} found ...</Button>
      {open && <FoundDialog project={project} find={find} onClose={() => setOpen(false)} />}
    </>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** edited is what changes of a definition; nothing where it is like that already. */
function edited(d: Schemas["Definition"], owners: string, add: string, drop: string, goneBy: string): Schemas["DefinitionEdit"] | undefined {
  const tags = [...d.tags.filter((t) => !words(drop).includes(t)), ...words(add).filter((t) => !d.tags.includes(t))];
  const out: Schemas["DefinitionEdit"] = {
    ...(owners.trim() !== "" && words(owners).join() !== d.owners.join() && { owners: words(owners) }),
    ...(tags.join() !== d.tags.join() && { tags }),
    ...(goneBy !== "" && goneBy !== d.goneBy && { goneBy }),
  };
  return Object.keys(out).length > 0 ? out : undefined;
}

function FoundDialog({ project, find, onClose }: { project: string; find: string; onClose: () => void }) {
  const [owners, setOwners] = useState("");
  const [add, setAdd] = useState("");
  const [drop, setDrop] = useState("");
  const [goneBy, setGoneBy] = useState("");
  const path = { project };
  return (
    <PlanDialog
      project={project}
      title="Edit what was found"
      of={[find, owners, add, drop, goneBy]}
      ready={[owners, add, drop, goneBy].some((v) => v.trim() !== "")}
      verb="Edit them"
      done="Edited."
      onClose={onClose}
      send={async ({ reason, query }) => {
        const index = await must(api.GET("/api/v1/projects/{project}/flags", { params: { path, query: { find } } }));
        const keys = index.flags.map((f) => f.key);
        const all = await must(api.GET("/api/v1/projects/{project}/definitions", { params: { path } }));
        const changes = all.items.flatMap((d) => {
          const edit = keys.includes(d.key) ? edited(d, owners, add, drop, goneBy) : undefined;
          return edit ? [{ do: "flag.edit", project, of: d.key, versions: [d.version], with: edit }] : [];
        });
        if (changes.length === 0) return { items: [], notes: [] };
        return must(api.POST("/api/v1/projects/{project}/changes", { params: { path, query }, body: { changes, reason } }));
      }}
    >
      <div className="grid gap-2 sm:grid-cols-2">
        <label className="flex flex-col gap-1">
          owners, in place of those they have
          <input aria-label="owners" className={inputStyle} value={owners} onChange={(e) => setOwners(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          gone by, a date or “stays”
          <input aria-label="gone by" placeholder="2027-03-31" className={inputStyle} value={goneBy} onChange={(e) => setGoneBy(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          tags to add
          <input aria-label="tags to add" className={inputStyle} value={add} onChange={(e) => setAdd(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          tags to take away
          <input aria-label="tags to take away" className={inputStyle} value={drop} onChange={(e) => setDrop(e.target.value)} />
        </label>
      </div>
    </PlanDialog>
  );
}
