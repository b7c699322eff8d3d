import { Popover } from "radix-ui";
import { useState } from "react";
import { useParams } from "react-router";
import { useUnits } from "../../api/targeting";

/** How many units are shown while one only points. */
const few = 6;

/** Peek shows some of the units on a branch as soon as one points at it or reaches it by key; pressed, it asks
    for all. */
export function Peek({ place, onWho }: { place: string; onWho: () => void }) {
  const { project = "", environment = "", flag = "" } = useParams();
  const [open, setOpen] = useState(false);
  const units = useUnits(project, environment, open ? { flag, at: place } : undefined);
  const shown = units.data?.items.slice(0, few) ?? [];
  return (
    <Popover.Root open={open && shown.length > 0}>
      <Popover.Anchor asChild>
        <button
          type="button"
          className="ml-2 min-h-6 cursor-pointer underline"
          onClick={() => {
            setOpen(false);
            onWho();
          }}
          onPointerEnter={(e) => e.pointerType === "mouse" && setOpen(true)}
          onPointerLeave={() => setOpen(false)}
          onFocus={() => setOpen(true)}
          onBlur={() => setOpen(false)}
        >
          who?
        </button>
      </Popover.Anchor>
      <Popover.Portal>
        <Popover.Content aria-label="some of them" side="right" sideOffset={6} onOpenAutoFocus={(e) => e.preventDefault()} className="pointer-events-none z-40 rounded border border-edge bg-sheet px-3 py-2 text-sm text-ink shadow-lg">
          <ul>
            {shown.map((u) => (
              <li key={u.unit} className="font-mono text-[13px]">
                {u.unit}
              </li>
            ))}
          </ul>
          {(units.data?.items.length ?? 0) > few && <p className="text-soft">and more: press to see them</p>}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
