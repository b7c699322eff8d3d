import type { ReactNode } from "react";
import type { Meet } from "../draft/merge";
import { Button } from "./controls";

interface MeetsProps {
  meets: Meet[];
  place: (path: string[]) => string; // for people
  side: (path: string[], value: unknown) => ReactNode;
  onSettle: (path: string[], side: "mine" | "theirs") => void;
}

/** Meets shows both sides of what somebody else changed too; each has to be settled before it can be saved. */
export function Meets({ meets, place, side, onSettle }: MeetsProps) {
  if (meets.length === 0) return null;
  const gone = <i className="text-soft">taken away</i>;
  return (
    <section aria-label="changed by both" role="alert" className="flex flex-col gap-3 rounded border border-alarm bg-alarm-sheet p-3">
      <p className="font-medium">Somebody else changed this too. Nothing is lost: say which stands.</p>
      {meets.map((m) => (
        <div key={m.path.join("/")} className="flex flex-col gap-2">
          <h3 className="font-medium">{place(m.path)}</h3>
          <div className="grid gap-2 sm:grid-cols-2">
            {(["mine", "theirs"] as const).map((s) => (
              <div key={s} className="flex min-w-0 flex-col items-start gap-1 rounded border border-line bg-sheet p-2 break-words">
                <span className="text-xs text-soft">{s === "mine" ? "yours" : "theirs"}</span>
                <div className="max-w-full overflow-auto">{m[s] === undefined ? gone : side(m.path, m[s])}</div>
                <Button onClick={() => onSettle(m.path, s)}>{s === "mine" ? "Keep mine" : "Take theirs"}</Button>
              </div>
            ))}
          </div>
        </div>
      ))}
    </section>
  );
}
