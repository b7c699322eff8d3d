import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

/** Dialog stands over the page, takes the focus, and gives it back to where it was. */
export function Dialog({ open, onClose, title, wide = false, children }: { open: boolean; onClose?: () => void; title: string; wide?: boolean; children: ReactNode }) {
  return (
    <Radix.Root open={open} onOpenChange={(o) => !o && onClose?.()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-30 bg-black/40" />
        <Radix.Content
          aria-describedby={undefined}
          className={`fixed top-[6vh] left-1/2 z-30 flex max-h-[88vh] ${wide ? "w-[min(72rem,96vw)]" : "w-[min(46rem,94vw)]"} -translate-x-1/2 flex-col gap-3 overflow-auto rounded border border-edge bg-sheet p-4 text-ink shadow-lg`}
        >
          <Radix.Title className="pr-16 text-base font-semibold">{title}</Radix.Title>
          {children}
          {/* Last, so that the focus begins with what the dialog is for. */}
          {onClose && <Radix.Close className="absolute top-4 right-4 cursor-pointer text-soft underline hover:text-ink">close</Radix.Close>}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
