import { Link } from "react-router";
import { useUsage } from "../../api/usage";
import { Sheet } from "../../ui/controls";
import { Variant } from "../../ui/variant";

/** Given shows what was decided in the last hour. */
export function Given({ project, environment, flag, names }: { project: string; environment: string; flag: string; names: string[] }) {
  const usage = useUsage(project, environment, "1h", flag);
  const given = usage.data?.now ?? [];
  const total = given.reduce((sum, c) => sum + c.total, 0);
  return (
    <Sheet
      title="Given in the last hour"
      aside={
        <Link className="underline" to={`/p/${project}/${environment}/usage?flag=${flag}`}>
          over time
        </Link>
      }
    >
      {usage.data && total === 0 && <p className="text-soft">No service has asked for this flag in the last hour.</p>}
      <ul className="flex flex-col gap-1" style={{ minHeight: 24 * names.length }}>
        {given.map((c) => (
          <li key={c.variant ?? ""} className="flex justify-between gap-2">
            {c.variant ? <Variant names={names} name={c.variant} /> : <span className="text-alarm">fallback</span>}
            <span className="tabular-nums">
              {c.total.toLocaleString()} <span className="text-soft">({((100 * c.total) / total).toFixed(1)} %)</span>
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
