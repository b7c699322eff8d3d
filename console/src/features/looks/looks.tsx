import { useState } from "react";
import { barOf, givesOf, type Gives } from "../../draft/shares";
import { Button, inputStyle, Page, Problem, Select, Sheet } from "../../ui/controls";
import { Lever } from "../../ui/lever";
import { ShareBar } from "../../ui/share-bar";
import { Variant } from "../../ui/variant";
import { Word } from "../../ui/word";

const names = ["timetable", "traffic-aware", "learned", "by-crew", "by-weather", "by-site", "none"];

const surfaces = ["page", "sheet", "well", "note", "alarm-sheet"];

/** Looks shows what every page is made of. It is there in development alone. */
export default function Looks() {
  const [gives, setGives] = useState<Gives>({ variant: "timetable" });
  return (
    <Page title="Looks">
      <Sheet title="Sizes and weights">
        <p className="text-2xl font-semibold">28 a number that leads</p>
        <p className="text-xl font-semibold">20 a title</p>
        <p className="text-base">16 what is said</p>
        <p>14 text, 400</p>
        <p className="font-medium">14 text, 600</p>
        <p className="text-xs text-soft">12 small and soft</p>
      </Sheet>
      <Sheet title="Surfaces">
        <div className="flex flex-wrap gap-3">
          {surfaces.map((s) => (
            <div key={s} className="rounded border border-edge p-4" style={{ background: `var(--${s})` }}>
              {s} <span className="text-soft">soft</span> <span className="text-alarm">alarm</span> <span className="text-lever">lever</span>
            </div>
          ))}
        </div>
      </Sheet>
      <Sheet title="Variants">
        <div className="flex flex-wrap gap-4">
          {names.map((n) => (
            <Variant key={n} names={names} name={n} />
          ))}
        </div>
      </Sheet>
      <Sheet title="Levers and buttons">
        <div className="flex flex-wrap items-center gap-4">
          <Lever position="off" />
          <Lever position="on" />
          <Lever position="stopped" />
          <Button>plain</Button>
          <Button tone="lever">lever</Button>
          <Button tone="alarm">alarm</Button>
          <Button tone="confirm">confirm</Button>
          <Button tone="bare">bare</Button>
          <Button disabled>disabled</Button>
          <input aria-label="field" className={inputStyle} placeholder="a field" />
          <Select aria-label="list" options={["one", "two"]} />
          <Word of="lever" />
        </div>
      </Sheet>
      <Sheet title="Share bar">
        <ShareBar bar={barOf(gives, names, "")} names={names} end={false} onChange={(b) => setGives(givesOf(b, gives, names))} />
      </Sheet>
      <Problem error={new Error("What went wrong, where, and the mend.")} />
    </Page>
  );
}
