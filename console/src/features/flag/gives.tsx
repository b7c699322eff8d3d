import type { Schemas } from "../../api/client";
import { barOf, givesOf } from "../../draft/shares";
import { Button } from "../../ui/controls";
import { Parsed } from "../../ui/parsed";
import { ShareBar } from "../../ui/share-bar";

type Gives = Schemas["Gives"];

/** GivesEditor edits what a rule or the end gives: always a bar of shares. */
export function GivesEditor({ value, onChange, names, resting, end }: { value: Gives; onChange: (g: Gives, field: string) => void; names: string[]; resting: string; end: boolean }) {
  const { shares } = value;
  return (
    <fieldset aria-label={end ? "what the end gives" : "what the rule gives"} className="flex flex-col gap-3">
      <ShareBar bar={barOf(value, names, end ? resting : "")} names={names} end={end} onChange={(b, field) => onChange(givesOf(b, value, names), field)} />
      {shares && (
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2 text-soft">
          <label className="flex items-center gap-2">
            drawn by
            <Parsed
              label="by which attribute"
              list="known-attributes"
              className="w-44 font-mono text-[13px]"
              value={shares.by}
              format={(by) => by.join(", ")}
              parse={(text) => text.split(",").map((s) => s.trim())}
              wrong="names of attributes, separated by commas"
              onChange={(by) => onChange({ shares: { ...shares, by } }, "by")}
            />
          </label>
          {shares.drawAnew ? (
            <span>
              the units are drawn anew: others get the same parts{" "}
              <Button tone="bare" className="underline" onClick={() => onChange({ shares: without(shares, "drawAnew") }, "")}>
                leave them as they are
              </Button>
            </span>
          ) : shares.salt !== "" && !shares.like ? (
            <Button tone="bare" className="underline" onClick={() => onChange({ shares: { ...shares, drawAnew: true } }, "")}>
              draw anew
            </Button>
          ) : null}
          {shares.like && (
            <span>
              moves together with {shares.like.rule ? `a rule of ${shares.like.flag}` : `the end of ${shares.like.flag}`}{" "}
              <Button tone="bare" className="underline" onClick={() => onChange({ shares: without(shares, "like") }, "")}>
                no longer
              </Button>
            </span>
          )}
        </div>
      )}
    </fieldset>
  );
}

function without(shares: Schemas["Shares"], name: "like" | "drawAnew"): Schemas["Shares"] {
  const out = { ...shares };
  delete out[name];
  return out;
}
