import { Dialog as RadixDialog, Label } from "radix-ui";
import { useId, type ButtonHTMLAttributes, type ComponentProps, type InputHTMLAttributes, type ReactNode } from "react";

type Tone = "plain" | "lever" | "alarm" | "bare";

const tones: Record<Tone, string> = {
  plain: "border border-line bg-sheet hover:border-soft",
  lever: "bg-lever text-lever-ink font-medium hover:opacity-90",
  alarm: "border border-alarm bg-alarm-sheet text-alarm font-medium hover:opacity-90",
  bare: "text-soft hover:text-ink",
};

export function Button({ tone = "plain", className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: Tone }) {
  return (
    <button
      type="button"
      className={`inline-flex min-h-8 cursor-pointer items-center gap-1.5 rounded px-3 py-1 whitespace-nowrap disabled:cursor-default disabled:opacity-50 ${tones[tone]} ${className}`}
      {...rest}
    />
  );
}

export const inputStyle = "min-h-8 rounded border border-line bg-sheet px-2 py-1 text-ink placeholder:text-soft";

export function Field({ label, hint, error, children }: { label: string; hint?: ReactNode; error?: string | undefined; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <Label.Root htmlFor={id} className="font-medium">
        {label}
      </Label.Root>
      {children(id)}
      {hint && <div className="text-xs text-soft">{hint}</div>}
      {error && (
        <div role="alert" className="text-xs text-alarm">
          {error}
        </div>
      )}
    </div>
  );
}

export function TextField({ label, hint, error, className = "", ...rest }: InputHTMLAttributes<HTMLInputElement> & { label: string; hint?: ReactNode; error?: string | undefined }) {
  return (
    <Field label={label} hint={hint} error={error}>
      {(id) => <input id={id} className={`${inputStyle} ${className}`} aria-invalid={error !== undefined} {...rest} />}
    </Field>
  );
}

export function Select({ options, ...rest }: ComponentProps<"select"> & { options: readonly (string | { value: string; label: string })[] }) {
  return (
    <select {...rest} className={`${inputStyle} ${rest.className ?? ""}`}>
      {options.map((o) => {
        const { value, label } = typeof o === "string" ? { value: o, label: o } : o;
        return (
          <option key={value} value={value}>
            {label}
          </option>
        );
      })}
    </select>
  );
}

/** Problem shows what was refused: what is wrong, where, and the mend. */
export function Problem({ error }: { error: unknown }) {
  if (!error) return null;
  const fields = (error as { fields?: { place: string; mend: string }[] }).fields ?? [];
  return (
    <div role="alert" className="rounded border border-alarm bg-alarm-sheet px-3 py-2 text-alarm">
      {fields.length === 0 && <div>{error instanceof Error ? error.message : String(error)}</div>}
      {fields.map((f) => (
        <div key={f.place + f.mend}>
          <span className="font-mono text-xs">{f.place}</span> {f.mend}
        </div>
      ))}
    </div>
  );
}

export function Sheet({ title, aside, children }: { title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="rounded border border-line bg-sheet">
      {(title || aside) && (
        <header className="flex flex-wrap items-center justify-between gap-2 border-b border-line px-4 py-2">
          <h2 className="font-medium">{title}</h2>
          {aside}
        </header>
      )}
      <div className="px-4 py-3">{children}</div>
    </section>
  );
}

export function Page({ title, aside, children }: { title: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <main className="mx-auto flex max-w-7xl flex-col gap-4 px-4 py-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-xl font-semibold">{title}</h1>
        {aside}
      </div>
      {children}
    </main>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <div role="status" className="px-4 py-8 text-soft">
      reading {what} ...
    </div>
  );
}

export function Dialog({ open, onClose, title, children }: { open: boolean; onClose: () => void; title: string; children: ReactNode }) {
  return (
    <RadixDialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
        <RadixDialog.Content
          aria-describedby={undefined}
          className="fixed top-[8vh] left-1/2 z-30 flex max-h-[84vh] w-[min(46rem,94vw)] -translate-x-1/2 flex-col gap-3 overflow-auto rounded border border-line bg-sheet p-5 text-ink shadow-lg"
        >
          <RadixDialog.Title className="text-lg font-semibold">{title}</RadixDialog.Title>
          {children}
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

export function Copy({ text }: { text: string }) {
  return (
    <Button tone="bare" onClick={() => void navigator.clipboard?.writeText(text)} aria-label="copy">
      copy
    </Button>
  );
}

const clock = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "medium" });

const timeOfDay = new Intl.DateTimeFormat(undefined, { timeStyle: "medium" });

/** clockTime is the time of day, where the day is plain. */
export const clockTime = (ms: number) => timeOfDay.format(new Date(ms));

export function Time({ ms }: { ms: number }) {
  const at = new Date(ms);
  return (
    <time dateTime={at.toISOString()} title={at.toISOString()} className="whitespace-nowrap">
      {clock.format(at)}
    </time>
  );
}
