import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, must } from "../../api/client";
import { useChange } from "../../api/queries";
import { useCalendar, useCalendarAddresses, type Dated } from "../../api/together";
import { clock } from "../../clock";
import { Button, Copy, Page, Problem, Sheet, Time, Waiting, zone } from "../../ui/controls";

const day = 86_400_000;
const weeks = 8;

const kinds: Record<string, string> = { freeze: "frozen", release: "release", stage: "stage", proposal: "proposal", clock: "clock", "gone-by": "gone by" };

/** monday is the begin of the week that an instant is in, in the reader's zone. */
function monday(ms: number): number {
  const d = new Date(ms);
  d.setHours(0, 0, 0, 0);
  d.setDate(d.getDate() - ((d.getDay() + 6) % 7));
  return d.getTime();
}

/** later is so many days after midnight, whatever clocks do between. */
function later(ms: number, days: number): number {
  const d = new Date(ms);
  d.setDate(d.getDate() + days);
  return d.getTime();
}

const dayOf = (ms: number): string => new Date(ms).toLocaleDateString(undefined, { weekday: "short", day: "numeric", month: "short" });

/** Calendar is what begins, ends, is due, frozen, gone by or running, on one line. */
export default function Calendar() {
  const { project = "" } = useParams();
  const [from, setFrom] = useState(() => monday(clock()));
  const to = later(from, weeks * 7);
  const all = useCalendar(project, from, to);
  const items = all.data?.items ?? [];
  const long = items.filter((i) => (i.to ?? 0) - i.from > day && !i.allDay);
  return (
    <Page
      title="Calendar"
      aside={
        <span className="flex flex-wrap items-center gap-2">
          <Button onClick={() => setFrom(later(from, -28))}>Earlier</Button>
          <Button onClick={() => setFrom(monday(clock()))}>Now</Button>
          <Button onClick={() => setFrom(later(from, 28))}>Later</Button>
        </span>
      }
    >
      <Problem error={all.error} />
      {all.isPending && <Waiting what="the calendar" />}
      {all.data && (
        <Sheet title={`${dayOf(from)} to ${dayOf(to - 1)}`} aside={<span className="text-xs text-soft">times are of {zone}</span>}>
          <Line from={from} to={to} now={all.data.now} items={long} />
        </Sheet>
      )}
      {all.data && (
        <Sheet title="Day by day">
          {items.length === 0 && <p className="text-soft">Nothing begins, ends or is due in these weeks.</p>}
          <ul className="flex flex-col gap-2">
            {items.map((i) => (
              <li key={i.id} className={`flex flex-wrap items-baseline gap-x-3 ${i.cancelled ? "text-soft" : ""}`}>
                <span className="w-52 shrink-0 text-soft">{i.allDay ? new Date(i.from).toLocaleDateString(undefined, { timeZone: "UTC", day: "numeric", month: "short", year: "numeric" }) : <Time ms={i.from} />}</span>
                <span className="w-20 shrink-0 text-soft">{kinds[i.kind] ?? i.kind}</span>
                <span className="min-w-0 flex-1 basis-60 break-words">
                  {i.cancelled ? "not any more: " : ""}
                  <What project={project} item={i} />
                  {i.open ? ", goes on" : (i.to ?? 0) > i.from ? <>, until <Time ms={i.to!} /></> : ""}
                  {i.takesAway && i.kind === "clock" && <b className="font-medium text-alarm"> takes it away from those who have it</b>}
                  {i.beside && <b className="font-medium"> on the same units as {i.beside.join(", ")}</b>}
                </span>
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      <Addresses project={project} />
    </Page>
  );
}

function What({ project, item: i }: { project: string; item: Dated }) {
  const at = `/p/${project}`;
  const to = i.kind === "proposal" ? `${at}/proposals/${i.of}` : i.kind === "release" || i.kind === "stage" ? `${at}/${i.environment}/releases/${i.of}` : i.kind === "clock" && i.flag ? `${at}/${i.environment}/flags/${i.flag}` : i.kind === "gone-by" ? `${at}?find=${i.flag}` : "";
  return to ? (
    <Link className="underline" to={to}>
      {i.title}
    </Link>
  ) : (
    <>{i.title}</>
  );
}

/** Line draws what lasts longer than a day, a bar each, over weeks. */
function Line({ from, to, now, items }: { from: number; to: number; now: number; items: Dated[] }) {
  const at = (ms: number) => (100 * (Math.min(to, Math.max(from, ms)) - from)) / (to - from);
  const mondays = Array.from({ length: weeks }, (_, w) => later(from, 7 * w));
  return (
    <div className="relative">
      <div className="relative h-5 text-xs text-soft">
        {mondays.map((m, w) => (
          <span key={m} className={`absolute whitespace-nowrap ${w % 2 === 1 ? "max-sm:hidden" : ""}`} style={{ left: `${at(m)}%` }}>
            {new Date(m).toLocaleDateString(undefined, { day: "numeric", month: "short" })}
          </span>
        ))}
      </div>
      <div className="relative flex flex-col gap-1 py-1">
        <svg aria-hidden="true" className="absolute inset-0 h-full w-full" preserveAspectRatio="none" viewBox="0 0 100 100">
          {mondays.map((m) => (
            <line key={m} x1={at(m)} x2={at(m)} y1="0" y2="100" stroke="var(--line)" vectorEffect="non-scaling-stroke" />
          ))}
          {now >= from && now < to && <line x1={at(now)} x2={at(now)} y1="0" y2="100" stroke="var(--alarm)" strokeWidth="2" vectorEffect="non-scaling-stroke" />}
        </svg>
        {items.length === 0 && <p className="relative text-soft">Nothing lasts longer than a day.</p>}
        {items.map((i) => (
          <div key={i.id} className="relative h-6">
            <div className={`absolute h-full rounded border border-edge ${i.kind === "freeze" ? "bg-well" : "bg-note"} ${i.cancelled ? "opacity-50" : ""}`} style={{ left: `${at(i.from)}%`, width: `${Math.max(0.4, at(i.to ?? i.from) - at(i.from))}%` }} />
            <span className="absolute truncate px-1" style={at(i.from) > 60 ? { right: `${100 - at(i.from)}%`, maxWidth: `${at(i.from)}%` } : { left: `${at(i.from)}%`, maxWidth: `${100 - at(i.from)}%` }}>
              {i.title}
            </span>
          </div>
        ))}
      </div>
    </div>
  );
}

/** Addresses are where calendar programs read along. */
function Addresses({ project }: { project: string }) {
  const all = useCalendarAddresses(project);
  const path = { project };
  const [made, setMade] = useState("");
  const make = useChange(project, () => must(api.POST("/api/v1/projects/{project}/calendar/addresses", { params: { path } })));
  const remove = useChange(project, (address: string) => must(api.POST("/api/v1/projects/{project}/calendar/addresses/{address}/remove", { params: { path: { ...path, address } } })), () => "It leads nowhere any more.");
  return (
    <Sheet title="Subscribe to it">
      <p className="text-soft">A calendar program reads it at an address of its own (iCalendar), in your right and without signing in. Who has the address reads along.</p>
      <ul className="my-2 flex flex-col gap-1">
        {all.data?.items.map((a) => (
          <li key={a.id} className="flex flex-wrap items-center gap-3">
            an address, made <Time ms={a.made} />
            <Button tone="bare" className="underline" aria-label={`take away the address ${a.id}`} onClick={() => remove.mutate(a.id)}>
              take away
            </Button>
          </li>
        ))}
      </ul>
      {made && (
        <p className="flex flex-wrap items-center gap-2">
          <code className="break-all" data-testid="calendar-address">{made}</code> <Copy text={made} /> <span className="text-soft">It is shown this once.</span>
        </p>
      )}
      <Problem error={make.error ?? remove.error ?? all.error} />
      <Button disabled={make.isPending} onClick={() => make.mutate(undefined, { onSuccess: (a) => setMade(window.location.origin + (a.path ?? "")) })}>
        Make an address
      </Button>
    </Sheet>
  );
}
