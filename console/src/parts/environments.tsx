import { Link, useNavigate } from "react-router";
import { useEnvironments } from "../api/queries";
import { Combobox } from "../ui/combobox";

/** How many environments stand side by side; of more, one is chosen by typing. */
const abreast = 5;

/** Environments goes to the same page of another environment. */
export function Environments({ project, environment, to }: { project: string; environment: string; to: (environment: string) => string }) {
  const all = useEnvironments(project);
  const go = useNavigate();
  const items = all.data?.items ?? [];
  if (items.length > abreast) {
    return <Combobox label="environment" className="w-52" value={environment} options={items.map((e) => ({ value: e.key, about: e.title }))} onChange={(e) => void go(to(e))} />;
  }
  return (
    <nav aria-label="environments" className="flex flex-wrap gap-1">
      {items.map((e) => (
        <Link key={e.key} to={to(e.key)} aria-current={e.key === environment ? "page" : undefined} className={`rounded border px-2.5 py-1 ${e.key === environment ? "border-lever bg-sheet font-medium" : "border-line text-soft hover:text-ink"}`}>
          {e.key}
        </Link>
      ))}
    </nav>
  );
}
