import { useParams } from "react-router";
import type { Schemas } from "./client";
import { useMe } from "./queries";

/** What takes a right: see the service. */
export type Action = "define" | "make" | "document" | "release" | "stop" | "lift" | "see-as" | "propose" | "manage";

export interface May {
  may: boolean;
  takes: string; // who could, for people; empty where the reader can
}

type Me = Pick<Schemas["Me"], "roles" | "in" | "takes">;

/** Rights that are of the project as a whole: a role in one environment does not count for them. */
const whole = new Set<Action>(["define", "manage"]);

/** rightTo says whether somebody may do something in an environment, or in any of them where none is meant. */
export function rightTo(me: Me, project: string, action: Action, environment: string | undefined): May {
  const takes = me.takes[action];
  const mine = me.roles[project];
  if (!takes || !mine) return { may: true, takes: "" }; // the service judges each time
  const places = me.in?.[project] ?? {};
  const here = action === "make" || action === "propose" || environment === undefined ? Object.values(places).flat() : (places[environment] ?? []);
  const counts = whole.has(action) ? mine : [...mine, ...here];
  if (takes.some((r) => counts.includes(r))) return { may: true, takes: "" };
  const where = whole.has(action) ? "in all of the project" : environment === undefined || action === "propose" ? "" : `in ${environment}`;
  const have = counts.length > 0 ? `you are ${[...new Set(counts)].join(" and ")}` : "you have no role there";
  return { may: false, takes: `this takes the role ${takes.join(" or ")}${where && ` ${where}`}; ${have}` };
}

/** useMay says whether the reader may do something in a project, and who could: in the environment that the page is of.
    Until that is known nothing is refused here: the service judges each time. */
export function useMay(project: string, action: Action): May {
  const me = useMe();
  const { environment } = useParams();
  return me.data ? rightTo(me.data, project, action, environment) : { may: true, takes: "" };
}
