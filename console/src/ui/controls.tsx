import { useId, useState, type ComponentProps, type InputHTMLAttributes, type ReactNode } from "react";
import { useNow } from "./now";

type Tone = "plain" | "lever" | "alarm" | "confirm" | "bare";

const tones: Record<Tone, string> = {
  plain: "border border-edge bg-sheet hover:border-ink",
  lever: "bg-lever text-lever-ink font-medium hover:opacity-90",
  alarm: "border border-alarm bg-alarm-sheet text-alarm font-medium hover:bg-sheet",
  confirm: "bg-alarm text-page font-medium hover:opacity-90",
  bare: "text-soft hover:text-ink",
};

export function Button({ tone = "plain", className = "", ...rest }: ComponentProps<"button"> & { tone?: Tone }) {
  return (
    <button
      type="button"
      className={`inline-flex min-h-8 cursor-pointer items-center gap-1.5 rounded px-3 py-1 whitespace-nowrap disabled:cursor-default disabled:border-line disabled:opacity-60 ${tones[tone]} ${className}`}
      {...rest}
    />
  );
}

export const inputStyle = "min-h-8 rounded border border-edge bg-sheet px-2 py-1 text-ink placeholder:text-soft";

export function Field({ label, hint, error, children }: { label: string; hint?: ReactNode; error?: string | undefined; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-medium">
        {label}
      </label>
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

interface Refused {
  fields?: { place: string; mend: string }[];
}

/** wrongIn gives what is wrong with a field, to stand beside it. */
export const wrongIn = (error: unknown) => (place: string) => (error as Refused | null)?.fields?.find((f) => f.place === place)?.mend;

/** Problem shows what was refused: what is wrong, where, and the mend. What stands beside fields already is
    not said twice: beside names their places. */
export function Problem({ error, beside = [] }: { error: unknown; beside?: string[] }) {
  if (!error) return null;
  const all = (error as Refused).fields ?? [];
  const fields = all.filter((f) => !beside.includes(f.place));
  if (all.length > 0 && fields.length === 0) {
    return (
      <div role="alert" className="text-alarm">
        {all.length === 1 ? "One field" : `${all.length} fields`} above cannot be taken.
      </div>
    );
  }
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

export function Sheet({ id, title, aside, children }: { id?: string; title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section id={id} className="min-w-0 scroll-mt-20 rounded border border-line bg-sheet">
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

/** Page is what stands around a page's contents. name is its title in the browser, where the title is no text. */
export function Page({ title, name, aside, children }: { title: ReactNode; name?: string; aside?: ReactNode; children: ReactNode }) {
  const said = name ?? (typeof title === "string" ? title : "");
  return (
    <main className="mx-auto flex w-full max-w-[1600px] flex-col gap-4 px-4 py-4">
      <title>{said ? `${said} · Green Lever` : "Green Lever"}</title>
      <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <h1 tabIndex={-1} className="min-w-0 text-xl font-semibold">
          {title}
        </h1>
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

/** Copy puts a text into the clipboard, and says that it is there. Browsers have one over TLS alone; elsewhere
    the old way works. */
export function Copy({ text, label = "copy" }: { text: string | (() => string); label?: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    const now = typeof text === "string" ? text : text();
    const there = await navigator.clipboard?.writeText(now).then(
      () => true,
      () => false,
    );
    setCopied(there ?? copyBySelecting(now));
  };
  return (
    <Button tone="bare" className="underline" onClick={() => void copy()} onBlur={() => setCopied(false)}>
      <span role="status">{copied ? "copied" : label}</span>
    </Button>
  );
}

function copyBySelecting(text: string): boolean {
  const field = document.createElement("textarea");
  field.value = text;
  field.style.position = "fixed";
  field.style.opacity = "0";
  document.body.append(field);
  field.select();
  const done = document.execCommand("copy");
  field.remove();
  return done;
}

const clock = new Intl.DateTimeFormat(undefined, { year: "numeric", month: "short", day: "numeric", hour: "2-digit", minute: "2-digit", second: "2-digit" });

const inZone = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long" });

const timeOfDay = new Intl.DateTimeFormat(undefined, { timeStyle: "medium" });

/** zone is the reader's time zone, by its name. */
export const zone = new Intl.DateTimeFormat().resolvedOptions().timeZone;

/** clockTime is the time of day, where the day is plain. */
export const clockTime = (ms: number) => timeOfDay.format(new Date(ms));

/** Time is an instant in the reader's zone; the zone is said where one points. */
export function Time({ ms, near = false }: { ms: number; near?: boolean }) {
  const at = new Date(ms);
  return (
    <time dateTime={at.toISOString()} title={`${inZone.format(at)}, ${at.toISOString()}`} className="whitespace-nowrap">
      {near ? <Ago ms={ms} /> : clock.format(at)}
    </time>
  );
}

/** Ago says how long ago something was, in a few characters, and goes on with the time. */
function Ago({ ms }: { ms: number }) {
  const now = useNow();
  const s = Math.max(0, Math.round((Math.max(now, ms) - ms) / 1000));
  if (s < 120) return <>{s} s ago</>;
  if (s < 7200) return <>{Math.floor(s / 60)} min ago</>;
  return <>{s < 172_800 ? `${Math.floor(s / 3600)} h ago` : `${Math.floor(s / 86_400)} d ago`}</>;
}
