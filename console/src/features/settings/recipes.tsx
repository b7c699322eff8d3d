import { useMemo, useState } from "react";
import { api, must, type Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useChange, useRecipes } from "../../api/queries";
import { useDraft } from "../../draft/use";
import { Button, Field, inputStyle, Problem, Select, Sheet, TextField, wrongIn } from "../../ui/controls";
import { DraftTools } from "../../ui/draft-tools";
import { Variant } from "../../ui/variant";
import { Word } from "../../ui/word";

type Recipe = Schemas["Recipe"];

const blank: Recipe = { key: "", title: "", says: "", type: "boolean", variants: [{ name: "on", value: true }, { name: "off", value: false }], resting: "off", end: "off", months: 3 };

/** Recipes are the beginnings of flags that a project owns: those that ship, as it edited them, and its own. */
export function Recipes({ project }: { project: string }) {
  const recipes = useRecipes(project);
  const { may, takes } = useMay(project, "define");
  const [open, setOpen] = useState<string>();
  const remove = useChange(project, (recipe: string) => must(api.POST("/api/v1/projects/{project}/recipes/{recipe}/remove", { params: { path: { project, recipe } }, body: {} })), (r) => `Removed: recipe ${r.title}.`);
  return (
    <Sheet title={<Word of="recipe">Recipes</Word>} aside={!may && <span className="text-xs text-soft">{takes}</span>}>
      <ul className="flex flex-col gap-3">
        {recipes.data?.items.map((r) => (
          <li key={r.key} className="border-b border-line pb-3">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <b className="font-medium">{r.title}</b>
              <span className="text-soft">{r.says}</span>
              {may && (
                <>
                  <Button tone="bare" className="underline" aria-label={`${open === r.key ? "close" : "edit"} recipe ${r.title}`} onClick={() => setOpen(open === r.key ? undefined : r.key)}>
                    {open === r.key ? "close" : "edit"}
                  </Button>
                  <Button tone="bare" className="underline" aria-label={`remove recipe ${r.title}`} onClick={() => remove.mutate(r.key)}>
                    remove
                  </Button>
                </>
              )}
            </div>
            <div className="flex flex-wrap gap-x-4 text-soft">
              <span>{r.type}</span>
              {r.variants.map((v) => (
                <Variant key={v.name} names={r.variants.map((o) => o.name)} name={v.name} />
              ))}
              <span>{r.months === 0 ? "stays" : `gone by in ${r.months} months`}</span>
              {r.needsOwner && <span>wants an owner</span>}
              {r.needsLoses && <span>asks what users lose</span>}
            </div>
            {open === r.key && <RecipeEditor project={project} recipe={r} onDone={() => setOpen(undefined)} />}
          </li>
        ))}
      </ul>
      <Problem error={remove.error ?? recipes.error} />
      {may && <div className="mt-3">{open === "" ? <RecipeEditor project={project} recipe={blank} onDone={() => setOpen(undefined)} /> : <Button onClick={() => setOpen("")}>New recipe</Button>}</div>}
    </Sheet>
  );
}

/** What is edited of a recipe; variants are a line each: name = value. */
interface Fields {
  key: string;
  title: string;
  says: string;
  type: string;
  variants: string;
  resting: string;
  end: string;
  months: string;
  needsOwner: boolean;
  needsLoses: boolean;
}

const fieldsOf = (r: Recipe): Fields => ({ key: r.key, title: r.title, says: r.says, type: r.type, variants: r.variants.map((v) => `${v.name} = ${r.type === "string" ? String(v.value) : JSON.stringify(v.value)}`).join("\n"), resting: r.resting, end: r.end, months: String(r.months), needsOwner: r.needsOwner ?? false, needsLoses: r.needsLoses ?? false });

function variantsOf(type: string, lines: string): { name: string; value: unknown }[] {
  return lines
    .split("\n")
    .filter((l) => l.trim() !== "")
    .map((line) => {
      const at = line.indexOf("=");
      const name = (at < 0 ? line : line.slice(0, at)).trim();
      const text = at < 0 ? name : line.slice(at + 1).trim();
      if (type === "string") return { name, value: text };
      try {
        return { name, value: JSON.parse(text) as unknown };
      } catch {
        return { name, value: text }; // the service says what is wrong with it
      }
    });
}

function RecipeEditor({ project, recipe, onDone }: { project: string; recipe: Recipe; onDone: () => void }) {
  const base = useMemo(() => fieldsOf(recipe), [recipe]);
  const editing = useDraft<Fields>({ name: `${project} recipe ${recipe.key}`, to: `/p/${project}/settings`, what: recipe.key ? `recipe ${recipe.title}` : "a new recipe", base, version: 1 });
  const now = editing.value ?? base;
  const key = recipe.key || now.key;
  const save = useChange(
    project,
    () => must(api.PUT("/api/v1/projects/{project}/recipes/{recipe}", { params: { path: { project, recipe: key } }, body: { recipe: { ...now, key, variants: variantsOf(now.type, now.variants), months: Number(now.months) || 0 } as Recipe } })),
    (r) => `Saved: recipe ${r.title}.`,
  );
  const wrong = wrongIn(save.error);
  const names = variantsOf(now.type, now.variants).map((v) => v.name);
  const set = <K extends keyof Fields>(field: K, value: Fields[K]) => editing.edit({ ...now, [field]: value }, field);
  const text = (field: "title" | "says" | "months", label: string, hint?: string) => <TextField label={label} hint={hint} value={now[field]} error={wrong(`recipe.${field}`)} onChange={(e) => set(field, e.target.value)} />;
  return (
    <form
      className="mt-2 flex flex-col gap-3 rounded border border-edge p-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, {
          onSuccess: () => {
            editing.drop();
            onDone();
          },
        });
      }}
    >
      {!recipe.key && <TextField label="Key of the recipe" className="font-mono" required value={now.key} error={wrong("recipe.key")} onChange={(e) => set("key", e.target.value)} />}
      {text("title", "Name")}
      {text("says", "What it is for", "one sentence")}
      <div className="flex flex-wrap gap-3">
        <Field label="Type" error={wrong("recipe.type")}>
          {(id) => <Select id={id} value={now.type} onChange={(e) => set("type", e.target.value)} options={["boolean", "string", "number", "object"]} />}
        </Field>
        <Field label="Resting" error={wrong("recipe.resting")}>
          {(id) => <Select id={id} value={now.resting} onChange={(e) => set("resting", e.target.value)} options={[...new Set([now.resting, ...names])]} />}
        </Field>
        <Field label="End" error={wrong("recipe.end")}>
          {(id) => <Select id={id} value={now.end} onChange={(e) => set("end", e.target.value)} options={[...new Set([now.end, ...names])]} />}
        </Field>
        {text("months", "Gone by in months", "0: it stays")}
      </div>
      <Field label="Variants" hint="one on a line: name = value" error={wrong("recipe.variants")}>
        {(id) => <textarea id={id} rows={4} className={`${inputStyle} font-mono text-[13px]`} value={now.variants} onChange={(e) => set("variants", e.target.value)} />}
      </Field>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={now.needsOwner} onChange={(e) => set("needsOwner", e.target.checked)} /> a new flag must name its owner
      </label>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={now.needsLoses} onChange={(e) => set("needsLoses", e.target.checked)} /> a new flag must say what users lose while it rests
      </label>
      <Problem error={save.error} beside={["key", "title", "says", "months", "type", "resting", "end", "variants"].map((f) => `recipe.${f}`)} />
      <DraftTools editing={editing} place={(path) => path.join(" ")} onDrop={onDone}>
        <Button tone="lever" type="submit" disabled={save.isPending}>
          Save the recipe
        </Button>
      </DraftTools>
    </form>
  );
}
