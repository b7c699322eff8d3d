import { useEffect, type ReactNode } from "react";
import type { Schemas } from "../../api/client";
import type { Meet } from "../../draft/merge";
import type { Editing } from "../../draft/use";
import { Button, inputStyle, Problem } from "../../ui/controls";
import { Meets } from "../../ui/meets";
import { Said } from "../../ui/variant";
import { Word } from "../../ui/word";
import type { DraftDocument } from "../../draft/flag";

interface EditPanelProps {
  editing: Editing<DraftDocument>;
  tried: Schemas["SavedFlag"] | undefined;
  preview: ReactNode;
  waits: string; // what keeps it from being saved; empty where nothing does
  current: boolean; // what is shown is about the edit as it is now
  error: unknown;
  names: string[];
  environment: string;
  askFirst: boolean;
  reason: string;
  onReason: (r: string) => void;
  saving: boolean;
  mayRelease: boolean; // else it can only be proposed
  signing: Schemas["Signing"] | undefined; // that the environment wants
  onPropose: (() => void) | undefined;
  onSave: () => void;
  onDrop: () => void;
  side: (path: string[], value: unknown) => ReactNode;
}

/** placeOf says where in a document two edits meet. */
function placeOf(doc: DraftDocument, meets: Meet[]) {
  return (path: string[]): string => {
    const [first, id, ...rest] = path;
    if (first !== "rules" || id === undefined) return path.join(" ");
    const meet = meets.find((m) => m.path === path);
    const rule = doc.rules.find((r) => r.id === id) ?? (meet?.base as { name?: string } | undefined);
    return [`rule ${rule?.name ?? id}`, ...rest].join(", ");
  };
}

/** EditPanel shows what an edit would change, and saves it. */
export function EditPanel(p: EditPanelProps) {
  const { draft, undo, redo } = p.editing;
  const meets = draft?.meets ?? [];
  const nothing = p.tried !== undefined && p.tried.difference.length === 0;
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "z" || inText(e.target)) return;
      const act = e.shiftKey ? redo : undo;
      if (!act) return;
      e.preventDefault();
      act();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [undo, redo]);
  return (
    <section aria-label="edit" className="z-10 flex flex-col gap-3 overflow-auto rounded border-2 border-lever bg-sheet p-4 shadow-md *:shrink-0 max-lg:fixed max-lg:inset-x-2 max-lg:bottom-2 max-lg:max-h-[48vh] lg:sticky lg:top-16 lg:max-h-[calc(100vh-5rem)]">
      <h2 className="font-medium">This edit changes in {p.environment}</h2>
      {p.editing.taken !== undefined && (
        <p role="status" className="rounded bg-note px-3 py-2">
          Somebody saved version {p.editing.taken} meanwhile. Your edit now stands on top of it{meets.length === 0 ? ", and nothing of it is lost" : ""}.
        </p>
      )}
      {draft && <Meets meets={meets} place={placeOf(draft.now, meets)} side={p.side} onSettle={p.editing.settle} />}
      <ul className="max-h-40 list-disc overflow-auto pl-5" data-testid="difference">
        {p.tried?.difference.map((line) => (
          <li key={line.text}>
            <Said said={line} names={p.names} />
          </li>
        ))}
        {nothing && <li>nothing: it is like that already</li>}
      </ul>
      {!nothing && p.preview && (
        <div>
          <h3 className="mb-1 text-xs text-soft">
            <Word of="shift" />, before it is saved
          </h3>
          {p.preview}
        </div>
      )}
      {p.tried && !nothing && (
        <p className="text-soft">
          Then: <Said said={p.tried.sentence} names={p.names} />
        </p>
      )}
      <Problem error={p.error} />
      {p.waits && <p className="font-medium">{p.waits}</p>}
      {p.signing && (
        <p>
          {p.environment} wants {p.signing.need === 1 ? "a signature" : `${p.signing.need} signatures`} before it gives something else{p.signing.lever && ", but for the lever alone"}: propose it.
        </p>
      )}
      <div className="sticky bottom-0 flex flex-wrap items-end gap-2 bg-sheet pt-1">
        <input aria-label="reason" className={`${inputStyle} min-w-0 flex-1 basis-60`} placeholder={p.askFirst ? "why? (this environment asks first)" : "why? (may be left out)"} value={p.reason} onChange={(e) => p.onReason(e.target.value)} />
        {p.mayRelease && <Button tone={p.signing ? "plain" : "lever"} disabled={p.saving || p.waits !== "" || !p.current || p.tried === undefined || nothing || meets.length > 0 || (p.askFirst && p.reason.trim() === "")} onClick={p.onSave}>
          {p.saving ? "saving ..." : `Save in ${p.environment}`}
        </Button>}
        {p.onPropose && (
          <Button tone={p.signing || !p.mayRelease ? "lever" : "plain"} disabled={p.saving || p.waits !== "" || !p.current || p.tried === undefined || nothing || meets.length > 0 || (p.askFirst && p.reason.trim() === "")} onClick={p.onPropose}>
            Propose it
          </Button>
        )}
        <Button disabled={!undo} onClick={undo}>
          Undo
        </Button>
        <Button disabled={!redo} onClick={redo}>
          Redo
        </Button>
        <Button onClick={p.onDrop}>Drop the edit</Button>
      </div>
    </section>
  );
}

/** In a text that is being typed, undo is the browser's own. */
function inText(target: EventTarget | null): boolean {
  return target instanceof HTMLTextAreaElement || (target instanceof HTMLInputElement && target.type !== "checkbox" && target.type !== "radio");
}
