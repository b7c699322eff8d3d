import { useMemo, useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange, useEnvironments } from "../../api/queries";
import { useLadders } from "../../api/releases";
import { useDraft } from "../../draft/use";
import { useAround } from "../../parts/around";
import { StagesEditor, type DraftStage } from "../../parts/stages";
import { ConditionAround } from "../../ui/condition";
import { Button, Problem, Sheet, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { Word } from "../../ui/word";

type Ladder = Schemas["Ladder"];

const blank: Ladder = { key: "", title: "", says: "", stages: [] };

/** Ladders are the saved orders of stages that a project owns: those that ship, as it edited them, and its own. */
export function Ladders({ project }: { project: string }) {
  const ladders = useLadders(project);
  const environments = useEnvironments(project);
  const around = useAround(project, environments.data?.items.at(-1)?.key ?? "");
  const { may, takes } = useMay(project, "release");
  const [open, setOpen] = useState<string>();
  const remove = useChange(project, (ladder: string) => must(api.POST("/api/v1/projects/{project}/ladders/{ladder}/remove", { params: { path: { project, ladder } }, body: {} })), (l) => `Removed: ladder ${l.title}.`);
  return (
    <Sheet title={<Word of="ladder">Ladders</Word>} aside={!may && <span className="text-xs text-soft">{takes}</span>}>
      <ConditionAround value={around}>
        <ul className="flex flex-col gap-3">
          {ladders.data?.items.map((l) => (
            <li key={l.key} className="border-b border-line pb-3">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <b className="font-medium">{l.title}</b>
                <span className="text-soft">{l.says}</span>
                {may && (
                  <>
                    <Button tone="bare" className="underline" aria-label={`${open === l.key ? "close" : "edit"} ladder ${l.title}`} onClick={() => setOpen(open === l.key ? undefined : l.key)}>
                      {open === l.key ? "close" : "edit"}
                    </Button>
                    <Button tone="bare" className="underline" aria-label={`remove ladder ${l.title}`} onClick={() => remove.mutate(l.key)}>
                      remove
                    </Button>
                  </>
                )}
              </div>
              <div className="text-soft">{l.stages.map((s) => s.name + (s.signOff?.length ? " (signed)" : "")).join(", ")}</div>
              {open === l.key && <LadderEditor project={project} ladder={l} onDone={() => setOpen(undefined)} />}
            </li>
          ))}
        </ul>
        <Problem error={remove.error ?? ladders.error} />
        {may && <div className="mt-3">{open === "" ? <LadderEditor project={project} ladder={blank} onDone={() => setOpen(undefined)} /> : <Button onClick={() => setOpen("")}>New ladder</Button>}</div>}
      </ConditionAround>
    </Sheet>
  );
}

function LadderEditor({ project, ladder, onDone }: { project: string; ladder: Ladder; onDone: () => void }) {
  const base = useMemo(() => ladder, [ladder]);
  const editing = useDraft<Ladder>({ name: `${project} ladder ${ladder.key}`, to: `/p/${project}/settings`, what: ladder.key ? `ladder ${ladder.title}` : "a new ladder", base, version: 1 });
  const now = editing.value ?? base;
  const key = ladder.key || now.key;
  const save = useChange(project, () => must(api.PUT("/api/v1/projects/{project}/ladders/{ladder}", { params: { path: { project, ladder: key } }, body: { ladder: { ...now, key } } })), (l) => `Saved: ladder ${l.title}.`);
  const wrong = wrongIn(save.error);
  const text = (field: "key" | "title" | "says", label: string, hint?: string) => <TextField label={label} hint={hint} error={wrong(`ladder.${field}`)} value={now[field]} onChange={(e) => editing.edit({ ...now, [field]: e.target.value }, field)} />;
  return (
    <form
      className="mt-2 flex flex-col gap-3 rounded border border-edge bg-well p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, { onSuccess: () => { editing.drop(); onDone(); } });
      }}
    >
      <div className="flex flex-wrap gap-4">
        {ladder.key === "" && text("key", "Key", "such as our-usual")}
        {text("title", "Name")}
        {text("says", "What it is for")}
      </div>
      <StagesEditor ladder value={now.stages as DraftStage[]} onChange={(stages, field) => editing.edit({ ...now, stages: stages as Ladder["stages"] }, field && `stages ${field}`)} wrong={wrong} at="ladder.stages" />
      <Problem error={save.error} beside={["ladder.key", "ladder.title", "ladder.says", ...now.stages.flatMap((_, i) => ["", ".name", ".share", ".who", ".units", ".least", ".longest", ".late", ".signOff"].map((f) => `ladder.stages[${i}]${f}`))]} />
      <DraftTools editing={editing} place={(path) => path.join(" ")} onDrop={onDone}>
        <Button tone="lever" type="submit" disabled={save.isPending}>
          Save the ladder
        </Button>
      </DraftTools>
    </form>
  );
}
