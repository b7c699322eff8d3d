import { clock } from "../clock";

/** Node is a condition, as the API has it. */
export interface Node {
  all?: Node[];
  any?: Node[];
  not?: Node;
  test?: TestName;
  attribute?: string;
  text?: string[];
  numbers?: number[];
  ignoreCase?: boolean;
  loose?: boolean;
  segment?: string;
  flag?: string;
  weekly?: { days: string[]; from: string; to: string; zone: string };
  part?: { by: string[]; share: number; salt: string; hash: number };
}

export type Takes = "text" | "texts" | "number" | "numbers" | "two" | "none" | "version" | "time" | "times" | "blocks";

export interface Test {
  value: string;
  label: string;
  of: string; // type of the attribute
  takes: Takes;
}

/* The tests by what they compare. The service checks every condition; this list only says
   what can be chosen here. */
const known = [
  { value: "string.equals", label: "is", of: "string", takes: "text" },
  { value: "string.one-of", label: "is one of", of: "string", takes: "texts" },
  { value: "string.begins", label: "begins with", of: "string", takes: "texts" },
  { value: "string.ends", label: "ends with", of: "string", takes: "texts" },
  { value: "string.contains", label: "contains", of: "string", takes: "texts" },
  { value: "string.matches", label: "matches pattern", of: "string", takes: "text" },
  { value: "number.equals", label: "= (number)", of: "number", takes: "number" },
  { value: "number.differs", label: "≠", of: "number", takes: "number" },
  { value: "number.less", label: "<", of: "number", takes: "number" },
  { value: "number.at-most", label: "≤", of: "number", takes: "number" },
  { value: "number.more", label: ">", of: "number", takes: "number" },
  { value: "number.at-least", label: "≥", of: "number", takes: "number" },
  { value: "number.between", label: "is between", of: "number", takes: "two" },
  { value: "number.one-of", label: "is one of (numbers)", of: "number", takes: "numbers" },
  { value: "version.at-least", label: "is version ≥", of: "version", takes: "version" },
  { value: "version.less", label: "is version <", of: "version", takes: "version" },
  { value: "version.equals", label: "is version", of: "version", takes: "version" },
  { value: "version.at-most", label: "is version ≤", of: "version", takes: "version" },
  { value: "version.more", label: "is version >", of: "version", takes: "version" },
  { value: "version.range", label: "is version in range", of: "version", takes: "text" },
  { value: "time.before", label: "is before", of: "time", takes: "time" },
  { value: "time.at-or-after", label: "is at or after", of: "time", takes: "time" },
  { value: "time.between", label: "is between (times)", of: "time", takes: "times" },
  { value: "address.in", label: "is an address in", of: "address", takes: "blocks" },
  { value: "list.any", label: "has any of", of: "list", takes: "texts" },
  { value: "list.all", label: "has all of", of: "list", takes: "texts" },
  { value: "list.none", label: "has none of", of: "list", takes: "texts" },
  { value: "boolean.true", label: "is true", of: "boolean", takes: "none" },
  { value: "boolean.false", label: "is false", of: "boolean", takes: "none" },
  { value: "present", label: "is present", of: "", takes: "none" },
  { value: "absent", label: "is absent", of: "", takes: "none" },
] as const satisfies Test[];

export const tests: readonly (Test & { value: TestName })[] = known;

/** The names of tests that a condition can hold: those above, and those that compare no attribute. */
export type TestName = (typeof known)[number]["value"] | "segment" | "flag.gives" | "part" | "clock.before" | "clock.at-or-after" | "clock.between" | "clock.weekly";

export function testsFor(type: string): typeof tests {
  const fit = tests.filter((t) => t.of === type || t.of === "" || (t.of === "string" && ["version", "time", "address"].includes(type)));
  return type === "" || fit.length <= 2 ? tests : fit.toSorted((a, b) => Number(b.of === type) - Number(a.of === type));
}

export const firstLeaf: Node = { test: "string.equals", attribute: "", text: [""] };

/** retest changes the test and keeps the constants that it can take. */
export function retest(n: Node, test: TestName): Node {
  const takes = tests.find((t) => t.value === test)?.takes ?? "none";
  const out: Node = { test, attribute: n.attribute ?? "" };
  const text = n.text ?? n.numbers?.map(String) ?? [];
  const now = localTime(new Date(Math.ceil(clock() / 3_600_000) * 3_600_000));
  if (takes === "text" || takes === "version") out.text = [text[0] ?? ""];
  if (takes === "texts" || takes === "blocks") out.text = text.length > 0 ? text : [""];
  if (takes === "time") out.text = [isTime(text[0]) ? text[0]! : now];
  if (takes === "times") out.text = [isTime(text[0]) ? text[0]! : now, isTime(text[1]) ? text[1]! : localTime(new Date(clock() + 8 * 86_400_000))];
  const numbers = (n.numbers ?? text.map(Number)).filter((x) => Number.isFinite(x));
  if (takes === "number") out.numbers = [numbers[0] ?? 0];
  if (takes === "numbers") out.numbers = numbers.length > 0 ? numbers : [0];
  if (takes === "two") out.numbers = [numbers[0] ?? 0, numbers[1] ?? 1];
  if (n.ignoreCase && test.startsWith("string.")) out.ignoreCase = true;
  if (n.loose && test.startsWith("version.")) out.loose = true;
  return out;
}

function isTime(s: string | undefined): boolean {
  return s !== undefined && !Number.isNaN(Date.parse(s)) && s.includes("T");
}

function two(n: number): string {
  return String(Math.abs(n)).padStart(2, "0");
}

/** localTime writes an instant as RFC 3339 does, with this browser's offset from UTC. */
export function localTime(at: Date): string {
  const ahead = -at.getTimezoneOffset();
  const zone = ahead === 0 ? "Z" : `${ahead < 0 ? "-" : "+"}${two(Math.trunc(ahead / 60))}:${two(ahead % 60)}`;
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}T${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}${zone}`;
}

/** away says how far an instant is from now. */
export function away(at: number, now = clock()): string {
  const minutes = Math.round(Math.abs(at - now) / 60_000);
  const said = minutes < 120 ? `${minutes} minutes` : minutes < 48 * 60 ? `${Math.round(minutes / 60)} hours` : `${Math.round(minutes / 1440)} days`;
  return at >= now ? `in ${said}` : `${said} ago`;
}
