import { useMemo } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useEnvironments, useMakeFlag, useRecipes } from "../../api/queries";
import { useDraft } from "../../draft/use";
import { FlagPicker } from "../../parts/flag-picker";
import { Button, Field, inputStyle, Page, Problem, Select, Sheet, TextField, Waiting, wrongIn } from "../../ui/controls";
import { Word } from "../../ui/word";
import { listed } from "./definition";

type Recipe = Schemas["Recipe"];

interface Fields {
  recipe: string;
  copyOf: string;
  title: string;
  key: string; // empty: as the title proposes
  description: string;
  type: string;
  variants: { name: string; value: string }[];
  resting: string;
  end: string;
  stays: boolean;
  goneBy: string;
  owners: string;
  loses: string;
  visible: boolean;
  reason: string;
}

/** keyOf proposes a key for a title. */
export function keyOf(title: string): string {
  return title
    .toLowerCase()
    .replaceAll(/[^a-z0-9._]+/g, "-")
    .replaceAll(/^[-._]+|[-._]+$/g, "");
}

function inMonths(n: number): string {
  const d = new Date();
  d.setMonth(d.getMonth() + n);
  return d.toISOString().slice(0, 10);
}

const shown = (type: string, value: unknown) => (type === "string" ? String(value) : JSON.stringify(value));

/** begun is a form as a recipe fills it in; what was typed for people stays. */
function begun(r: Recipe, now?: Fields): Fields {
  return {
    title: "",
    key: "",
    description: "",
    owners: "",
    loses: "",
    visible: false,
    reason: "",
    ...now,
    recipe: r.key,
    copyOf: "",
    type: r.type,
    variants: r.variants.map((v) => ({ name: v.name, value: shown(r.type, v.value) })),
    resting: r.resting,
    end: r.end,
    stays: r.months === 0,
    goneBy: inMonths(r.months || 3),
  };
}

const empty: Record<string, string> = { boolean: "true", string: "", number: "0", object: "{}" };

export default function NewFlag() {
  const { project = "" } = useParams();
  const recipes = useRecipes(project);
  if (recipes.isPending) return <Waiting what="the recipes" />;
  if (!recipes.data) return <Page title="New flag"><Problem error={recipes.error} /></Page>;
  return <NewFlagForm project={project} recipes={recipes.data.items} />;
}

function NewFlagForm({ project, recipes }: { project: string; recipes: Recipe[] }) {
  const [query] = useSearchParams();
  const base = useMemo(() => {
    const fields = begun(recipes[0] ?? none);
    const of = query.get("copy");
    return of ? { ...fields, copyOf: of, recipe: "" } : fields;
  }, [recipes, query]);
  const editing = useDraft<Fields>({ name: `${project} new flag`, to: `/p/${project}/new-flag`, what: "a new flag", base, version: 1 });
  const environments = useEnvironments(project);
  const { may, takes } = useMay(project, "make");
  const make = useMakeFlag(project);
  const go = useNavigate();
  const now = editing.value ?? base;
  const recipe = recipes.find((r) => r.key === now.recipe);
  const wrong = wrongIn(make.error);
  const set = <K extends keyof Fields>(field: K, value: Fields[K], step: string = field) => editing.edit({ ...now, [field]: value }, step);
  const key = now.key || keyOf(now.title);
  const asks = environments.data?.items.some((e) => e.askFirst) ?? false;
  const renamed = (at: number, name: string) => {
    const old = now.variants[at]!;
    const follow = (v: string) => (v === old.name ? name : v);
    const value = now.type === "string" && old.value === old.name ? name : old.value;
    editing.edit({ ...now, variants: now.variants.map((v, i) => (i === at ? { name, value } : v)), resting: follow(now.resting), end: follow(now.end) }, `variant ${at}`);
  };
  const submit = () => {
    const shared = { key, title: now.title, description: now.description, goneBy: now.stays ? "stays" : now.goneBy, owners: listed(now.owners), ...(now.loses && { loses: now.loses }) };
    const own = {
      type: now.type,
      ...(now.recipe && { recipe: now.recipe }),
      resting: now.resting,
      end: now.end,
      visible: now.visible,
      variants: now.variants.map((v) => ({ name: v.name, value: now.type === "string" ? v.value : read(v.value) })),
    };
    make.mutate(
      { body: (now.copyOf ? { ...shared, copyOf: now.copyOf } : { ...shared, ...own }) as Schemas["NewFlagBody"], reason: now.reason },
      {
        onSuccess: (made) => {
          editing.drop();
          void go(`/p/${project}/${environments.data?.items[0]?.key}/flags/${made.key}`);
        },
      },
    );
  };
  return (
    <Page title="New flag">
      <form
        className="grid max-w-6xl items-start gap-4 lg:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          submit();
        }}
      >
        <Sheet>
          <div className="flex flex-col gap-3">
            <TextField label="Title" autoFocus required value={now.title} onChange={(e) => set("title", e.target.value)} placeholder="One-touch open" error={wrong("title")} />
            <TextField label="Key" hint="what the code asks for; it never changes and is never used again" className="font-mono" required value={key} onChange={(e) => set("key", e.target.value)} error={wrong("key")} />
            <fieldset className="flex flex-col gap-2">
              <legend className="mb-1 font-medium">
                Begins from a <Word of="recipe" />
              </legend>
              {recipes.map((r) => (
                <label key={r.key} className="flex items-start gap-2">
                  <input type="radio" name="recipe" className="mt-1" checked={now.copyOf === "" && now.recipe === r.key} onChange={() => editing.edit(begun(r, now))} />
                  <span>
                    {r.title}
                    <span className="block text-xs text-soft">{r.says}</span>
                  </span>
                </label>
              ))}
              <div className="flex flex-wrap items-center gap-2">
                or as a copy of
                <FlagPicker project={project} label="as a copy of" value={now.copyOf} none="no flag" onPick={(of) => editing.edit({ ...now, copyOf: of })} />
              </div>
              {wrong("copyOf") && <div className="text-xs text-alarm">{wrong("copyOf")}</div>}
            </fieldset>
            <TextField label="What it decides" value={now.description} onChange={(e) => set("description", e.target.value)} error={wrong("description")} />
          </div>
        </Sheet>
        <Sheet>
          <div className="flex flex-col gap-3">
            {now.copyOf === "" && (
              <>
                <Field label="Type" hint="never changes" error={wrong("type")}>
                  {(id) => (
                    <Select
                      id={id}
                      value={now.type}
                      onChange={(e) => {
                        const from = recipes.find((r) => r.type === e.target.value);
                        const type = e.target.value;
                        const variants = from ? begun(from).variants : ["first", "second"].map((name) => ({ name, value: type === "string" ? name : empty[type]! }));
                        editing.edit({ ...now, type, variants, resting: from?.resting ?? "first", end: from?.end ?? "first" });
                      }}
                      options={["boolean", "string", "number", "object"]}
                    />
                  )}
                </Field>
                <fieldset className="flex flex-col gap-2">
                  <legend className="mb-1 font-medium">Variants</legend>
                  {now.variants.map((v, i) => {
                    const bad = wrong(`variants[${i}].name`) ?? wrong(`variants[${i}].value`);
                    return (
                      // Variants are edited by place: their names are what is being typed.
                      // oxlint-disable-next-line react/no-array-index-key
                      <div key={i} className="flex flex-wrap items-center gap-2">
                        <input aria-label={`name of variant ${i + 1}`} className={`${inputStyle} w-40`} value={v.name} onChange={(e) => renamed(i, e.target.value)} />
                        <input aria-label={`value of variant ${i + 1}`} className={`${inputStyle} min-w-0 flex-1 font-mono text-[13px]`} disabled={now.type === "boolean"} value={v.value} onChange={(e) => set("variants", now.variants.map((o, j) => (i === j ? { ...o, value: e.target.value } : o)), `value ${i}`)} />
                        <label className="flex items-center gap-1">
                          <input type="radio" name="resting" checked={now.resting === v.name} onChange={() => editing.edit({ ...now, resting: v.name, end: now.end === now.resting ? v.name : now.end })} /> resting
                        </label>
                        {now.variants.length > 2 && (
                          <Button tone="bare" aria-label={`remove variant ${v.name}`} onClick={() => set("variants", now.variants.filter((_, j) => j !== i), "")}>
                            remove
                          </Button>
                        )}
                        {bad && <div className="w-full text-xs text-alarm">{bad}</div>}
                      </div>
                    );
                  })}
                  {now.type !== "boolean" && (
                    <label className="flex flex-wrap items-center gap-2">
                      <span className="text-soft">or name them in one line</span>
                      <input
                        aria-label="names of the variants"
                        className={`${inputStyle} min-w-0 flex-1`}
                        placeholder="timetable, traffic-aware, learned"
                        value={now.variants.map((v) => v.name).join(", ")}
                        onChange={(e) => {
                          const variants = e.target.value.split(",").map((s, i, all) => ({ name: i < all.length - 1 ? s.trim() : s.trimStart(), value: now.variants[i] && now.variants[i].value !== now.variants[i].name ? now.variants[i].value : now.type === "string" ? s.trim() : empty[now.type]! }));
                          const rest = variants.some((v) => v.name === now.resting) ? now.resting : (variants[0]?.name ?? "");
                          editing.edit({ ...now, variants, resting: rest, end: variants.some((v) => v.name === now.end) ? now.end : rest }, "names");
                        }}
                      />
                    </label>
                  )}
                </fieldset>
              </>
            )}
            <Field label="Gone by" hint="by when the flag should be gone from the code" error={wrong("goneBy")}>
              {(id) => (
                <div className="flex flex-wrap items-center gap-3">
                  <input id={id} type="date" disabled={now.stays} className={inputStyle} value={now.goneBy} onChange={(e) => set("goneBy", e.target.value)} />
                  <label className="flex items-center gap-1.5">
                    <input type="checkbox" checked={now.stays} onChange={(e) => set("stays", e.target.checked, "")} /> it stays
                  </label>
                </div>
              )}
            </Field>
            <TextField label="Owners" hint={recipe?.needsOwner ? "this recipe wants somebody; separated by commas" : "separated by commas"} required={recipe?.needsOwner ?? false} value={now.owners} onChange={(e) => set("owners", e.target.value)} error={wrong("owners")} />
            {(recipe?.needsLoses || now.loses) && <TextField label="What users lose while it rests" hint="who stops it at night reads this" required={recipe?.needsLoses ?? false} value={now.loses} onChange={(e) => set("loses", e.target.value)} error={wrong("loses")} />}
            {now.copyOf === "" && (
              <label className="flex items-center gap-2">
                <input type="checkbox" checked={now.visible} onChange={(e) => set("visible", e.target.checked, "")} /> visible to browsers
              </label>
            )}
          </div>
        </Sheet>
        <div className="flex flex-col gap-3 lg:col-span-2">
          {asks && <TextField label="Why" hint="an environment of this project asks first" required value={now.reason} onChange={(e) => set("reason", e.target.value)} error={wrong("reason")} />}
          <Problem error={make.error} beside={["title", "key", "description", "type", "goneBy", "owners", "loses", "reason", "copyOf", ...now.variants.flatMap((_, i) => [`variants[${i}].name`, `variants[${i}].value`])]} />
          <div className="flex flex-wrap items-center gap-2">
            <Button tone="lever" type="submit" disabled={make.isPending || !may}>
              {make.isPending ? "making it ..." : "Make the flag"}
            </Button>
            {editing.edited && <Button onClick={editing.drop}>Begin anew</Button>}
            {!may && <span className="text-soft">{takes}</span>}
          </div>
          <p className="text-soft">Its lever is off everywhere: it changes nothing until you turn it on.</p>
        </div>
      </form>
    </Page>
  );
}

/** none stands where a project took all recipes away. */
const none: Recipe = { key: "", title: "", says: "", type: "boolean", variants: [{ name: "on", value: true }, { name: "off", value: false }], resting: "off", end: "off", months: 3 };

/** read takes what was typed as JSON; what is none goes as text, and the service says what is wrong. */
function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
