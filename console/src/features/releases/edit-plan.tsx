import { useMemo, useState } from "react";
import { useMetrics } from "../../api/metrics";
import { useAct, type ReleaseView } from "../../api/releases";
import { useDraft } from "../../draft/use";
import { useReason } from "../../draft/reason";
import { useAround } from "../../parts/around";
import { ConditionAround } from "../../ui/condition";
import { Button, Problem, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { sent, StagesEditor, type DraftStage } from "../../parts/stages";
import { askedFor, WatchesEditor, type DraftWatch } from "../../parts/watches";

/** What of a plan can be edited while it goes. */
interface Plan {
  stages: DraftStage[];
  watches: DraftWatch[];
}

const planOf = (r: { state: ReleaseView["state"] }): Plan => ({ stages: r.state.plan.stages as DraftStage[], watches: askedFor(r.state.plan.watches ?? []) });

/** EditPlan edits the stages to come and the watches; what has begun keeps whom it is for. */
export function EditPlan({ project, environment, release: r, askFirst }: { project: string; environment: string; release: ReleaseView; askFirst: boolean }) {
  const [open, setOpen] = useState(false);
  const around = useAround(project, environment);
  const metrics = useMetrics(project);
  const base = useMemo(() => planOf(r), [r]);
  const editing = useDraft<Plan>({ name: `${project} release ${r.id}`, to: `/p/${project}/${environment}/releases/${r.id}`, what: `the plan of the release of ${r.flag}`, base, version: r.state.sequence });
  const [reason, setReason] = useReason(`${project} release ${r.flag}`);
  const save = useAct(project, environment, r.id);
  if (!open && !editing.edited) {
    return (
      <Button className="mt-3" onClick={() => setOpen(true)}>
        Edit the stages to come{base.watches.length > 0 || r.state.at < 0 ? ", or its watches" : ""}
      </Button>
    );
  }
  const now = editing.value ?? base;
  const watches = JSON.stringify(now.watches) !== JSON.stringify(base.watches);
  const wrong = wrongIn(save.error);
  return (
    <ConditionAround value={around}>
      <form
        className="mt-3 flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate({ do: "edit", sequence: r.state.sequence, stages: sent(now.stages), ...(watches && { watches: now.watches }), reason }, { onSuccess: (done) => { editing.saved(now, planOf(done), done.state.sequence); setOpen(false); } });
        }}
      >
        <StagesEditor watched={now.watches.length > 0} value={now.stages} begun={r.state.at + 1} onChange={(stages, field) => editing.edit({ ...now, stages }, field && `stages ${field}`)} wrong={wrong} />
        {(base.watches.length > 0 || r.state.at < 0) && (
          <fieldset className="flex flex-col gap-2">
            <legend className="mb-1 font-medium">It watches</legend>
            <WatchesEditor project={project} environment={environment} metrics={metrics.data?.items ?? []} value={now.watches} onChange={(to, field) => editing.edit({ ...now, watches: to }, field && `watches ${field}`)} wrong={wrong} />
            {watches && r.state.at >= 0 && <p className="text-soft">Other watches begin the evidence anew: what was found so far does not count any more.</p>}
          </fieldset>
        )}
        {askFirst && <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />}
        <Problem error={save.error} />
        <DraftTools editing={editing} place={(path) => path.join(" ")} onDrop={() => setOpen(false)}>
          <Button tone="lever" type="submit" disabled={save.isPending || !editing.edited || (askFirst && reason.trim() === "")}>
            Save the plan
          </Button>
          {!editing.edited && (
            <Button tone="bare" onClick={() => setOpen(false)}>
              Leave it
            </Button>
          )}
        </DraftTools>
      </form>
    </ConditionAround>
  );
}
