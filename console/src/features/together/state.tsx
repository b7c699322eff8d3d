import type { ProposalLine, Want } from "../../api/together";
import { Time } from "../../ui/controls";

/** wanted says what a proposal wants in one place, and what of that it has. */
export function wanted(w: Want): string {
  const where = w.environment || "the project";
  if (!w.signing) return `${where}: a signature of one who may ${w.action}`;
  const of = [...(w.signing.roles ?? []), ...(w.signing.teams ?? []).map((t) => `team ${t}`)];
  return `${where}: ${w.has} of ${w.need} signature${w.need === 1 ? "" : "s"}${of.length > 0 ? ` of ${of.join(", ")}` : ""}`;
}

/** State says how a proposal stands, by a sign and a word. */
export function State({ p }: { p: ProposalLine }) {
  switch (p.state) {
    case "signed":
      return <b className="font-medium">● signed</b>;
    case "due":
      return (
        <b className="font-medium">
          ● due <Time ms={p.at ?? 0} />
        </b>
      );
    case "done":
      return (
        <span className="text-soft">
          ● made <Time ms={p.ended ?? 0} />
        </span>
      );
    case "open":
      return <b className="font-medium">○ open</b>;
    default:
      return (
        <span className="text-soft">
          ■ {p.state} <Time ms={p.ended ?? 0} />
        </span>
      );
  }
}
