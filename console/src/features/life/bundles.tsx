import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, must } from "../../api/client";
import { useBundles } from "../../api/life";
import { useMay } from "../../api/may";
import { useChange } from "../../api/queries";
import { Button, inputStyle, Page, Problem, Sheet, Waiting } from "../../ui/controls";

/** Bundles lists flags that ship together. */
export default function Bundles() {
  const { project = "" } = useParams();
  const all = useBundles(project);
  const { may } = useMay(project, "define");
  return (
    <Page title="Bundles">
      <Problem error={all.error} />
      {all.isPending && <Waiting what="the bundles" />}
      {all.data && (
        <Sheet title="Flags that ship together">
          {all.data.items.length === 0 && <p className="text-soft">There is none yet. What is in a bundle is stopped, turned, promoted and proposed together: one look before, and one change.</p>}
          <ul className="flex flex-col gap-3">
            {all.data.items.map((b) => (
              <li key={b.key} className="border-b border-line pb-2 last:border-0">
                <Link className="font-medium underline" to={`/p/${project}/bundles/${b.key}`}>
                  {b.title}
                </Link>{" "}
                <span className="font-mono text-[13px] text-soft">{b.flags.join(", ")}</span>
                {b.says && <p className="text-soft">{b.says}</p>}
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      {may && <NewBundle project={project} />}
    </Page>
  );
}

function NewBundle({ project }: { project: string }) {
  const [key, setKey] = useState("");
  const [title, setTitle] = useState("");
  const [flags, setFlags] = useState("");
  const go = useNavigate();
  const make = useChange(project, () => must(api.PUT("/api/v1/projects/{project}/bundles/{bundle}", { params: { path: { project, bundle: key } }, body: { bundle: { key, title: title || key, flags: flags.split(/[\s,]+/).filter(Boolean) } } })), () => "Saved.");
  return (
    <Sheet title="New bundle">
      <div className="flex flex-wrap items-center gap-2">
        <input aria-label="key of the bundle" placeholder="key, such as opening" className={`${inputStyle} w-48`} value={key} onChange={(e) => setKey(e.target.value)} />
        <input aria-label="title of the bundle" placeholder="title" className={`${inputStyle} w-56`} value={title} onChange={(e) => setTitle(e.target.value)} />
        <input aria-label="flags of the bundle" placeholder="keys of flags" className={`${inputStyle} min-w-0 flex-1 basis-60`} value={flags} onChange={(e) => setFlags(e.target.value)} />
        <Button tone="lever" disabled={key === "" || flags.trim() === "" || make.isPending} onClick={() => make.mutate(undefined, { onSuccess: () => void go(`/p/${project}/bundles/${key}`) })}>
          Save the bundle
        </Button>
      </div>
      <Problem error={make.error} />
    </Sheet>
  );
}
