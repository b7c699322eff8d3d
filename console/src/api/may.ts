import { useMe } from "./queries";

/** What takes a right: see the service. */
export type Action = "define" | "document" | "release" | "stop" | "lift" | "see-as" | "manage";

export interface May {
  may: boolean;
  takes: string; // who could, for people; empty where the reader can
}

/** useMay says whether the reader may do something in a project, and who could. Until that is known nothing is
    refused here: the service judges each time. */
export function useMay(project: string, action: Action): May {
  const me = useMe();
  const takes = me.data?.takes[action];
  const mine = me.data?.roles[project];
  if (!takes || !mine || takes.some((r) => mine.includes(r))) return { may: true, takes: "" };
  return { may: false, takes: `this takes the role ${takes.join(" or ")}; you are ${mine.join(" and ")}` };
}
