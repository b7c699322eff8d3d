import { Popover } from "radix-ui";
import { useState, type ReactNode } from "react";

/* The glossary is one file, which the documentation and the command line have too. */
let words: Promise<Map<string, string>> | undefined;

async function read(): Promise<Map<string, string>> {
  const { default: text } = await import("../../../docs/reference/words.md?raw");
  return new Map([...text.matchAll(/^\| ([^|]+) \| ([^|]+) \|$/gm)].map((m) => [m[1]!, m[2]!]));
}

/** Word is a word of ours that explains itself where it stands: pointed at, touched, or by key. */
export function Word({ of, children }: { of: string; children?: ReactNode }) {
  const [says, setSays] = useState("");
  const [open, setOpen] = useState(false);
  const look = (now: boolean) => {
    setOpen(now);
    if (now) {
      words ??= read();
      void words.then((all) => setSays(all.get(of) ?? ""));
    }
  };
  return (
    <Popover.Root open={open} onOpenChange={look}>
      <Popover.Trigger
        className="-my-0.5 min-h-6 cursor-help underline decoration-dotted underline-offset-3"
        onClick={(e) => {
          e.preventDefault(); // who points at it sees it already, and does not take it away by pressing
          look(true);
        }}
        onPointerEnter={(e) => e.pointerType === "mouse" && look(true)}
        onPointerLeave={(e) => e.pointerType === "mouse" && setOpen(false)}
      >
        {children ?? of}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content aria-label={of} side="top" sideOffset={4} onOpenAutoFocus={(e) => e.preventDefault()} className="z-40 w-[min(22rem,90vw)] rounded border border-edge bg-sheet px-3 py-2 text-sm text-ink shadow-lg">
          <b className="font-medium">{of}</b>: {says.replaceAll("*", "")}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
