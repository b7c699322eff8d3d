import { useMemo, useState } from "react";
import { useAct, type ReleaseView } from "../../api/releases";
import { useDraft } from "../../draft/use";
import { useReason } from "../../draft/reason";
import { useAround } from "../../parts/around";
import { ConditionAround } from "../../ui/condition";
import { Button, Problem, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { sent, StagesEditor, type DraftStage } from "../../parts/stages";

/** EditStages edits the stages to come; what has begun keeps whom it is for. */
export function EditStages({ project, environment, release: r, askFirst }: { project: string; environment: string; release: ReleaseView; askFirst: boolean }) {
  const [open, setOpen] = useState(false);
  const around = useAround(project, environment);
  const base = useMemo(() => r.state.plan.stages as DraftStage[], [r.state.plan.stages]);
  const editing = useDraft<DraftStage[]>({ name: `${project} release ${r.id}`, to: `/p/${project}/${environment}/releases/${r.id}`, what: `the stages of the release of ${r.flag}`, base, version: r.state.sequence });
  const [reason, setReason] = useReason(`${project} release ${r.flag}`);
  const save = useAct(project, environment, r.id);
  if (!open && !editing.edited) {
    return (
      <Button className="mt-3" onClick={() => setOpen(true)}>
        Edit the stages to come
      </Button>
    );
  }
  const now = editing.value ?? base;
  return (
    <ConditionAround value={around}>
      <form
        className="mt-3 flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate({ do: "edit", sequence: r.state.sequence, stages: sent(now), reason }, { onSuccess: (done) => { editing.saved(now, done.state.plan.stages as DraftStage[], done.state.sequence); setOpen(false); } });
        }}
      >
        <StagesEditor value={now} begun={r.state.at + 1} onChange={(stages, field) => editing.edit(stages, field)} wrong={wrongIn(save.error)} />
        {askFirst && <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />}
        <Problem error={save.error} />
        <DraftTools editing={editing} place={(path) => path.join(" ")} onDrop={() => setOpen(false)}>
          <Button tone="lever" type="submit" disabled={save.isPending || !editing.edited || (askFirst && reason.trim() === "")}>
            Save the stages
          </Button>
          {!editing.edited && (
            <Button tone="bare" onClick={() => setOpen(false)}>
              Leave them
            </Button>
          )}
        </DraftTools>
      </form>
    </ConditionAround>
  );
}
