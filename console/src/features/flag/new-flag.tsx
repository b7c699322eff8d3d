import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { ApiProblem, Schemas } from "../../api/client";
import { useBoard, useMakeFlag } from "../../api/queries";
import { Button, Field, inputStyle, Page, Problem, Select, Sheet, TextField } from "../../ui/controls";

const examples: Record<string, { name: string; value: string }[]> = {
  boolean: [{ name: "on", value: "true" }, { name: "off", value: "false" }],
  string: [{ name: "timetable", value: "timetable" }, { name: "learned", value: "learned" }],
  number: [{ name: "slow", value: "60" }, { name: "quick", value: "10" }],
  object: [{ name: "calm", value: '{"attempts": 2}' }, { name: "eager", value: '{"attempts": 5}' }],
};

const purposes = [
  { value: "introduce", label: "introduce: something new, step by step" },
  { value: "compare", label: "compare: which of several is best" },
  { value: "kill-switch", label: "kill-switch: on, until it must be stopped" },
  { value: "tune", label: "tune: a value that is adjusted" },
  { value: "grant", label: "grant: for some and not for others" },
];

/** keyOf proposes a key for a title. */
function keyOf(title: string): string {
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

export default function NewFlag() {
  const { project = "" } = useParams();
  const [title, setTitle] = useState("");
  const [key, setKey] = useState<string>();
  const [description, setDescription] = useState("");
  const [type, setType] = useState("boolean");
  const [purpose, setPurpose] = useState("introduce");
  const [stays, setStays] = useState(false);
  const [goneBy, setGoneBy] = useState(() => inMonths(3));
  const [variants, setVariants] = useState(examples.boolean!);
  const [resting, setResting] = useState("off");
  const [visible, setVisible] = useState(false);
  const [reason, setReason] = useState("");
  const board = useBoard(project);
  const make = useMakeFlag(project);
  const go = useNavigate();
  const fields = (make.error as ApiProblem | null)?.fields ?? [];
  const wrong = (place: string) => fields.find((f) => f.place === place)?.mend;
  const asks = board.data?.environments.some((e) => e.askFirst) ?? false;
  const submit = () => {
    const body = {
      key: key ?? keyOf(title),
      title,
      description,
      type,
      purpose,
      goneBy: stays ? "stays" : goneBy,
      resting,
      visible,
      owners: [],
      tags: [],
      variants: variants.map((v) => ({ name: v.name, value: type === "string" ? v.value : read(v.value) })),
      version: 0,
      created: 0,
    } as Schemas["Definition"];
    make.mutate({ body, reason }, { onSuccess: (made) => go(`/p/${project}/${board.data?.environments[0]?.key}/flags/${made.key}`) });
  };
  return (
    <Page title="New flag">
      <form
        className="flex max-w-2xl flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          submit();
        }}
      >
        <Sheet>
          <div className="flex flex-col gap-3">
            <TextField label="Title" autoFocus required value={title} onChange={(e) => setTitle(e.target.value)} placeholder="One-touch open" error={wrong("title")} />
            <TextField label="Key" hint="what the code asks for; it never changes and is never used again" className="font-mono" required value={key ?? keyOf(title)} onChange={(e) => setKey(e.target.value)} error={wrong("key")} />
            <TextField label="What it decides" value={description} onChange={(e) => setDescription(e.target.value)} />
            <Field label="Purpose" hint="fills in what follows; it decides nothing about the flag's life">
              {(id) => (
                <Select
                  id={id}
                  value={purpose}
                  onChange={(e) => {
                    setPurpose(e.target.value);
                    setStays(["kill-switch", "tune", "grant"].includes(e.target.value));
                  }}
                  options={purposes}
                />
              )}
            </Field>
            <Field label="Gone by" hint="by when the flag should be gone from the code" error={wrong("goneBy")}>
              {(id) => (
                <div className="flex flex-wrap items-center gap-3">
                  <input id={id} type="date" disabled={stays} className={inputStyle} value={goneBy} onChange={(e) => setGoneBy(e.target.value)} />
                  <label className="flex items-center gap-1.5">
                    <input type="checkbox" checked={stays} onChange={(e) => setStays(e.target.checked)} /> it stays
                  </label>
                </div>
              )}
            </Field>
          </div>
        </Sheet>
        <Sheet title="Variants">
          <div className="flex flex-col gap-3">
            <Field label="Type" hint="never changes" error={wrong("type")}>
              {(id) => (
                <Select
                  id={id}
                  value={type}
                  onChange={(e) => {
                    setType(e.target.value);
                    const now = examples[e.target.value]!;
                    setVariants(now);
                    setResting(e.target.value === "boolean" ? "off" : now[0]!.name);
                  }}
                  options={["boolean", "string", "number", "object"]}
                />
              )}
            </Field>
            {variants.map((v, i) => (
              // Variants are edited by place: their names are what is being typed.
              // oxlint-disable-next-line react/no-array-index-key
              <div key={i} className="flex flex-wrap items-center gap-2">
                <input aria-label={`name of variant ${i + 1}`} className={`${inputStyle} w-40`} value={v.name} onChange={(e) => {
                  setVariants(variants.map((o, j) => (i === j ? { ...o, name: e.target.value } : o)));
                  if (resting === v.name) setResting(e.target.value);
                }} />
                <input aria-label={`value of variant ${i + 1}`} className={`${inputStyle} min-w-0 flex-1 font-mono text-[13px]`} disabled={type === "boolean"} value={v.value} onChange={(e) => setVariants(variants.map((o, j) => (i === j ? { ...o, value: e.target.value } : o)))} />
                <label className="flex items-center gap-1">
                  <input type="radio" name="resting" checked={resting === v.name} onChange={() => setResting(v.name)} /> resting
                </label>
                {variants.length > 2 && (
                  <Button tone="bare" onClick={() => setVariants(variants.filter((_, j) => j !== i))}>
                    remove
                  </Button>
                )}
                {(wrong(`variants[${i}].name`) ?? wrong(`variants[${i}].value`)) && <div className="w-full text-xs text-alarm">{wrong(`variants[${i}].name`) ?? wrong(`variants[${i}].value`)}</div>}
              </div>
            ))}
            {type !== "boolean" && <Button className="self-start" onClick={() => setVariants([...variants, { name: `variant-${variants.length + 1}`, value: type === "string" ? "" : type === "number" ? "0" : "{}" }])}>Add a variant</Button>}
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={visible} onChange={(e) => setVisible(e.target.checked)} /> visible to browsers
            </label>
          </div>
        </Sheet>
        {asks && <TextField label="Why" hint="an environment of this project asks first" required value={reason} onChange={(e) => setReason(e.target.value)} error={wrong("reason")} />}
        <Problem error={make.error} />
        <Button tone="lever" type="submit" className="self-start" disabled={make.isPending}>
          Make the flag
        </Button>
        <p className="text-soft">Its lever is off everywhere: it changes nothing until you turn it on.</p>
      </form>
    </Page>
  );
}

/** read takes what was typed as JSON; what is none goes as text, and the service says what is wrong. */
function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
