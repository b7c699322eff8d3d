import type { ReactNode } from "react";
import type { Editing } from "../draft/use";
import { Button } from "./controls";
import { Meets } from "./meets";

/** DraftTools are what every edit of a form has: what others changed too, undo and redo, and dropping it. */
export function DraftTools<T>({ editing, place, onDrop, children }: { editing: Editing<T>; place: (path: string[]) => string; onDrop?: () => void; children: ReactNode }) {
  const { draft, taken, undo, redo } = editing;
  return (
    <>
      {taken !== undefined && (
        <p role="status" className="rounded bg-note px-3 py-2">
          Somebody saved version {taken} meanwhile. What you typed now stands on top of it.
        </p>
      )}
      {draft && <Meets meets={draft.meets} place={place} side={(_, value) => said(value)} onSettle={editing.settle} />}
      <div className="flex flex-wrap items-center gap-2">
        {children}
        {draft && (
          <>
            <Button disabled={!undo} onClick={undo}>
              Undo
            </Button>
            <Button disabled={!redo} onClick={redo}>
              Redo
            </Button>
            <Button
              onClick={() => {
                editing.drop();
                onDrop?.();
              }}
            >
              Drop the edit
            </Button>
          </>
        )}
      </div>
    </>
  );
}

const said = (value: unknown) => (typeof value === "string" ? value || "nothing" : JSON.stringify(value));
