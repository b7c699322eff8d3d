import { useState } from "react";
import { Button, inputStyle, Time } from "./controls";
import { Rows } from "./rows";

/** One process that decides flags, as it last said of itself. */
export interface Process {
  id: string;
  kind?: string;
  via?: string;
  application: string;
  version: string;
  epoch: number;
  revision: number;
  source: string;
  skewMillis: number;
  seen: number;
  otherHistory?: boolean; // the records were restored since, and do not know its revision
}

export const processName = (i: Process) => `${i.application} ${i.version}`.trim();

function Line({ i, state, bad, said, via }: { i: Process; state: string; bad: boolean; said?: React.ReactNode; via: (id: string) => string }) {
  return (
    <div className="flex flex-wrap justify-between gap-x-3 pb-1">
      <span>
        <span className={`inline-block w-16 ${bad ? "font-medium text-alarm" : ""}`}>{state}</span> {processName(i)} <span className="font-mono text-xs text-soft">{i.id.slice(0, 8)}</span>
        {i.kind === "outpost" && <span className="text-soft"> outpost</span>}
        {i.via && <span className="text-soft"> through {via(i.via)}</span>}
        <span className="text-alarm">
          {[
            i.otherHistory && " decides by a revision that the records lost; they were restored from a backup",
            i.source !== "service" && i.source !== "" && ` decides by ${i.source}`,
            Math.abs(i.skewMillis) > 1000 && ` its clock is ${i.skewMillis > 0 ? "behind" : "ahead"} by ${(Math.abs(i.skewMillis) / 1000).toFixed(0)} s`,
          ]
            .filter(Boolean)
            .join(",")}
        </span>
      </span>
      <span className="text-soft">
        {said} revision {i.revision}
        {bad && (
          <>
            , last heard of <Time ms={i.seen} />
          </>
        )}
      </span>
    </div>
  );
}

/** Processes lists who decides: the lost first, then those that wait for the revision. */
export function Processes({ epoch, revision, instances, lost, onGone }: { epoch: number; revision: number; instances: Process[]; lost: Process[]; onGone?: (instance: string, reason: string) => void }) {
  const via = (id: string) => [...instances, ...lost].find((i) => i.id === id)?.application ?? `outpost ${id.slice(0, 8)}`;
  const waits = (i: Process) => i.otherHistory || i.epoch !== epoch || i.revision < revision;
  const lines = [
    ...lost.map((i) => ({ i, state: "lost", bad: true, said: onGone && <Gone name={processName(i)} onGone={(reason) => onGone(i.id, reason)} /> })),
    ...instances.filter(waits).map((i) => ({ i, state: "not yet", bad: true, said: undefined })),
    ...instances.filter((i) => !waits(i)).map((i) => ({ i, state: "has it", bad: false, said: undefined })),
  ];
  if (lines.length === 0) return <p className="text-soft">No process follows this environment.</p>;
  return (
    <Rows items={lines} keyOf={(l) => l.i.id} guess={24} label="processes">
      {(l) => <Line i={l.i} state={l.state} bad={l.bad} said={l.said} via={via} />}
    </Rows>
  );
}

/** Gone takes a lost process off the list: somebody knows that it decides no more. */
function Gone({ name, onGone, label = "it is gone" }: { name: string; onGone: (reason: string) => void; label?: string }) {
  const [open, setOpen] = useState(false);
  const [why, setWhy] = useState("");
  if (!open) {
    return (
      <Button tone="bare" className="underline" onClick={() => setOpen(true)}>
        {label}
      </Button>
    );
  }
  return (
    <span className="inline-flex gap-1">
      <input aria-label={`how do you know that ${name} is gone`} className={inputStyle} placeholder="how do you know?" value={why} onChange={(e) => setWhy(e.target.value)} />
      <Button disabled={why.trim() === ""} onClick={() => onGone(why)}>
        Take it off the list
      </Button>
    </span>
  );
}

/** AllGone takes all lost processes off the list at once. */
export function AllGone({ count, onGone }: { count: number; onGone: (reason: string) => void }) {
  return (
    <p className="mt-2">
      <Gone name={`all ${count} lost processes`} label={`all ${count} lost ones are gone`} onGone={onGone} />
    </p>
  );
}

const after = (ms: number) => (ms < 0 ? "not yet" : ms < 10_000 ? `${ms} ms` : `${(ms / 1000).toFixed(0)} s`);

/** Spread says how long a revision took to half, to nearly all and to all. */
export function Spread({ d }: { d: { expected: number; half: number; most: number; all: number } }) {
  if (d.expected === 0) return null;
  return (
    <span className="text-soft">
      half after {after(d.half)}, 99 % after {after(d.most)}, all after {after(d.all)}
    </span>
  );
}
