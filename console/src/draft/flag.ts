import type { Schemas } from "../api/client";
import type { Rules } from "./merge";

/* What an edit of a flag's document does. A new rule has its id from the edit, and keeps it: so what was saved
   is known again, also where nobody heard the answer. */

type Document = Schemas["Document"];
type Rule = Schemas["Rule"];

/** A rule of an edit: one that is new says nobody yet, and takes nobody until it says whom. */
export type DraftRule = Rule & { saysNobody?: boolean };

export type DraftDocument = Omit<Document, "rules"> & { rules: DraftRule[] };

/** These are one thing each: half of one person's and half of the other's says what nobody meant. */
export const flagRules: Rules = {
  whole: (path) => ["when", "gives", "end"].includes(path.at(-1) ?? "") || (path[0] === "variants" && path.length === 2) || path[0] === "needs",
};

/** newId makes the id of a new rule, which no other has. */
export const newId = (): string => `r${Array.from(crypto.getRandomValues(new Uint8Array(8)), (b) => b.toString(16).padStart(2, "0")).join("")}`;

export const asDraft = (d: Document): DraftDocument => ({ ...d, rules: d.rules ?? [] });

export function addRule(d: DraftDocument, names: string[], id: string): DraftDocument {
  const first = names.find((n) => n !== d.resting) ?? d.resting;
  return { ...d, rules: [...d.rules, { id, name: `Rule ${d.rules.length + 1}`, gives: { variant: first }, saysNobody: true }] };
}

export function putRule(d: DraftDocument, r: DraftRule): DraftDocument {
  return { ...d, rules: d.rules.map((o) => (o.id === r.id ? r : o)) };
}

/** sayWhom says whom a rule takes; nothing is all. */
export function sayWhom(r: DraftRule, when: Rule["when"] | undefined): DraftRule {
  const { when: _, saysNobody: __, ...rest } = r;
  return when ? { ...rest, when } : rest;
}

/** moveRule moves a rule by one place; the rules of a release stand together, and are passed as one. */
export function moveRule(d: DraftDocument, id: string, by: number): DraftDocument {
  const from = d.rules.findIndex((r) => r.id === id);
  let to = from + by;
  while (d.rules[to]?.release && d.rules[to + by]?.release === d.rules[to]?.release) to += by;
  if (from < 0 || to < 0 || to >= d.rules.length) return d;
  const rules = [...d.rules];
  const [r] = rules.splice(from, 1);
  rules.splice(to, 0, r!);
  return { ...d, rules };
}

export const removeRule = (d: DraftDocument, id: string): DraftDocument => ({ ...d, rules: d.rules.filter((r) => r.id !== id) });

/** nameUnit puts a unit on top, by its key: the way to try a flag on oneself. */
export function nameUnit(d: DraftDocument, key: string, gets: string, id: string): DraftDocument {
  const at = d.rules.find((r) => r.when?.attribute === "targetingKey" && r.when.test === "string.one-of" && r.gives.variant === gets);
  if (at?.when) return putRule(d, { ...at, when: { ...at.when, text: [...new Set([...(at.when.text ?? []), key])] } });
  return { ...d, rules: [{ id, name: "Just me", when: { test: "string.one-of", attribute: "targetingKey", text: [key] }, gives: { variant: gets } }, ...d.rules] };
}

/** incomplete are the rules that say nobody yet. */
export const incomplete = (d: DraftDocument): DraftRule[] => d.rules.filter((r) => r.saysNobody);

/** toSend is an edit as the service takes it: without rules that say nobody. */
export function toSend(d: DraftDocument): Document {
  const rules = d.rules.flatMap(({ saysNobody, ...rule }) => (saysNobody ? [] : [rule]));
  return { ...d, rules };
}

function salted(g: Schemas["Gives"], as: Schemas["Gives"] | undefined): Schemas["Gives"] {
  return g.shares && as?.shares && (g.shares.drawAnew || g.shares.salt === "") ? { shares: { ...g.shares, salt: as.shares.salt } } : g;
}

/** asTried has what is saved be what was shown: conditions and salts as the dry run settled them. */
export function asTried(sent: Document, tried: Document | undefined): Document {
  if (!tried) return sent;
  const when = (i: number) => tried.rules?.[i]?.when;
  return {
    ...sent,
    rules: (sent.rules ?? []).map((r, i) => ({ ...r, ...(r.when && when(i) && { when: when(i)! }), gives: salted(r.gives, tried.rules?.[i]?.gives) })),
    end: salted(sent.end, tried.end),
  };
}
