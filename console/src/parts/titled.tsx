import { useState } from "react";
import { useChange } from "../api/queries";
import { Button, inputStyle, Problem } from "../ui/controls";

interface Saving {
  title: string;
  reason: string;
}

/** Titled shows what something is called for people, and has those who may call it something else. */
export function Titled({ project, of, title, may, asks, save }: { project: string; of: string; title: string; may: boolean; asks: boolean; save: (s: Saving) => Promise<unknown> }) {
  const [now, setNow] = useState<Saving>();
  const change = useChange(project, save);
  if (now === undefined) {
    return (
      <>
        <span className="text-soft">{title}</span>
        {may && (
          <Button tone="bare" aria-label={`other title for ${of}`} onClick={() => setNow({ title, reason: "" })}>
            other title
          </Button>
        )}
      </>
    );
  }
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(now, { onSuccess: () => setNow(undefined) });
      }}
    >
      <input aria-label={`title of ${of}`} className={inputStyle} required maxLength={200} autoFocus value={now.title} onChange={(e) => setNow({ ...now, title: e.target.value })} />
      {asks && <input aria-label={`why ${of} is called otherwise`} className={inputStyle} required placeholder="why?" value={now.reason} onChange={(e) => setNow({ ...now, reason: e.target.value })} />}
      <Button type="submit" disabled={change.isPending}>
        Save the title
      </Button>
      <Button tone="bare" onClick={() => setNow(undefined)}>
        leave it
      </Button>
      <Problem error={change.error} />
    </form>
  );
}
