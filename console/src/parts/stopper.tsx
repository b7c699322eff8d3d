import { useEffect, useId, useRef, useState } from "react";
import { useMay } from "../api/may";
import { useFlag, useStop } from "../api/queries";
import { Button, inputStyle, Problem, Time } from "../ui/controls";
import { Dialog } from "../ui/dialog";
import { Variant } from "../ui/variant";
import { Word } from "../ui/word";

interface StopperProps {
  project: string;
  environment: string;
  flags: { key: string; loses?: string | undefined }[];
  label: string; // of the first step
  arm?: boolean; // the first step is done already
  onDone?: () => void;
  onLeave?: () => void;
}

/** Stopper stops flags in two steps, everywhere the same: arm, and confirm. */
export function Stopper({ project, environment, flags, label, arm: begun = false, onDone, onLeave }: StopperProps) {
  const [armed, setArmed] = useState(begun);
  const [reason, setReason] = useState("");
  const stop = useStop(project, environment);
  const { may, takes } = useMay(project, "stop");
  const confirm = useRef<HTMLButtonElement>(null);
  const arm = useRef<HTMLButtonElement>(null);
  const says = useId();
  const keys = flags.map((f) => f.key);
  const what = keys.length === 1 ? keys[0]! : `${keys.length} flags`;
  const alone = keys.length === 1 ? keys[0]! : "";
  useEffect(() => {
    if (armed) confirm.current?.focus();
  }, [armed]);
  const leave = () => {
    stop.reset();
    if (onLeave) return onLeave();
    setArmed(false);
    setTimeout(() => arm.current?.focus());
  };
  if (!armed) {
    return (
      <div className="flex flex-col items-start gap-1">
        <Button ref={arm} tone="alarm" className="min-h-11 max-w-full text-left whitespace-normal!" disabled={!may || keys.length === 0} onClick={() => setArmed(true)}>
          {label}
        </Button>
        {!may && <span className="text-xs text-soft">{takes}</span>}
      </div>
    );
  }
  return (
    <div
      role="group"
      aria-label={`stop ${what}`}
      className="flex w-full flex-col gap-3 rounded border-2 border-alarm bg-alarm-sheet p-3"
      onKeyDown={(e) => e.key === "Escape" && leave()}
    >
      <div id={says} className="flex flex-col gap-1">
        <p className="font-medium">
          <Word of="stop">Stop</Word> {what} in {environment}?
        </p>
        {alone && <Resting project={project} environment={environment} flag={alone} />}
        {flags.map(
          (f) =>
            f.loses && (
              <p key={f.key}>
                {keys.length > 1 && <span className="font-mono text-[13px]">{f.key}: </span>}Users lose: {f.loses}
              </p>
            ),
        )}
      </div>
      <div className="flex flex-wrap items-center gap-2">
        <Button
          ref={confirm}
          tone="confirm"
          className="min-h-11 grow sm:grow-0"
          aria-describedby={says}
          disabled={stop.isPending}
          onClick={() =>
            stop.mutate(
              { flags: keys, reason },
              {
                onSuccess: () => {
                  setArmed(false);
                  onDone?.();
                },
              },
            )
          }
        >
          {stop.isPending ? "stopping ..." : `Stop ${what} now`}
        </Button>
        <Button className="min-h-11" onClick={leave}>
          Leave it on
        </Button>
        <input aria-label="why stop" className={`${inputStyle} min-h-11 min-w-0 grow basis-40`} placeholder="why? (may be left out)" value={reason} onChange={(e) => setReason(e.target.value)} />
      </div>
      <Problem error={stop.error} />
    </div>
  );
}

/** StopSign stops a flag from a list: pressing it arms, in a dialog. */
export function StopSign({ project, environment, flag, loses }: { project: string; environment: string; flag: string; loses: string | undefined }) {
  const [open, setOpen] = useState(false);
  const { may } = useMay(project, "stop");
  if (!may) return null;
  const close = () => setOpen(false);
  return (
    <>
      <button type="button" aria-label={`Stop ${flag} in ${environment}`} className="flex size-6 shrink-0 cursor-pointer items-center justify-center rounded text-soft hover:bg-alarm-sheet hover:text-alarm focus-visible:text-alarm" onClick={() => setOpen(true)}>
        <svg aria-hidden="true" width="14" height="14" viewBox="0 0 14 14">
          <path d="M4.2 1H9.8L13 4.2V9.8L9.8 13H4.2L1 9.8V4.2Z" fill="none" stroke="currentColor" strokeWidth="1.4" />
          <path d="M4.5 7H9.5" stroke="currentColor" strokeWidth="1.8" />
        </svg>
      </button>
      {open && (
        <Dialog open title={`${flag} in ${environment}`} onClose={close}>
          <Stopper project={project} environment={environment} flags={[{ key: flag, loses }]} label={`Stop ${flag}`} arm onDone={close} onLeave={close} />
        </Dialog>
      )}
    </>
  );
}

/** Resting says what all would get, and who asks; the stop does not wait for it. */
function Resting({ project, environment, flag }: { project: string; environment: string; flag: string }) {
  const view = useFlag(project, environment, flag);
  if (!view.data) return null;
  const { definition, document, asked } = view.data;
  return (
    <p>
      All get <Variant names={definition.variants.map((v) => v.name)} name={document.resting} /> at once, over everything else.
      {asked && (
        <span className="text-soft">
          {" "}
          Last asked for <Time near ms={asked.last} />
          {asked.application && <> by {asked.application}</>}.
        </span>
      )}
    </p>
  );
}
