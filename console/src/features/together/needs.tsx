import { Link, useParams } from "react-router";
import { useNeeds, type Need } from "../../api/together";
import { Page, Problem, Sheet, Time, Waiting } from "../../ui/controls";

const heads: Record<string, string> = {
  harm: "Your releases that are held",
  sign: "Proposals to sign",
  "sign-off": "Releases to sign off",
  proposal: "Your proposals that could not be made",
  delivery: "Webhooks that could not be told",
  "gone-by": "Your flags that should be gone",
  thaws: "Freezes that end",
};

/** to is the page of what waits. */
function to(project: string, n: Need): string {
  const at = `/p/${project}`;
  switch (n.kind) {
    case "harm":
    case "sign-off":
      return `${at}/${n.environment}/releases/${n.of}`;
    case "sign":
    case "proposal":
      return `${at}/proposals/${n.of}`;
    case "gone-by":
      return `${at}?find=${n.of}`;
    case "thaws":
      return `${at}/calendar`;
    default:
      return `${at}/settings`;
  }
}

/** Needs is all that waits for the reader, the most urgent first. */
export default function Needs() {
  const { project = "" } = useParams();
  const needs = useNeeds(project);
  const items = needs.data?.items ?? [];
  const kinds = [...new Set(items.map((n) => n.kind))];
  return (
    <Page title="Needs me" aside={<Link className="underline" to={`/p/${project}/calendar`}>Calendar</Link>}>
      <Problem error={needs.error} />
      {needs.isPending && <Waiting what="what waits for you" />}
      {needs.data && items.length === 0 && <p className="text-soft">Nothing waits for you in this project.</p>}
      {kinds.map((kind) => (
        <Sheet key={kind} title={heads[kind] ?? kind}>
          <ul className="flex flex-col gap-2">
            {items
              .filter((n) => n.kind === kind)
              .map((n) => (
                <li key={n.of} className="flex flex-wrap items-baseline gap-x-3">
                  <Link className="font-medium underline" to={to(project, n)}>
                    {n.title}
                  </Link>
                  {n.environment && <span>{n.environment}</span>}
                  <span className={kind === "harm" ? "text-alarm" : ""}>{n.says}</span>
                  {n.at !== undefined && n.at > 0 && (
                    <span className="text-soft">
                      <Time ms={n.at} />
                    </span>
                  )}
                </li>
              ))}
          </ul>
        </Sheet>
      ))}
    </Page>
  );
}
